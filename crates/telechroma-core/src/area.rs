//! The cells of an area of interest on a grid: polygons, dissolved.

use std::fmt;

use crate::error::{Error, Result};
use crate::geo::{Crs, Projector};
use crate::grid::{Grid, Window};
use crate::plot::{Polygon, Weighting, cover, densify};

/// Polygons that limit a run, as a file has them.
#[derive(Debug, Clone, PartialEq)]
pub struct Outline {
    /// For people: the file's name, or the box.
    pub name: String,
    /// The polygons' coordinate system.
    pub crs: Crs,
    /// The polygons; where they overlap, they are one.
    pub polygons: Vec<Polygon>,
    /// Which cells on the edge belong.
    pub edge: Edge,
}

/// Which cells on the edge of an area belong to it.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub enum Edge {
    /// Those whose centre does.
    #[default]
    Centre,
    /// Those that overlap it at all.
    Touch,
}

impl std::str::FromStr for Edge {
    type Err = Error;

    fn from_str(text: &str) -> Result<Edge> {
        match text {
            "centre" => Ok(Edge::Centre),
            "touch" => Ok(Edge::Touch),
            _ => Err(Error::unknown("edge rule", text, ["centre", "touch"])),
        }
    }
}

/// The cells of an area on a grid.
#[derive(Clone, PartialEq)]
pub struct Area {
    /// The smallest window that holds them.
    pub window: Window,
    /// For each row of the window the spans of columns that belong, sorted, apart.
    rows: Vec<Vec<(i64, i64)>>,
}

impl Outline {
    /// A box in coordinates of `crs`: west, south, east, north.
    pub fn of_box(crs: Crs, [w, s, e, n]: [f64; 4]) -> Outline {
        let outer = vec![(w, n), (e, n), (e, s), (w, s)];
        Outline {
            name: format!("the box {w},{s},{e},{n}"),
            crs,
            polygons: vec![Polygon { outer, holes: vec![] }],
            edge: Edge::Centre,
        }
    }

    /// The polygons in another coordinate system, long edges with corners in between.
    ///
    /// # Errors
    /// Where a position has no coordinates there.
    pub fn in_crs(&self, crs: Crs) -> Result<Vec<Polygon>> {
        let projector = Projector::new(self.crs, crs)?;
        let mut out = vec![];
        for p in &self.polygons {
            let dense = if projector.is_identity() { p.clone() } else { densify(p, self.crs.is_geographic()) };
            let moved = dense.map(|x, y| projector.project(x, y));
            out.push(moved.map_err(|e| Error::Coordinates(format!("{}: {e}", self.name)))?);
        }
        Ok(out)
    }

    /// Its cells on a grid.
    ///
    /// # Errors
    /// Where it does not meet the grid: both extents in the grid's coordinates.
    pub fn on(&self, grid: &Grid, what: &str) -> Result<Area> {
        let (polygons, area) = self.cells_on(grid, what)?;
        area.ok_or_else(|| {
            let b = bounds_of(&polygons);
            let geographic = grid.crs.is_some_and(Crs::is_geographic);
            let digits = if geographic { 1e6 } else { 100.0 };
            let text = |b: [f64; 4]| {
                let [w, s, e, n] = b.map(|v| (v * digits).round() / digits);
                format!("x {w} to {e}, y {s} to {n}")
            };
            Error::Usage(format!(
                "{} does not meet {what}: it spans {}, {what} {} ({})",
                self.name,
                text(b),
                text(grid.bounds()),
                grid.crs.map_or(String::new(), |c| c.to_string())
            ))
        })
    }

    /// Its cells on a grid; none where it does not meet it.
    ///
    /// # Errors
    /// Where the grid has no coordinate system, or the outline no place in it.
    pub fn covers(&self, grid: &Grid, what: &str) -> Result<Option<Area>> {
        Ok(self.cells_on(grid, what)?.1)
    }

    /// The polygons in the grid's coordinates, and their cells.
    fn cells_on(&self, grid: &Grid, what: &str) -> Result<(Vec<Polygon>, Option<Area>)> {
        let Some(crs) = grid.crs else {
            return Err(Error::Coordinates(format!(
                "{what} has no coordinate system, so {} cannot be laid on it",
                self.name
            )));
        };
        let polygons = self.in_crs(crs)?;
        let weighting = if self.edge == Edge::Touch { Weighting::Touch } else { Weighting::Centre };
        let mut rows: std::collections::BTreeMap<i64, Vec<(i64, i64)>> = std::collections::BTreeMap::new();
        for p in &polygons {
            let cells = p.map(|x, y| Ok::<_, Error>(grid.transform.to_cells(x, y)))?;
            for run in cover(&[cells], grid.window(), weighting).runs {
                let from = i64::from(run.col);
                rows.entry(i64::from(run.row)).or_default().push((from, from + i64::from(run.cols)));
            }
        }
        let (Some(first), Some(last)) = (rows.keys().next().copied(), rows.keys().last().copied()) else {
            return Ok((polygons, None));
        };
        let mut all: Vec<Vec<(i64, i64)>> = (first..=last).map(|r| rows.remove(&r).map_or(vec![], joined)).collect();
        all.shrink_to_fit();
        let spans = || all.iter().flatten();
        let (w, e) = (spans().map(|s| s.0).min().unwrap_or(0), spans().map(|s| s.1).max().unwrap_or(0));
        let window = Window::new(w, first, (e - w) as u32, all.len() as u32);
        Ok((polygons, Some(Area { window, rows: all })))
    }
}

/// Least and greatest coordinates of polygons: west, south, east, north.
pub fn bounds_of(polygons: &[Polygon]) -> [f64; 4] {
    let none = [f64::INFINITY, f64::INFINITY, f64::NEG_INFINITY, f64::NEG_INFINITY];
    polygons
        .iter()
        .flat_map(|p| &p.outer)
        .fold(none, |b, (x, y)| [b[0].min(*x), b[1].min(*y), b[2].max(*x), b[3].max(*y)])
}

/// Sorted spans without overlaps.
fn joined(mut spans: Vec<(i64, i64)>) -> Vec<(i64, i64)> {
    spans.sort_unstable();
    let mut out: Vec<(i64, i64)> = vec![];
    for (from, to) in spans {
        match out.last_mut() {
            Some(last) if from <= last.1 => last.1 = last.1.max(to),
            _ => out.push((from, to)),
        }
    }
    out
}

impl Area {
    /// The same cells on a grid that begins `cols`, `rows` cells on.
    #[must_use]
    pub fn moved(mut self, cols: i64, rows: i64) -> Area {
        self.window = self.window.moved(-cols, -rows);
        self.rows.iter_mut().flatten().for_each(|s| *s = (s.0 - cols, s.1 - cols));
        self
    }

    /// The spans of columns in a row.
    pub fn row(&self, row: i64) -> &[(i64, i64)] {
        usize::try_from(row - self.window.row).ok().and_then(|r| self.rows.get(r)).map_or(&[], Vec::as_slice)
    }

    /// The smallest window that holds the area's cells within a window; none where there is none.
    pub fn within(&self, window: Window) -> Option<Window> {
        let part = window.intersect(&self.window)?;
        // spans follow each other: the first that reaches into the window and the last that begins before its end
        let reach = |row: i64| {
            let spans = self.row(row);
            let first = spans.partition_point(|s| s.1 <= part.col);
            let last = spans.partition_point(|s| s.0 < part.end_col());
            (first < last).then(|| (spans[first].0.max(part.col), spans[last - 1].1.min(part.end_col())))
        };
        let top = (part.row..part.end_row()).find(|r| reach(*r).is_some())?;
        let bottom = (top..part.end_row()).rev().find(|r| reach(*r).is_some())?;
        let (mut left, mut right) = (part.end_col(), part.col);
        for (from, to) in (top..bottom + 1).filter_map(reach) {
            (left, right) = (left.min(from), right.max(to));
            if (left, right) == (part.col, part.end_col()) {
                break;
            }
        }
        Some(Window::new(left, top, (right - left) as u32, (bottom + 1 - top) as u32))
    }

    /// Number of its cells.
    pub fn cells(&self) -> u64 {
        self.rows.iter().flatten().map(|(a, b)| (b - a) as u64).sum()
    }
}

impl fmt::Debug for Area {
    /// Tells areas apart without writing every span.
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let fold = |h: u64, v: i64| (h ^ v as u64).wrapping_mul(0x0000_0100_0000_01b3);
        let marks = self.rows.iter().flat_map(|r| std::iter::once(-1).chain(r.iter().flat_map(|s| [s.0, s.1])));
        write!(f, "Area {:?} {:016x}", self.window, marks.fold(0xcbf2_9ce4_8422_2325, fold))
    }
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;
    use crate::geo::Affine;

    fn grid() -> Grid {
        Grid {
            crs: Crs::utm(25, true).ok(),
            transform: Affine::north_up(500_000.0, 4_400_000.0, 10.0, 10.0),
            cols: 20,
            rows: 10,
        }
    }

    fn outline(boxes: &[[f64; 4]], edge: Edge) -> Outline {
        let polygons = boxes.iter().flat_map(|b| Outline::of_box(Crs::LONGITUDE_LATITUDE, *b).polygons).collect();
        Outline { name: "test".into(), crs: Crs::utm(25, true).unwrap(), polygons, edge }
    }

    #[test]
    fn overlapping_polygons_are_one_and_edges_follow_the_rule() {
        let boxes =
            [[500_012.0, 4_399_950.0, 500_058.0, 4_399_990.0], [500_040.0, 4_399_950.0, 500_100.0, 4_399_990.0]];
        let a = outline(&boxes, Edge::Centre).on(&grid(), "the run").unwrap();
        assert_eq!((a.window, a.row(2), a.cells()), (Window::new(1, 1, 9, 4), &[(1, 10)][..], 36));
        let slim = [[500_016.0, 4_399_950.0, 500_024.0, 4_399_990.0]];
        assert!(outline(&slim, Edge::Centre).on(&grid(), "the run").is_err());
        assert_eq!(outline(&slim, Edge::Touch).on(&grid(), "the run").unwrap().row(1), [(1, 3)]);
        assert_eq!(a.clone().moved(1, 1).row(0), [(0, 9)]);
        assert_eq!(a.within(Window::new(8, 0, 12, 3)), Some(Window::new(8, 1, 2, 2)));
        assert_eq!(a.within(Window::new(12, 0, 8, 10)), None);
    }

    proptest! {
        /// The window of an area's cells is that of the plain definition, wherever it is asked for.
        #[test]
        fn the_cells_within_a_window(
            rows in proptest::collection::vec(proptest::collection::vec((0i64..6, 1i64..5), 0..4), 1..8),
            at in (-4i64..20, -3i64..9), size in (1u32..20, 1u32..9),
        ) {
            // spans one after the other, gaps between them
            let spans = |row: Vec<(i64, i64)>| {
                let mut end = 0;
                row.into_iter().map(|(gap, n)| { let from = end + gap + 1; end = from + n; (from, end) }).collect()
            };
            let rows: Vec<Vec<(i64, i64)>> = rows.into_iter().map(spans).collect();
            let area = Area { window: Window::new(0, 2, 60, rows.len() as u32), rows };
            let window = Window::new(at.0, at.1, size.0, size.1);
            let mut plain: Option<Window> = None;
            for row in window.row..window.end_row() {
                for col in window.col..window.end_col() {
                    if area.row(row).iter().any(|(from, to)| (*from..*to).contains(&col)) {
                        let cell = Window::new(col, row, 1, 1);
                        plain = Some(plain.map_or(cell, |p| p.union(&cell)));
                    }
                }
            }
            prop_assert_eq!(area.within(window), plain);
        }
    }

    #[test]
    fn a_miss_states_both_extents() {
        let e = outline(&[[0.0, 0.0, 10.0, 10.0]], Edge::Touch).on(&grid(), "the run").unwrap_err().to_string();
        assert!(e.contains("it spans x 0") && e.contains("the run x 500000") && e.contains("EPSG:32625"), "{e}");
    }
}
