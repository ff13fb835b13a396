//! Where blocks go: a spool until all sizes are known, or straight to their places where all have one size.

use std::collections::BTreeMap;
use std::fs::File;
use std::io::{BufWriter, Read, Seek, SeekFrom, Write};
use std::path::{Path, PathBuf};

use super::header;
use super::pyramid::Level;
use super::sink::CogOptions;
use crate::error::{Error, Result};

/// Level, band and number of a block.
pub(super) type Key = (usize, u32, u32);

/// The blocks of one raster.
pub(super) struct Blocks {
    path: PathBuf,
    spool_path: PathBuf,
    /// Opened with the first bytes: a dry run makes no file.
    spool: Option<BufWriter<File>>,
    end: u64,
    /// Offset and size in the spool.
    placed: BTreeMap<Key, (u64, u64)>,
    /// The final file, where blocks are not packed.
    plain: Option<Plain>,
}

/// The final file, its header written.
struct Plain {
    file: File,
    /// Where each block lies.
    places: BTreeMap<Key, u64>,
}

impl Blocks {
    /// Blocks of a raster that will lie at `path`, the spool beside it.
    pub(super) fn new(path: &Path) -> Blocks {
        let spool_path = path.with_extension("spool");
        Blocks { path: path.into(), spool_path, spool: None, end: 0, placed: BTreeMap::new(), plain: None }
    }

    /// Appends bytes to the spool; their offset.
    pub(super) fn spooled(&mut self, bytes: &[u8]) -> Result<u64> {
        let io = |e| Error::io(&self.spool_path, e);
        if self.spool.is_none() {
            let file = File::options().read(true).write(true).create_new(true).open(&self.spool_path).map_err(io)?;
            self.spool = Some(BufWriter::with_capacity(1 << 16, file));
        }
        if let Some(spool) = &mut self.spool {
            spool.write_all(bytes).map_err(io)?;
        }
        let at = self.end;
        self.end += bytes.len() as u64;
        Ok(at)
    }

    /// Bytes of the spool.
    pub(super) fn read_back(&mut self, at: u64, bytes: &mut [u8]) -> Result<()> {
        let Some(spool) = &mut self.spool else { unreachable!("what waits in the spool was written to it") };
        let mut read = || {
            spool.seek(SeekFrom::Start(at))?; // writes out first what is buffered
            spool.get_mut().read_exact(bytes)?;
            spool.seek(SeekFrom::End(0))
        };
        read().map_err(|e| Error::io(&self.spool_path, e))?;
        Ok(())
    }

    /// Takes a block.
    pub(super) fn put(&mut self, options: &CogOptions, levels: &[Level], key: Key, bytes: &[u8]) -> Result<()> {
        if options.packed {
            let at = self.spooled(bytes)?;
            self.placed.insert(key, (at, bytes.len() as u64));
            return Ok(());
        }
        let io = |e| Error::io(&self.path, e);
        let plain = match &mut self.plain {
            Some(plain) => plain,
            none => none.insert(Plain::create(&self.path, options, levels, bytes.len() as u64).map_err(io)?),
        };
        let Some(place) = plain.places.get(&key) else { unreachable!("the layout has every block of the raster") };
        plain.file.seek(SeekFrom::Start(*place)).map_err(io)?;
        plain.file.write_all(bytes).map_err(io)
    }

    /// Completes the file, with so many threads, and removes the spool.
    pub(super) fn finish(mut self, options: &CogOptions, levels: &[Level], threads: usize) -> Result<()> {
        if options.packed {
            self.lay_out(options, levels, threads)?;
        }
        match self.spool.take() {
            Some(_) => std::fs::remove_file(&self.spool_path).map_err(|e| Error::io(&self.spool_path, e)),
            None => Ok(()),
        }
    }

    fn lay_out(&mut self, options: &CogOptions, levels: &[Level], threads: usize) -> Result<()> {
        let (path, spool_path) = (&self.path, &self.spool_path);
        let io = |e| Error::io(path, e);
        if let Some(spool) = &mut self.spool {
            spool.flush().map_err(|e| Error::io(spool_path, e))?;
        }
        let place = |level, band, tile| self.placed.get(&(level, band, tile)).map_or((0, 0), |p| *p);
        let layout = header::layout(options, levels, |level, band, tile| place(level, band, tile).1);
        let mut out = File::create(path).map_err(io)?;
        out.write_all(&layout.header).map_err(io)?;
        let pieces: Vec<(u64, u64)> =
            layout.order.iter().map(|(level, band, tile)| place(*level, *band, *tile)).collect();
        let all: u64 = pieces.iter().map(|p| p.1).sum();
        std::thread::scope(|scope| {
            let mut handles = vec![];
            let (mut rest, mut at) = (pieces.as_slice(), layout.header.len() as u64);
            for left in (1..=threads.max(1)).rev() {
                // about an equal part of what is left for each thread
                let written = at - layout.header.len() as u64;
                let (mut n, mut bytes) = (0, 0);
                while n < rest.len() && (left == 1 || bytes < (all - written) / left as u64) {
                    bytes += rest[n].1;
                    n += 1;
                }
                let (mine, others) = rest.split_at(n);
                handles.push(scope.spawn(move || transfer(spool_path, path, at, mine)));
                (rest, at) = (others, at + bytes);
            }
            handles.into_iter().try_for_each(|h| match h.join() {
                Ok(done) => done,
                Err(_) => unreachable!("copying bytes does not panic"),
            })
        })
    }
}

impl Plain {
    fn create(path: &Path, options: &CogOptions, levels: &[Level], size: u64) -> std::io::Result<Plain> {
        let layout = header::layout(options, levels, |_, _, _| size);
        let first = layout.header.len() as u64;
        let places = layout.order.into_iter().zip(0..).map(|(key, n): (Key, u64)| (key, first + n * size)).collect();
        let mut file = File::create(path)?;
        file.write_all(&layout.header)?;
        Ok(Plain { file, places })
    }
}

/// Copies pieces of the spool (offset, size) one after the other to `at` in the final file.
fn transfer(spool_path: &Path, path: &Path, at: u64, pieces: &[(u64, u64)]) -> Result<()> {
    let of_spool = |e| Error::io(spool_path, e);
    let io = |e| Error::io(path, e);
    let mut spool = File::open(spool_path).map_err(of_spool)?;
    let mut out = File::options().write(true).open(path).map_err(io)?;
    out.seek(SeekFrom::Start(at)).map_err(io)?;
    let mut buffer = vec![];
    for (offset, len) in pieces {
        buffer.resize(*len as usize, 0);
        spool.seek(SeekFrom::Start(*offset)).map_err(of_spool)?;
        spool.read_exact(&mut buffer).map_err(of_spool)?;
        out.write_all(&buffer).map_err(io)?;
    }
    Ok(())
}
