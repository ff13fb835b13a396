//! Many dates to one value a cell: the median over the clear and valid samples.
//!
//! Counts are calibrated on the way into the median, in vectors: a calibrated copy of every scene's plane would take
//! twice the memory of the counts. Medians are taken after calibration, since each scene has its own gain.

use std::fmt;

use super::calibrate::{Calibrator, Rule};
use super::median::{LANES, Median, Pads, Row};
use crate::error::{Error, Result};
use crate::graph::{Absence, Inputs, Op, bits_row, values_row};
use crate::tile::{Kind, PlaneSpec, Tile};
use crate::units::Unit;

/// How one scene's plane is read.
#[derive(Debug)]
pub enum Sample {
    /// Raw counts with their calibration.
    Counts(Calibrator),
    /// Values as they are; NaN is not valid.
    Values,
}

/// The median of a band. Inputs alternate: a scene's plane, its mask (0 = clear), the next scene's plane, …
///
/// An even number of samples gives the mean of the two middle ones. Fewer samples than `at_least`: missing.
pub struct Composite {
    samples: Vec<Sample>,
    unit: Unit,
    at_least: u32,
    median: Median,
}

impl Composite {
    /// For one sample per scene, all in `unit` after calibration.
    pub fn median(samples: Vec<Sample>, unit: Unit, at_least: u32) -> Composite {
        let median = Median::new(samples.len());
        Composite { samples, unit, at_least, median }
    }
}

impl fmt::Debug for Composite {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "Composite median {:?} {:?} {}", self.samples, self.unit, self.at_least)
    }
}

/// One scene's rows while a tile row is composed.
struct Live<'a> {
    plane: Plane<'a>,
    mask: &'a [u16],
}

enum Plane<'a> {
    Counts { row: &'a [u16], rule: Rule<'a>, fill: Option<u16> },
    Values(&'a [f32]),
}

impl Live<'_> {
    /// Which of `n` cells from `at` on may be used; false if none.
    #[inline(always)]
    fn usable(&self, at: usize, n: usize, usable: &mut [bool; LANES]) -> bool {
        let mask = &self.mask[at..at + n];
        match &self.plane {
            Plane::Counts { row, fill, .. } => {
                let row = &row[at..at + n];
                match fill {
                    Some(fill) => (0..n).for_each(|l| usable[l] = (mask[l] == 0) & (row[l] != *fill)),
                    None => (0..n).for_each(|l| usable[l] = mask[l] == 0),
                }
            }
            Plane::Values(row) => {
                let row = &row[at..at + n];
                (0..n).for_each(|l| usable[l] = (mask[l] == 0) & row[l].is_finite());
            }
        }
        usable[..n].iter().fold(false, |any, u| any | u)
    }

    #[inline(always)]
    fn values(&self, at: usize, n: usize, out: &mut Row) {
        match &self.plane {
            Plane::Counts { row, rule, .. } => rule.row(&row[at..at + n], &mut out[..n]),
            Plane::Values(row) => out[..n].copy_from_slice(&row[at..at + n]),
        }
    }
}

impl Op for Composite {
    fn output(&self, inputs: &[&PlaneSpec]) -> Result<(Kind, Unit)> {
        let fits = |(s, pair): (&Sample, &[&PlaneSpec])| {
            let plane = match s {
                Sample::Counts(_) => matches!(pair[0].kind, Kind::Counts { .. }),
                Sample::Values => pair[0].kind == Kind::Values && pair[0].unit == self.unit,
            };
            plane && matches!(pair[1].kind, Kind::Flags { .. })
        };
        if inputs.len() == 2 * self.samples.len() && self.samples.iter().zip(inputs.chunks(2)).all(fits) {
            return Ok((Kind::Values, self.unit));
        }
        Err(Error::Usage("a composite takes a plane in one unit and a mask for each scene".into()))
    }

    fn absence(&self) -> Absence {
        Absence::IfAll
    }

    fn compute(&self, inputs: &Inputs, out: &mut Tile) -> Result<()> {
        let window = out.window;
        let mut rows: Vec<Row> = vec![[0.0; LANES]; self.samples.len()];
        let mut usable = [false; LANES];
        let mut result = [0f32; LANES];
        for row in window.row..window.end_row() {
            let live: Vec<Live> = self.samples.iter().enumerate().filter_map(|(i, sample)| {
                let (plane, mask) = (inputs.get(2 * i)?, inputs.get(2 * i + 1)?);
                let plane = match sample {
                    Sample::Counts(by) => {
                        Plane::Counts { row: bits_row(plane, &window, row), rule: by.rule(), fill: by.fill() }
                    }
                    Sample::Values => Plane::Values(values_row(plane, &window, row)),
                };
                Some(Live { plane, mask: bits_row(mask, &window, row) })
            }).collect();
            let range = out.row_range(&window, row);
            let cells = &mut out.values_mut()[range];
            for (chunk, cells) in cells.chunks_mut(LANES).enumerate() {
                let (at, n) = (chunk * LANES, cells.len());
                let (mut k, mut pads, mut seen) = (0, Pads::new(), [0u32; LANES]);
                usable.fill(false);
                for scene in &live {
                    if scene.usable(at, n, &mut usable) {
                        scene.values(at, n, &mut rows[k]);
                        pads.apply(&usable, &mut rows[k]);
                        k += 1;
                        if self.at_least > 1 {
                            seen.iter_mut().zip(&usable).for_each(|(s, u)| *s += u32::from(*u));
                        }
                    }
                }
                self.median.of(&mut rows[..k], &pads, &mut result);
                cells.copy_from_slice(&result[..n]);
                if self.at_least > 1 {
                    for (c, s) in cells.iter_mut().zip(seen) {
                        *c = if s >= self.at_least { *c } else { f32::NAN };
                    }
                }
            }
        }
        Ok(())
    }

    fn step(&self) -> &'static str {
        "composite"
    }
}
