//! What lies on the disk, opened: deliveries as agencies lay them out, rasters an earlier command wrote, others.
//!
//! A scene is what its metadata and planes say it is, wherever its bytes lie: nothing beyond this module asks for a path.

mod archive;
mod discover;
mod files;
mod landsat;
mod mtl;
mod raster;
mod sentinel2;
mod sidecar;
pub mod stac;
mod summary;

use std::path::Path;
use std::sync::Arc;

use telechroma_core::run::Note;
use telechroma_core::scene::{LayerSet, Scene};
use telechroma_core::sensor::{self, SensorDef};
use telechroma_core::tile::PlaneSource;

pub use archive::Files;
pub use discover::{below, find};
pub use sidecar::{RawDef, Sidecar, beside};
pub use summary::{BandSummary, GridSummary, Summary};

use crate::bytes::ByteRange;
use crate::error::{Error, Place, Result};

/// What a path turned out to be.
#[derive(Debug)]
pub enum Opened {
    /// One acquisition.
    Scene(Box<Scene>),
    /// A mask made earlier, of the scene with this id.
    Mask {
        /// The scene's id.
        scene: String,
        /// The mask, in our own reasons.
        source: Arc<dyn PlaneSource>,
        /// The file's fingerprint.
        digest: String,
    },
    /// Named layers.
    Layers(LayerSet),
}

/// How paths are opened.
#[derive(Debug, Clone, Default)]
pub struct Opener {
    /// The sensor that describes what does not describe itself.
    pub sensor: Option<Arc<SensorDef>>,
}

/// Endings of archives.
const ARCHIVES: &[&str] = &[".tar", ".tar.gz", ".tgz", ".zip"];
/// What can be opened, for messages.
const KNOWN: &[&str] = &[
    "Landsat and Sentinel-2 deliveries as folder, .tar, .tar.gz or .zip",
    "GeoTIFF (.tif)",
    "headerless rasters after 'telechroma declare'",
    "files of a sensor named by --sensor",
];
/// A sensor file in a delivery's own folder.
const OWN_SENSOR: &str = "sensor.toml";

fn is_archive(path: &Path) -> bool {
    let name = path.file_name().map_or(String::new(), |n| n.to_string_lossy().to_lowercase());
    ARCHIVES.iter().any(|e| name.ends_with(e))
}

fn is_tiff(path: &Path) -> bool {
    path.extension().is_some_and(|e| e.eq_ignore_ascii_case("tif") || e.eq_ignore_ascii_case("tiff"))
}

/// A sensor by its id or by the path of its file.
///
/// # Errors
/// Where neither is known, or the file is wrong.
pub fn sensor_of(name: &str, base: &Path) -> Result<Arc<SensorDef>> {
    let path = base.join(name);
    if !name.to_lowercase().ends_with(".toml") {
        return Ok(Arc::new(sensor::find(name)?.clone()));
    }
    let text = std::fs::read_to_string(&path).map_err(|e| Error::io(&path, e))?;
    SensorDef::parse(&text).map(Arc::new).map_err(|e| Error::malformed(Place::file(&path), e))
}

impl Opener {
    /// Opens a delivery (folder or archive) or a raster.
    ///
    /// # Errors
    /// Where it is malformed or of a kind that cannot be read.
    pub fn open(&self, path: &Path, note: &mut dyn FnMut(Note)) -> Result<Opened> {
        if !path.exists() {
            return Err(Error::usage(Place::file(path), "does not exist"));
        }
        if path.is_dir() || is_archive(path) {
            return self.delivery(path, note).map(|s| Opened::Scene(Box::new(s)));
        }
        let sidecar = Sidecar::of(path)?;
        let base = path.parent().unwrap_or(Path::new("."));
        let named = sidecar.as_ref().and_then(|s| s.sensor.as_deref()).map(|s| sensor_of(s, base)).transpose()?;
        let is_raw = sidecar.as_ref().is_some_and(|s| s.raw.is_some());
        if !is_raw && !is_tiff(path) {
            let ending = path.extension().map_or("no ending".into(), |e| format!("the kind '{}'", e.to_string_lossy()));
            return Err(Error::unsupported(Place::file(path), format!("a file of {ending}"), KNOWN));
        }
        if let Some(sensor) = named.or(self.sensor.clone())
            && (is_raw || !raster::is_ours(path)?)
        {
            for said in sensor.contradictions() {
                note(Note::Metadata(format!("{}: {said}", sensor.id)));
            }
            let parts = files::Parts::One(ByteRange::whole(path)?, sidecar.as_ref());
            return files::open(path, &parts, &sensor).map(|s| Opened::Scene(Box::new(s)));
        }
        raster::open(path, sidecar.as_ref(), note)
    }

    fn delivery(&self, path: &Path, note: &mut dyn FnMut(Note)) -> Result<Scene> {
        let listed = Files::open(path)?;
        if landsat::is_one(&listed) {
            return landsat::open(&listed, note);
        }
        if sentinel2::is_one(&listed) {
            return sentinel2::open(&listed, note);
        }
        let own = match listed.get(OWN_SENSOR) {
            Some(file) => {
                let text = String::from_utf8_lossy(&file.read_all(1 << 22)?).into_owned();
                Some(Arc::new(SensorDef::parse(&text).map_err(|e| Error::malformed(file.place(""), e))?))
            }
            None => None,
        };
        let Some(sensor) = self.sensor.clone().or(own) else {
            let what = "a delivery without a file *_MTL.json, *_MTL.txt or MTD_MSI*.xml";
            return Err(Error::unsupported(Place::file(path), what, KNOWN));
        };
        for said in sensor.contradictions() {
            note(Note::Metadata(format!("{}: {said}", sensor.id)));
        }
        files::open(path, &files::Parts::Many(&listed), &sensor)
    }

    /// True where a folder or archive is a delivery, by the names of its files.
    fn is_delivery(&self, path: &Path) -> Result<bool> {
        let files = Files::open(path)?;
        let described =
            |f: &Files| f.get(OWN_SENSOR).is_some() || self.sensor.as_ref().is_some_and(|s| files::is_one(f, s));
        Ok(landsat::is_one(&files) || sentinel2::is_one(&files) || described(&files))
    }
}

/// The fingerprint of some bytes, and of names and sizes of files.
pub(crate) fn digest<'a>(bytes: &[u8], files: impl Iterator<Item = (&'a str, u64)>) -> String {
    use sha2::{Digest, Sha256};
    let mut hash = Sha256::new();
    hash.update(bytes);
    for (name, len) in files {
        hash.update(name.as_bytes());
        hash.update(len.to_le_bytes());
    }
    let hex: String = hash.finalize().iter().map(|b| format!("{b:02x}")).collect();
    format!("sha256:{hex}")
}
