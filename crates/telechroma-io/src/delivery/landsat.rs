//! Landsat 8-9 Collection 2 Level-1 deliveries: a folder or `.tar` of one GeoTIFF a band and `_MTL` metadata.
//!
//! Source: USGS LSDS-1822, Landsat 8-9 Collection 2 Level 1 Data Format Control Book.

use std::sync::Arc;

use jiff::civil::{Date, Time};
use jiff::tz::TimeZone;
use telechroma_core::physics::Line;
use telechroma_core::run::Note;
use telechroma_core::scene::{Band, Coefficient, Coefficients, Content, FlagPlane, Scene, Sun};
use telechroma_core::sensor::{self, BandDef, SensorDef};
use telechroma_core::units::{Degrees, Nanometres};

use super::archive::Files;
use super::digest;
use super::mtl::Mtl;
use crate::bytes::ByteRange;
use crate::error::{Error, Place, Result};
use crate::raster::tiff::{Reading, Tiff, TiffPlane};

const CONTENTS: &str = "PRODUCT_CONTENTS";
const IMAGE: &str = "IMAGE_ATTRIBUTES";
const RESCALING: &str = "LEVEL1_RADIOMETRIC_RESCALING";
const LIMITS: &str = "LEVEL1_MIN_MAX_PIXEL_VALUE";
const THERMAL: &str = "LEVEL1_THERMAL_CONSTANTS";
/// The count that means no data, in every band.
const FILL: u16 = 0;

fn metadata_file(files: &Files) -> Option<&ByteRange> {
    files.ending("_MTL.json").or_else(|| files.ending("_MTL.txt"))
}

/// True where the files look like such a delivery.
pub(crate) fn is_one(files: &Files) -> bool {
    metadata_file(files).is_some()
}

/// Opens a delivery.
pub(crate) fn open(files: &Files, note: &mut dyn FnMut(Note)) -> Result<Scene> {
    let here = Place::file(&files.path);
    let Some(file) = metadata_file(files) else { return Err(Error::usage(here, "has no metadata file")) };
    let mtl = Mtl::read(file)?;
    if mtl.get("METADATA_FILE_INFO", "LANDSAT_SCENE_ID").is_some() {
        return Err(Error::unsupported(here, "a Collection 1 delivery", &["Collection 2"]));
    }
    let (platform, instrument) = (mtl.needed(IMAGE, "SPACECRAFT_ID")?, mtl.needed(IMAGE, "SENSOR_ID")?);
    let Some((sensor, platform)) = sensor::by_metadata(platform, instrument) else {
        return Err(Error::unsupported(
            here,
            format!("the sensor {instrument} on {platform}"),
            &["OLI_TIRS on LANDSAT_8 and LANDSAT_9"],
        ));
    };
    let id = mtl.needed(CONTENTS, "LANDSAT_PRODUCT_ID")?.to_string();
    let level = mtl.needed(CONTENTS, "PROCESSING_LEVEL")?.to_string();
    if !level.starts_with("L1") {
        return Err(Error::unsupported(here, format!("processing level {level}"), &["L1TP", "L1GT", "L1GS"]));
    }
    let (bands, absent) = bands(files, &mtl, sensor)?;
    for name in absent {
        note(Note::Metadata(format!("{id}: the metadata name {name}, but the delivery does not hold it")));
    }
    let Some(first) = bands.first() else {
        return Err(Error::malformed(here, "none of the bands that its metadata name is there"));
    };
    let grid = first.source.spec().grid.clone();
    let (date, acquired) = when(&mtl)?;
    Ok(Scene {
        flags: flags(files, &mtl, sensor, &here)?,
        grid,
        bands,
        sensor: sensor.id.clone(),
        platform: platform.name.clone(),
        level,
        acquired,
        date: Some(date),
        place: Some(format!("path {} row {}", mtl.needed(IMAGE, "WRS_PATH")?, mtl.needed(IMAGE, "WRS_ROW")?)),
        sun: sun(&mtl)?,
        cloud_cover: mtl.number(IMAGE, "CLOUD_COVER")?.filter(|c| *c >= 0.0), // -1: not computed
        mask: None,
        digest: digest(&mtl.bytes, files.list()),
        id,
    })
}

fn when(mtl: &Mtl) -> Result<(Date, Option<jiff::Timestamp>)> {
    let text = mtl.needed(IMAGE, "DATE_ACQUIRED")?;
    let date: Date =
        text.parse().map_err(|_| mtl.wrong(IMAGE, "DATE_ACQUIRED", &format!("is '{text}', not a date")))?;
    let time = mtl.get(IMAGE, "SCENE_CENTER_TIME").and_then(|t| t.trim_end_matches('Z').parse::<Time>().ok());
    let acquired = time.and_then(|t| TimeZone::UTC.to_timestamp(date.to_datetime(t)).ok());
    Ok((date, acquired))
}

fn sun(mtl: &Mtl) -> Result<Option<Sun>> {
    let (elevation, azimuth) = (mtl.number(IMAGE, "SUN_ELEVATION")?, mtl.number(IMAGE, "SUN_AZIMUTH")?);
    Ok(elevation.map(|e| Sun { elevation: Degrees(e), azimuth: Degrees(azimuth.unwrap_or(f64::NAN)) }))
}

/// The bands whose files are there, and the names of those that are not.
fn bands(files: &Files, mtl: &Mtl, sensor: &SensorDef) -> Result<(Vec<Band>, Vec<String>)> {
    let (mut bands, mut absent) = (vec![], vec![]);
    for def in &sensor.bands {
        let Some(name) = mtl.get(CONTENTS, &format!("FILE_NAME_BAND_{}", def.key)) else { continue };
        match files.get(name) {
            Some(bytes) => bands.push(band(bytes, mtl, def)?),
            None => absent.push(name.to_string()),
        }
    }
    Ok((bands, absent))
}

fn band(bytes: &ByteRange, mtl: &Mtl, def: &BandDef) -> Result<Band> {
    let Some(role) = def.role() else { unreachable!("the sensor files are checked by a test") };
    let tiff = Tiff::open(bytes.clone())?;
    let source = Arc::new(TiffPlane::new(&tiff, 0, Reading::Counts { fill: Some(FILL) })?);
    Ok(Band {
        role,
        name: format!("B{}", def.key),
        edges: Some(def.edges()),
        wavelength: def.effective_nm.map(Nanometres),
        content: Content::Counts(coefficients(mtl, &def.key)?),
        source,
    })
}

fn coefficients(mtl: &Mtl, key: &str) -> Result<Coefficients> {
    let one = |group: &str, name: String| -> Result<Coefficient<f64>> { Ok(mtl.number(group, &name)?.ok_or(name)) };
    let line = |quantity: &str| -> Result<Coefficient<Line>> {
        let mult = one(RESCALING, format!("{quantity}_MULT_BAND_{key}"))?;
        let add = one(RESCALING, format!("{quantity}_ADD_BAND_{key}"))?;
        Ok(mult.and_then(|gain| add.map(|offset| Line { gain, offset })))
    };
    let k1 = one(THERMAL, format!("K1_CONSTANT_BAND_{key}"))?;
    let k2 = one(THERMAL, format!("K2_CONSTANT_BAND_{key}"))?;
    Ok(Coefficients {
        radiance: line("RADIANCE")?,
        reflectance: line("REFLECTANCE")?,
        thermal: k1.and_then(|a| k2.map(|b| (a, b))),
        saturated: mtl.number(LIMITS, &format!("QUANTIZE_CAL_MAX_BAND_{key}"))?.map(|v| v as u16),
    })
}

fn flags(files: &Files, mtl: &Mtl, sensor: &SensorDef, here: &Place) -> Result<Vec<FlagPlane>> {
    let mut planes = vec![];
    for def in &sensor.flags {
        let bytes = mtl.get(CONTENTS, &def.file_key).and_then(|name| files.get(name));
        let bytes = bytes.or_else(|| files.ending(&format!("_{}.TIF", def.key)));
        let Some(bytes) = bytes else {
            if def.required {
                return Err(Error::malformed(
                    here.clone(),
                    format!("has no {} file: clouds cannot be masked without it", def.key),
                ));
            }
            continue;
        };
        let tiff = Tiff::open(bytes.clone())?;
        let source = Arc::new(TiffPlane::new(&tiff, 0, Reading::Flags { outside: def.outside })?);
        planes.push(FlagPlane { name: def.key.clone(), legend: def.legend(), source });
    }
    Ok(planes)
}
