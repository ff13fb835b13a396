//! The header of the first image of a TIFF, classic or big, in either byte order. Everything is checked against the
//! file's length before it is believed.

use std::collections::BTreeMap;

use crate::bytes::ByteRange;
use crate::error::{Error, Result};
use crate::raster::geokeys::GeoKeys;
use crate::raster::samples::SampleFormat;

/// How blocks are packed.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Compression {
    /// Not at all.
    None,
    /// LZW.
    Lzw,
    /// Deflate in a zlib wrapper.
    Deflate,
}

/// The first image of a file.
#[derive(Debug, Clone)]
pub struct Header {
    /// Columns.
    pub cols: u32,
    /// Rows.
    pub rows: u32,
    /// Samples (bands) a cell has.
    pub samples: u32,
    /// How each is stored.
    pub format: SampleFormat,
    /// Packing.
    pub compression: Compression,
    /// 1 none, 2 horizontal differences, 3 floating point.
    pub predictor: u16,
    /// Bands lie one after the other, not interleaved.
    pub planar: bool,
    /// True for tiles, false for strips.
    pub tiled: bool,
    /// Columns of a block.
    pub block_cols: u32,
    /// Rows of a block.
    pub block_rows: u32,
    /// Where blocks are and how many bytes each has; (0, 0) for a block without data.
    pub blocks: Vec<(u64, u64)>,
    /// Numbers are stored with the highest byte first.
    pub big_endian: bool,
    /// The declared missing value.
    pub nodata: Option<f64>,
    /// ImageDescription.
    pub description: Option<String>,
    /// Geographic tags: pixel scale, tie points, transformation, key directory, double and text parameters.
    pub(crate) geo: GeoTags,
}

#[derive(Debug, Clone, Default)]
pub(crate) struct GeoTags {
    pub scale: Vec<f64>,
    pub ties: Vec<f64>,
    pub transformation: Vec<f64>,
    pub keys: GeoKeys,
}

/// The largest block that is decoded: guards against absurd headers.
const LARGEST_BLOCK: u64 = 1 << 28;
/// Deflate cannot expand more than this.
const MOST_EXPANSION: u64 = 1100;

struct Entry {
    kind: u16,
    bytes: Vec<u8>,
}

/// Bytes at the start of a file that are read at once: most headers lie within.
const START: u64 = 1 << 14;

struct Raw<'a> {
    file: &'a ByteRange,
    start: Vec<u8>,
    big_endian: bool,
    entries: BTreeMap<u16, Entry>,
}

fn number(bytes: &[u8], big_endian: bool) -> u64 {
    let digit = |n: u64, b: &u8| n << 8 | u64::from(*b);
    if big_endian { bytes.iter().fold(0, digit) } else { bytes.iter().rev().fold(0, digit) }
}

fn size_of(kind: u16) -> Option<usize> {
    Some(match kind {
        1 | 2 | 6 | 7 => 1,
        3 | 8 => 2,
        4 | 9 | 11 | 13 => 4,
        5 | 10 | 12 | 16 | 17 | 18 => 8,
        _ => return None,
    })
}

impl<'a> Raw<'a> {
    fn read(file: &'a ByteRange) -> Result<Raw<'a>> {
        let mut start = vec![0u8; file.len().min(START) as usize];
        file.read_at(0, &mut start)?;
        let mut head = [0u8; 16];
        let n = head.len().min(start.len());
        head[..n].copy_from_slice(&start[..n]);
        let not = || Error::malformed(file.place(""), "is not a TIFF file (it does not start like one)");
        let big_endian = match &head[..2] {
            b"II" if n >= 8 => false,
            b"MM" if n >= 8 => true,
            _ => return Err(not()),
        };
        let (at, big) = match number(&head[2..4], big_endian) {
            42 => (number(&head[4..8], big_endian), false),
            43 if n == 16 && number(&head[4..6], big_endian) == 8 => (number(&head[8..16], big_endian), true),
            _ => return Err(not()),
        };
        let mut raw = Raw { file, start, big_endian, entries: BTreeMap::new() };
        raw.directory(at, big)?;
        Ok(raw)
    }

    fn bytes(&self, at: u64, len: usize) -> Result<Vec<u8>> {
        let within = usize::try_from(at).ok().and_then(|at| self.start.get(at..at.checked_add(len)?));
        if let Some(bytes) = within {
            return Ok(bytes.to_vec());
        }
        let mut bytes = vec![0u8; len];
        self.file.read_at(at, &mut bytes)?;
        Ok(bytes)
    }

    fn directory(&mut self, at: u64, big: bool) -> Result<()> {
        let (count_len, entry_len, inline) = if big { (8, 20, 8) } else { (2, 12, 4) };
        let count = number(&self.bytes(at, count_len)?, self.big_endian);
        if count == 0 || count > 4096 {
            return Err(Error::malformed(self.file.place("image directory"), format!("has {count} entries")));
        }
        let table = self.bytes(at + count_len as u64, count as usize * entry_len)?;
        for e in table.chunks_exact(entry_len) {
            let tag = number(&e[..2], self.big_endian) as u16;
            let kind = number(&e[2..4], self.big_endian) as u16;
            let value = &e[entry_len - inline..];
            let n = number(&e[4..entry_len - inline], self.big_endian);
            let Some(size) = size_of(kind) else { continue };
            let len = n.checked_mul(size as u64).filter(|l| *l <= self.file.len());
            let Some(len) = len else {
                let what = format!("says it has {n} values, more than the file has bytes");
                return Err(Error::malformed(self.file.place(format!("tag {tag}")), what));
            };
            let bytes = match len <= inline as u64 {
                true => value[..len as usize].to_vec(),
                false => self.bytes(number(value, self.big_endian), len as usize)?,
            };
            self.entries.insert(tag, Entry { kind, bytes });
        }
        Ok(())
    }

    fn wrong(&self, tag: u16, what: impl Into<String>) -> Error {
        Error::malformed(self.file.place(format!("tag {tag}")), what)
    }

    fn unsupported(&self, what: impl Into<String>, known: &[&str]) -> Error {
        Error::unsupported(self.file.place(""), what, known)
    }

    fn numbers(&self, tag: u16) -> Result<Option<Vec<u64>>> {
        let Some(e) = self.entries.get(&tag) else { return Ok(None) };
        let size = match e.kind {
            1 | 3 | 4 | 7 | 13 | 16 => size_of(e.kind).unwrap_or(1),
            other => return Err(self.wrong(tag, format!("should hold whole numbers, but is of type {other}"))),
        };
        Ok(Some(e.bytes.chunks_exact(size).map(|c| number(c, self.big_endian)).collect()))
    }

    fn one(&self, tag: u16) -> Result<Option<u64>> {
        match self.numbers(tag)? {
            None => Ok(None),
            Some(v) => v.first().copied().map(Some).ok_or_else(|| self.wrong(tag, "is empty")),
        }
    }

    fn needed(&self, tag: u16, what: &str) -> Result<u64> {
        self.one(tag)?.ok_or_else(|| Error::malformed(self.file.place(""), format!("has no {what} (tag {tag})")))
    }

    fn reals(&self, tag: u16) -> Vec<f64> {
        match self.entries.get(&tag) {
            Some(Entry { kind: 12, bytes }) => {
                bytes.chunks_exact(8).map(|c| f64::from_bits(number(c, self.big_endian))).collect()
            }
            _ => vec![],
        }
    }

    fn text(&self, tag: u16) -> Option<String> {
        let e = self.entries.get(&tag)?;
        let end = e.bytes.iter().position(|b| *b == 0).unwrap_or(e.bytes.len());
        Some(String::from_utf8_lossy(&e.bytes[..end]).into_owned())
    }

    fn size(&self, tag: u16, what: &str) -> Result<u32> {
        let n = self.needed(tag, what)?;
        u32::try_from(n)
            .ok()
            .filter(|n| (1..=1 << 30).contains(n))
            .ok_or_else(|| self.wrong(tag, format!("{what} is {n}")))
    }
}

impl Header {
    /// Reads the first image's header.
    ///
    /// # Errors
    /// Where the file is malformed or of a kind that cannot be read.
    pub fn read(file: &ByteRange) -> Result<Header> {
        let raw = Raw::read(file)?;
        let (cols, rows) = (raw.size(256, "width")?, raw.size(257, "height")?);
        let samples = match raw.one(277)?.unwrap_or(1) {
            n @ 1..=4096 => n as u32,
            n => return Err(raw.wrong(277, format!("says a cell has {n} samples"))),
        };
        let format = sample_format(&raw)?;
        let planar = samples > 1 && raw.one(284)?.unwrap_or(1) == 2;
        let compression = match raw.one(259)?.unwrap_or(1) {
            1 => Compression::None,
            5 => Compression::Lzw,
            8 | 32946 => Compression::Deflate,
            other => {
                return Err(raw
                    .unsupported(format!("compression {other} ({})", codec_name(other)), &["none", "LZW", "Deflate"]));
            }
        };
        let predictor = match raw.one(317)?.unwrap_or(1) {
            0 | 1 => 1,
            2 if format != SampleFormat::F64 => 2,
            3 if format == SampleFormat::F32 => 3,
            other => return Err(raw.unsupported(format!("predictor {other} for {} samples", format.name()), &[])),
        };
        let tiled = raw.entries.contains_key(&322);
        let (block_cols, block_rows) = match tiled {
            true => (raw.size(322, "tile width")?, raw.size(323, "tile height")?),
            false => (cols, (raw.one(278)?.unwrap_or(u64::from(rows)).min(u64::from(rows))).max(1) as u32),
        };
        let (offset_tag, count_tag) = if tiled { (324, 325) } else { (273, 279) };
        let offsets =
            raw.numbers(offset_tag)?.ok_or_else(|| raw.wrong(offset_tag, "is missing: the file has no data"))?;
        let counts = raw
            .numbers(count_tag)?
            .ok_or_else(|| raw.wrong(count_tag, "is missing: the blocks' sizes are not known"))?;
        let across = u64::from(cols.div_ceil(block_cols)) * u64::from(rows.div_ceil(block_rows));
        let expected = across * if planar { u64::from(samples) } else { 1 };
        if offsets.len() as u64 != expected || counts.len() != offsets.len() {
            let what = format!(
                "a raster of {cols} x {rows} needs {expected} blocks, but the header lists {} and {} sizes",
                offsets.len(),
                counts.len()
            );
            return Err(raw.wrong(offset_tag, what));
        }
        let mut header = Header {
            cols,
            rows,
            samples,
            format,
            compression,
            predictor,
            planar,
            tiled,
            block_cols,
            block_rows,
            blocks: offsets.into_iter().zip(counts).collect(),
            big_endian: raw.big_endian,
            nodata: raw.text(42113).and_then(|t| t.trim().parse().ok()),
            description: raw.text(270),
            geo: GeoTags {
                scale: raw.reals(33550),
                ties: raw.reals(33922),
                transformation: raw.reals(34264),
                keys: GeoKeys {
                    directory: raw.numbers(34735)?.unwrap_or_default().into_iter().map(|k| k as u16).collect(),
                    doubles: raw.reals(34736),
                    text: raw.text(34737).unwrap_or_default(),
                },
            },
        };
        header.split_plain_strips();
        header.check_blocks(&raw)?;
        Ok(header)
    }

    /// Samples of a block that lie together.
    pub(crate) fn block_samples(&self) -> u64 {
        u64::from(self.block_cols) * u64::from(self.block_rows) * if self.planar { 1 } else { u64::from(self.samples) }
    }

    /// Uncompressed strips may hold the whole raster: cut them into bands of rows, so that a block stays small.
    fn split_plain_strips(&mut self) {
        const ROWS: u32 = 64;
        if self.tiled
            || self.compression != Compression::None
            || self.block_rows <= ROWS
            || !self.block_rows.is_multiple_of(ROWS) && self.rows > self.block_rows
        {
            return;
        }
        let samples = if self.planar { 1 } else { self.samples as usize };
        let row_bytes = self.cols as u64 * (samples * self.format.bytes()) as u64;
        let strips_of_band = self.rows.div_ceil(self.block_rows) as usize;
        let mut blocks = vec![];
        for (i, (offset, count)) in self.blocks.iter().enumerate() {
            let first = (i % strips_of_band) as u32 * self.block_rows;
            let rows = self.block_rows.min(self.rows - first);
            for top in (0..rows).step_by(ROWS as usize) {
                let (at, n) = (u64::from(top) * row_bytes, u64::from(ROWS.min(rows - top)) * row_bytes);
                let held = count.saturating_sub(at).min(n);
                blocks.push(if *count == 0 { (0, 0) } else { (offset.saturating_add(at), held) });
            }
        }
        (self.blocks, self.block_rows) = (blocks, ROWS);
    }

    fn check_blocks(&self, raw: &Raw) -> Result<()> {
        let bytes = self.block_samples() * self.format.bytes() as u64;
        if bytes > LARGEST_BLOCK {
            return Err(raw.unsupported(
                format!("a block of {} x {} cells ({bytes} bytes)", self.block_cols, self.block_rows),
                &[],
            ));
        }
        let largest = self.blocks.iter().map(|b| b.1).max().unwrap_or(0);
        if self.compression != Compression::None
            && bytes > largest.saturating_mul(MOST_EXPANSION) + 65536
            && largest > 0
        {
            let what = format!("its largest packed block has {largest} bytes, which cannot hold {bytes}");
            return Err(Error::malformed(raw.file.place(""), what));
        }
        Ok(())
    }
}

fn sample_format(raw: &Raw) -> Result<SampleFormat> {
    let bits = raw.numbers(258)?.unwrap_or_else(|| vec![1]);
    let formats = raw.numbers(339)?.unwrap_or_else(|| vec![1]);
    if bits.windows(2).any(|w| w[0] != w[1]) || formats.windows(2).any(|w| w[0] != w[1]) {
        return Err(raw.unsupported("a file whose bands are stored in different types", &[]));
    }
    let (bits, format) = (bits.first().copied().unwrap_or(1), formats.first().copied().unwrap_or(1));
    match (bits, format) {
        (8, 1 | 4) => Ok(SampleFormat::U8),
        (8, 2) => Ok(SampleFormat::I8),
        (16, 1 | 4) => Ok(SampleFormat::U16),
        (16, 2) => Ok(SampleFormat::I16),
        (32, 1) => Ok(SampleFormat::U32),
        (32, 2) => Ok(SampleFormat::I32),
        (32, 3) => Ok(SampleFormat::F32),
        (64, 3) => Ok(SampleFormat::F64),
        _ => {
            let kind = match format {
                1 => "unsigned integer",
                2 => "signed integer",
                3 => "floating point",
                5 | 6 => "complex",
                _ => "unknown",
            };
            Err(raw.unsupported(
                format!("a raster of {bits}-bit {kind} samples"),
                &SampleFormat::all().map(SampleFormat::name).collect::<Vec<_>>(),
            ))
        }
    }
}

fn codec_name(code: u64) -> &'static str {
    match code {
        2..=4 => "fax",
        6 | 7 => "JPEG",
        32773 => "PackBits",
        34712 => "JPEG 2000",
        34887 => "LERC",
        34925 => "LZMA",
        50000 => "Zstandard",
        50001 => "WebP",
        50002 => "JPEG XL",
        _ => "unknown",
    }
}
