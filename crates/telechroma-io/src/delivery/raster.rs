//! Rasters: those an earlier command wrote, known by their description, and any other GeoTIFF as named layers.

use std::path::Path;
use std::sync::Arc;

use telechroma_core::mask::Reasons;
use telechroma_core::run::Note;
use telechroma_core::scene::{Band, BandRole, Content, Layer, LayerSet, Scene};
use telechroma_core::units::{Nanometres, Unit};

use super::{Opened, digest};
use crate::bytes::ByteRange;
use crate::error::{Error, Result};
use crate::raster::description::{BandInfo, Description, Kind, SceneInfo};
use crate::raster::tiff::{Reading, Tiff, TiffPlane};

/// Bytes at the start of a file that go into its fingerprint, with its length.
const DIGESTED: u64 = 1 << 16;

pub(crate) fn open(path: &Path, note: &mut dyn FnMut(Note)) -> Result<Opened> {
    let tiff = Tiff::open(ByteRange::whole(path)?)?;
    if let Some(trouble) = &tiff.crs_trouble {
        note(Note::Metadata(format!("{}: its coordinate system cannot be used ({trouble})", path.display())));
    }
    let mut start = vec![0; tiff.bytes.len().min(DIGESTED) as usize];
    tiff.bytes.read_at(0, &mut start)?;
    let digest = digest(&start, std::iter::once(("", tiff.bytes.len())));
    let description = tiff.header.description.as_deref().and_then(Description::from_text);
    let Some(d) = description else { return Ok(Opened::Layers(foreign(path, &tiff, digest)?)) };
    if d.bands.len() != tiff.header.samples as usize {
        let what = format!("describes {} bands but has {}", d.bands.len(), tiff.header.samples);
        return Err(Error::malformed(tiff.bytes.place(""), what));
    }
    match (d.kind, &d.scene) {
        (Kind::Calibrated, Some(info)) => Ok(Opened::Scene(Box::new(calibrated(&tiff, &d.bands, info, digest)?))),
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

fn calibrated(tiff: &Arc<Tiff>, infos: &[BandInfo], scene: &SceneInfo, digest: String) -> Result<Scene> {
    let mut bands = vec![];
    for (i, info) in infos.iter().enumerate() {
        let Some(role) = BandRole::from_name(&info.name) else { continue };
        let unit = Unit::from_label(&info.unit);
        bands.push(Band {
            role,
            name: info.name.clone(),
            edges: None,
            wavelength: info.wavelength_nm.map(Nanometres),
            content: Content::Values(unit),
            source: Arc::new(TiffPlane::new(tiff, i as u32, Reading::Values(unit))?),
        });
    }
    Ok(Scene {
        id: scene.id.clone(),
        sensor: String::new(),
        platform: scene.platform.clone(),
        level: "calibrated".into(),
        acquired: None,
        date: scene.date.as_ref().and_then(|d| d.parse().ok()),
        place: None,
        sun: None,
        cloud_cover: None,
        grid: tiff.grid.clone(),
        bands,
        flags: vec![],
        mask: None,
        digest,
    })
}

fn layers(path: &Path, tiff: &Arc<Tiff>, d: &Description, digest: String) -> Result<LayerSet> {
    let mut layers = vec![];
    for (i, info) in d.bands.iter().enumerate() {
        let unit = Unit::from_label(&info.unit);
        layers.push(Layer {
            name: info.name.clone(),
            unit,
            wavelength: info.wavelength_nm.map(Nanometres),
            source: Arc::new(TiffPlane::new(tiff, i as u32, Reading::Values(unit))?),
        });
    }
    let period = d.period.clone().unwrap_or_else(|| "all".into());
    Ok(LayerSet { name: name_of(path), period, grid: tiff.grid.clone(), layers, digest })
}

/// A GeoTIFF of somebody else's: its bands are called after the file, or numbered.
fn foreign(path: &Path, tiff: &Arc<Tiff>, digest: String) -> Result<LayerSet> {
    let stem = path.file_stem().map_or(String::new(), |n| n.to_string_lossy().into_owned());
    let clean: String = stem.chars().map(|c| if c.is_alphanumeric() { c.to_ascii_lowercase() } else { '_' }).collect();
    let mut layers = vec![];
    for i in 0..tiff.header.samples {
        let name = if tiff.header.samples == 1 { clean.clone() } else { format!("band{}", i + 1) };
        let source = Arc::new(TiffPlane::new(tiff, i, Reading::Values(Unit::Unknown))?);
        layers.push(Layer { name, unit: Unit::Unknown, wavelength: None, source });
    }
    Ok(LayerSet { name: name_of(path), period: "all".into(), grid: tiff.grid.clone(), layers, digest })
}
