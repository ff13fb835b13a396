//! Sentinel-2 Level-1C and Level-2A deliveries: `MTD_MSI…xml`, `MTD_TL.xml` and a JPEG 2000 image a band.
//!
//! Source: ESA S2-PDGS-TAS-DI-PSD, Sentinel-2 Products Specification Document, issue 14.9.

use std::sync::Arc;

use jiff::Timestamp;
use jiff::tz::TimeZone;
use roxmltree::{Document, Node};
use telechroma_core::geo::{Affine, Crs};
use telechroma_core::grid::Grid;
use telechroma_core::physics::radiance_of_one;
use telechroma_core::run::Note;
use telechroma_core::scene::{Band, Content, FlagPlane, Scene, Sun};
use telechroma_core::sensor::{self, BandDef, SensorDef};
use telechroma_core::tile::PlaneSource;
use telechroma_core::units::{Degrees, Unit};

use super::archive::Files;
use super::digest;
use super::files::flag_plane;
use crate::bytes::ByteRange;
use crate::error::{Error, Place, Result};
use crate::raster::jp2::{Jp2, Jp2Plane};
use crate::raster::samples::{Coding, Reading};

/// Metadata files are some hundred kilobytes long.
const LARGEST: u64 = 1 << 26;
/// The processing baseline from which on numbers carry an offset.
const OFFSET_SINCE: f64 = 4.0;
/// Cell sizes of the images, metres.
const RESOLUTIONS: [u32; 3] = [10, 20, 60];

fn product_file(files: &Files) -> Option<&ByteRange> {
    files.named(|n| n.starts_with("MTD_MSIL") && n.ends_with(".xml"))
}

/// True where the files look like such a delivery.
pub(crate) fn is_one(files: &Files) -> bool {
    product_file(files).is_some()
}

/// A metadata file with its tree; names are told without their prefixes.
struct Tree<'a> {
    file: &'a ByteRange,
    document: &'a Document<'a>,
}

impl<'a> Tree<'a> {
    fn all(&self, name: &'static str) -> impl Iterator<Item = Node<'a, 'a>> {
        self.document.descendants().filter(move |n| n.tag_name().name() == name)
    }

    fn text(&self, name: &'static str) -> Option<&'a str> {
        self.all(name).find_map(|n| n.text()).map(str::trim)
    }

    fn needed(&self, name: &'static str) -> Result<&'a str> {
        self.text(name).ok_or_else(|| Error::malformed(self.file.place(""), format!("has no {name}")))
    }

    fn number(&self, name: &'static str) -> Result<Option<f64>> {
        self.text(name).map(|t| self.parsed(name, t)).transpose()
    }

    fn parsed(&self, name: &str, text: &str) -> Result<f64> {
        let number = text.trim().parse::<f64>().ok().filter(|v| v.is_finite());
        number.ok_or_else(|| Error::malformed(self.file.place(name), format!("is '{text}', not a number")))
    }
}

fn xml(file: &ByteRange) -> Result<(Vec<u8>, String)> {
    let bytes = file.read_all(LARGEST)?;
    let text = String::from_utf8_lossy(&bytes).into_owned();
    Ok((bytes, text))
}

fn parse<'t>(text: &'t str, file: &ByteRange) -> Result<Document<'t>> {
    Document::parse(text)
        .map_err(|e| Error::malformed(file.place(format!("line {}", e.pos().row)), format!("is not sound XML: {e}")))
}

/// Opens a delivery.
pub(crate) fn open(files: &Files, note: &mut dyn FnMut(Note)) -> Result<Scene> {
    let here = || Place::file(&files.path);
    let Some(product) = product_file(files) else {
        return Err(Error::usage(here(), "has no metadata file MTD_MSI*.xml"));
    };
    let granule = files
        .named(|n| n == "MTD_TL.xml")
        .ok_or_else(|| Error::malformed(here(), "has no metadata file MTD_TL.xml"))?;
    let ((product_bytes, product_text), (_, granule_text)) = (xml(product)?, xml(granule)?);
    let (product_doc, granule_doc) = (parse(&product_text, product)?, parse(&granule_text, granule)?);
    let (p, g) = (Tree { file: product, document: &product_doc }, Tree { file: granule, document: &granule_doc });

    let spacecraft = p.needed("SPACECRAFT_NAME")?;
    let Some((sensor, platform)) = sensor::by_metadata(spacecraft, "MSI") else {
        return Err(Error::unsupported(
            here(),
            format!("the platform {spacecraft}"),
            &["Sentinel-2A", "Sentinel-2B", "Sentinel-2C"],
        ));
    };
    let level = match p.needed("PROCESSING_LEVEL")? {
        "Level-1C" => "L1C",
        "Level-2A" => "L2A",
        other => {
            return Err(Error::unsupported(here(), format!("processing level {other}"), &["Level-1C", "Level-2A"]));
        }
    };
    let uri = p.text("PRODUCT_URI").map(|u| u.trim_end_matches(".SAFE").to_string());
    let stem = files.path.file_stem().map_or(String::new(), |s| s.to_string_lossy().into_owned());
    let id = uri.filter(|u| !u.is_empty()).unwrap_or(stem);
    let coding = Numbers::read(&p, level, &id, note)?;
    let sun = sun(&g)?;
    let light = Irradiance::read(&p, level, sun)?;
    let bands = bands(files, &g, sensor, level, (&coding, &light))?;
    let Some(finest) =
        bands.iter().map(|b| &b.source.spec().grid).min_by(|a, b| a.transform.a.total_cmp(&b.transform.a))
    else {
        return Err(Error::malformed(here(), "holds no image of a band"));
    };
    let acquired: Timestamp = p
        .needed("PRODUCT_START_TIME")?
        .parse()
        .map_err(|_| Error::malformed(product.place("PRODUCT_START_TIME"), "is not a time"))?;
    Ok(Scene {
        grid: finest.clone(),
        flags: flags(files, &g, sensor)?,
        bands,
        sensor: sensor.id.clone(),
        platform: platform.name.clone(),
        level: level.into(),
        date: Some(TimeZone::UTC.to_datetime(acquired).date()),
        acquired: Some(acquired),
        place: id.split('_').find(|w| w.len() == 6 && w.starts_with('T')).map(|t| format!("tile {}", &t[1..])),
        sun,
        cloud_cover: p.number("Cloud_Coverage_Assessment")?,
        dark: vec![],
        sun_zenith: None,
        relief: None,
        mask: None,
        digest: digest(&product_bytes, files.list()),
        id,
    })
}

fn sun(g: &Tree) -> Result<Option<Sun>> {
    let Some(mean) = g.all("Mean_Sun_Angle").next() else { return Ok(None) };
    let angle = |name: &str| {
        let text = mean.descendants().find(|n| n.tag_name().name() == name).and_then(|n| n.text());
        text.map(|t| g.parsed(name, t)).transpose()
    };
    let (zenith, azimuth) = (angle("ZENITH_ANGLE")?, angle("AZIMUTH_ANGLE")?);
    Ok(zenith.map(|z| Sun { elevation: Degrees(90.0 - z), azimuth: Degrees(azimuth.unwrap_or(f64::NAN)) }))
}

/// How stored numbers become reflectance.
struct Numbers {
    quantification: f64,
    /// By band, in the order of the sensor file; what is not stated is zero.
    offsets: Vec<f64>,
    fill: Vec<f64>,
}

impl Numbers {
    fn read(p: &Tree, level: &str, id: &str, note: &mut dyn FnMut(Note)) -> Result<Numbers> {
        let (quantification, offset) = match level {
            "L1C" => ("QUANTIFICATION_VALUE", "RADIO_ADD_OFFSET"),
            _ => ("BOA_QUANTIFICATION_VALUE", "BOA_ADD_OFFSET"),
        };
        let quantification = p.parsed(quantification, p.needed(quantification)?)?;
        if quantification <= 0.0 {
            return Err(Error::malformed(p.file.place("quantification"), format!("is {quantification}")));
        }
        let mut offsets = vec![0.0; 13];
        let mut stated = 0;
        for n in p.all(offset) {
            let band = n.attribute("band_id").and_then(|b| b.parse::<usize>().ok()).filter(|b| *b < 13);
            let band = band.ok_or_else(|| Error::malformed(p.file.place(offset), "names no band"))?;
            offsets[band] = p.parsed(offset, n.text().unwrap_or_default())?;
            stated += 1;
        }
        // the baseline of the metadata, else the Nxxyy of the name
        let named = id
            .split('_')
            .find(|w| w.len() == 5 && w.starts_with('N'))
            .and_then(|w| w[1..].parse::<f64>().ok())
            .map(|n| n / 100.0);
        let baseline = p.text("PROCESSING_BASELINE").and_then(|b| b.parse::<f64>().ok()).or(named);
        if baseline.is_some_and(|b| b >= OFFSET_SINCE) && stated == 0 {
            note(Note::Metadata(format!(
                "{id}: its processing baseline carries an offset of -1000 since 04.00, but none is stated: if the images hold it, reflectance is 0.1 too high"
            )));
        }
        // stored numbers that are none, before any offset: no data, and a saturated detector
        let special = p.all("SPECIAL_VALUE_INDEX").filter_map(|n| n.text()?.trim().parse::<f64>().ok());
        let mut fill: Vec<f64> = special.collect();
        if fill.is_empty() {
            fill = vec![0.0, 65_535.0];
        }
        Ok(Numbers { quantification, offsets, fill })
    }

    fn coding(&self, band: usize) -> Coding {
        let offset = self.offsets.get(band).copied().unwrap_or(0.0) / self.quantification;
        Coding {
            scale: 1.0 / self.quantification,
            offset,
            fill: self.fill.clone(),
            valid: None,
            unit: Unit::Reflectance,
        }
    }
}

/// The sun's light, by which reflectance above the air is turned back into radiance. Nothing where it is not stated.
struct Irradiance {
    /// Mean irradiance of each band at one astronomical unit, W m⁻² µm⁻¹.
    bands: Vec<Option<f64>>,
    /// The correction for the distance of the sun, and its elevation.
    sun: Option<(f64, Degrees)>,
}

impl Irradiance {
    fn read(p: &Tree, level: &str, sun: Option<Sun>) -> Result<Irradiance> {
        let mut bands = vec![None; 13];
        if level != "L1C" {
            return Ok(Irradiance { bands, sun: None });
        }
        for n in p.all("SOLAR_IRRADIANCE") {
            let number = p.parsed("SOLAR_IRRADIANCE", n.text().unwrap_or_default())?;
            let band = n.attribute("bandId").and_then(|b| b.parse::<usize>().ok());
            if let Some(place) = band.and_then(|b| bands.get_mut(b)) {
                *place = Some(number);
            }
        }
        let sun = sun.map(|s| s.elevation).filter(|e| e.0 > 0.0);
        Ok(Irradiance { bands, sun: p.number("U")?.zip(sun) })
    }

    fn of_one(&self, band: usize) -> Option<f64> {
        let ((u, elevation), irradiance) = (self.sun?, *self.bands.get(band)?);
        irradiance.map(|e| radiance_of_one(e, u, elevation))
    }
}

/// The grid of the images of a resolution.
fn grid(g: &Tree, metres: u32) -> Result<Arc<Grid>> {
    let place = || g.file.place(format!("Tile_Geocoding, {metres} m"));
    let code = g.needed("HORIZONTAL_CS_CODE")?;
    let crs = Crs::from_text(code).map_err(|e| Error::malformed(g.file.place("HORIZONTAL_CS_CODE"), e.to_string()))?;
    let wanted = metres.to_string();
    let value = |node: &'static str, child: &str| -> Result<f64> {
        let found = g.all(node).find(|n| n.attribute("resolution") == Some(&wanted));
        let text = found.and_then(|n| n.descendants().find(|c| c.tag_name().name() == child)).and_then(|c| c.text());
        g.parsed(child, text.ok_or_else(|| Error::malformed(place(), format!("has no {child}")))?)
    };
    let (cols, rows) = (value("Size", "NCOLS")?, value("Size", "NROWS")?);
    let (x, y) = (value("Geoposition", "ULX")?, value("Geoposition", "ULY")?);
    let (dx, dy) = (value("Geoposition", "XDIM")?, value("Geoposition", "YDIM")?);
    if !(cols >= 1.0 && rows >= 1.0 && cols < 1e6 && rows < 1e6 && dx > 0.0 && dy < 0.0) {
        return Err(Error::malformed(place(), "its size makes no sense"));
    }
    let transform = Affine { a: dx, b: 0.0, c: x, d: 0.0, e: dy, f: y };
    Ok(Arc::new(Grid { crs: Some(crs), transform, cols: cols as u32, rows: rows as u32 }))
}

/// The image of a band or flag plane, at its own resolution if it is there, else at a coarser one.
fn image<'f>(files: &'f Files, key: &str, finest: u32) -> Option<(&'f ByteRange, Option<u32>)> {
    let at = |m: u32| files.named(|n| n.ends_with(&format!("_{key}_{m}m.jp2"))).map(|f| (f, Some(m)));
    let plain = || files.named(|n| n.ends_with(&format!("_{key}.jp2"))).map(|f| (f, None));
    RESOLUTIONS.into_iter().filter(|m| *m >= finest).find_map(at).or_else(plain)
}

fn bands(
    files: &Files,
    g: &Tree,
    sensor: &SensorDef,
    level: &str,
    (numbers, light): (&Numbers, &Irradiance),
) -> Result<Vec<Band>> {
    let mut all = vec![];
    for (i, def) in sensor.bands.iter().enumerate().filter(|(_, d)| d.is_in(level)) {
        let (Some(role), own) = (def.role(), own_resolution(def)) else { continue };
        let Some((file, metres)) = image(files, &def.key, own) else { continue };
        let jp2 = Jp2::open(file.clone())?;
        let source = Jp2Plane::new(&jp2, grid(g, metres.unwrap_or(own))?, Reading::Coded(numbers.coding(i)))?;
        all.push(Band {
            role,
            name: def.key.clone(),
            edges: def.edges(),
            wavelength: None,
            content: Content::Values(Unit::Reflectance),
            radiance_of_one: light.of_one(i),
            source: Arc::new(source),
        });
    }
    Ok(all)
}

fn own_resolution(def: &BandDef) -> u32 {
    def.cell_m.map_or(RESOLUTIONS[0], |m| m as u32)
}

/// The scene classification, or the cloud probability where there is none. The other one is there for conditions only.
fn flags(files: &Files, g: &Tree, sensor: &SensorDef) -> Result<Vec<FlagPlane>> {
    let mut planes: Vec<FlagPlane> = vec![];
    for def in &sensor.flags {
        let Some((file, metres)) = image(files, &def.key, 20) else { continue };
        let jp2 = Jp2::open(file.clone())?;
        let grid = grid(g, metres.unwrap_or(20))?;
        let mut plane = flag_plane(def, |reading| {
            Ok(Arc::new(Jp2Plane::new(&jp2, grid.clone(), reading)?) as Arc<dyn PlaneSource>)
        })?;
        if !planes.is_empty() {
            plane.legend.clear();
        }
        planes.push(plane);
    }
    Ok(planes)
}
