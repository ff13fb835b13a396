//! One tile to packed bytes.

use std::cell::RefCell;

use libdeflater::{CompressionLvl, Compressor};
use telechroma_core::tile::Cells;

use super::SIDE;
use super::sink::{CogOptions, Packing};
use crate::raster::deflate_runs;
use crate::raster::tiff::predictor;

thread_local! {
    static SCRATCH: RefCell<(Vec<u8>, Vec<u8>)> = const { RefCell::new((vec![], vec![])) };
}

/// Packs one whole tile: coding, predictor, Deflate, as the raster is to be stored.
pub(crate) fn pack(cells: &Cells, options: &CogOptions) -> Vec<u8> {
    let side = SIDE as usize;
    let differ = options.packed;
    SCRATCH.with_borrow_mut(|(bytes, planes)| match (cells, options.packing) {
        (Cells::Values(v), Packing::Float) => {
            if !differ {
                return little_endian(v);
            }
            bytes.resize(4 * v.len(), 0);
            for (row, out) in v.chunks_exact(side).zip(bytes.chunks_exact_mut(4 * side)) {
                predictor::differ_floats(row, planes, out);
            }
            deflate_runs::encode(bytes)
        }
        (Cells::Values(v), Packing::Coded { format, scale, offset, missing }) => {
            let code = Code { range: format.range().unwrap_or((0.0, 0.0)), scale, offset, missing };
            if format.bytes() == 1 {
                bytes.resize(v.len(), 0);
                for (row, out) in v.chunks_exact(side).zip(bytes.chunks_exact_mut(side)) {
                    let mut last = 0u8;
                    for (o, v) in out.iter_mut().zip(row) {
                        let coded = code.of(*v) as u8;
                        *o = coded.wrapping_sub(if differ { last } else { 0 });
                        last = coded;
                    }
                }
            } else {
                let mut words = vec![0u16; v.len()];
                for (row, out) in v.chunks_exact(side).zip(words.chunks_exact_mut(side)) {
                    if !code.whole(row, out) {
                        out.iter_mut().zip(row).for_each(|(o, v)| *o = code.of(*v) as u16);
                    }
                }
                if !differ {
                    return little_endian(&words);
                }
                differences(&words, bytes);
            }
            // 16-bit measurements hold noise, in which a longer search finds nothing: half the time, a hundredth more bytes
            let level = if format.bytes() == 1 {
                CompressionLvl::default()
            } else {
                CompressionLvl::new(1).unwrap_or_default()
            };
            if differ { matched(bytes, level) } else { bytes.clone() }
        }
        (Cells::Bits(v), _) => {
            if !differ {
                return little_endian(v);
            }
            differences(v, bytes);
            // flags repeat over many rows: here a match search pays
            matched(bytes, CompressionLvl::default())
        }
    })
}

/// Values to whole numbers.
struct Code {
    range: (f64, f64),
    scale: f64,
    offset: f64,
    missing: Option<i32>,
}

impl Code {
    /// Values that are whole numbers already, as of rasters cut or put together; false where one is none. Counts of a
    /// row, so that nothing but arithmetic is in the loop.
    fn whole(&self, row: &[f32], out: &mut [u16]) -> bool {
        if (self.scale, self.offset) != (1.0, 0.0) {
            return false;
        }
        // beside this number a whole one stands in the lowest bits, of either sign: a cast would ask more of each value
        const BESIDE: f32 = 12_582_912.0;
        let (least, most) = (self.range.0 as f32, self.range.1 as f32);
        let missing = self.missing.unwrap_or(0) as f32;
        let mut other = 0u32;
        for (o, v) in out.iter_mut().zip(row) {
            let v = if v.is_nan() { missing } else { *v };
            let moved = v + BESIDE;
            other |= u32::from((moved - BESIDE != v) | (v < least) | (v > most));
            *o = moved.to_bits() as u16;
        }
        other == 0
    }

    fn of(&self, v: f32) -> i32 {
        if v.is_nan() {
            return self.missing.unwrap_or(0);
        }
        // whole numbers that stay what they are
        let whole = v as i32;
        if (self.scale, self.offset) == (1.0, 0.0)
            && whole as f32 == v
            && f64::from(v) >= self.range.0
            && f64::from(v) <= self.range.1
        {
            return whole;
        }
        let stored = ((f64::from(v) - self.offset) / self.scale).round_ties_even().clamp(self.range.0, self.range.1);
        // a value must not turn into the number that stands for missing: the one beside it is nearest
        match self.missing {
            Some(m) if stored == f64::from(m) && self.scale != 1.0 => m + if stored >= self.range.1 { -1 } else { 1 },
            _ => stored as i32,
        }
    }
}

/// Numbers as they are stored where nothing is packed: the file is little-endian.
fn little_endian<T: bytemuck::NoUninit>(numbers: &[T]) -> Vec<u8> {
    let mut bytes: Vec<u8> = bytemuck::cast_slice(numbers).to_vec();
    if cfg!(target_endian = "big") {
        bytes.chunks_exact_mut(size_of::<T>()).for_each(<[u8]>::reverse);
    }
    bytes
}

fn differences(words: &[u16], bytes: &mut Vec<u8>) {
    let side = SIDE as usize;
    bytes.resize(2 * words.len(), 0);
    for (row, out) in words.chunks_exact(side).zip(bytes.chunks_exact_mut(2 * side)) {
        predictor::differ_words(row, out);
    }
}

fn matched(bytes: &[u8], level: CompressionLvl) -> Vec<u8> {
    let mut packer = Compressor::new(level);
    let mut out = vec![0; packer.zlib_compress_bound(bytes.len())];
    match packer.zlib_compress(bytes, &mut out) {
        Ok(n) => {
            out.truncate(n);
            out
        }
        Err(_) => unreachable!("the buffer has the size that the packer asked for"),
    }
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::Code;

    proptest! {
        /// The loop of vectors gives what the careful way gives, or says that it cannot.
        #[test]
        fn whole_numbers_are_coded_alike(
            row in proptest::collection::vec(
                prop_oneof![
                    6 => (-70_000i32..70_000).prop_map(|v| v as f32),
                    1 => Just(f32::NAN), 1 => Just(-0.0f32), 1 => any::<f32>(), 1 => Just(0.5f32),
                ], 1..40),
            signed in any::<bool>(), missing in proptest::option::of(prop_oneof![Just(0), Just(-9999), Just(65_535)]),
            scale in prop_oneof![4 => Just(1.0), 1 => Just(0.5)],
        ) {
            let range = if signed { (-32_768.0, 32_767.0) } else { (0.0, 65_535.0) };
            let missing = missing.filter(|m| (range.0..=range.1).contains(&f64::from(*m)));
            let code = Code { range, scale, offset: 0.0, missing };
            let mut words = vec![0u16; row.len()];
            let held = row.iter().all(|v| {
                v.is_nan() || v.fract() == 0.0 && (range.0..=range.1).contains(&f64::from(*v))
            });
            prop_assert_eq!(code.whole(&row, &mut words), held && scale == 1.0);
            if held && scale == 1.0 {
                let careful: Vec<u16> = row.iter().map(|v| code.of(*v) as u16).collect();
                prop_assert_eq!(words, careful);
            }
        }
    }

    #[test]
    fn worked_codes() {
        let text = include_str!("../../../../telechroma-core/tests/worked_examples.json");
        let all: Vec<serde_json::Value> = serde_json::from_str(text).unwrap();
        for (name, missing) in [("pack_i16", Some(-32_768)), ("pack_round_half_even", None)] {
            let e = all.iter().find(|e| e["name"] == name).unwrap();
            let n = |key: &str| e["inputs"][key].as_f64().unwrap();
            let code = Code { range: (-32_768.0, 32_767.0), scale: n("scale"), offset: n("offset"), missing };
            let values = e["inputs"]["values"].as_array().unwrap().iter();
            let got: Vec<i64> = values.map(|v| i64::from(code.of(v.as_f64().map_or(f32::NAN, |v| v as f32)))).collect();
            let want: Vec<i64> = e["expected"].as_array().unwrap().iter().map(|v| v.as_i64().unwrap()).collect();
            assert_eq!(got, want, "{name}");
        }
    }
}
