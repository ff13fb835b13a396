//! The exact share of each cell inside a polygon, by signed-area accumulation.
//!
//! Outer rings run one way, holes the other. An edge piece inside one cell, of signed height `dy` and mean distance `u`
//! (0–1) from the cell's left side, covers `dy·(1 − u)` of that cell and `dy` of every cell to its right; only the
//! differences are stored and a running sum along the row gives the shares.

use std::str::FromStr;

use super::shape::ring_area;
use super::{Polygon, Ring};
use crate::error::{Error, Result};
use crate::grid::Window;

/// How cells on a plot's edge count.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub enum Weighting {
    /// By the exact share of the cell inside.
    #[default]
    Share,
    /// Whole cells whose centre is inside; a centre on an edge belongs to the plot right of or below the edge.
    Centre,
    /// Whole cells that overlap at all (more than 10⁻⁹ of a cell).
    Touch,
}

impl FromStr for Weighting {
    type Err = Error;

    fn from_str(text: &str) -> Result<Self> {
        match text {
            "share" => Ok(Weighting::Share),
            "centre" => Ok(Weighting::Centre),
            "touch" => Ok(Weighting::Touch),
            _ => Err(Error::unknown("weighting", text, ["share", "centre", "touch"])),
        }
    }
}

/// Neighbouring cells of one row and one weight.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Run {
    /// Row.
    pub row: u32,
    /// First column.
    pub col: u32,
    /// Number of cells.
    pub cols: u32,
    /// Weight of each, above zero.
    pub weight: f64,
}

/// A plot's cells on a grid.
#[derive(Debug, Clone, PartialEq, Default)]
pub struct Coverage {
    /// Sorted by row, then column.
    pub runs: Vec<Run>,
    /// Sum of the weights.
    pub weight: f64,
    /// Number of cells.
    pub cells: u64,
}

/// Shares below this are rounding.
const TINY: f64 = 1e-9;
/// Steps of a share.
const STEPS: f64 = (1u64 << 44) as f64;
/// Rows handled at once: bounds the memory for large plots.
const STRIP: usize = 64;

/// The cells of a polygon or several within a window, given in cells of the grid. Parts must not overlap.
pub fn cover(parts: &[Polygon], window: Window, weighting: Weighting) -> Coverage {
    let rings: Vec<&Ring> = parts.iter().flat_map(|p| std::iter::once(&p.outer).chain(&p.holes)).collect();
    let Some(bounds) = whole_bounds(&rings).intersect(&window) else { return Coverage::default() };
    cover_part(parts, bounds, bounds, weighting)
}

/// The cells within `part` of a shape whose cells all lie in `bounds`, which holds the part. Each cell's weight has the
/// same bits whatever the part: rows are always summed from the shape's own left end.
pub(super) fn cover_part(parts: &[Polygon], bounds: Window, part: Window, weighting: Weighting) -> Coverage {
    let rings: Vec<Ring> = parts
        .iter()
        .flat_map(|p| std::iter::once((&p.outer, 1.0)).chain(p.holes.iter().map(|h| (h, -1.0))))
        .map(|(ring, sign)| oriented(ring, sign))
        .collect();
    let mut found = Coverage::default();
    found.runs.reserve(4 * part.rows as usize); // two edges and what lies between, or a little more
    for top in (part.row..part.end_row()).step_by(STRIP) {
        let rows = (part.end_row() - top).min(STRIP as i64) as u32;
        let strip = Window::new(part.col, top, part.cols, rows);
        if weighting == Weighting::Centre {
            centres(&rings, strip, |row, col, cols| found.push(Run { row, col, cols, weight: 1.0 }));
            continue;
        }
        shares(&rings, bounds, strip, |row, col, cols, w| {
            let weight = if weighting == Weighting::Share { w } else { 1.0 };
            found.push(Run { row, col, cols, weight });
        });
    }
    found
}

impl Coverage {
    /// Whole cells, given by column and row, those that lie in a window; a cell given twice counts once.
    pub(super) fn of_cells(cells: impl Iterator<Item = (i64, i64)>, window: Window) -> Coverage {
        let mut inside: Vec<(i64, i64)> =
            cells.filter(|(c, r)| window.contains(&Window::new(*c, *r, 1, 1))).map(|(c, r)| (r, c)).collect();
        inside.sort_unstable();
        inside.dedup();
        let mut found = Coverage::default();
        inside.iter().for_each(|(r, c)| found.push(Run { row: *r as u32, col: *c as u32, cols: 1, weight: 1.0 }));
        found
    }

    fn push(&mut self, run: Run) {
        self.weight += run.weight * f64::from(run.cols);
        self.cells += u64::from(run.cols);
        match self.runs.last_mut() {
            Some(last) if last.row == run.row && last.col + last.cols == run.col && last.weight == run.weight => {
                last.cols += run.cols
            }
            _ => self.runs.push(run),
        }
    }
}

fn oriented(ring: &Ring, sign: f64) -> Ring {
    let mut ring = ring.clone();
    if ring_area(&ring) * sign > 0.0 {
        ring.reverse(); // rows run downwards: this way round the shares inside come out positive
    }
    ring
}

fn edges(ring: &Ring) -> impl Iterator<Item = ((f64, f64), (f64, f64))> + '_ {
    ring.iter().copied().zip(ring.iter().copied().cycle().skip(1))
}

fn whole_bounds(rings: &[&Ring]) -> Window {
    let fold = |pick: fn(&(f64, f64)) -> f64, best: fn(f64, f64) -> f64| {
        // far beyond any grid, and still a number of cells
        rings.iter().flat_map(|r| r.iter()).map(pick).reduce(best).unwrap_or(0.0).clamp(-4e9, 4e9)
    };
    let (w, n) = (fold(|p| p.0, f64::min).floor(), fold(|p| p.1, f64::min).floor());
    let (e, s) = (fold(|p| p.0, f64::max).ceil(), fold(|p| p.1, f64::max).ceil());
    let size = |a: f64, b: f64| (b - a).min(f64::from(u32::MAX)) as u32;
    Window::new(w as i64, n as i64, size(w, e), size(n, s))
}

/// Calls `f(row, col, cols, share)` for all cells of `strip` with a share; `bounds` are those of the whole shape.
fn shares(rings: &[Ring], bounds: Window, strip: Window, mut f: impl FnMut(u32, u32, u32, f64)) {
    // columns count from the shape's left end, rows from its top: the same arithmetic whatever the strip
    let (cols, rows) = ((strip.end_col() - bounds.col) as usize, strip.rows as usize);
    let first_row = (strip.row - bounds.row) as usize;
    let mut acc = vec![0f64; rows * (cols + 1)];
    let mut span = vec![(cols, 0usize); rows]; // first and end of what was touched
    let (x0, y0) = (bounds.col as f64, bounds.row as f64);
    for (a, b) in rings.iter().flat_map(edges) {
        let (a, b) = ((a.0 - x0, a.1 - y0), (b.0 - x0, b.1 - y0));
        if a.1 == b.1 {
            continue;
        }
        let (sign, a, b) = if b.1 > a.1 { (1.0, a, b) } else { (-1.0, b, a) };
        let (top, low) = (a.1.max(first_row as f64), b.1.min((first_row + rows) as f64));
        if top >= low {
            continue;
        }
        let slope = (b.0 - a.0) / (b.1 - a.1);
        let x_at = |y: f64| if y >= b.1 { b.0 } else { a.0 + slope * (y - a.1) };
        for row in top as usize..(low.ceil() as usize) {
            let (y1, y2) = ((row as f64).max(top), (row as f64 + 1.0).min(low));
            if y1 < y2 {
                let i = row - first_row;
                let line = &mut acc[i * (cols + 1)..(i + 1) * (cols + 1)];
                piece(line, &mut span[i], x_at(y1), x_at(y2), sign * (y2 - y1));
            }
        }
    }
    let before = (strip.col - bounds.col) as usize;
    for row in 0..rows {
        let line = &acc[row * (cols + 1)..];
        let (first, end) = span[row];
        let mut sum = 0.0;
        let row = (strip.row + row as i64) as u32;
        let end = end.max(first).min(cols);
        let mut c = first;
        while c < end {
            sum += line[c];
            // inside, cells differ from their neighbour by nothing
            let next = line[c + 1..end].iter().position(|difference| *difference != 0.0).map_or(end, |n| c + 1 + n);
            let from = c.max(before);
            if from < next {
                emit(&mut f, row, (bounds.col + from as i64) as u32, (next - from) as u32, sum);
            }
            c = next;
        }
        let rest = end.max(before);
        if rest < cols && first < cols {
            emit(&mut f, row, (bounds.col + rest as i64) as u32, (cols - rest) as u32, sum);
        }
    }
}

fn emit(f: &mut impl FnMut(u32, u32, u32, f64), row: u32, col: u32, cols: u32, sum: f64) {
    let share = sum.abs(); // a lobe that runs the other way round is inside all the same
    if share > TINY {
        // in steps of 2⁻⁴⁴, so that sums of weights, and of weights times values, are exact
        // rounded by a cast: a share is never below zero, and there is one for each cell of each edge
        f(row, col, cols, ((share * STEPS + 0.5) as i64 as f64 / STEPS).min(1.0));
    }
}

/// One edge piece within one row, from `xa` to `xb`, of signed height `dy`.
fn piece(line: &mut [f64], span: &mut (usize, usize), xa: f64, xb: f64, dy: f64) {
    let cols = line.len() - 1;
    let (left, right) = (xa.min(xb), xa.max(xb));
    let mut put = |col: usize, u: f64, dy: f64| {
        line[col] += dy * (1.0 - u);
        line[col + 1] += dy * u;
        *span = (span.0.min(col), span.1.max((col + 2).min(cols)));
    };
    if right <= 0.0 {
        return put(0, 0.0, dy);
    }
    if left >= cols as f64 {
        return; // nothing to its right
    }
    let width = right - left;
    if width <= 0.0 {
        let col = (left as usize).min(cols - 1);
        return put(col, left - col as f64, dy);
    }
    if left < 0.0 {
        put(0, 0.0, dy * (-left / width));
    }
    let mut x = left.max(0.0);
    let end = right.min(cols as f64);
    while x < end {
        let col = (x as usize).min(cols - 1);
        let next = (col as f64 + 1.0).min(end);
        put(col, (x + next) / 2.0 - col as f64, dy * ((next - x) / width));
        if next <= x {
            break;
        }
        x = next;
    }
}

/// Calls `f(row, col, cols)` for the cells whose centre is inside, even-odd.
fn centres(rings: &[Ring], strip: Window, mut f: impl FnMut(u32, u32, u32)) {
    let mut crossings: Vec<f64> = vec![];
    for row in strip.row..strip.end_row() {
        let y = row as f64 + 0.5;
        crossings.clear();
        for ((ax, ay), (bx, by)) in rings.iter().flat_map(edges) {
            if (ay > y) != (by > y) {
                crossings.push((bx - ax) * (y - ay) / (by - ay) + ax);
            }
        }
        crossings.sort_by(f64::total_cmp);
        for pair in crossings.chunks_exact(2) {
            let clip = |x: f64| ((x - 0.5).ceil().clamp(strip.col as f64, strip.end_col() as f64)) as u32;
            let (first, end) = (clip(pair[0]), clip(pair[1]));
            if first < end {
                f(row as u32, first, end - first);
            }
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::worked;
    use proptest::prelude::*;

    const GRID: Window = Window { col: 0, row: 0, cols: 4, rows: 4 };

    fn ring(v: &serde_json::Value) -> Ring {
        let n = |v: &serde_json::Value| v.as_f64().unwrap();
        v.as_array().unwrap().iter().map(|p| ((n(&p[0]) - 1000.0) / 10.0, (2040.0 - n(&p[1])) / 10.0)).collect()
    }

    fn weights(c: &Coverage) -> Vec<f64> {
        let mut w = vec![0.0; 16];
        for r in &c.runs {
            (0..r.cols).for_each(|i| w[(r.row * 4 + r.col + i) as usize] = r.weight);
        }
        w
    }

    #[test]
    fn worked_weights_with_and_without_a_hole() {
        let e = worked::example("zonal_weights_4x4");
        let c = cover(&[Polygon { outer: ring(e.value("/inputs/polygon")), holes: vec![] }], GRID, Weighting::Share);
        let want: Vec<f64> = e
            .value("/expected")
            .as_array()
            .unwrap()
            .iter()
            .flat_map(|r| r.as_array().unwrap().iter().map(|v| v.as_f64().unwrap()))
            .collect();
        for (got, want) in weights(&c).iter().zip(want) {
            assert!((got - want).abs() < 1e-9);
        }
        assert_eq!(c.cells, 15);
        let e = worked::example("zonal_with_a_hole");
        let part = Polygon { outer: ring(e.value("/inputs/exterior")), holes: vec![ring(e.value("/inputs/hole"))] };
        let got = weights(&cover(&[part], GRID, Weighting::Share));
        let want: Vec<f64> = e
            .value("/expected/weights")
            .as_array()
            .unwrap()
            .iter()
            .flat_map(|r| r.as_array().unwrap().iter().map(|v| v.as_f64().unwrap()))
            .collect();
        for (got, want) in got.iter().zip(want) {
            assert!((got - want).abs() < 1e-9);
        }
    }

    #[test]
    fn worked_centres_touched_and_outside() {
        let e = worked::example("zonal_centre_in_4x4");
        let part = Polygon { outer: ring(e.value("/inputs/polygon")), holes: vec![] };
        let got: Vec<[u64; 2]> = cover(std::slice::from_ref(&part), GRID, Weighting::Centre)
            .runs
            .iter()
            .flat_map(|r| (0..r.cols).map(|i| [u64::from(r.row), u64::from(r.col + i)]))
            .collect();
        let want: Vec<[u64; 2]> = serde_json::from_value(e.value("/expected/cells").clone()).unwrap();
        assert_eq!(got, want);
        assert_eq!(cover(&[part], GRID, Weighting::Touch).weight, 15.0);
    }

    #[test]
    fn worked_centres_on_a_shared_edge_belong_to_one_side() {
        let square = |x0: f64, y0: f64, x1: f64, y1: f64| {
            vec![Polygon { outer: vec![(x0, y0), (x1, y0), (x1, y1), (x0, y1)], holes: vec![] }]
        };
        let e = worked::example("zonal_centre_on_shared_edge");
        let n = |p: Vec<Polygon>| cover(&p, GRID, Weighting::Centre).cells as f64;
        assert_eq!(n(square(0.0, 0.0, 1.5, 4.0)), e.expected("left"));
        assert_eq!(n(square(1.5, 0.0, 4.0, 4.0)), e.expected("right"));
        assert_eq!(n(square(0.0, 0.0, 4.0, 1.5)), e.expected("top"));
        assert_eq!(n(square(0.0, 1.5, 4.0, 4.0)), e.expected("bottom"));
    }

    #[test]
    fn a_bow_tie_keeps_both_lobes() {
        let bow = Polygon { outer: vec![(0.0, 0.0), (4.0, 4.0), (4.0, 0.0), (0.0, 4.0)], holes: vec![] };
        let c = cover(&[bow], GRID, Weighting::Share);
        assert!((c.weight - 8.0).abs() < 1e-9, "{}", c.weight);
    }

    /// A star of random radii round a centre: simple, never crossing itself.
    fn star(cx: f64, cy: f64, radii: &[f64]) -> Ring {
        let step = std::f64::consts::TAU / radii.len() as f64;
        radii
            .iter()
            .enumerate()
            .map(|(i, r)| (cx + r * (i as f64 * step).cos(), cy + r * (i as f64 * step).sin()))
            .collect()
    }

    proptest! {
        #[test]
        fn shares_sum_to_the_area(cx in 10.0..90.0f64, cy in 10.0..190.0f64, radii in proptest::collection::vec(0.05..9.5f64, 3..20)) {
            let ring = star(cx, cy, &radii);
            let area = ring_area(&ring).abs();
            let c = cover(&[Polygon { outer: ring, holes: vec![] }], Window::new(0, 0, 100, 200), Weighting::Share);
            prop_assert!((c.weight - area).abs() < 1e-6 * (1.0 + area), "{} {}", c.weight, area);
            prop_assert!(c.runs.iter().all(|r| r.weight > 0.0 && r.weight <= 1.0));
        }

        #[test]
        fn two_sides_of_a_cut_add_up_cell_by_cell(cut in proptest::collection::vec(1.0..11.0f64, 2..8)) {
            let n = cut.len() as f64 - 1.0;
            let line: Ring = cut.iter().enumerate().map(|(i, x)| (*x, 12.0 * i as f64 / n)).collect();
            let mut left = line.clone();
            left.extend([(0.0, 12.0), (0.0, 0.0)]);
            let mut right = line;
            right.extend([(12.0, 12.0), (12.0, 0.0)]);
            let mut sum = vec![0.0; 144];
            for outer in [left, right] {
                for r in cover(&[Polygon { outer, holes: vec![] }], Window::new(0, 0, 12, 12), Weighting::Share).runs {
                    (0..r.cols).for_each(|i| sum[(r.row * 12 + r.col + i) as usize] += r.weight);
                }
            }
            prop_assert!(sum.iter().all(|s| (s - 1.0).abs() < 1e-9));
        }
    }
}
