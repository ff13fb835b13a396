//! Bytes at a place: a file, or a member of an archive, read without unpacking.
//!
//! The file is opened for each read: a season has more bands than a process may have open files, and opening costs
//! nothing beside decoding a block.

use std::fs::File;
use std::path::{Path, PathBuf};

use crate::error::{Error, Place, Result};

/// A range of a file.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct ByteRange {
    path: PathBuf,
    member: Option<String>,
    start: u64,
    len: u64,
}

impl ByteRange {
    /// A whole file.
    ///
    /// # Errors
    /// Where it cannot be opened.
    pub fn whole(path: &Path) -> Result<ByteRange> {
        let meta = std::fs::metadata(path).map_err(|e| Error::io(path, e))?;
        if meta.is_dir() {
            return Err(Error::usage(Place::file(path), "is a folder, not a file"));
        }
        Ok(ByteRange { path: path.into(), member: None, start: 0, len: meta.len() })
    }

    /// A member of an archive, which must lie inside the file.
    pub(crate) fn member(path: &Path, name: &str, start: u64, len: u64) -> ByteRange {
        ByteRange { path: path.into(), member: Some(name.into()), start, len }
    }

    /// Number of bytes.
    pub fn len(&self) -> u64 {
        self.len
    }

    /// True where there is none.
    pub fn is_empty(&self) -> bool {
        self.len == 0
    }

    /// The file's name, with the archive before it.
    pub fn name(&self) -> String {
        match &self.member {
            Some(m) => format!("{}:{m}", self.path.display()),
            None => self.path.display().to_string(),
        }
    }

    /// The name of the file itself, without folders.
    pub fn file_name(&self) -> String {
        let whole = self.member.as_deref().map_or(self.path.as_path(), Path::new);
        whole.file_name().map_or(String::new(), |n| n.to_string_lossy().into_owned())
    }

    /// A part of it, as a place.
    pub fn place(&self, part: impl Into<String>) -> Place {
        Place::part(self.name(), part)
    }

    /// Fills `out` from `offset` on.
    ///
    /// # Errors
    /// Where the range ends before, or reading fails.
    pub fn read_at(&self, offset: u64, out: &mut [u8]) -> Result<()> {
        if offset.checked_add(out.len() as u64).is_none_or(|end| end > self.len) {
            let what = format!(
                "the file ends after {} bytes, but bytes {offset} to {} are needed: it is cut off",
                self.len,
                offset.saturating_add(out.len() as u64)
            );
            return Err(Error::malformed(self.place(""), what));
        }
        let io = |cause: std::io::Error| match cause.kind() {
            std::io::ErrorKind::UnexpectedEof => {
                Error::malformed(self.place(""), "the file became shorter while it was read")
            }
            _ => Error::Io { place: self.place(""), cause },
        };
        let file = File::open(&self.path).map_err(io)?;
        read_exact_at(&file, out, self.start + offset).map_err(io)
    }

    /// All of it, if it is not larger than `limit`.
    ///
    /// # Errors
    /// Where it is larger, or reading fails.
    pub fn read_all(&self, limit: u64) -> Result<Vec<u8>> {
        if self.len > limit {
            return Err(Error::malformed(
                self.place(""),
                format!("is {} bytes long; at most {limit} were expected here", self.len),
            ));
        }
        let mut all = vec![0; self.len as usize];
        self.read_at(0, &mut all)?;
        Ok(all)
    }
}

#[cfg(unix)]
fn read_exact_at(file: &File, out: &mut [u8], offset: u64) -> std::io::Result<()> {
    std::os::unix::fs::FileExt::read_exact_at(file, out, offset)
}

#[cfg(not(unix))]
fn read_exact_at(mut file: &File, out: &mut [u8], offset: u64) -> std::io::Result<()> {
    use std::io::{Read, Seek, SeekFrom};
    file.seek(SeekFrom::Start(offset))?;
    file.read_exact(out)
}
