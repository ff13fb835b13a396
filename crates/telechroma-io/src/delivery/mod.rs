//! What lies on the disk, opened: deliveries as agencies lay them out, rasters an earlier command wrote, others.

mod archive;
mod landsat;
mod mtl;
mod raster;

use std::path::{Path, PathBuf};
use std::sync::Arc;

use telechroma_core::run::Note;
use telechroma_core::scene::{LayerSet, Scene};
use telechroma_core::tile::PlaneSource;

pub use archive::Files;

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

/// Opens a delivery (folder or archive) or a raster.
///
/// # Errors
/// Where it is malformed or of a kind that cannot be read.
pub fn open(path: &Path, note: &mut dyn FnMut(Note)) -> Result<Opened> {
    if !path.exists() {
        return Err(Error::usage(Place::file(path), "does not exist"));
    }
    let extension = path.extension().map(|e| e.to_string_lossy().to_lowercase()).unwrap_or_default();
    match extension.as_str() {
        "tif" | "tiff" if path.is_file() => raster::open(path, note),
        ending if path.is_file() && ending != "tar" => Err(Error::unsupported(
            Place::file(path),
            format!("a file of the kind '{ending}'"),
            &["deliveries as folder or .tar", "GeoTIFF (.tif)"],
        )),
        _ => {
            let files = Files::open(path)?;
            match landsat::is_one(&files) {
                true => Ok(Opened::Scene(Box::new(landsat::open(&files, note)?))),
                false => Err(Error::unsupported(
                    Place::file(path),
                    "a delivery without a file *_MTL.json or *_MTL.txt",
                    &["Landsat 8-9 Collection 2 Level-1 as folder or .tar", "GeoTIFF (.tif)"],
                )),
            }
        }
    }
}

/// The deliveries in a folder: itself if it is one, else those directly in it; where there are none, its GeoTIFFs. Sorted
/// by name.
///
/// # Errors
/// Where the folder cannot be read or holds none.
pub fn find(folder: &Path) -> Result<Vec<PathBuf>> {
    if !folder.exists() {
        return Err(Error::usage(Place::file(folder), "does not exist"));
    }
    if !folder.is_dir() || landsat::is_one(&Files::open(folder)?) {
        return Ok(vec![folder.into()]);
    }
    let (mut found, mut rasters) = (vec![], vec![]);
    let entries = std::fs::read_dir(folder).map_err(|e| Error::io(folder, e))?;
    for entry in entries {
        let path = entry.map_err(|e| Error::io(folder, e))?.path();
        let ends = |ending: &str| path.is_file() && path.extension().is_some_and(|e| e.eq_ignore_ascii_case(ending));
        if (path.is_dir() && landsat::is_one(&Files::open(&path)?)) || ends("tar") {
            found.push(path);
        } else if ends("tif") || ends("tiff") {
            rasters.push(path);
        }
    }
    if found.is_empty() {
        found = rasters;
    }
    if found.is_empty() {
        return Err(Error::usage(
            Place::file(folder),
            "holds no delivery (a folder or .tar with a file *_MTL.json or *_MTL.txt) and no GeoTIFF",
        ));
    }
    found.sort();
    Ok(found)
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
