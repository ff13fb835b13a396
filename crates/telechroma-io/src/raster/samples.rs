//! Stored samples of any type, and what they are read as.

use std::ops::Range;
use std::sync::Arc;

use telechroma_core::grid::Window;
use telechroma_core::tile::{Cells, Kind, Tile};
use telechroma_core::units::Unit;
use telechroma_core::wide;

/// How a sample is stored.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
#[allow(missing_docs)] // each is its name
pub enum SampleFormat {
    U8,
    I8,
    U16,
    I16,
    U32,
    I32,
    F32,
    F64,
}

const NAMES: &[(SampleFormat, &str, usize)] = &[
    (SampleFormat::U8, "uint8", 1),
    (SampleFormat::I8, "int8", 1),
    (SampleFormat::U16, "uint16", 2),
    (SampleFormat::I16, "int16", 2),
    (SampleFormat::U32, "uint32", 4),
    (SampleFormat::I32, "int32", 4),
    (SampleFormat::F32, "float32", 4),
    (SampleFormat::F64, "float64", 8),
];

impl SampleFormat {
    fn row(self) -> &'static (SampleFormat, &'static str, usize) {
        match NAMES.iter().find(|n| n.0 == self) {
            Some(row) => row,
            None => unreachable!("every format is in the table"),
        }
    }

    /// Bytes of a sample.
    pub fn bytes(self) -> usize {
        self.row().2
    }

    /// Its name.
    pub fn name(self) -> &'static str {
        self.row().1
    }

    /// Its number in a TIFF's tag 339.
    pub(crate) fn tag(self) -> u16 {
        match self {
            SampleFormat::U8 | SampleFormat::U16 | SampleFormat::U32 => 1,
            SampleFormat::I8 | SampleFormat::I16 | SampleFormat::I32 => 2,
            SampleFormat::F32 | SampleFormat::F64 => 3,
        }
    }

    /// Least and greatest whole number it holds; none for floating point.
    pub fn range(self) -> Option<(f64, f64)> {
        Some(match self {
            SampleFormat::U8 => (0.0, 255.0),
            SampleFormat::I8 => (-128.0, 127.0),
            SampleFormat::U16 => (0.0, 65_535.0),
            SampleFormat::I16 => (-32_768.0, 32_767.0),
            SampleFormat::U32 => (0.0, f64::from(u32::MAX)),
            SampleFormat::I32 => (f64::from(i32::MIN), f64::from(i32::MAX)),
            SampleFormat::F32 | SampleFormat::F64 => return None,
        })
    }

    /// All formats.
    pub fn all() -> impl Iterator<Item = SampleFormat> {
        NAMES.iter().map(|n| n.0)
    }

    /// The format of a name.
    pub fn from_name(name: &str) -> Option<SampleFormat> {
        NAMES.iter().find(|n| n.1 == name).map(|n| n.0)
    }
}

/// Samples of a block, as stored.
#[derive(Debug, Clone, Copy)]
#[allow(missing_docs)] // each is its name
pub enum Samples<'a> {
    U8(&'a [u8]),
    I8(&'a [i8]),
    U16(&'a [u16]),
    I16(&'a [i16]),
    U32(&'a [u32]),
    I32(&'a [i32]),
    F32(&'a [f32]),
    F64(&'a [f64]),
}

/// How coded numbers become values.
#[derive(Debug, Clone, PartialEq)]
pub struct Coding {
    /// Value of a step.
    pub scale: f64,
    /// Value of zero.
    pub offset: f64,
    /// Stored numbers that mean missing.
    pub fill: Vec<f64>,
    /// Least and greatest stored number that is valid.
    pub valid: Option<(f64, f64)>,
    /// The unit of the values.
    pub unit: Unit,
}

impl Coding {
    /// The value of a stored number; NaN where it stands for none.
    pub fn value(&self, stored: f64) -> f64 {
        let outside = self.valid.is_some_and(|(least, most)| stored < least || stored > most);
        if outside || self.fill.contains(&stored) { f64::NAN } else { stored * self.scale + self.offset }
    }
}

/// What each stored class or flag value stands for, in our own reasons.
#[derive(Clone, PartialEq)]
pub struct Classes {
    /// For the rule's identity: what the table was made of.
    pub rule: String,
    /// Reasons by stored value, from [`Classes::LEAST`] on.
    pub reasons: Vec<u16>,
    /// Reasons of cells where there is no plane.
    pub outside: u16,
}

impl Classes {
    /// The least value of a table: samples of up to 16 bits, with or without sign.
    pub const LEAST: i32 = -32_768;

    /// A table from what each value stands for.
    pub fn new(rule: String, outside: u16, reasons: impl Fn(i32) -> u16) -> Classes {
        Classes { rule, outside, reasons: (Classes::LEAST..=65_535).map(reasons).collect() }
    }

    fn of(&self, value: i32) -> u16 {
        self.reasons[(value - Classes::LEAST) as usize]
    }
}

impl std::fmt::Debug for Classes {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        write!(f, "classes by {} outside {}", self.rule, self.outside)
    }
}

/// What a band is read as.
#[derive(Debug, Clone, PartialEq)]
pub enum Reading {
    /// Raw unsigned counts whose `fill` means missing.
    Counts {
        /// The count that means missing.
        fill: Option<u16>,
    },
    /// Flag bits.
    Flags {
        /// Bits of cells where there is no plane.
        outside: u16,
    },
    /// Values in a unit; the declared missing value becomes NaN.
    Values(Unit),
    /// Coded numbers that become values.
    Coded(Coding),
    /// Classes or flag values that become reasons.
    Classes(Arc<Classes>),
}

impl Reading {
    /// What the cells are when samples of this format are read so; none where they cannot be.
    pub fn cells(&self, format: SampleFormat) -> Option<(Kind, Unit)> {
        let unsigned = matches!(format, SampleFormat::U8 | SampleFormat::U16);
        let short = unsigned || matches!(format, SampleFormat::I8 | SampleFormat::I16);
        match self {
            Reading::Counts { fill } if unsigned => Some((Kind::Counts { fill: *fill }, Unit::Counts)),
            Reading::Flags { outside } if unsigned => Some((Kind::Flags { outside: *outside }, Unit::Flags)),
            Reading::Classes(c) if short => Some((Kind::Flags { outside: c.outside }, Unit::Flags)),
            Reading::Values(unit) => Some((Kind::Values, *unit)),
            Reading::Coded(c) => Some((Kind::Values, c.unit)),
            _ => None,
        }
    }

    /// Puts samples into those cells of `out` that lie in `part`.
    ///
    /// # Errors
    /// In words, where a whole number is too large to be held exactly.
    pub fn store(
        &self,
        samples: Samples,
        nodata: Option<f64>,
        laid: Laid,
        part: Window,
        out: &mut Tile,
    ) -> Result<(), String> {
        let runs = laid.runs(part, out);
        match (self, &mut out.cells) {
            (Reading::Values(_), Cells::Values(o)) => {
                runs.into_iter().try_for_each(|(first, to)| plain(samples, nodata, first, laid.step, &mut o[to]))
            }
            (Reading::Coded(c), Cells::Values(o)) => {
                let value = |v: f64| if nodata == Some(v) { f64::NAN } else { c.value(v) };
                runs.into_iter().try_for_each(|(first, to)| values(samples, first, laid.step, &mut o[to], value))
            }
            (Reading::Classes(c), Cells::Bits(o)) => {
                for (first, to) in runs {
                    let o = &mut o[to];
                    match samples {
                        Samples::U8(s) => each(o, s, first, laid.step, |v| c.of(i32::from(*v))),
                        Samples::I8(s) => each(o, s, first, laid.step, |v| c.of(i32::from(*v))),
                        Samples::U16(s) => each(o, s, first, laid.step, |v| c.of(i32::from(*v))),
                        Samples::I16(s) => each(o, s, first, laid.step, |v| c.of(i32::from(*v))),
                        _ => unreachable!("refused by Reading::cells"),
                    }
                }
                Ok(())
            }
            (_, Cells::Bits(o)) => {
                for (first, to) in runs {
                    let o = &mut o[to];
                    match samples {
                        Samples::U8(s) => each(o, s, first, laid.step, |v| u16::from(*v)),
                        Samples::U16(s) => each(o, s, first, laid.step, |v| *v),
                        _ => unreachable!("refused by Reading::cells"),
                    }
                }
                Ok(())
            }
            _ => unreachable!("cells are made for the reading's kind"),
        }
    }
}

/// How samples lie: row by row over a window of the plane, one of a cell every `step`, from number `first` on.
#[derive(Debug, Clone, Copy)]
pub struct Laid {
    /// The cells that the samples are of; it may reach beyond the plane.
    pub window: Window,
    /// Number of the first cell's sample.
    pub first: usize,
    /// Samples from one cell to the next.
    pub step: usize,
}

impl Laid {
    /// Numbers of first samples, and the cells they go to, of runs that lie one after the other in both.
    fn runs(self, part: Window, out: &Tile) -> Vec<(usize, Range<usize>)> {
        let run = |row: i64| (self.first + self.window.index(part.col, row) * self.step, out.row_range(&part, row));
        let at_once = part.cols == self.window.cols && part.cols == out.window.cols;
        match at_once && !part.is_empty() {
            true => {
                let (first, to) = run(part.row);
                vec![(first, to.start..to.start + part.len())]
            }
            false => (part.row..part.end_row()).map(run).collect(),
        }
    }
}

fn each<S, T>(out: &mut [T], samples: &[S], first: usize, step: usize, f: impl Fn(&S) -> T) {
    // bands stored by themselves, as most are: a loop that the compiler makes vectors of
    if step == 1 {
        let samples = samples.get(first..).unwrap_or_default();
        out.iter_mut().zip(samples).for_each(|(o, s)| *o = f(s));
        return;
    }
    for (o, s) in out.iter_mut().zip(samples.iter().skip(first).step_by(step)) {
        *o = f(s);
    }
}

/// Samples that are the values already. Those that a 32-bit value holds exactly need no detour by wider numbers.
fn plain(samples: Samples, nodata: Option<f64>, first: usize, step: usize, out: &mut [f32]) -> Result<(), String> {
    macro_rules! exact {
        ($t:ty, $s:expr) => {{
            let missing = nodata.map(|n| n as $t).filter(|n| nodata == Some(f64::from(*n)));
            match missing {
                _ if step == 1 => wide::run(Short { samples: $s.get(first..).unwrap_or_default(), missing, out }),
                Some(n) => each(out, $s, first, step, |v| if *v == n { f32::NAN } else { f32::from(*v) }),
                None => each(out, $s, first, step, |v| f32::from(*v)),
            }
            Ok(())
        }};
    }
    match samples {
        Samples::U8(s) => exact!(u8, s),
        Samples::I8(s) => exact!(i8, s),
        Samples::U16(s) => exact!(u16, s),
        Samples::I16(s) => exact!(i16, s),
        Samples::F32(s) => {
            // no value is unlike itself: NaN leaves all as they are
            let n = nodata.map_or(f32::NAN, |n| n as f32);
            let n = if nodata == Some(f64::from(n)) { n } else { f32::NAN };
            each(out, s, first, step, |v| if v.is_finite() & (*v != n) { *v } else { f32::NAN });
            Ok(())
        }
        _ => values(samples, first, step, out, |v| if nodata == Some(v) { f64::NAN } else { v }),
    }
}

/// Short whole numbers to values.
struct Short<'a, S> {
    samples: &'a [S],
    missing: Option<S>,
    out: &'a mut [f32],
}

impl<S: Copy + PartialEq> wide::Loop for Short<'_, S>
where
    f32: From<S>,
{
    #[inline(always)]
    fn run(self, _: impl wide::Instructions) {
        match self.missing {
            Some(n) => {
                for (o, s) in self.out.iter_mut().zip(self.samples) {
                    *o = if *s == n { f32::NAN } else { f32::from(*s) };
                }
            }
            None => {
                for (o, s) in self.out.iter_mut().zip(self.samples) {
                    *o = f32::from(*s);
                }
            }
        }
    }
}

/// Whole numbers above this are not all held by a 32-bit value.
const EXACT: f64 = 16_777_216.0;

fn values(samples: Samples, first: usize, step: usize, out: &mut [f32], f: impl Fn(f64) -> f64) -> Result<(), String> {
    let mut wide: Option<f64> = None;
    let mut whole = |v: f64| {
        let result = f(v);
        if v.abs() > EXACT && !result.is_nan() && wide.is_none() {
            wide = Some(v);
        }
        result as f32
    };
    match samples {
        Samples::U8(s) => each(out, s, first, step, |v| f(f64::from(*v)) as f32),
        Samples::I8(s) => each(out, s, first, step, |v| f(f64::from(*v)) as f32),
        Samples::U16(s) => each(out, s, first, step, |v| f(f64::from(*v)) as f32),
        Samples::I16(s) => each(out, s, first, step, |v| f(f64::from(*v)) as f32),
        Samples::U32(s) => {
            for (o, s) in out.iter_mut().zip(s.iter().skip(first).step_by(step)) {
                *o = whole(f64::from(*s));
            }
        }
        Samples::I32(s) => {
            for (o, s) in out.iter_mut().zip(s.iter().skip(first).step_by(step)) {
                *o = whole(f64::from(*s));
            }
        }
        Samples::F32(s) => {
            each(out, s, first, step, |v| if v.is_finite() { f(f64::from(*v)) as f32 } else { f32::NAN })
        }
        Samples::F64(s) => each(out, s, first, step, |v| {
            let value = f(*v) as f32;
            if value.is_finite() { value } else { f32::NAN }
        }),
    }
    match wide {
        Some(v) => Err(format!("holds the whole number {v}, which 32-bit values cannot hold exactly")),
        None => Ok(()),
    }
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;

    proptest! {
        /// The short way gives the bits that the way by wide numbers gives, whatever is declared missing.
        #[test]
        fn plain_samples_become_the_values_they_are(
            numbers in proptest::collection::vec(any::<u16>(), 1..200), step in 1usize..4, first in 0usize..5,
            nodata in proptest::option::of(prop_oneof![
                3 => (-3i32..300).prop_map(f64::from), 1 => Just(65_535.0), 1 => Just(0.5), 1 => Just(-1e9), 1 => Just(f64::NAN),
                1 => Just(-9999.0), 1 => Just(f64::from(-3.4e38f32)), 1 => Just(1e300),
            ]),
        ) {
            // few different numbers, so that some are missing
            let numbers: Vec<u16> = numbers.iter().map(|n| if n % 3 == 0 { n % 300 } else { *n }).collect();
            let floats: Vec<f32> = numbers.iter().map(|n| match n % 11 {
                0 => f32::INFINITY,
                1 => f32::NAN,
                2 => -3.4e38,
                _ => f32::from(*n as i16),
            }).collect();
            let (bytes, signed): (Vec<u8>, Vec<i16>) = numbers.iter().map(|n| (*n as u8, *n as i16)).unzip();
            let signed_bytes: Vec<i8> = bytes.iter().map(|b| *b as i8).collect();
            let all = [
                Samples::U8(&bytes), Samples::I8(&signed_bytes), Samples::U16(&numbers), Samples::I16(&signed),
                Samples::F32(&floats),
            ];
            let n = numbers.len().saturating_sub(first).div_ceil(step);
            for samples in all {
                let (mut short, mut wide) = (vec![7.0; n], vec![7.0; n]);
                plain(samples, nodata, first, step, &mut short).unwrap();
                values(samples, first, step, &mut wide, |v| if nodata == Some(v) { f64::NAN } else { v }).unwrap();
                let bits = |v: &[f32]| v.iter().map(|v| v.to_bits()).collect::<Vec<_>>();
                prop_assert_eq!(bits(&short), bits(&wide), "{:?}", samples);
            }
        }
    }

    /// Scale and offset of an example of coded numbers, however it names them.
    fn coding(inputs: &serde_json::Value) -> Coding {
        let n = |key: &str| inputs[key].as_f64();
        let list = |key: &str| {
            inputs[key].as_array().map(|l| l.iter().filter_map(serde_json::Value::as_f64).collect::<Vec<_>>())
        };
        let (scale, offset) = match (n("quantification"), n("one")) {
            (Some(q), _) => (1.0 / q, n("radio_add_offset").unwrap() / q),
            (_, Some(one)) => (1.0 / one, 0.0),
            _ => (n("scale").unwrap(), n("offset").unwrap()),
        };
        let valid = list("valid").map(|v| (v[0], v[1]));
        // no data is 0 of Landsat and Sentinel-2, of which 65535 is saturated too
        let fill = list("fill").unwrap_or(if n("quantification").is_some() { vec![0.0, 65_535.0] } else { vec![0.0] });
        Coding { scale, offset, fill, valid, unit: Unit::Reflectance }
    }

    #[test]
    fn worked_codings() {
        let text = include_str!("../../../telechroma-core/tests/worked_examples.json");
        let all: Vec<serde_json::Value> = serde_json::from_str(text).unwrap();
        for name in [
            "landsat_level2_sr",
            "landsat_level2_st_kelvin",
            "msi_l1c_baseline_0510",
            "msi_l1c_baseline_0301",
            "modis_vi_ndvi",
            "modis_lst_kelvin",
            "eight_bit_composite_100_is_zero",
            "drone_reflectance_u16",
        ] {
            let e = all.iter().find(|e| e["name"] == name).unwrap();
            let coding = coding(&e["inputs"]);
            let stored = e["inputs"]["dn"].as_array().unwrap().iter().map(|v| v.as_f64().unwrap());
            for (stored, want) in stored.zip(e["expected"].as_array().unwrap()) {
                let got = coding.value(stored);
                match want.as_f64() {
                    Some(want) => assert!((got - want).abs() <= 1e-9, "{name} {stored}: {got} {want}"),
                    None => assert!(got.is_nan(), "{name} {stored}: {got}"),
                }
            }
        }
    }
}
