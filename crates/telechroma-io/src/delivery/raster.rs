//! Rasters: those an earlier command wrote, known by their description, and any other GeoTIFF as named layers.

use std::path::Path;
use std::sync::Arc;

use telechroma_core::geo::Crs;
use telechroma_core::grid::Grid;
use telechroma_core::mask::Reasons;
use telechroma_core::run::Note;
use telechroma_core::scene::{AT_SURFACE, Band, BandRole, CALIBRATED, Content, Layer, LayerSet, Scene};
use telechroma_core::units::{Nanometres, Unit};

use super::{Opened, Sidecar, digest};
use crate::bytes::ByteRange;
use crate::error::{Error, Place, Result};
use crate::raster::description::{BandInfo, Description, Kind, SceneInfo};
use crate::raster::raw::RawPlane;
use crate::raster::samples::{Coding, Reading};
use crate::raster::tiff::{Tiff, TiffPlane};

/// Bytes at the start of a file that go into its fingerprint, with its length.
const DIGESTED: u64 = 1 << 14;

/// True where a raster says itself what it is.
pub(crate) fn is_ours(path: &Path) -> Result<bool> {
    let tiff = Tiff::open(ByteRange::whole(path)?)?;
    Ok(tiff.header.description.as_deref().is_some_and(|t| Description::from_text(t).is_some()))
}

pub(crate) fn open(path: &Path, sidecar: Option<&Sidecar>, note: &mut dyn FnMut(Note)) -> Result<Opened> {
    if let Some(sidecar) = sidecar.filter(|s| s.raw.is_some()) {
        return Ok(Opened::Layers(headerless(path, sidecar)?));
    }
    let tiff = Tiff::open(ByteRange::whole(path)?)?;
    if let Some(trouble) = &tiff.crs_trouble {
        note(Note::Metadata(format!("{}: its coordinate system cannot be used ({trouble})", path.display())));
    }
    let mut start = vec![0; tiff.bytes.len().min(DIGESTED) as usize];
    tiff.bytes.read_at(0, &mut start)?;
    let digest = digest(&start, std::iter::once(("", tiff.bytes.len())));
    let description = tiff.header.description.as_deref().and_then(Description::from_text);
    let Some(d) = description else { return Ok(Opened::Layers(foreign(path, &tiff, sidecar, digest)?)) };
    if d.bands.len() != tiff.header.samples as usize {
        let what = format!("describes {} bands but has {}", d.bands.len(), tiff.header.samples);
        return Err(Error::malformed(tiff.bytes.place(""), what));
    }
    match (d.kind, &d.scene) {
        (Kind::Calibrated, Some(info)) => Ok(Opened::Scene(Box::new(calibrated(&tiff, &d, info, digest)?))),
        (Kind::Mask, Some(info)) => {
            let reading = Reading::Flags { outside: Reasons::FILL.bits() };
            Ok(Opened::Mask { scene: info.id.clone(), source: Arc::new(TiffPlane::new(&tiff, 0, reading)?), digest })
        }
        _ => Ok(Opened::Layers(layers(path, &tiff, &d, digest)?)),
    }
}

fn name_of(path: &Path) -> String {
    path.file_name().map_or(String::new(), |n| n.to_string_lossy().into_owned())
}

fn calibrated(tiff: &Arc<Tiff>, d: &Description, scene: &SceneInfo, digest: String) -> Result<Scene> {
    let mut bands = vec![];
    for (i, info) in d.bands.iter().enumerate() {
        let Some(role) = BandRole::from_name(&info.name) else { continue };
        let unit = Unit::from_label(&info.unit);
        bands.push(Band {
            role,
            name: info.name.clone(),
            edges: None,
            wavelength: info.wavelength_nm.map(Nanometres),
            content: Content::Values(unit),
            radiance_of_one: None,
            source: Arc::new(TiffPlane::new(tiff, i as u32, Reading::Values(unit))?),
        });
    }
    // what is at the ground has no light of the air to be taken off, and none to tell clouds by
    let at_surface = |s: &String| s.starts_with("calibrate to surface") || s.contains(", level L2");
    let level = if d.steps.iter().any(at_surface) { AT_SURFACE } else { CALIBRATED };
    Ok(Scene {
        id: scene.id.clone(),
        sensor: String::new(),
        platform: scene.platform.clone(),
        level: level.into(),
        acquired: None,
        date: scene.date.as_ref().and_then(|d| d.parse().ok()),
        place: None,
        sun: None,
        cloud_cover: None,
        grid: tiff.grid.clone(),
        bands,
        flags: vec![],
        dark: vec![],
        sun_zenith: None,
        relief: None,
        mask: None,
        digest,
    })
}

/// Stored whole numbers with scale and offset become values.
fn coded(info: &BandInfo, tiff: &Tiff, unit: Unit) -> Reading {
    match (info.scale, info.offset) {
        (None, None) => Reading::Values(unit),
        (scale, offset) => Reading::Coded(Coding {
            scale: scale.unwrap_or(1.0),
            offset: offset.unwrap_or(0.0),
            fill: tiff.header.nodata.into_iter().collect(),
            valid: None,
            unit,
        }),
    }
}

fn layers(path: &Path, tiff: &Arc<Tiff>, d: &Description, digest: String) -> Result<LayerSet> {
    let mut layers = vec![];
    for (i, info) in d.bands.iter().enumerate() {
        let unit = Unit::from_label(&info.unit);
        layers.push(Layer {
            name: info.name.clone(),
            unit,
            wavelength: info.wavelength_nm.map(Nanometres),
            source: Arc::new(TiffPlane::new(tiff, i as u32, coded(info, tiff, unit))?),
        });
    }
    let period = d.period.clone().unwrap_or_else(|| "all".into());
    let classes = d.classes.iter().map(|c| (c.value, c.name.clone())).collect();
    Ok(LayerSet { name: name_of(path), period, grid: tiff.grid.clone(), layers, classes, digest })
}

/// Bands' names: those stated, else the file's own name, or numbers.
fn names(path: &Path, sidecar: Option<&Sidecar>, bands: u32) -> Result<Vec<String>> {
    let stated = sidecar.map_or(&[][..], |s| &s.names);
    if !stated.is_empty() {
        let here = || Place::part(path.display().to_string(), "the file beside it");
        if stated.len() != bands as usize {
            return Err(Error::malformed(here(), format!("names {} bands, the raster has {bands}", stated.len())));
        }
        if let Some(twice) = stated.iter().enumerate().find(|(i, n)| stated[..*i].contains(n)) {
            return Err(Error::malformed(here(), format!("names the band '{}' twice", twice.1)));
        }
        return Ok(stated.to_vec());
    }
    let stem = path.file_stem().map_or(String::new(), |n| n.to_string_lossy().into_owned());
    let clean: String = stem.chars().map(|c| if c.is_alphanumeric() { c.to_ascii_lowercase() } else { '_' }).collect();
    Ok(if bands == 1 { vec![clean] } else { (1..=bands).map(|i| format!("band{i}")).collect() })
}

fn period(path: &Path, sidecar: Option<&Sidecar>) -> Result<String> {
    let date = sidecar.map(|s| s.date(&Place::file(path))).transpose()?.flatten();
    Ok(date.map_or("all".into(), |d| d.to_string()))
}

/// A GeoTIFF of somebody else's.
fn foreign(path: &Path, tiff: &Arc<Tiff>, sidecar: Option<&Sidecar>, digest: String) -> Result<LayerSet> {
    let mut layers = vec![];
    let reading = sidecar.map_or(Ok(Reading::Values(Unit::Unknown)), |s| s.reading(&Place::file(path)))?;
    let unit = reading.cells(tiff.header.format).map_or(Unit::Unknown, |c| c.1);
    let mut grid = tiff.grid.clone();
    if let Some(text) = sidecar.and_then(|s| s.crs.as_deref()) {
        let crs = Crs::from_text(text).map_err(|e| {
            Error::malformed(Place::part(path.display().to_string(), "the file beside it"), e.to_string())
        })?;
        grid = Arc::new(Grid { crs: Some(crs), ..(*grid).clone() });
    }
    for (i, name) in (0..).zip(names(path, sidecar, tiff.header.samples)?) {
        let source = Arc::new(TiffPlane::new(tiff, i, reading.clone())?.on(grid.clone()));
        layers.push(Layer { name, unit, wavelength: None, source });
    }
    Ok(LayerSet { name: name_of(path), period: period(path, sidecar)?, grid, layers, classes: vec![], digest })
}

/// A raster without a header, laid out as the file beside it says.
fn headerless(path: &Path, sidecar: &Sidecar) -> Result<LayerSet> {
    let bytes = ByteRange::whole(path)?;
    let layout = sidecar.layout(&bytes.place(""))?;
    let grid = Arc::new(sidecar.grid(&bytes.place(""))?);
    let reading = sidecar.reading(&bytes.place(""))?;
    let unit = reading.cells(layout.format).map_or(Unit::Unknown, |c| c.1);
    let mut layers = vec![];
    for (i, name) in (0..).zip(names(path, Some(sidecar), layout.bands)?) {
        let source = Arc::new(RawPlane::new(bytes.clone(), layout.clone(), grid.clone(), i, reading.clone())?);
        layers.push(Layer { name, unit, wavelength: None, source });
    }
    let digest = digest(sidecar.to_text().as_bytes(), std::iter::once(("", bytes.len())));
    Ok(LayerSet { name: name_of(path), period: period(path, Some(sidecar))?, grid, layers, classes: vec![], digest })
}
