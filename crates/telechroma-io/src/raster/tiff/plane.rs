//! One band of a GeoTIFF as a source of planes.

use std::fmt;
use std::sync::Arc;

use telechroma_core::grid::Grid;
use telechroma_core::tile::{BlockShape, Cells, Kind, PlaneSource, PlaneSpec};
use telechroma_core::units::Unit;

use super::block::Samples;
use super::{SampleFormat, Tiff};
use crate::error::{Error, Result};

/// What a band is read as.
#[derive(Debug, Clone, Copy, PartialEq)]
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
}

/// A band of a file.
pub struct TiffPlane {
    tiff: Arc<Tiff>,
    band: u32,
    spec: PlaneSpec,
}

impl TiffPlane {
    /// Band number `band`, from 0.
    ///
    /// # Errors
    /// Where the file has no such band, or its type cannot be read so.
    pub fn new(tiff: &Arc<Tiff>, band: u32, reading: Reading) -> Result<TiffPlane> {
        let h = &tiff.header;
        if band >= h.samples {
            return Err(Error::usage(
                tiff.bytes.place(""),
                format!("has {} bands, so no band {}", h.samples, band + 1),
            ));
        }
        let unsigned = matches!(h.format, SampleFormat::U8 | SampleFormat::U16);
        let (kind, unit) = match reading {
            Reading::Counts { fill } if unsigned => (Kind::Counts { fill }, Unit::Counts),
            Reading::Flags { outside } if unsigned => (Kind::Flags { outside }, Unit::Flags),
            Reading::Values(unit) => (Kind::Values, unit),
            _ => {
                return Err(Error::unsupported(
                    tiff.bytes.place(""),
                    format!("a raster of {} samples here", h.format.name()),
                    &["uint8", "uint16"],
                ));
            }
        };
        let spec = PlaneSpec { grid: tiff.grid.clone(), kind, unit };
        Ok(TiffPlane { tiff: tiff.clone(), band, spec })
    }

    /// The same cells on a grid that is stated better elsewhere, of the same size.
    #[must_use]
    pub fn on(mut self, grid: Arc<Grid>) -> TiffPlane {
        self.spec.grid = grid;
        self
    }
}

impl fmt::Debug for TiffPlane {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        // two readings of one band differ by their kind; the same reading is the same plane
        write!(f, "{} band {} as {:?} {:?}", self.tiff.bytes.name(), self.band + 1, self.spec.kind, self.spec.unit)
    }
}

impl PlaneSource for TiffPlane {
    fn spec(&self) -> &PlaneSpec {
        &self.spec
    }

    fn block(&self) -> BlockShape {
        BlockShape { cols: self.tiff.header.block_cols, rows: self.tiff.header.block_rows }
    }

    fn read_block(&self, index: u32, out: &mut Cells) -> telechroma_core::Result<()> {
        if let Cells::Bits(bits) = out
            && self.tiff.read_words(self.band, index, bits)?
        {
            return Ok(());
        }
        let h = &self.tiff.header;
        let (step, first) = if h.planar { (1, 0) } else { (h.samples as usize, self.band as usize) };
        let nodata = h.nodata;
        self.tiff.read_samples(self.band, index, |samples| match (out, samples) {
            (out, None) => self.spec.kind.fill_missing(out),
            (Cells::Bits(o), Some(Samples::U8(s))) => each(o, s, first, step, |v| u16::from(*v)),
            (Cells::Bits(o), Some(Samples::U16(s))) => each(o, s, first, step, |v| *v),
            (Cells::Values(o), Some(s)) => {
                let missing = |v: f64| nodata.is_some_and(|n| n == v);
                let value = |v: f64| if missing(v) { f32::NAN } else { v as f32 };
                match s {
                    Samples::U8(s) => each(o, s, first, step, |v| value(f64::from(*v))),
                    Samples::U16(s) => each(o, s, first, step, |v| value(f64::from(*v))),
                    Samples::I16(s) => each(o, s, first, step, |v| value(f64::from(*v))),
                    Samples::F32(s) => {
                        each(
                            o,
                            s,
                            first,
                            step,
                            |v| {
                                if v.is_finite() && !missing(f64::from(*v)) { *v } else { f32::NAN }
                            },
                        )
                    }
                }
            }
            (Cells::Bits(_), Some(Samples::I16(_) | Samples::F32(_))) => unreachable!("refused by TiffPlane::new"),
        })?;
        Ok(())
    }

    fn name(&self) -> String {
        let name = self.tiff.bytes.name();
        if self.tiff.header.samples == 1 { name } else { format!("{name}, band {}", self.band + 1) }
    }
}

fn each<S, T>(out: &mut [T], samples: &[S], first: usize, step: usize, f: impl Fn(&S) -> T) {
    for (o, s) in out.iter_mut().zip(samples.iter().skip(first).step_by(step)) {
        *o = f(s);
    }
}
