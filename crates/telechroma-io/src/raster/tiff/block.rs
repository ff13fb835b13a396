//! One block from packed bytes to samples.

use std::cell::RefCell;
use std::ops::Range;

use libdeflater::Decompressor;

use super::Tiff;
use super::header::Compression;
use super::predictor;
use crate::error::{Error, Result};
use crate::raster::samples::{SampleFormat, Samples};

/// A thread's decoder and buffers.
struct Scratch {
    inflate: Decompressor,
    packed: Vec<u8>,
    bytes: Vec<u8>,
    words: Vec<u16>,
}

thread_local! {
    static SCRATCH: RefCell<Scratch> =
        RefCell::new(Scratch { inflate: Decompressor::new(), packed: vec![], bytes: vec![], words: vec![] });
}

impl Tiff {
    fn block_place(&self, block: usize) -> crate::error::Place {
        self.bytes.place(format!("block {block}"))
    }

    /// Number of the stored block with a band's block `index`.
    fn stored(&self, band: u32, index: u32) -> usize {
        let h = &self.header;
        let of_band = h.cols.div_ceil(h.block_cols) as usize * h.rows.div_ceil(h.block_rows) as usize;
        index as usize + if h.planar { band as usize * of_band } else { 0 }
    }

    /// Decodes unsigned 16-bit single-band blocks straight into `out`, which holds a whole block.
    /// False where the file is not like that, or the block has no data.
    pub(crate) fn read_words(&self, band: u32, index: u32, out: &mut [u16]) -> Result<bool> {
        let h = &self.header;
        let alone = h.planar || h.samples == 1;
        if cfg!(target_endian = "big") || h.format != SampleFormat::U16 || !alone || h.big_endian {
            return Ok(false);
        }
        let block = self.stored(band, index);
        if h.blocks[block].1 == 0 {
            return Ok(false);
        }
        let bytes = &mut bytemuck::cast_slice_mut(out)[..self.stored_bytes(index)];
        SCRATCH.with_borrow_mut(|s| self.unpack(block, 0, &mut s.inflate, &mut s.packed, bytes))?;
        if h.predictor == 2 {
            out.chunks_exact_mut(h.block_cols as usize).for_each(|row| predictor::undo_words(row, 1));
        }
        Ok(true)
    }

    /// A block's bytes, as they were before they were packed; of a plain one those from number `skipped` on.
    fn unpack(
        &self,
        block: usize,
        skipped: u64,
        inflater: &mut Decompressor,
        packed: &mut Vec<u8>,
        out: &mut [u8],
    ) -> Result<()> {
        let (offset, count) = self.header.blocks[block];
        let compression = self.header.compression;
        if compression == Compression::None && count >= skipped + out.len() as u64 {
            self.within(offset, count)?;
            return self.bytes.read_at(offset + skipped, out);
        }
        fetch(self, offset, count, packed)?;
        match compression {
            Compression::None => as_they_are(packed, out),
            Compression::Deflate => inflate(inflater, packed, out),
            Compression::Lzw => unpack_lzw(packed, out),
        }
        .map_err(|what| Error::malformed(self.block_place(block), what))
    }

    /// An error where the file ends before a block does.
    fn within(&self, offset: u64, count: u64) -> Result<()> {
        if offset.checked_add(count).is_none_or(|end| end > self.bytes.len()) {
            let what = format!(
                "the file ends after {} bytes, but a block reaches to byte {}: it is cut off",
                self.bytes.len(),
                offset.saturating_add(count)
            );
            return Err(Error::malformed(self.bytes.place(""), what));
        }
        Ok(())
    }

    /// Bytes stored for a block: the last strip holds only the rows there are.
    fn stored_bytes(&self, index: u32) -> usize {
        let h = &self.header;
        let rows = if h.tiled {
            h.block_rows
        } else {
            let first = index / h.cols.div_ceil(h.block_cols) * h.block_rows;
            h.block_rows.min(h.rows - first)
        };
        let samples = if h.planar { 1 } else { h.samples as usize };
        rows as usize * h.block_cols as usize * samples * h.format.bytes()
    }

    /// True where rows of a block can be read without the others.
    pub(crate) fn rows_alone(&self) -> bool {
        self.header.compression == Compression::None
    }

    /// Decodes rows of a block, or all of it where they cannot be had alone, and hands the samples to `f` with the
    /// number of their first row; a block without data gives none.
    pub(crate) fn read_samples<R>(
        &self,
        band: u32,
        index: u32,
        rows: Range<u32>,
        f: impl FnOnce(Option<Samples>, u32) -> R,
    ) -> Result<R> {
        let h = &self.header;
        let block = self.stored(band, index);
        if h.blocks[block].1 == 0 {
            return Ok(f(None, 0));
        }
        let all = self.stored_bytes(index);
        let samples = if h.planar { 1 } else { h.samples as usize };
        let row_bytes = h.block_cols as usize * samples * h.format.bytes();
        let alone = self.rows_alone() && h.blocks[block].1 == all as u64;
        let (first, want) = match alone {
            true => (rows.start, rows.len() * row_bytes),
            false => (0, all),
        };
        let f = |samples: Samples| f(Some(samples), first);
        let skipped = u64::from(first) * row_bytes as u64;
        let two = matches!(h.format, SampleFormat::U16 | SampleFormat::I16);
        SCRATCH.with_borrow_mut(|s| {
            let Scratch { inflate, packed, bytes, words } = s;
            if two {
                words.resize(want / 2, 0);
                self.unpack(block, skipped, inflate, packed, bytemuck::cast_slice_mut(words))?;
                if h.big_endian != cfg!(target_endian = "big") {
                    words.iter_mut().for_each(|w| *w = w.swap_bytes());
                }
            } else {
                bytes.resize(want, 0);
                self.unpack(block, skipped, inflate, packed, bytes)?;
            }
            let stride = if h.planar { 1 } else { h.samples as usize };
            let row = h.block_cols as usize * stride;
            Ok(match h.format {
                SampleFormat::U8 => {
                    if h.predictor == 2 {
                        bytes.chunks_exact_mut(row).for_each(|r| predictor::undo_bytes(r, stride));
                    }
                    f(Samples::U8(bytes))
                }
                SampleFormat::U16 | SampleFormat::I16 => {
                    if h.predictor == 2 {
                        words.chunks_exact_mut(row).for_each(|r| predictor::undo_words(r, stride));
                    }
                    match h.format {
                        SampleFormat::I16 => f(Samples::I16(bytemuck::cast_slice(words))),
                        _ => f(Samples::U16(words)),
                    }
                }
                SampleFormat::I8 => {
                    if h.predictor == 2 {
                        bytes.chunks_exact_mut(row).for_each(|r| predictor::undo_bytes(r, stride));
                    }
                    f(Samples::I8(bytemuck::cast_slice(bytes)))
                }
                SampleFormat::U32 | SampleFormat::I32 => {
                    let mut longs = vec![0u32; want / 4];
                    for (r, o) in bytes.chunks_exact(4 * row).zip(longs.chunks_exact_mut(row)) {
                        undo_longs(r, stride, h.big_endian, h.predictor == 2, o);
                    }
                    match h.format {
                        SampleFormat::I32 => f(Samples::I32(bytemuck::cast_slice(&longs))),
                        _ => f(Samples::U32(&longs)),
                    }
                }
                SampleFormat::F32 => {
                    let mut floats = vec![0f32; want / 4];
                    for (r, o) in bytes.chunks_exact_mut(4 * row).zip(floats.chunks_exact_mut(row)) {
                        match h.predictor {
                            3 => predictor::undo_floats(r, stride, o),
                            p => undo_longs(r, stride, h.big_endian, p == 2, bytemuck::cast_slice_mut(o)),
                        }
                    }
                    f(Samples::F32(&floats))
                }
                SampleFormat::F64 => {
                    let double = |c: &[u8]| {
                        let b = [c[0], c[1], c[2], c[3], c[4], c[5], c[6], c[7]];
                        if h.big_endian { f64::from_be_bytes(b) } else { f64::from_le_bytes(b) }
                    };
                    let doubles: Vec<f64> = bytes.chunks_exact(8).map(double).collect();
                    f(Samples::F64(&doubles))
                }
            })
        })
    }
}

/// 32-bit samples stored plainly, or as differences of their bits taken as whole numbers.
fn undo_longs(row: &[u8], stride: usize, big_endian: bool, differences: bool, out: &mut [u32]) {
    for (o, c) in out.iter_mut().zip(row.chunks_exact(4)) {
        let b = [c[0], c[1], c[2], c[3]];
        *o = if big_endian { u32::from_be_bytes(b) } else { u32::from_le_bytes(b) };
    }
    if differences {
        for i in stride..out.len() {
            out[i] = out[i].wrapping_add(out[i - stride]);
        }
    }
}

fn fetch(tiff: &Tiff, offset: u64, count: u64, packed: &mut Vec<u8>) -> Result<()> {
    tiff.within(offset, count)?;
    packed.resize(count as usize, 0);
    tiff.bytes.read_at(offset, packed)
}

fn as_they_are(stored: &[u8], out: &mut [u8]) -> std::result::Result<(), String> {
    let found = stored.get(..out.len());
    found.map(|s| out.copy_from_slice(s)).ok_or_else(|| format!("has {} bytes, {} are needed", stored.len(), out.len()))
}

fn inflate(inflate: &mut Decompressor, packed: &[u8], out: &mut [u8]) -> std::result::Result<(), String> {
    let want = out.len();
    match inflate.zlib_decompress(packed, out) {
        Ok(n) if n == want => Ok(()),
        Ok(n) => Err(format!("unpacks to {n} bytes instead of {want}")),
        Err(_) => Err("its packed data are damaged".into()),
    }
}

fn unpack_lzw(packed: &[u8], out: &mut [u8]) -> std::result::Result<(), String> {
    use weezl::{BitOrder, LzwStatus, decode::Configuration};
    let mut decoder = Configuration::with_tiff_size_switch(BitOrder::Msb, 8).build();
    let (mut from, mut to) = (packed, 0);
    while to < out.len() {
        let step = decoder.decode_bytes(from, &mut out[to..]);
        from = &from[step.consumed_in..];
        to += step.consumed_out;
        match step.status {
            Ok(LzwStatus::Ok) if step.consumed_in + step.consumed_out > 0 => {}
            Ok(_) => break,
            Err(_) => return Err("its packed data are damaged".into()),
        }
    }
    if to == out.len() { Ok(()) } else { Err(format!("unpacks to {to} bytes instead of {}", out.len())) }
}
