//! The files of a delivery, in a folder or in place inside a `.tar`.

use std::fs::File;
use std::io::BufReader;
use std::path::{Path, PathBuf};

use crate::bytes::ByteRange;
use crate::error::{Error, Place, Result};

/// The files of a delivery by name, without folders.
#[derive(Debug)]
pub struct Files {
    /// The folder or archive.
    pub path: PathBuf,
    files: Vec<(String, ByteRange)>,
}

impl Files {
    /// Lists a folder or an archive.
    ///
    /// # Errors
    /// Where it cannot be read, or is an archive of another kind.
    pub fn open(path: &Path) -> Result<Files> {
        let mut files = if path.is_dir() { folder(path)? } else { tar(path)? };
        files.sort_by(|a, b| a.0.cmp(&b.0));
        Ok(Files { path: path.into(), files })
    }

    /// A file by its name.
    pub fn get(&self, name: &str) -> Option<&ByteRange> {
        self.files.iter().find(|f| f.0 == name).map(|f| &f.1)
    }

    /// The first file whose name ends so.
    pub fn ending(&self, end: &str) -> Option<&ByteRange> {
        self.files.iter().find(|f| f.0.ends_with(end)).map(|f| &f.1)
    }

    /// Names and sizes.
    pub fn list(&self) -> impl Iterator<Item = (&str, u64)> {
        self.files.iter().map(|(n, b)| (n.as_str(), b.len()))
    }
}

fn folder(path: &Path) -> Result<Vec<(String, ByteRange)>> {
    let mut files = vec![];
    for entry in std::fs::read_dir(path).map_err(|e| Error::io(path, e))? {
        let at = entry.map_err(|e| Error::io(path, e))?.path();
        if at.is_file()
            && let Some(name) = at.file_name()
        {
            files.push((name.to_string_lossy().into_owned(), ByteRange::whole(&at)?));
        }
    }
    Ok(files)
}

/// Members are found by their headers alone; nothing is unpacked.
fn tar(path: &Path) -> Result<Vec<(String, ByteRange)>> {
    let io = |e| Error::io(path, e);
    let wrong = |what: String| Error::malformed(Place::file(path), what);
    // the reader's own words hold bytes of the file
    let unreadable = |e: std::io::Error| match e.raw_os_error() {
        Some(_) => Error::io(path, e),
        None => wrong("is no .tar archive, or a damaged one".into()),
    };
    let file = File::open(path).map_err(io)?;
    let len = file.metadata().map_err(io)?.len();
    let mut archive = tar::Archive::new(BufReader::new(file));
    let mut files = vec![];
    let entries = archive.entries_with_seek().map_err(unreadable)?;
    for entry in entries {
        let entry = entry.map_err(unreadable)?;
        if !entry.header().entry_type().is_file() {
            continue;
        }
        let (start, size) = (entry.raw_file_position(), entry.size());
        let name = entry.path().map_err(unreadable)?;
        let Some(name) = name.file_name().map(|n| n.to_string_lossy().into_owned()) else { continue };
        if start.checked_add(size).is_none_or(|end| end > len) {
            return Err(wrong(format!(
                "is cut off: its member {name} should reach to byte {}, the file has {len}",
                start.saturating_add(size)
            )));
        }
        let range = ByteRange::member(path, &name, start, size);
        files.push((name, range));
    }
    if files.is_empty() {
        return Err(wrong("is no .tar archive, or an empty one".into()));
    }
    Ok(files)
}
