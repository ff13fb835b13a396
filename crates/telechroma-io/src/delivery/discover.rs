//! Finding deliveries and rasters in folders, by names alone.

use std::path::{Path, PathBuf};

use super::{Opener, beside, is_archive, is_tiff};
use crate::error::{Error, Place, Result};

/// Folders below the one given that are looked into.
const DEEPEST: usize = 8;

fn entries(folder: &Path) -> Result<Vec<PathBuf>> {
    let mut all = vec![];
    for entry in std::fs::read_dir(folder).map_err(|e| Error::io(folder, e))? {
        all.push(entry.map_err(|e| Error::io(folder, e))?.path());
    }
    all.sort();
    Ok(all)
}

fn is_raster(path: &Path) -> bool {
    path.is_file() && (is_tiff(path) || beside(path).exists())
}

/// The deliveries in a folder: itself if it is one, else those directly in it; where there are none, its rasters. Sorted
/// by name.
///
/// # Errors
/// Where the folder cannot be read or holds none.
pub fn find(folder: &Path, opener: &Opener) -> Result<Vec<PathBuf>> {
    if !folder.exists() {
        return Err(Error::usage(Place::file(folder), "does not exist"));
    }
    if !folder.is_dir() || opener.is_delivery(folder)? {
        return Ok(vec![folder.into()]);
    }
    let (mut found, mut rasters) = (vec![], vec![]);
    for path in entries(folder)? {
        if (path.is_dir() && opener.is_delivery(&path)?) || path.is_file() && is_archive(&path) {
            found.push(path);
        } else if is_raster(&path) {
            rasters.push(path);
        }
    }
    let found = if found.is_empty() { rasters } else { found };
    match found.is_empty() {
        false => Ok(found),
        true => Err(Error::usage(
            Place::file(folder),
            "holds no delivery (a folder or archive with a file *_MTL.json, *_MTL.txt or MTD_MSI*.xml) and no raster",
        )),
    }
}

/// Every delivery and raster below a folder, however deep, sorted by path.
///
/// # Errors
/// Where a folder cannot be read.
pub fn below(folder: &Path, opener: &Opener) -> Result<Vec<PathBuf>> {
    let mut found = vec![];
    walk(folder, opener, DEEPEST, &mut found)?;
    found.sort();
    Ok(found)
}

fn walk(folder: &Path, opener: &Opener, deeper: usize, found: &mut Vec<PathBuf>) -> Result<()> {
    if opener.is_delivery(folder)? {
        found.push(folder.into());
        return Ok(());
    }
    for path in entries(folder)? {
        let hidden = path.file_name().is_some_and(|n| n.to_string_lossy().starts_with('.'));
        if path.is_dir() && deeper > 0 && !hidden {
            walk(&path, opener, deeper - 1, found)?;
        } else if path.is_file() && is_archive(&path) || is_raster(&path) {
            found.push(path);
        }
    }
    Ok(())
}
