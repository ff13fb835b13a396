//! The files of a delivery: in a folder, or in place inside a `.tar`, `.tar.gz` or `.zip`.

use std::fs::File;
use std::io::{BufReader, Read};
use std::path::{Path, PathBuf};

use flate2::read::MultiGzDecoder;

use crate::bytes::{ByteRange, Packed, position, scratch, spool};
use crate::error::{Error, Place, Result};

/// The files of a delivery by name.
#[derive(Debug)]
pub struct Files {
    /// The folder or archive.
    pub path: PathBuf,
    /// Names with folders, parted by `/`.
    files: Vec<(String, ByteRange)>,
}

/// Folders below a delivery's own that are looked into.
const DEEPEST: usize = 6;
/// More members than any delivery has.
const MOST: usize = 100_000;

impl Files {
    /// Lists a folder or an archive.
    ///
    /// # Errors
    /// Where it cannot be read, or is an archive of another kind.
    pub fn open(path: &Path) -> Result<Files> {
        let name = path.file_name().map_or(String::new(), |n| n.to_string_lossy().to_lowercase());
        let mut files = match () {
            () if path.is_dir() => {
                let mut files = vec![];
                folder(path, "", if is_nested(path) { DEEPEST } else { 0 }, &mut files)?;
                files
            }
            () if name.ends_with(".zip") => zip(path)?,
            () if name.ends_with(".tar.gz") || name.ends_with(".tgz") => tar_gz(path)?,
            () => tar(path)?,
        };
        files.sort_by(|a, b| a.0.cmp(&b.0));
        Ok(Files { path: path.into(), files })
    }

    /// A file by its name, with or without the folders before it.
    pub fn get(&self, name: &str) -> Option<&ByteRange> {
        let matches = |n: &str| n == name || n.strip_suffix(name).is_some_and(|head| head.ends_with('/'));
        self.files.iter().find(|f| matches(&f.0)).map(|f| &f.1)
    }

    /// The first file whose name ends so.
    pub fn ending(&self, end: &str) -> Option<&ByteRange> {
        self.files.iter().find(|f| f.0.ends_with(end)).map(|f| &f.1)
    }

    /// The first file whose name without folders meets a condition.
    pub fn named(&self, meets: impl Fn(&str) -> bool) -> Option<&ByteRange> {
        self.files.iter().find(|f| meets(f.0.rsplit('/').next().unwrap_or(&f.0))).map(|f| &f.1)
    }

    /// Names and sizes.
    pub fn list(&self) -> impl Iterator<Item = (&str, u64)> {
        self.files.iter().map(|(n, b)| (n.as_str(), b.len()))
    }
}

/// True for folders whose data lie in folders below.
fn is_nested(path: &Path) -> bool {
    path.extension().is_some_and(|e| e.eq_ignore_ascii_case("safe")) || path.join("GRANULE").is_dir()
}

fn folder(path: &Path, before: &str, deeper: usize, files: &mut Vec<(String, ByteRange)>) -> Result<()> {
    for entry in std::fs::read_dir(path).map_err(|e| Error::io(path, e))? {
        let at = entry.map_err(|e| Error::io(path, e))?.path();
        let Some(name) = at.file_name().map(|n| format!("{before}{}", n.to_string_lossy())) else { continue };
        if at.is_file() {
            files.push((name, ByteRange::whole(&at)?));
        } else if deeper > 0 && at.is_dir() && files.len() < MOST {
            folder(&at, &format!("{name}/"), deeper - 1, files)?;
        }
    }
    Ok(())
}

fn wrong(path: &Path, what: impl Into<String>) -> Error {
    Error::malformed(Place::file(path), what)
}

/// The archive readers' own words hold bytes of the file; the system's do not.
fn unreadable(path: &Path, kind: &str, e: std::io::Error) -> Error {
    match e.raw_os_error() {
        Some(_) => Error::io(path, e),
        None => wrong(path, format!("is no {kind} archive, or a damaged one")),
    }
}

/// Members are found by their headers alone; nothing is unpacked.
fn tar(path: &Path) -> Result<Vec<(String, ByteRange)>> {
    let unreadable = |e| unreadable(path, ".tar", e);
    let file = File::open(path).map_err(|e| Error::io(path, e))?;
    let len = file.metadata().map_err(|e| Error::io(path, e))?.len();
    let mut archive = ::tar::Archive::new(BufReader::new(file));
    let mut files = vec![];
    for entry in archive.entries_with_seek().map_err(unreadable)? {
        let entry = entry.map_err(unreadable)?;
        if !entry.header().entry_type().is_file() || files.len() >= MOST {
            continue;
        }
        let (start, size) = (entry.raw_file_position(), entry.size());
        let name = entry.path().map_err(unreadable)?.to_string_lossy().trim_start_matches("./").to_string();
        if start.checked_add(size).is_none_or(|end| end > len) {
            return Err(wrong(
                path,
                format!(
                    "is cut off: its member {name} should reach to byte {}, the file has {len}",
                    start.saturating_add(size)
                ),
            ));
        }
        let range = ByteRange::member(path, &name, start, size);
        files.push((name, range));
    }
    match files.is_empty() {
        true => Err(wrong(path, "is no .tar archive, or an empty one")),
        false => Ok(files),
    }
}

/// One pass over the whole file, which unpacks it: there is no other way to know what is in it, and listing costs as much.
fn tar_gz(path: &Path) -> Result<Vec<(String, ByteRange)>> {
    let unreadable = |e: std::io::Error| match e.kind() {
        std::io::ErrorKind::UnexpectedEof => wrong(path, "is cut off"),
        _ => unreadable(path, ".tar.gz", e),
    };
    let file = File::open(path).map_err(|e| Error::io(path, e))?;
    let mut archive = ::tar::Archive::new(MultiGzDecoder::new(BufReader::with_capacity(1 << 18, file)));
    let mut store = scratch()?;
    let mut found: Vec<(String, u64, u64)> = vec![];
    for entry in archive.entries().map_err(unreadable)? {
        let mut entry = entry.map_err(unreadable)?;
        if !entry.header().entry_type().is_file() || found.len() >= MOST {
            continue;
        }
        let (size, at) = (entry.size(), position(&mut store)?);
        let name = entry.path().map_err(unreadable)?.to_string_lossy().trim_start_matches("./").to_string();
        spool(&mut entry, size, &mut store, &Place::part(path.display().to_string(), &name))?;
        found.push((name, at, size));
    }
    if found.is_empty() {
        return Err(wrong(path, "is no .tar.gz archive, or an empty one"));
    }
    let store = Packed::ready(store);
    let range = |(name, at, size): (String, u64, u64)| {
        let range = ByteRange::packed(path, &name, store.clone(), at, size);
        (name, range)
    };
    Ok(found.into_iter().map(range).collect())
}

/// Stored members are read in place; a packed one is unpacked once, when it is first read.
fn zip(path: &Path) -> Result<Vec<(String, ByteRange)>> {
    let damaged = |_| wrong(path, "is no .zip archive, or a damaged one");
    let file = File::open(path).map_err(|e| Error::io(path, e))?;
    let len = file.metadata().map_err(|e| Error::io(path, e))?.len();
    let mut archive = ::zip::ZipArchive::new(BufReader::new(file)).map_err(damaged)?;
    let mut files = vec![];
    for i in 0..archive.len().min(MOST) {
        let member = archive.by_index_raw(i).map_err(damaged)?;
        let name = member.name().map_err(damaged)?.into_owned();
        if member.is_dir() {
            continue;
        }
        let (size, packed) = (member.size(), member.compressed_size());
        let range = match member.compression() {
            _ if member.encrypted() => {
                return Err(Error::unsupported(Place::file(path), format!("the encrypted member {name}"), &[]));
            }
            ::zip::CompressionMethod::Stored => {
                let start =
                    member.data_start().ok_or_else(|| wrong(path, format!("its member {name} cannot be found")))?;
                if start.checked_add(size).is_none_or(|end| end > len) {
                    return Err(wrong(path, format!("is cut off: its member {name} reaches beyond the file")));
                }
                ByteRange::member(path, &name, start, size)
            }
            ::zip::CompressionMethod::Deflated => {
                if size > packed.saturating_mul(1100) + 1024 {
                    return Err(wrong(path, format!("its member {name} cannot unpack to {size} bytes")));
                }
                let (from, member) = (path.to_path_buf(), name.clone());
                ByteRange::packed(path, &name, Packed::new(move || unzip(&from, i, size, &member)), 0, size)
            }
            other => {
                return Err(Error::unsupported(
                    Place::file(path),
                    format!("a member packed by {other}"),
                    &["stored", "Deflate"],
                ));
            }
        };
        files.push((name, range));
    }
    match files.is_empty() {
        true => Err(wrong(path, "holds no file")),
        false => Ok(files),
    }
}

fn unzip(path: &Path, index: usize, size: u64, name: &str) -> Result<File> {
    let place = Place::part(path.display().to_string(), name);
    let damaged = |_| Error::malformed(place.clone(), "cannot be unpacked: the archive is damaged");
    let file = File::open(path).map_err(|e| Error::io(path, e))?;
    let mut archive = ::zip::ZipArchive::new(BufReader::new(file)).map_err(damaged)?;
    let mut member = archive.by_index(index).map_err(damaged)?;
    let mut out = scratch()?;
    spool(&mut (&mut member as &mut dyn Read), size, &mut out, &place)?;
    Ok(out)
}
