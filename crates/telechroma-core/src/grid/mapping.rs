//! Where the cells of one grid lie in another: exactly where the coordinate system is the same, else by a lattice of
//! projected positions with linear steps between.
//!
//! The lattice is anchored to the grid's first corner, so a position does not depend on the tile it is asked for in.
//! Squares of the lattice in which the linear step would be off by more than [`TOLERANCE`] are projected cell by cell.

use std::sync::Arc;

use super::{Grid, Window};
use crate::error::{Error, Result};
use crate::geo::{Affine, Projector};

/// Greatest error of a position in cells of the source grid, at the middle of a lattice square and of its sides.
const TOLERANCE: f64 = 0.02;
/// Cells between lattice points at first, and at least.
const STEPS: (u32, u32) = (64, 8);
/// More lattice points than this are not made; the step grows instead.
const MOST_POINTS: u64 = 1 << 20;
/// Share of squares to be projected cell by cell from which on a finer lattice is tried.
const TOO_ROUGH: f64 = 0.25;

/// Positions of a target grid's cells, in cells of a source grid.
pub struct Mapping {
    /// The grid asked about.
    pub from: Arc<Grid>,
    /// The grid whose cells are placed.
    pub to: Arc<Grid>,
    path: Path,
}

impl std::fmt::Debug for Mapping {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        write!(f, "of {:?} in {:?}", self.to, self.from)
    }
}

enum Path {
    /// One coordinate system.
    Straight,
    Lattice(Box<Lattice>),
}

struct Lattice {
    step: f64,
    across: usize,
    points: Vec<(f64, f64)>,
    squares: Vec<Square>,
    projector: Projector,
}

#[derive(Clone, Copy, PartialEq)]
enum Square {
    /// Linear between its corners.
    Smooth,
    /// No place in the source's coordinate system.
    Blank,
    /// Cell by cell; least and greatest positions.
    Rough([f64; 4]),
}

/// West, north, east, south in cells; nothing yet.
const NOTHING: [f64; 4] = [f64::INFINITY, f64::INFINITY, f64::NEG_INFINITY, f64::NEG_INFINITY];

fn join(b: &mut [f64; 4], (x, y): (f64, f64)) {
    if x.is_finite() && y.is_finite() {
        *b = [b[0].min(x), b[1].min(y), b[2].max(x), b[3].max(y)];
    }
}

fn between(a: (f64, f64), b: (f64, f64), t: f64) -> (f64, f64) {
    (a.0 + (b.0 - a.0) * t, a.1 + (b.1 - a.1) * t)
}

impl Mapping {
    /// Of `to`'s cells in `from`.
    ///
    /// # Errors
    /// Where one of them has no coordinate system and the other has, or one cannot be computed with.
    pub fn new(from: Arc<Grid>, to: Arc<Grid>) -> Result<Mapping> {
        let path = match (from.crs, to.crs) {
            (a, b) if a == b => Path::Straight,
            (Some(a), Some(b)) => Path::Lattice(Box::new(Lattice::new(&from, &to, Projector::new(b, a)?))),
            _ => {
                return Err(Error::Coordinates(
                    "a raster without a coordinate system cannot be brought to another grid".into(),
                ));
            }
        };
        Ok(Mapping { from, to, path })
    }

    /// Positions along row position `y` (0 is the upper edge of the first row), at `x`, `x + 1` and so on; NaN where
    /// there is none. `out` is overwritten.
    pub fn row(&self, y: f64, x: f64, n: usize, out: &mut Vec<(f64, f64)>) {
        out.clear();
        match &self.path {
            Path::Straight => {
                let step = |i: usize| straight(&self.from.transform, &self.to.transform, x + i as f64, y);
                out.extend((0..n).map(step));
            }
            Path::Lattice(l) => l.row(&self.from.transform, &self.to.transform, y, x, n, out),
        }
    }

    /// Least and greatest positions in a window: west, north, east, south, in cells of the source; none where it has
    /// no place there.
    pub fn bounds(&self, window: Window) -> Option<[f64; 4]> {
        let (w, n, e, s) = (window.col as f64, window.row as f64, window.end_col() as f64, window.end_row() as f64);
        let mut b = NOTHING;
        match &self.path {
            Path::Straight => {
                for (x, y) in [(w, n), (e, n), (w, s), (e, s)] {
                    join(&mut b, straight(&self.from.transform, &self.to.transform, x, y));
                }
            }
            Path::Lattice(l) => l.bounds(w, n, e, s, &mut b),
        }
        (b[0] <= b[2]).then_some(b)
    }

    /// Area of a target cell in source cells, in the middle of the target grid: how much coarser it is.
    pub fn coarseness(&self) -> f64 {
        let (c, r) = ((f64::from(self.to.cols) / 2.0).floor(), (f64::from(self.to.rows) / 2.0).floor());
        let (mut top, mut low) = (vec![], vec![]);
        self.row(r, c, 2, &mut top);
        self.row(r + 1.0, c, 1, &mut low);
        let (u, v) = ((top[1].0 - top[0].0, top[1].1 - top[0].1), (low[0].0 - top[0].0, low[0].1 - top[0].1));
        (u.0 * v.1 - u.1 * v.0).abs()
    }

    /// True where every source cell is cut into whole target cells, or is one.
    pub fn repeats(&self) -> bool {
        let Path::Straight = self.path else { return false };
        let (f, t) = (&self.from.transform, &self.to.transform);
        let whole = |v: f64| (v - v.round()).abs() < 1e-6 && v.round() >= 1.0;
        let (col, row) = t.to_cells(f.c, f.f);
        let on_lines = (col - col.round()).abs() < 1e-3 && (row - row.round()).abs() < 1e-3;
        f.b == 0.0 && f.d == 0.0 && t.b == 0.0 && t.d == 0.0 && whole(f.a / t.a) && whole(f.e / t.e) && on_lines
    }
}

fn straight(from: &Affine, to: &Affine, x: f64, y: f64) -> (f64, f64) {
    let (x, y) = to.to_world(x, y);
    from.to_cells(x, y)
}

impl Lattice {
    fn new(from: &Grid, to: &Grid, projector: Projector) -> Lattice {
        let mut step = STEPS.0;
        while u64::from(to.cols / step + 2) * u64::from(to.rows / step + 2) > MOST_POINTS {
            step *= 2;
        }
        let finest = if step > STEPS.0 { step } else { STEPS.1 };
        let mut lattice = Lattice::of_step(from, to, projector, step);
        while lattice.roughness() > TOO_ROUGH && step > finest {
            step /= 2;
            lattice = Lattice::of_step(from, to, lattice.projector, step);
        }
        lattice.measure_rough(from, to);
        lattice
    }

    fn of_step(from: &Grid, to: &Grid, projector: Projector, step: u32) -> Lattice {
        let (across, down) = (to.cols.div_ceil(step) as usize + 1, to.rows.div_ceil(step) as usize + 1);
        let s = f64::from(step);
        let at = |x: f64, y: f64| exact(&from.transform, &to.transform, &projector, x, y);
        let points: Vec<(f64, f64)> = (0..down)
            .flat_map(|r| (0..across).map(move |c| (c as f64 * s, r as f64 * s)))
            .map(|(x, y)| at(x, y))
            .collect();
        let mut squares = Vec::with_capacity((across - 1) * (down - 1));
        for r in 0..down - 1 {
            for c in 0..across - 1 {
                let k = r * across + c;
                let corners = [points[k], points[k + 1], points[k + across], points[k + across + 1]];
                squares.push(judge(corners, |tx, ty| at((c as f64 + tx) * s, (r as f64 + ty) * s)));
            }
        }
        Lattice { step: s, across, points, squares, projector }
    }

    fn roughness(&self) -> f64 {
        let rough = self.squares.iter().filter(|s| matches!(s, Square::Rough(_))).count();
        rough as f64 / self.squares.len().max(1) as f64
    }

    /// Where the cells of the rough squares lie.
    fn measure_rough(&mut self, from: &Grid, to: &Grid) {
        let (wide, n) = (self.across - 1, self.step as usize);
        for k in 0..self.squares.len() {
            if let Square::Rough(_) = self.squares[k] {
                let (c, r) = ((k % wide) as f64 * self.step, (k / wide) as f64 * self.step);
                let mut b = NOTHING;
                for (x, y) in (0..=n).flat_map(|y| (0..=n).map(move |x| (x as f64, y as f64))) {
                    join(&mut b, exact(&from.transform, &to.transform, &self.projector, c + x, r + y));
                }
                self.squares[k] = Square::Rough(b);
            }
        }
    }

    /// Number of the square in which a position lies, along one axis.
    fn square(&self, v: f64, squares: usize) -> usize {
        ((v / self.step).floor().max(0.0) as usize).min(squares - 1)
    }

    fn size(&self) -> (usize, usize) {
        (self.across - 1, self.squares.len() / (self.across - 1))
    }

    fn row(&self, from: &Affine, to: &Affine, y: f64, x: f64, n: usize, out: &mut Vec<(f64, f64)>) {
        let (wide, high) = self.size();
        let r = self.square(y, high);
        let ty = y / self.step - r as f64;
        let mut i = 0;
        while i < n {
            let c = self.square(x + i as f64, wide);
            // all positions in this square, the last square's right edge with it
            let end =
                if c + 1 == wide { n } else { ((((c + 1) as f64 * self.step) - x).ceil() as usize).clamp(i + 1, n) };
            let k = r * self.across + c;
            match self.squares[r * wide + c] {
                Square::Smooth => {
                    let left = between(self.points[k], self.points[k + self.across], ty);
                    let right = between(self.points[k + 1], self.points[k + self.across + 1], ty);
                    // steps are powers of two, so their inverse is exact
                    let (inverse, c) = (1.0 / self.step, c as f64);
                    out.extend((i..end).map(|i| between(left, right, (x + i as f64) * inverse - c)));
                }
                Square::Blank => out.extend((i..end).map(|_| (f64::NAN, f64::NAN))),
                Square::Rough(_) => out.extend((i..end).map(|i| exact(from, to, &self.projector, x + i as f64, y))),
            }
            i = end;
        }
    }

    fn bounds(&self, w: f64, n: f64, e: f64, s: f64, b: &mut [f64; 4]) {
        let (wide, high) = self.size();
        for r in self.square(n, high)..=self.square(s, high) {
            for c in self.square(w, wide)..=self.square(e, wide) {
                match self.squares[r * wide + c] {
                    Square::Blank => {}
                    Square::Rough(own) => {
                        join(b, (own[0], own[1]));
                        join(b, (own[2], own[3]));
                    }
                    Square::Smooth => {
                        let k = r * self.across + c;
                        let part = |v: f64, at: usize, last: bool| {
                            let t = v / self.step - at as f64;
                            if last { t.max(0.0) } else { t.clamp(0.0, 1.0) }
                        };
                        for ty in [part(n, r, false), part(s, r, r + 1 == high)] {
                            let left = between(self.points[k], self.points[k + self.across], ty);
                            let right = between(self.points[k + 1], self.points[k + self.across + 1], ty);
                            join(b, between(left, right, part(w, c, false)));
                            join(b, between(left, right, part(e, c, c + 1 == wide)));
                        }
                    }
                }
            }
        }
    }
}

fn exact(from: &Affine, to: &Affine, projector: &Projector, x: f64, y: f64) -> (f64, f64) {
    let (x, y) = to.to_world(x, y);
    projector.place(x, y).map_or((f64::NAN, f64::NAN), |(x, y)| from.to_cells(x, y))
}

/// What a square is, by its middle and the middles of its sides.
fn judge(corners: [(f64, f64); 4], exact: impl Fn(f64, f64) -> (f64, f64)) -> Square {
    let probes = [(0.5, 0.5), (0.5, 0.0), (0.5, 1.0), (0.0, 0.5), (1.0, 0.5)].map(|(tx, ty)| (tx, ty, exact(tx, ty)));
    if corners.iter().chain(probes.iter().map(|p| &p.2)).all(|p| p.0.is_nan()) {
        return Square::Blank;
    }
    let smooth = probes.iter().all(|(tx, ty, p)| {
        let q = between(between(corners[0], corners[2], *ty), between(corners[1], corners[3], *ty), *tx);
        (q.0 - p.0).hypot(q.1 - p.1) <= TOLERANCE // false for NaN
    });
    if smooth { Square::Smooth } else { Square::Rough(NOTHING) }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::geo::Crs;

    fn grid(crs: Crs, x: f64, y: f64, cell: f64, cols: u32, rows: u32) -> Arc<Grid> {
        Arc::new(Grid { crs: Some(crs), transform: Affine::north_up(x, y, cell, cell), cols, rows })
    }

    /// The bound stated for reprojection: under 0.05 of a cell against exact projection of each cell.
    #[test]
    fn positions_are_within_a_twentieth_of_a_cell() {
        let utm = grid(Crs::utm(25, true).unwrap(), 450_000.0, 4_450_000.0, 10.0, 4000, 4000);
        for to in [
            grid(Crs::utm(26, true).unwrap(), 960_000.0, 4_440_000.0, 10.0, 900, 700),
            grid(Crs::from_epsg(3857).unwrap(), -3_700_000.0, 4_890_000.0, 13.0, 900, 700),
            grid(Crs::LONGITUDE_LATITUDE, -33.5, 40.1, 1e-4, 900, 700),
            grid(Crs::from_text("+proj=sinu +R=6371007.181").unwrap(), -2_830_000.0, 4_450_000.0, 231.656, 300, 200),
        ] {
            let m = Mapping::new(utm.clone(), to.clone()).unwrap();
            let projector = Projector::new(to.crs.unwrap(), utm.crs.unwrap()).unwrap();
            let mut row = vec![];
            for r in (0..to.rows).step_by(7) {
                m.row(f64::from(r) + 0.5, 0.5, to.cols as usize, &mut row);
                for (c, p) in row.iter().enumerate() {
                    let q = exact(&utm.transform, &to.transform, &projector, c as f64 + 0.5, f64::from(r) + 0.5);
                    assert!((p.0 - q.0).hypot(p.1 - q.1) < 0.05, "{:?} at {c} {r}: {p:?} {q:?}", to.crs);
                }
            }
        }
    }

    /// Positions and bounds do not depend on where a row is begun.
    #[test]
    fn any_start_gives_the_same_positions_within_the_bounds() {
        let from = grid(Crs::utm(25, true).unwrap(), 450_000.0, 4_450_000.0, 10.0, 4000, 4000);
        let to = grid(Crs::from_epsg(3035).unwrap(), 900_000.0, 3_100_000.0, 30.0, 300, 200);
        let m = Mapping::new(from, to).unwrap();
        let (mut whole, mut part) = (vec![], vec![]);
        m.row(20.5, 0.5, 300, &mut whole);
        m.row(20.5, 70.5, 90, &mut part);
        assert_eq!(&whole[70..160], &part[..]);
        let b = m.bounds(Window::new(70, 20, 90, 1)).unwrap();
        assert!(part.iter().all(|p| p.0 >= b[0] && p.1 >= b[1] && p.0 <= b[2] && p.1 <= b[3]));
    }

    #[test]
    fn beyond_the_globe_there_is_no_place() {
        let globe = grid(Crs::LONGITUDE_LATITUDE, -180.0, 90.0, 0.1, 3600, 1800);
        let sheet =
            grid(Crs::from_text("+proj=sinu +R=6371007.181").unwrap(), -20_015_109.0, 10_007_554.0, 50_000.0, 800, 400);
        let m = Mapping::new(globe, sheet).unwrap();
        let mut row = vec![];
        m.row(10.5, 0.5, 800, &mut row);
        assert!(row[0].0.is_nan() && row[799].0.is_nan() && (row[400].0 - 1800.0).abs() < 80.0, "{:?}", row[400]);
    }
}
