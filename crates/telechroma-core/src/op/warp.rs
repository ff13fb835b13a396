//! A plane brought to another grid.
//!
//! Missing cells take no part and are never smeared: a cell is missing where the source cell under its middle is, or, for
//! rules over an area, where less than half of the area holds values. Flags are repeated or joined, never averaged.

use std::fmt;
use std::str::FromStr;
use std::sync::Arc;

use crate::error::{Error, Result};
use crate::graph::{Graph, Inputs, NodeId, Op};
use crate::grid::{Mapping, Window};
use crate::tile::{Cells, Kind, PlaneSpec, Tile};
use crate::units::Unit;
use crate::wide;

/// How values are brought to another grid.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Resample {
    /// The cell under the middle.
    Nearest,
    /// Linear between four cells.
    Bilinear,
    /// The cubic of Keys (1981), a = −½, over sixteen cells; next to missing cells as bilinear.
    Cubic,
    /// Mean over the cell's area, by the share of each source cell.
    Mean,
    /// Median over the cell's area, weighted by the share of each source cell.
    Median,
    /// The value that takes most of the cell's area; of several the least.
    Mode,
    /// The least value in the cell's area.
    Min,
    /// The greatest value in the cell's area.
    Max,
}

const NAMES: &[(&str, Resample)] = &[
    ("nearest", Resample::Nearest),
    ("bilinear", Resample::Bilinear),
    ("cubic", Resample::Cubic),
    ("mean", Resample::Mean),
    ("median", Resample::Median),
    ("mode", Resample::Mode),
    ("min", Resample::Min),
    ("max", Resample::Max),
];

impl Resample {
    /// Its name.
    pub fn name(self) -> &'static str {
        NAMES.iter().find(|(_, r)| *r == self).map_or("", |(n, _)| n)
    }
}

impl FromStr for Resample {
    type Err = Error;

    fn from_str(text: &str) -> Result<Resample> {
        let found = NAMES.iter().find(|(n, _)| *n == text).map(|(_, r)| *r);
        found.ok_or_else(|| Error::unknown("resampling rule", text, NAMES.iter().map(|(n, _)| n)))
    }
}

/// How flags are brought to another grid.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum FlagResample {
    /// The flags of the cell under the middle.
    Nearest,
    /// The flags of all cells in the cell's area together: nothing flagged is lost.
    Any,
}

/// How a plane is brought to another grid, by what it holds.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum How {
    /// Values.
    Values(Resample),
    /// Flags.
    Flags(FlagResample),
}

/// One plane on another grid; see [`align`].
pub struct Warp {
    /// How.
    pub how: How,
    /// Where the output's cells lie in the input.
    pub mapping: Arc<Mapping>,
    /// Flags of cells beyond the input.
    pub outside: u16,
}

impl fmt::Debug for Warp {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "Warp {:?} outside {} from {:?} to {:?}", self.how, self.outside, self.mapping.from, self.mapping.to)
    }
}

/// A plane brought to the run's grid; one that lies on it is returned as it is.
///
/// # Errors
/// Where its coordinate system is not known, or it holds raw counts.
pub fn align(g: &mut Graph, plane: NodeId, how: How) -> Result<NodeId> {
    let spec = g.node(plane).spec().clone();
    if *spec.grid == **g.grid() {
        return Ok(plane);
    }
    let mapping = g.mapping(&spec.grid)?;
    let outside = match spec.kind {
        Kind::Flags { outside } => outside,
        Kind::Values | Kind::Counts { .. } => 0,
    };
    g.onto_run(Warp { how, mapping, outside }, plane)
}

/// Share of a cell's area that must hold values.
const ENOUGH: f64 = 0.5;
/// Shares of a cell below this are rounding.
const SLIVER: f64 = 1e-9;

impl Op for Warp {
    fn output(&self, inputs: &[&PlaneSpec]) -> Result<(Kind, Unit)> {
        match (self.how, inputs) {
            (How::Values(_), [one]) if one.kind == Kind::Values => Ok((one.kind, one.unit)),
            (How::Flags(_), [one]) if matches!(one.kind, Kind::Flags { .. }) => Ok((one.kind, one.unit)),
            _ => Err(Error::Usage("values are resampled as values, flags as flags, raw counts not at all".into())),
        }
    }

    fn needs(&self, out: Window) -> Window {
        let reach = match self.how {
            How::Values(Resample::Cubic) => 2.0,
            _ => 1.0,
        };
        let none = Window::new(0, 0, 0, 0);
        let Some([w, n, e, s]) = self.mapping.bounds(out) else { return none };
        // positions far off the grid would not fit whole numbers
        let side = |v: f64| v.clamp(-1e9, 1e9) as i64;
        let (w, n, e, s) =
            (side((w - reach).floor()), side((n - reach).floor()), side((e + reach).ceil()), side((s + reach).ceil()));
        let all = self.mapping.from.window();
        let (c, r) = (w.max(0), n.max(0));
        match (e.min(all.end_col()) - c, s.min(all.end_row()) - r) {
            (cols, rows) if cols > 0 && rows > 0 => Window::new(c, r, cols as u32, rows as u32),
            _ => none,
        }
    }

    fn compute(&self, inputs: &Inputs, out: &mut Tile) -> Result<()> {
        let source = inputs.tile(0);
        match (self.how, &source.cells) {
            (How::Values(Resample::Nearest), Cells::Values(v)) => {
                self.nearest(v, source.window, f32::NAN, out.window, out.values_mut())
            }
            (How::Values(how @ (Resample::Bilinear | Resample::Cubic)), Cells::Values(v)) => {
                self.between(v, source.window, how == Resample::Cubic, out)
            }
            (How::Values(how), Cells::Values(v)) => self.over_area(v, source.window, how, out),
            (How::Flags(how), Cells::Bits(b)) => match how {
                FlagResample::Nearest => self.nearest(b, source.window, self.outside, out.window, out.bits_mut()),
                FlagResample::Any => self.any(b, source.window, out),
            },
            _ => unreachable!("kinds are checked when the graph is built"),
        }
        Ok(())
    }

    fn step(&self) -> &'static str {
        "bring to the grid"
    }
}

impl Warp {
    fn nearest<T: Copy>(&self, cells: &[T], have: Window, missing: T, window: Window, out: &mut [T]) {
        let mut row = vec![];
        for (r, o) in (window.row..).zip(out.chunks_exact_mut(window.cols as usize)) {
            self.mapping.row(r as f64 + 0.5, window.col as f64 + 0.5, window.cols as usize, &mut row);
            let (left, top) = (have.col as f64, have.row as f64);
            let (wide, high) = (f64::from(have.cols), f64::from(have.rows));
            for (o, (x, y)) in o.iter_mut().zip(&row) {
                let (x, y) = (x - left, y - top);
                let inside = x >= 0.0 && y >= 0.0 && x < wide && y < high; // false for NaN
                *o = if inside { cells[y as usize * have.cols as usize + x as usize] } else { missing };
            }
        }
    }

    fn between(&self, cells: &[f32], have: Window, cubic: bool, out: &mut Tile) {
        let window = out.window;
        let mut row = vec![];
        for (r, o) in (window.row..).zip(out.values_mut().chunks_exact_mut(window.cols as usize)) {
            self.mapping.row(r as f64 + 0.5, window.col as f64 + 0.5, window.cols as usize, &mut row);
            wide::run(BetweenRow { cells, have, cubic, positions: &row, out: o });
        }
    }

    /// Calls `f(cell, left, top, width, height)` for each output cell: the rectangle it takes in source cells. Where the
    /// grids are turned against each other the rectangle lies along the source's axes and has the cell's sides.
    fn rectangles(&self, window: Window, mut f: impl FnMut(usize, f64, f64, f64, f64)) {
        let n = window.cols as usize;
        let (mut top, mut low) = (vec![], vec![]);
        for r in 0..window.rows as usize {
            let y = (window.row + r as i64) as f64;
            self.mapping.row(y, window.col as f64, n + 1, &mut top);
            self.mapping.row(y + 1.0, window.col as f64, n + 1, &mut low);
            for c in 0..n {
                let (a, b, d, e) = (top[c], top[c + 1], low[c], low[c + 1]);
                let across = ((b.0 - a.0 + e.0 - d.0) / 2.0, (b.1 - a.1 + e.1 - d.1) / 2.0);
                let down = ((d.0 - a.0 + e.0 - b.0) / 2.0, (d.1 - a.1 + e.1 - b.1) / 2.0);
                let (w, h) = (across.0.hypot(down.0), across.1.hypot(down.1));
                let (x, y) = ((a.0 + b.0 + d.0 + e.0) / 4.0, (a.1 + b.1 + d.1 + e.1) / 4.0);
                f(r * n + c, x - w / 2.0, y - h / 2.0, w, h);
            }
        }
    }

    fn over_area(&self, cells: &[f32], have: Window, how: Resample, out: &mut Tile) {
        let window = out.window;
        let values = out.values_mut();
        let mut held: Vec<(f32, f64)> = vec![];
        self.rectangles(window, |i, x, y, w, h| {
            held.clear();
            each_share(have, x, y, w, h, |k, share| {
                if !cells[k].is_nan() {
                    held.push((cells[k], share));
                }
            });
            let weight: f64 = held.iter().map(|v| v.1).sum();
            // NaN sizes (no place) fail the comparison too
            values[i] =
                if weight >= ENOUGH * w * h && weight > 0.0 { of_area(&mut held, weight, how) } else { f32::NAN };
        });
    }

    fn any(&self, cells: &[u16], have: Window, out: &mut Tile) {
        let window = out.window;
        let bits = out.bits_mut();
        self.rectangles(window, |i, x, y, w, h| {
            let (mut all, mut weight) = (0, 0.0);
            each_share(have, x, y, w, h, |k, share| {
                all |= cells[k];
                weight += share;
            });
            bits[i] = if weight >= ENOUGH * w * h && weight > 0.0 { all } else { self.outside };
        });
    }
}

/// One row by [`Resample::Bilinear`] or [`Resample::Cubic`].
struct BetweenRow<'a> {
    cells: &'a [f32],
    have: Window,
    cubic: bool,
    positions: &'a [(f64, f64)],
    out: &'a mut [f32],
}

impl wide::Loop for BetweenRow<'_> {
    #[inline(always)]
    fn run(self, _: impl wide::Instructions) {
        let BetweenRow { cells, have, cubic, positions, out } = self;
        // by the middles of cells, from the tile's first cell on
        let (left, top) = (have.col as f64 + 0.5, have.row as f64 + 0.5);
        let (wide, high) = (f64::from(have.cols) - 1.0, f64::from(have.rows) - 1.0);
        let step = have.cols as usize;
        for (o, (x, y)) in out.iter_mut().zip(positions) {
            let (fx, fy) = (x - left, y - top);
            if !cubic && fx >= 0.0 && fy >= 0.0 && fx < wide && fy < high {
                // between four cells that are there; the usual case has none of them missing
                let (c, r) = (fx as usize, fy as usize);
                let (tx, ty) = (fx - c as f64, fy - r as f64);
                let i = r * step + c;
                let [a, b, d, e] = [cells[i], cells[i + 1], cells[i + step], cells[i + step + 1]].map(f64::from);
                let v = (a * (1.0 - tx) + b * tx) * (1.0 - ty) + (d * (1.0 - tx) + e * tx) * ty;
                if !v.is_nan() {
                    *o = v as f32;
                    continue;
                }
            }
            *o = near_missing(cells, have, cubic, *x, *y);
        }
    }
}

/// As above, where a neighbour is missing or not there, and by [`Resample::Cubic`].
fn near_missing(cells: &[f32], have: Window, cubic: bool, x: f64, y: f64) -> f32 {
    let own = at(have, x.floor(), y.floor()).map_or(f32::NAN, |i| cells[i]);
    if own.is_nan() {
        return f32::NAN;
    }
    let by_cubic = if cubic { cubic_at(cells, have, x - 0.5, y - 0.5) } else { None };
    by_cubic.unwrap_or_else(|| linear_at(cells, have, x - 0.5, y - 0.5)) as f32
}

/// Index of a cell, if it is there.
#[inline(always)]
fn at(have: Window, col: f64, row: f64) -> Option<usize> {
    let (c, r) = (col - have.col as f64, row - have.row as f64);
    let inside = c >= 0.0 && r >= 0.0 && c < f64::from(have.cols) && r < f64::from(have.rows); // false for NaN
    inside.then(|| r as usize * have.cols as usize + c as usize)
}

/// `x`, `y`: positions by the middles of cells.
#[inline(always)]
fn linear_at(cells: &[f32], have: Window, x: f64, y: f64) -> f64 {
    let (c, r) = (x.floor(), y.floor());
    let (tx, ty) = (x - c, y - r);
    let (mut sum, mut weight) = (0.0, 0.0);
    for (dc, dr, w) in [
        (0.0, 0.0, (1.0 - tx) * (1.0 - ty)),
        (1.0, 0.0, tx * (1.0 - ty)),
        (0.0, 1.0, (1.0 - tx) * ty),
        (1.0, 1.0, tx * ty),
    ] {
        if let Some(v) = at(have, c + dc, r + dr).map(|i| f64::from(cells[i])).filter(|v| !v.is_nan()) {
            sum += w * v;
            weight += w;
        }
    }
    sum / weight
}

/// None where one of the sixteen cells is missing.
fn cubic_at(cells: &[f32], have: Window, x: f64, y: f64) -> Option<f64> {
    let (c, r) = (x.floor(), y.floor());
    let (wx, wy) = (cubic_weights(x - c), cubic_weights(y - r));
    let mut sum = 0.0;
    for (j, wy) in wy.iter().enumerate() {
        for (i, wx) in wx.iter().enumerate() {
            let v = f64::from(cells[at(have, c - 1.0 + i as f64, r - 1.0 + j as f64)?]);
            sum += wx * wy * v;
        }
    }
    (!sum.is_nan()).then_some(sum)
}

/// Keys (1981), a = −½, at −1, 0, 1 and 2.
fn cubic_weights(t: f64) -> [f64; 4] {
    let near = |d: f64| (1.5 * d - 2.5) * d * d + 1.0;
    let far = |d: f64| ((-0.5 * d + 2.5) * d - 4.0) * d + 2.0;
    [far(1.0 + t), near(t), near(1.0 - t), far(2.0 - t)]
}

/// Calls `f(index, share)` for the cells of a rectangle, with the area of each that lies in it.
fn each_share(have: Window, x: f64, y: f64, w: f64, h: f64, mut f: impl FnMut(usize, f64)) {
    if !(x + w).is_finite() || !(y + h).is_finite() {
        return;
    }
    let (c0, c1) = ((x + SLIVER).floor().max(have.col as f64), (x + w - SLIVER).ceil().min(have.end_col() as f64));
    let (r0, r1) = ((y + SLIVER).floor().max(have.row as f64), (y + h - SLIVER).ceil().min(have.end_row() as f64));
    let mut r = r0;
    while r < r1 {
        let high = (y + h).min(r + 1.0) - y.max(r);
        let first = (r - have.row as f64) as usize * have.cols as usize;
        let mut c = c0;
        while c < c1 {
            let wide = (x + w).min(c + 1.0) - x.max(c);
            f(first + (c - have.col as f64) as usize, wide * high);
            c += 1.0;
        }
        r += 1.0;
    }
}

fn of_area(held: &mut [(f32, f64)], weight: f64, how: Resample) -> f32 {
    match how {
        Resample::Mean => (held.iter().map(|(v, w)| f64::from(*v) * w).sum::<f64>() / weight) as f32,
        Resample::Min => held.iter().map(|v| v.0).fold(f32::INFINITY, f32::min),
        Resample::Max => held.iter().map(|v| v.0).fold(f32::NEG_INFINITY, f32::max),
        Resample::Median => {
            held.sort_by(|a, b| a.0.total_cmp(&b.0));
            weighted_median(held)
        }
        Resample::Mode => {
            held.sort_by(|a, b| a.0.total_cmp(&b.0));
            let (mut best, mut most) = (f32::NAN, 0.0);
            for equal in held.chunk_by(|a, b| a.0 == b.0) {
                let w: f64 = equal.iter().map(|v| v.1).sum();
                if w > most + SLIVER {
                    (best, most) = (equal[0].0, w);
                }
            }
            best
        }
        Resample::Nearest | Resample::Bilinear | Resample::Cubic => unreachable!("these look at points"),
    }
}

/// The middle of sorted values, each standing in the middle of its weight; equal weights give the common median.
fn weighted_median(held: &[(f32, f64)]) -> f32 {
    let (Some(first), Some(last)) = (held.first(), held.last()) else { return f32::NAN };
    let total: f64 = held.iter().map(|v| v.1).sum();
    let half = (total - (first.1 + last.1) / 2.0) / 2.0;
    let mut at = 0.0;
    for pair in held.windows(2) {
        let (a, b) = (pair[0], pair[1]);
        let step = (a.1 + b.1) / 2.0;
        if at + step >= half {
            return (f64::from(a.0) + (f64::from(b.0) - f64::from(a.0)) * ((half - at) / step)) as f32;
        }
        at += step;
    }
    last.0
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn cubic_weights_sum_to_one_and_reproduce_a_line() {
        for t in [0.0, 0.25, 0.5, 0.9] {
            let w = cubic_weights(t);
            assert!((w.iter().sum::<f64>() - 1.0).abs() < 1e-12);
            let line: f64 = w.iter().zip([-1.0, 0.0, 1.0, 2.0]).map(|(w, x)| w * x).sum();
            assert!((line - t).abs() < 1e-12);
        }
    }

    #[test]
    fn rules_over_an_area() {
        let rule = |how| of_area(&mut [(3.0, 0.5), (1.0, 1.0), (3.0, 0.25), (8.0, 0.5)], 2.25, how);
        assert_eq!((rule(Resample::Min), rule(Resample::Max), rule(Resample::Mode)), (1.0, 8.0, 1.0));
        assert_eq!(rule(Resample::Mean), (7.25f64 / 2.25) as f32);
        let equal = |v: &[f32]| of_area(&mut v.iter().map(|v| (*v, 0.3)).collect::<Vec<_>>(), 1.2, Resample::Median);
        assert_eq!((equal(&[4.0, 1.0, 2.0]), equal(&[4.0, 1.0, 2.0, 3.0]), equal(&[5.0])), (2.0, 2.5, 5.0));
        let mut shares = vec![];
        each_share(Window::new(0, 0, 4, 2), 0.5, -1.0, 2.0, 1.5, |i, s| shares.push((i, s)));
        assert_eq!(shares, [(0, 0.25), (1, 0.5), (2, 0.25)]);
    }
}
