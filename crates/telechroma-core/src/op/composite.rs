//! Many dates to one value a cell: the median, or another statistic, over the clear and valid samples.
//!
//! Counts are calibrated on the way in, in vectors: a calibrated copy of every scene's plane would take twice the memory
//! of the counts. Statistics are taken after calibration, since each scene has its own gain.

use std::fmt;

use super::Clear;
use super::calibrate::{Calibrator, Rule};
use super::median::{LANES, Median, Pads, Row, Sort, Usable};
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

/// What becomes of the samples of a cell.
#[derive(Debug, Clone, Copy, PartialEq)]
pub enum BandRule {
    /// The middle one; of an even number the mean of the two in the middle.
    Median,
    /// Σx/n, in double precision.
    Mean,
    /// The least.
    Min,
    /// The greatest.
    Max,
    /// The value below which this share, 0 to 100 %, lies: type 7 of Hyndman & Fan (1996), linear between neighbours.
    Percentile(f64),
    /// The median of the distances from the median (median absolute deviation), not scaled.
    Spread,
}

/// A band of a composite. Inputs: planes of clear looks ([`Clear`]), sixteen scenes each, then a plane a scene.
///
/// Fewer samples than `at_least`: missing.
pub struct Composite {
    samples: Vec<Sample>,
    unit: Unit,
    at_least: u32,
    ready: Ready,
}

/// A rule with its networks.
enum Ready {
    Median(Median),
    Spread(Median),
    Percentile(f64, Sort),
    Mean,
    Min,
    Max,
}

impl Ready {
    fn new(by: BandRule, most: usize) -> Ready {
        match by {
            BandRule::Median => Ready::Median(Median::new(most)),
            BandRule::Spread => Ready::Spread(Median::new(most)),
            BandRule::Percentile(p) => Ready::Percentile(p, Sort::new(most)),
            BandRule::Mean => Ready::Mean,
            BandRule::Min => Ready::Min,
            BandRule::Max => Ready::Max,
        }
    }
}

impl fmt::Debug for Ready {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Ready::Median(_) => f.write_str("median"),
            Ready::Spread(_) => f.write_str("spread"),
            Ready::Percentile(p, _) => write!(f, "percentile {p}"),
            Ready::Mean => f.write_str("mean"),
            Ready::Min => f.write_str("min"),
            Ready::Max => f.write_str("max"),
        }
    }
}

impl Composite {
    /// For one sample per scene, all in `unit` after calibration.
    pub fn new(by: BandRule, samples: Vec<Sample>, unit: Unit, at_least: u32) -> Composite {
        let ready = Ready::new(by, samples.len());
        Composite { samples, unit, at_least, ready }
    }

    /// A scene's row.
    fn scene<'a>(&'a self, inputs: &Inputs<'a>, i: usize, window: &Window, row: i64) -> Option<Live<'a>> {
        let (plane, clear) = (inputs.get(self.looks() + i)?, inputs.get(i / Clear::SCENES)?);
        Some(Live {
            plane: self.samples[i].row(plane, window, row),
            clear: bits_row(clear, window, row),
            bit: 1 << (i % Clear::SCENES),
        })
    }

    fn row(&self, live: &[Live], rows: &mut [Row], cells: &mut [f32]) {
        let at_least = self.at_least;
        match &self.ready {
            Ready::Median(m) => wide::run(ComposeRow { rule: Middle(m), live, rows, at_least, cells }),
            Ready::Spread(m) => wide::run(ComposeRow { rule: Spread(m), live, rows, at_least, cells }),
            Ready::Percentile(p, sort) => {
                wide::run(ComposeRow { rule: Percentile(*p, sort), live, rows, at_least, cells });
            }
            Ready::Mean => wide::run(ComposeRow { rule: Mean, live, rows, at_least, cells }),
            Ready::Min => wide::run(ComposeRow { rule: Least, live, rows, at_least, cells }),
            Ready::Max => wide::run(ComposeRow { rule: Most, live, rows, at_least, cells }),
        }
    }

    /// Number of planes of clear looks before the scenes' planes.
    fn looks(&self) -> usize {
        self.samples.len().div_ceil(Clear::SCENES)
    }
}

impl fmt::Debug for Composite {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "Composite {:?} {:?} {:?} {}", self.ready, self.samples, self.unit, self.at_least)
    }
}

/// One scene's rows while a tile row is composed.
struct Live<'a> {
    plane: Plane<'a>,
    clear: &'a [u16],
    /// The scene's bit in `clear`.
    bit: u32,
}

/// A row of a scene's plane.
pub(super) enum Plane<'a> {
    Counts { row: &'a [u16], rule: Rule<'a>, fill: Option<u16> },
    Values(&'a [f32]),
}

impl Sample {
    /// A row of a plane that is read so.
    pub(super) fn row<'a>(&'a self, tile: &'a Tile, window: &Window, row: i64) -> Plane<'a> {
        match self {
            Sample::Counts(by) => Plane::Counts { row: bits_row(tile, window, row), rule: by.rule(), fill: by.fill() },
            Sample::Values => Plane::Values(values_row(tile, window, row)),
        }
    }

    /// True for a plane that can be read so, in a unit.
    pub(super) fn fits(&self, plane: &PlaneSpec, unit: Unit) -> bool {
        match self {
            Sample::Counts(_) => matches!(plane.kind, Kind::Counts { .. }),
            Sample::Values => plane.kind == Kind::Values && plane.unit == unit,
        }
    }
}

/// How many cells ahead planes are asked for: a few vectors.
const AHEAD: usize = 4 * LANES;

impl Plane<'_> {
    /// Asks for the cells of a chunk from `at` on.
    #[inline(always)]
    fn ahead(&self, at: usize) {
        match self {
            Plane::Counts { row, .. } => (0..LANES).step_by(32).for_each(|c| wide::ahead(row, at + c)),
            Plane::Values(row) => (0..LANES).step_by(16).for_each(|c| wide::ahead(row, at + c)),
        }
    }

    /// Leaves in `usable` only those of `n` cells from `at` on that hold a value.
    #[inline(always)]
    pub(super) fn valid(&self, at: usize, n: usize, usable: &mut Usable) {
        match self {
            Plane::Counts { row, fill, .. } => {
                let fill = fill.map_or(u32::MAX, u32::from);
                of_lanes(&row[at..at + n], usable, |u, c| if u32::from(c) != fill { u } else { 0 });
            }
            Plane::Values(row) => of_lanes(&row[at..at + n], usable, |u, v| if v.is_finite() { u } else { 0 }),
        }
    }

    /// The calibrated values.
    #[inline(always)]
    pub(super) fn values(&self, at: usize, n: usize, out: &mut Row) {
        match self {
            Plane::Counts { row, rule, .. } => match <&[u16; LANES]>::try_from(&row[at..at + n]) {
                Ok(counts) => rule.row(counts, out),
                Err(_) => rule.row(&row[at..at + n], &mut out[..n]),
            },
            Plane::Values(row) => of_lanes(&row[at..at + n], out, |_, v| v),
        }
    }
}

/// Changes lanes by cells. Nearly always all of them: a loop whose length the compiler knows is a few vectors.
#[inline(always)]
fn of_lanes<T: Copy, U: Copy>(cells: &[T], lanes: &mut [U; LANES], change: impl Fn(U, T) -> U) {
    match <&[T; LANES]>::try_from(cells) {
        Ok(cells) => {
            for l in 0..LANES {
                lanes[l] = change(lanes[l], cells[l]);
            }
        }
        Err(_) => lanes.iter_mut().zip(cells).for_each(|(l, c)| *l = change(*l, *c)),
    }
}

/// Which of `n` cells from `at` on a scene shows clearly. Lanes from `n` on are left as they are.
#[inline(always)]
pub(super) fn clear_lanes(clear: &[u16], bit: u32, at: usize, n: usize, usable: &mut Usable) {
    of_lanes(&clear[at..at + n], usable, |_, m| if u32::from(m) & bit != 0 { u32::MAX } else { 0 });
}

impl Live<'_> {
    /// Which of `n` cells from `at` on may be used; false if none.
    #[inline(always)]
    fn usable(&self, at: usize, n: usize, usable: &mut Usable) -> bool {
        self.plane.ahead(at + AHEAD);
        clear_lanes(self.clear, self.bit, at, n, usable);
        self.plane.valid(at, n, usable);
        // lanes beyond the row's end hold nothing
        usable.iter().fold(0, |any, u| any | u) != 0
    }
}

/// One row of cells, by some rule. Each rule is a loop of its own: several in one are compiled worse.
struct ComposeRow<'a, 'b, R> {
    rule: R,
    live: &'a [Live<'b>],
    rows: &'a mut [Row],
    at_least: u32,
    cells: &'a mut [f32],
}

/// How samples of up to 64 cells become values.
trait Rule64 {
    /// Of `span.1` cells from `span.0` on; adds each cell's samples to `seen`.
    fn of(&self, live: &[Live], rows: &mut [Row], span: (usize, usize), seen: &mut [u32; LANES], out: &mut Row);
}

impl<R: Rule64> wide::Loop for ComposeRow<'_, '_, R> {
    #[inline(always)]
    fn run(self) {
        let ComposeRow { rule, live, rows, at_least, cells } = self;
        let mut result = [0f32; LANES];
        for (chunk, cells) in cells.chunks_mut(LANES).enumerate() {
            let (at, n) = (chunk * LANES, cells.len());
            let mut seen = [0u32; LANES];
            rule.of(live, rows, (at, n), &mut seen, &mut result);
            cells.copy_from_slice(&result[..n]);
            if at_least > 1 {
                for (c, s) in cells.iter_mut().zip(seen) {
                    *c = if s >= at_least { *c } else { f32::NAN };
                }
            }
        }
    }
}

struct Middle<'a>(&'a Median);
struct Spread<'a>(&'a Median);
struct Percentile<'a>(f64, &'a Sort);
struct Mean;
struct Least;
struct Most;

impl Rule64 for Middle<'_> {
    #[inline(always)]
    fn of(&self, live: &[Live], rows: &mut [Row], span: (usize, usize), seen: &mut [u32; LANES], out: &mut Row) {
        middle(self.0, live, None, rows, span, seen, out);
    }
}

impl Rule64 for Spread<'_> {
    #[inline(always)]
    fn of(&self, live: &[Live], rows: &mut [Row], span: (usize, usize), seen: &mut [u32; LANES], out: &mut Row) {
        middle(self.0, live, None, rows, span, seen, out);
        let (centre, mut again) = (*out, [0u32; LANES]);
        middle(self.0, live, Some(&centre), rows, span, &mut again, out);
    }
}

impl Rule64 for Percentile<'_> {
    #[inline(always)]
    fn of(&self, live: &[Live], rows: &mut [Row], span: (usize, usize), seen: &mut [u32; LANES], out: &mut Row) {
        percentile(self.0, self.1, live, rows, span, seen, out);
    }
}

impl Rule64 for Mean {
    #[inline(always)]
    fn of(&self, live: &[Live], rows: &mut [Row], span: (usize, usize), seen: &mut [u32; LANES], out: &mut Row) {
        let mut sums = [0f64; LANES];
        fold(live, rows, span, seen, &mut sums, |sum, v| sum + f64::from(v));
        for l in 0..LANES {
            out[l] = (sums[l] / f64::from(seen[l])) as f32;
        }
    }
}

impl Rule64 for Least {
    #[inline(always)]
    fn of(&self, live: &[Live], rows: &mut [Row], span: (usize, usize), seen: &mut [u32; LANES], out: &mut Row) {
        *out = [f32::NAN; LANES];
        fold(live, rows, span, seen, out, f32::min);
    }
}

impl Rule64 for Most {
    #[inline(always)]
    fn of(&self, live: &[Live], rows: &mut [Row], span: (usize, usize), seen: &mut [u32; LANES], out: &mut Row) {
        *out = [f32::NAN; LANES];
        fold(live, rows, span, seen, out, f32::max);
    }
}

/// The median of `n` cells from `at` on, or of their distances from a centre.
#[inline(always)]
fn middle(
    median: &Median,
    live: &[Live],
    centre: Option<&Row>,
    rows: &mut [Row],
    (at, n): (usize, usize),
    seen: &mut [u32; LANES],
    result: &mut Row,
) {
    let (mut k, mut pads, mut usable) = (0, Pads::new(), [0; LANES]);
    for scene in live {
        if scene.usable(at, n, &mut usable) {
            scene.plane.values(at, n, &mut rows[k]);
            if let Some(centre) = centre {
                rows[k].iter_mut().zip(centre).for_each(|(v, c)| *v = (*v - c).abs());
            }
            pads.apply(&usable, &mut rows[k]);
            k += 1;
            seen.iter_mut().zip(&usable).for_each(|(s, u)| *s += u & 1);
        }
    }
    median.of(&mut rows[..k], &pads, result);
}

/// Samples sorted, those that may not be used last: how many may differs from cell to cell, and so does the rank.
#[inline(always)]
fn percentile(
    p: f64,
    sort: &Sort,
    live: &[Live],
    rows: &mut [Row],
    (at, n): (usize, usize),
    seen: &mut [u32; LANES],
    result: &mut Row,
) {
    let (mut k, mut usable) = (0, [0; LANES]);
    for scene in live {
        if scene.usable(at, n, &mut usable) {
            scene.plane.values(at, n, &mut rows[k]);
            for ((v, u), s) in rows[k].iter_mut().zip(&usable).zip(seen.iter_mut()) {
                *v = f32::from_bits(v.to_bits() & u | f32::INFINITY.to_bits() & !u);
                *s += u & 1;
            }
            k += 1;
        }
    }
    sort.of(&mut rows[..k]);
    for l in 0..LANES {
        if seen[l] == 0 {
            result[l] = f32::NAN;
            continue;
        }
        let h = f64::from(seen[l] - 1) * p / 100.0;
        let low = h as usize;
        let (a, b) = (rows[low][l], rows[(low + 1).min(seen[l] as usize - 1)][l]);
        result[l] = (f64::from(a) + (h - low as f64) * (f64::from(b) - f64::from(a))) as f32;
    }
}

/// Takes each usable sample into the sum of its lane.
#[inline(always)]
fn fold<T: Copy>(
    live: &[Live],
    rows: &mut [Row],
    (at, n): (usize, usize),
    seen: &mut [u32; LANES],
    sums: &mut [T; LANES],
    take: impl Fn(T, f32) -> T,
) {
    let mut usable = [0; LANES];
    for scene in live {
        if scene.usable(at, n, &mut usable) {
            scene.plane.values(at, n, &mut rows[0]);
            for l in 0..LANES {
                let with = take(sums[l], rows[0][l]);
                sums[l] = if usable[l] != 0 { with } else { sums[l] };
                seen[l] += usable[l] & 1;
            }
        }
    }
}

/// All bits that are set in a row.
struct AnyBits<'a> {
    row: &'a [u16],
    any: &'a mut u16,
}

impl wide::Loop for AnyBits<'_> {
    #[inline(always)]
    fn run(self) {
        *self.any = self.row.iter().fold(0, |any, bits| any | bits);
    }
}

impl Op for Composite {
    fn output(&self, inputs: &[&PlaneSpec]) -> Result<(Kind, Unit)> {
        let wrong =
            || Error::Usage("a composite takes planes of clear looks, then a plane in one unit for each scene".into());
        let (clear, planes) = inputs.split_at_checked(self.looks()).ok_or_else(wrong)?;
        let fits = |(s, plane): (&Sample, &&PlaneSpec)| s.fits(plane, self.unit);
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
        let mut live: Vec<Live> = Vec::with_capacity(self.samples.len());
        for row in window.row..window.end_row() {
            // scenes that show something clearly in this row
            live.clear();
            for looks in 0..self.looks() {
                let Some(clear) = inputs.get(looks) else { continue };
                let mut any = 0;
                wide::run(AnyBits { row: bits_row(clear, &window, row), any: &mut any });
                let first = looks * Clear::SCENES;
                let scenes = (first..self.samples.len()).take(Clear::SCENES).filter(|i| any >> (i - first) & 1 == 1);
                live.extend(scenes.filter_map(|i| self.scene(inputs, i, &window, row)));
            }
            let range = out.row_range(&window, row);
            self.row(&live, &mut rows, &mut out.values_mut()[range]);
        }
        Ok(())
    }

    fn step(&self) -> &'static str {
        "composite"
    }
}
