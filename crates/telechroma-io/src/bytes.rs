//! Bytes at a place: a file, a stored member of an archive, or a packed member, unpacked once to a scratch file when it is
//! first read.
//!
//! The file is opened for each read: a season has more bands than a process may have open files, and opening costs
//! nothing beside decoding a block. Scratch files have no name, so none is left behind whatever happens.

use std::fs::File;
use std::io::{Read, Seek, SeekFrom, Write};
use std::path::{Path, PathBuf};
use std::sync::{Arc, Mutex, PoisonError};

use crate::error::{Error, Place, Result};

/// A range of a file.
#[derive(Debug, Clone)]
pub struct ByteRange {
    path: PathBuf,
    member: Option<String>,
    store: Store,
    start: u64,
    len: u64,
}

#[derive(Debug, Clone)]
enum Store {
    /// In the file itself.
    File,
    /// In a scratch file, once it is made.
    Packed(Arc<Packed>),
}

/// Members of an archive that must be unpacked to be read.
pub(crate) struct Packed {
    unpack: Box<dyn Fn() -> Result<File> + Send + Sync>,
    made: Mutex<Option<Arc<File>>>,
}

impl std::fmt::Debug for Packed {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.write_str("packed")
    }
}

impl Packed {
    /// Unpacked by `unpack` when first needed.
    pub(crate) fn new(unpack: impl Fn() -> Result<File> + Send + Sync + 'static) -> Arc<Packed> {
        Arc::new(Packed { unpack: Box::new(unpack), made: Mutex::new(None) })
    }

    /// Unpacked already.
    pub(crate) fn ready(file: File) -> Arc<Packed> {
        let unpack = || unreachable!("it is made already");
        Arc::new(Packed { unpack: Box::new(unpack), made: Mutex::new(Some(Arc::new(file))) })
    }

    fn file(&self) -> Result<Arc<File>> {
        let mut made = self.made.lock().unwrap_or_else(PoisonError::into_inner); // set only when whole
        if let Some(file) = &*made {
            return Ok(file.clone());
        }
        let file = Arc::new((self.unpack)()?);
        *made = Some(file.clone());
        Ok(file)
    }
}

/// A scratch file without a name.
///
/// # Errors
/// Where the folder for scratch files cannot be written to.
pub(crate) fn scratch() -> Result<File> {
    tempfile::tempfile().map_err(|e| Error::io(&std::env::temp_dir(), e))
}

/// Copies exactly `len` bytes to a scratch file.
///
/// # Errors
/// Where there are fewer or more, or the disk is full.
pub(crate) fn spool(from: &mut dyn Read, len: u64, to: &mut File, place: &Place) -> Result<()> {
    let io = |cause: std::io::Error| match cause.kind() {
        std::io::ErrorKind::StorageFull => Error::io(&std::env::temp_dir(), cause),
        _ => Error::malformed(place.clone(), "its packed data are damaged"),
    };
    // one byte more than promised is enough to know
    let n = std::io::copy(&mut from.take(len + 1), to).map_err(io)?;
    match n == len {
        true => to.flush().map_err(io),
        false => Err(Error::malformed(
            place.clone(),
            format!("unpacks to {} bytes than the {len} promised", if n > len { "more" } else { "fewer" }),
        )),
    }
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
        Ok(ByteRange { path: path.into(), member: None, store: Store::File, start: 0, len: meta.len() })
    }

    /// A member of an archive, which must lie inside the file.
    pub(crate) fn member(path: &Path, name: &str, start: u64, len: u64) -> ByteRange {
        ByteRange { path: path.into(), member: Some(name.into()), store: Store::File, start, len }
    }

    /// A member of an archive that must be unpacked.
    pub(crate) fn packed(path: &Path, name: &str, packed: Arc<Packed>, start: u64, len: u64) -> ByteRange {
        ByteRange { path: path.into(), member: Some(name.into()), store: Store::Packed(packed), start, len }
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
        match &self.store {
            Store::File => read_exact_at(&File::open(&self.path).map_err(io)?, out, self.start + offset).map_err(io),
            Store::Packed(packed) => read_exact_at(&*packed.file()?, out, self.start + offset).map_err(io),
        }
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
    file.seek(SeekFrom::Start(offset))?;
    file.read_exact(out)
}

/// Position in a scratch file, for the next member.
///
/// # Errors
/// Where the system refuses.
pub(crate) fn position(file: &mut File) -> Result<u64> {
    file.seek(SeekFrom::End(0)).map_err(|e| Error::io(&std::env::temp_dir(), e))
}
