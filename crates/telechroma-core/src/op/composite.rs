//! Many dates to one value a cell: the median over the clear and valid samples.
//!
//! Counts are calibrated on the way into the median, in vectors: a calibrated copy of every scene's plane would take
//! twice the memory of the counts. Medians are taken after calibration, since each scene has its own gain.

use std::fmt;

use super::Clear;
use super::calibrate::{Calibrator, Rule};
use super::median::{LANES, Median, Pads, Row, Usable};
use crate::error::{Error, Result};
use crate::graph::{Absence, Inputs, Op, bits_row, values_row};
use crate::grid::Window;
use crate::tile::{Kind, PlaneSpec, Tile};
use crate::units::Unit;
use crate::wide;

/// How one scene's plane is read.
#[derive(Debug)]
pub enum Sample {
    /// Raw counts with their calibration.
    Counts(Calibrator),
    /// Values as they are; NaN is not valid.
    Values,
}

/// The median of a band. Inputs: planes of clear looks ([`Clear`]), sixteen scenes each, then a plane a scene.
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

    /// A scene's row.
    fn scene<'a>(&'a self, inputs: &Inputs<'a>, i: usize, window: &Window, row: i64) -> Option<Live<'a>> {
        let (plane, clear) = (inputs.get(self.looks() + i)?, inputs.get(i / Clear::SCENES)?);
        let plane = match &self.samples[i] {
            Sample::Counts(by) => Plane::Counts { row: bits_row(plane, window, row), rule: by.rule(), fill: by.fill() },
            Sample::Values => Plane::Values(values_row(plane, window, row)),
        };
        Some(Live { plane, clear: bits_row(clear, window, row), bit: 1 << (i % Clear::SCENES) })
    }

    /// Number of planes of clear looks before the scenes' planes.
    fn looks(&self) -> usize {
        self.samples.len().div_ceil(Clear::SCENES)
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
    clear: &'a [u16],
    /// The scene's bit in `clear`.
    bit: u32,
}

enum Plane<'a> {
    Counts { row: &'a [u16], rule: Rule<'a>, fill: Option<u16> },
    Values(&'a [f32]),
}

impl Live<'_> {
    /// Which of `n` cells from `at` on may be used; false if none. Lanes from `n` on are left as they are.
    #[inline(always)]
    fn usable(&self, at: usize, n: usize, usable: &mut Usable) -> bool {
        let bits = |yes: bool| if yes { u32::MAX } else { 0 };
        let (clear, bit) = (&self.clear[at..at + n], self.bit);
        let mut any = 0;
        match &self.plane {
            Plane::Counts { row, fill, .. } => {
                let (row, fill) = (&row[at..at + n], fill.map_or(u32::MAX, u32::from));
                for ((u, m), c) in usable.iter_mut().zip(clear).zip(row) {
                    *u = bits((u32::from(*m) & bit != 0) & (u32::from(*c) != fill));
                    any |= *u;
                }
            }
            Plane::Values(row) => {
                for ((u, m), v) in usable.iter_mut().zip(clear).zip(&row[at..at + n]) {
                    *u = bits((u32::from(*m) & bit != 0) & v.is_finite());
                    any |= *u;
                }
            }
        }
        any != 0
    }

    #[inline(always)]
    fn values(&self, at: usize, n: usize, out: &mut Row) {
        match &self.plane {
            Plane::Counts { row, rule, .. } => rule.row(&row[at..at + n], &mut out[..n]),
            Plane::Values(row) => out[..n].copy_from_slice(&row[at..at + n]),
        }
    }
}

/// One row of cells.
struct ComposeRow<'a, 'b> {
    op: &'a Composite,
    live: &'a [Live<'b>],
    rows: &'a mut [Row],
    cells: &'a mut [f32],
}

impl wide::Loop for ComposeRow<'_, '_> {
    #[inline(always)]
    fn run(self) {
        let ComposeRow { op, live, rows, cells } = self;
        let mut result = [0f32; LANES];
        for (chunk, cells) in cells.chunks_mut(LANES).enumerate() {
            let (at, n) = (chunk * LANES, cells.len());
            let (mut k, mut pads, mut seen, mut usable) = (0, Pads::new(), [0u32; LANES], [0; LANES]);
            for scene in live {
                if scene.usable(at, n, &mut usable) {
                    scene.values(at, n, &mut rows[k]);
                    pads.apply(&usable, &mut rows[k]);
                    k += 1;
                    seen.iter_mut().zip(&usable).for_each(|(s, u)| *s += u & 1);
                }
            }
            op.median.of(&mut rows[..k], &pads, &mut result);
            cells.copy_from_slice(&result[..n]);
            if op.at_least > 1 {
                for (c, s) in cells.iter_mut().zip(seen) {
                    *c = if s >= op.at_least { *c } else { f32::NAN };
                }
            }
        }
    }
}

/// Rows handled together.
const STRIP: i64 = 8;

/// Whether a scene shows anything in a row.
struct ShowsRow<'a, 'b> {
    scene: &'a Live<'b>,
    shows: &'a mut bool,
}

impl wide::Loop for ShowsRow<'_, '_> {
    #[inline(always)]
    fn run(self) {
        let (clear, bit) = (self.scene.clear, self.scene.bit as u16);
        *self.shows = match &self.scene.plane {
            Plane::Counts { row, fill, .. } => {
                let fill = fill.map_or(u32::MAX, u32::from);
                clear.iter().zip(*row).fold(0, |any, (m, c)| any | if u32::from(*c) != fill { m & bit } else { 0 }) != 0
            }
            Plane::Values(row) => {
                clear.iter().zip(*row).fold(0, |any, (m, v)| any | if v.is_finite() { m & bit } else { 0 }) != 0
            }
        };
    }
}

impl Op for Composite {
    fn output(&self, inputs: &[&PlaneSpec]) -> Result<(Kind, Unit)> {
        let wrong =
            || Error::Usage("a composite takes planes of clear looks, then a plane in one unit for each scene".into());
        let (clear, planes) = inputs.split_at_checked(self.looks()).ok_or_else(wrong)?;
        let fits = |(s, plane): (&Sample, &&PlaneSpec)| match s {
            Sample::Counts(_) => matches!(plane.kind, Kind::Counts { .. }),
            Sample::Values => plane.kind == Kind::Values && plane.unit == self.unit,
        };
        let flags = clear.iter().all(|c| matches!(c.kind, Kind::Flags { .. }));
        match flags && planes.len() == self.samples.len() && self.samples.iter().zip(planes).all(fits) {
            true => Ok((Kind::Values, self.unit)),
            false => Err(wrong()),
        }
    }

    fn absence(&self) -> Absence {
        Absence::IfAll
    }

    fn compute(&self, inputs: &Inputs, out: &mut Tile) -> Result<()> {
        let window = out.window;
        let mut rows: Vec<Row> = vec![[0.0; LANES]; self.samples.len()];
        for strip in (window.row..window.end_row()).step_by(STRIP as usize) {
            let end = (strip + STRIP).min(window.end_row());
            // scenes that show something in each row of the strip; asked scene by scene, so that each plane is fetched
            // in long pieces: two dozen planes read side by side are more than the processor follows by itself
            let mut live: Vec<Vec<Live>> = (strip..end).map(|_| vec![]).collect();
            for i in 0..self.samples.len() {
                for (row, live) in (strip..end).zip(&mut live) {
                    let mut shows = false;
                    let Some(scene) = self.scene(inputs, i, &window, row) else { continue };
                    wide::run(ShowsRow { scene: &scene, shows: &mut shows });
                    if shows {
                        live.push(scene);
                    }
                }
            }
            for (row, live) in (strip..end).zip(&live) {
                let range = out.row_range(&window, row);
                wide::run(ComposeRow { op: self, live, rows: &mut rows, cells: &mut out.values_mut()[range] });
            }
        }
        Ok(())
    }

    fn step(&self) -> &'static str {
        "composite"
    }
}
