//! One block from packed bytes to samples.

use std::cell::RefCell;

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
}

thread_local! {
    static SCRATCH: RefCell<Scratch> =
        RefCell::new(Scratch { inflate: Decompressor::new(), packed: vec![], bytes: vec![] });
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
        if cfg!(target_endian = "big")
            || h.format != SampleFormat::U16
            || !alone
            || h.big_endian
            || h.compression != Compression::Deflate
        {
            return Ok(false);
        }
        let block = self.stored(band, index);
        let (offset, count) = h.blocks[block];
        if count == 0 {
            return Ok(false);
        }
        SCRATCH.with_borrow_mut(|s| {
            fetch(self, offset, count, &mut s.packed)?;
            let want = self.stored_bytes(index);
            let bytes = bytemuck::cast_slice_mut(out);
            inflate(&mut s.inflate, &s.packed, &mut bytes[..want])
                .map_err(|e| Error::malformed(self.block_place(block), e))
        })?;
        if h.predictor == 2 {
            out.chunks_exact_mut(h.block_cols as usize).for_each(|row| predictor::undo_words(row, 1));
        }
        Ok(true)
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

    /// Decodes a block and hands its samples to `f`; a block without data gives none.
    pub(crate) fn read_samples<R>(&self, band: u32, index: u32, f: impl FnOnce(Option<Samples>) -> R) -> Result<R> {
        let h = &self.header;
        let block = self.stored(band, index);
        let (offset, count) = h.blocks[block];
        if count == 0 {
            return Ok(f(None));
        }
        let wrong = |what: String| Error::malformed(self.block_place(block), what);
        let want = self.stored_bytes(index);
        SCRATCH.with_borrow_mut(|s| {
            fetch(self, offset, count, &mut s.packed)?;
            s.bytes.resize(want, 0);
            match h.compression {
                Compression::None => {
                    if s.packed.len() < want {
                        return Err(wrong(format!("has {} bytes, {want} are needed", s.packed.len())));
                    }
                    s.bytes.copy_from_slice(&s.packed[..want]);
                }
                Compression::Deflate => inflate(&mut s.inflate, &s.packed, &mut s.bytes).map_err(wrong)?,
                Compression::Lzw => unpack_lzw(&s.packed, &mut s.bytes).map_err(wrong)?,
            }
            let stride = if h.planar { 1 } else { h.samples as usize };
            let row = h.block_cols as usize * stride;
            Ok(match h.format {
                SampleFormat::U8 => {
                    if h.predictor == 2 {
                        s.bytes.chunks_exact_mut(row).for_each(|r| predictor::undo_bytes(r, stride));
                    }
                    f(Some(Samples::U8(&s.bytes)))
                }
                SampleFormat::U16 | SampleFormat::I16 => {
                    let mut words: Vec<u16> = match cfg!(target_endian = "little") && !h.big_endian {
                        true => bytemuck::pod_collect_to_vec(&s.bytes),
                        false => s.bytes.chunks_exact(2).map(|c| word(c, h.big_endian)).collect(),
                    };
                    if h.predictor == 2 {
                        words.chunks_exact_mut(row).for_each(|r| predictor::undo_words(r, stride));
                    }
                    match h.format {
                        SampleFormat::I16 => f(Some(Samples::I16(bytemuck::cast_slice(&words)))),
                        _ => f(Some(Samples::U16(&words))),
                    }
                }
                SampleFormat::I8 => {
                    if h.predictor == 2 {
                        s.bytes.chunks_exact_mut(row).for_each(|r| predictor::undo_bytes(r, stride));
                    }
                    f(Some(Samples::I8(bytemuck::cast_slice(&s.bytes))))
                }
                SampleFormat::U32 | SampleFormat::I32 => {
                    let mut longs = vec![0u32; want / 4];
                    for (r, o) in s.bytes.chunks_exact(4 * row).zip(longs.chunks_exact_mut(row)) {
                        undo_longs(r, stride, h.big_endian, h.predictor == 2, o);
                    }
                    match h.format {
                        SampleFormat::I32 => f(Some(Samples::I32(bytemuck::cast_slice(&longs)))),
                        _ => f(Some(Samples::U32(&longs))),
                    }
                }
                SampleFormat::F32 => {
                    let mut floats = vec![0f32; want / 4];
                    for (r, o) in s.bytes.chunks_exact_mut(4 * row).zip(floats.chunks_exact_mut(row)) {
                        match h.predictor {
                            3 => predictor::undo_floats(r, stride, o),
                            p => undo_longs(r, stride, h.big_endian, p == 2, bytemuck::cast_slice_mut(o)),
                        }
                    }
                    f(Some(Samples::F32(&floats)))
                }
                SampleFormat::F64 => {
                    let double = |c: &[u8]| {
                        let b = [c[0], c[1], c[2], c[3], c[4], c[5], c[6], c[7]];
                        if h.big_endian { f64::from_be_bytes(b) } else { f64::from_le_bytes(b) }
                    };
                    let doubles: Vec<f64> = s.bytes.chunks_exact(8).map(double).collect();
                    f(Some(Samples::F64(&doubles)))
                }
            })
        })
    }
}

fn word(c: &[u8], big_endian: bool) -> u16 {
    if big_endian { u16::from_be_bytes([c[0], c[1]]) } else { u16::from_le_bytes([c[0], c[1]]) }
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
    if offset.checked_add(count).is_none_or(|end| end > tiff.bytes.len()) {
        let what = format!(
            "the file ends after {} bytes, but a block reaches to byte {}: it is cut off",
            tiff.bytes.len(),
            offset.saturating_add(count)
        );
        return Err(Error::malformed(tiff.bytes.place(""), what));
    }
    packed.resize(count as usize, 0);
    tiff.bytes.read_at(offset, packed)
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
