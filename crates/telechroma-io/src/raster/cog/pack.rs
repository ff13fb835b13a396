//! One block to packed bytes.

use std::cell::RefCell;

use libdeflater::{CompressionLvl, Compressor};
use telechroma_core::wide;

use super::SIDE;
use super::sink::{CogOptions, Packing};
use super::spare::Spare;
use super::view::{Rows, View};
use crate::raster::deflate_runs;
use crate::raster::tiff::predictor;

thread_local! {
    static SCRATCH: RefCell<Scratch> = const { RefCell::new(Scratch { bytes: vec![], planes: vec![] }) };
}

/// A thread's buffers.
struct Scratch {
    bytes: Vec<u8>,
    planes: Vec<u8>,
}

/// A row as it is stored.
enum Row<'a> {
    Floats(&'a [f32]),
    Words(&'a [u16]),
    Bytes(&'a [u8]),
}

/// Packs one block: coding, predictor, Deflate, as the raster is to be stored. Also the number of values that the raster
/// cannot hold.
pub(super) fn pack(block: &View, options: &CogOptions, spare: &Spare) -> (Vec<u8>, u64) {
    if !options.packed {
        let mut bytes = spare.bytes();
        let lost = stored(block, options, |row| match row {
            Row::Floats(v) => little_endian(v, &mut bytes),
            Row::Words(v) => little_endian(v, &mut bytes),
            Row::Bytes(v) => bytes.extend_from_slice(v),
        });
        return (bytes, lost);
    }
    SCRATCH.with_borrow_mut(|Scratch { bytes, planes }| {
        let (side, mut size, mut at) = (SIDE as usize, 0, 0);
        let lost = stored(block, options, |row| {
            size = match row {
                Row::Floats(_) => 4,
                Row::Words(_) => 2,
                Row::Bytes(_) => 1,
            };
            bytes.resize(size * side * side, 0);
            let out = &mut bytes[at..at + size * side];
            at += size * side;
            match row {
                Row::Floats(v) => predictor::differ_floats(v, planes, out),
                Row::Words(v) => predictor::differ_words(v, out),
                Row::Bytes(v) => {
                    let mut last = 0;
                    for (o, v) in out.iter_mut().zip(v) {
                        *o = v.wrapping_sub(last);
                        last = *v;
                    }
                }
            }
        });
        let packed = match (size, options.packing) {
            (4, _) => deflate_runs::encode(bytes),
            // 16-bit measurements hold noise, in which a longer search finds nothing: half the time, a hundredth more bytes
            (2, Packing::Coded { .. }) => matched(bytes, CompressionLvl::new(1).unwrap_or_default()),
            // flags and classes repeat over many rows: here a match search pays
            _ => matched(bytes, CompressionLvl::default()),
        };
        (packed, lost)
    })
}

/// Calls `f` with each row of a block as it is stored. The number of values that cannot be stored.
fn stored(block: &View, options: &CogOptions, mut f: impl FnMut(Row)) -> u64 {
    let (side, mut lost) = (SIDE as usize, 0);
    match (block.rows(options.kind), options.packing) {
        (Rows::Values(mut v), Packing::Float) => (0..side).for_each(|r| f(Row::Floats(v.row(r)))),
        (Rows::Values(mut v), Packing::Coded { format, scale, offset, missing }) => {
            let code = Code { range: format.range().unwrap_or((0.0, 0.0)), scale, offset, missing };
            let (mut words, mut bytes) = (vec![0; side], vec![0; side]);
            for row in 0..side {
                let row = v.row(row);
                let mut of = |v: f32| {
                    let (stored, held) = code.of(v);
                    lost += u64::from(!held);
                    stored
                };
                if format.bytes() == 1 {
                    bytes.iter_mut().zip(row).for_each(|(o, v)| *o = of(*v) as u8);
                    f(Row::Bytes(&bytes));
                } else {
                    if !code.whole(row, &mut words) {
                        words.iter_mut().zip(row).for_each(|(o, v)| *o = of(*v) as u16);
                    }
                    f(Row::Words(&words));
                }
            }
        }
        (Rows::Bits(mut v), _) => (0..side).for_each(|r| f(Row::Words(v.row(r)))),
    }
    lost
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
        let mut other = 0;
        wide::run(WholeRow {
            row,
            range: (self.range.0 as f32, self.range.1 as f32),
            missing: self.missing.map(|m| m as f32),
            out,
            other: &mut other,
        });
        other == 0
    }

    /// The number stored, and whether it stands for the value: not where the value is out of range, or is the number
    /// that stands for missing.
    fn of(&self, v: f32) -> (i32, bool) {
        if v.is_nan() {
            return (self.missing.unwrap_or(0), true);
        }
        // whole numbers that stay what they are
        let whole = v as i32;
        let in_range = f64::from(v) >= self.range.0 && f64::from(v) <= self.range.1;
        if (self.scale, self.offset) == (1.0, 0.0) && whole as f32 == v && in_range {
            return (whole, self.missing != Some(whole));
        }
        let exact = ((f64::from(v) - self.offset) / self.scale).round_ties_even();
        let stored = exact.clamp(self.range.0, self.range.1);
        match self.missing {
            // of steps the one beside it is nearest
            Some(m) if stored == f64::from(m) && self.scale != 1.0 => {
                (m + if stored >= self.range.1 { -1 } else { 1 }, stored == exact)
            }
            Some(m) if stored == f64::from(m) => (m, false),
            _ => (stored as i32, stored == exact),
        }
    }
}

/// Whole numbers of a row; `other` is not 0 where one is none, lies outside the range or stands for missing.
struct WholeRow<'a> {
    row: &'a [f32],
    range: (f32, f32),
    missing: Option<f32>,
    out: &'a mut [u16],
    other: &'a mut u32,
}

impl wide::Loop for WholeRow<'_> {
    #[inline(always)]
    fn run(self, _: impl wide::Instructions) {
        // beside this number a whole one stands in the lowest bits, of either sign: a cast would ask more of each value
        const BESIDE: f32 = 12_582_912.0;
        let (least, most) = self.range;
        // no value is NaN here: none is like it
        let (missing, taken) = (self.missing.unwrap_or(0.0), self.missing.unwrap_or(f32::NAN));
        let mut other = 0u32;
        for (o, v) in self.out.iter_mut().zip(self.row) {
            let is_taken = *v == taken;
            let v = if v.is_nan() { missing } else { *v };
            let moved = v + BESIDE;
            other |= u32::from((moved - BESIDE != v) | (v < least) | (v > most) | is_taken);
            *o = moved.to_bits() as u16;
        }
        *self.other = other;
    }
}

/// Appends numbers as they are stored where nothing is packed: the file is little-endian.
fn little_endian<T: bytemuck::NoUninit>(numbers: &[T], out: &mut Vec<u8>) {
    let at = out.len();
    out.extend_from_slice(bytemuck::cast_slice(numbers));
    if cfg!(target_endian = "big") {
        out[at..].chunks_exact_mut(size_of::<T>()).for_each(<[u8]>::reverse);
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
                let is_missing = missing == Some(*v as i32);
                v.is_nan() || v.fract() == 0.0 && (range.0..=range.1).contains(&f64::from(*v)) && !is_missing
            });
            prop_assert_eq!(code.whole(&row, &mut words), held && scale == 1.0);
            if held && scale == 1.0 {
                let careful: Vec<u16> = row.iter().map(|v| code.of(*v).0 as u16).collect();
                prop_assert_eq!(words, careful);
                prop_assert!(row.iter().all(|v| code.of(*v).1));
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
            let got: Vec<i64> =
                values.map(|v| i64::from(code.of(v.as_f64().map_or(f32::NAN, |v| v as f32)).0)).collect();
            let want: Vec<i64> = e["expected"].as_array().unwrap().iter().map(|v| v.as_i64().unwrap()).collect();
            assert_eq!(got, want, "{name}");
        }
    }
}
