//! Plots laid on a grid: which cells each has, found tile by tile while a run passes, and shared by all its planes.
//!
//! Nothing is rasterised beforehand: a hundred thousand fields cost their corners until their tile comes.

use std::collections::{BTreeMap, VecDeque};
use std::sync::{Arc, Mutex, PoisonError};

use super::coverage::{Coverage, Run, Weighting, cover, cover_part};
use super::{Plot, Shape};
use crate::grid::{Grid, Window};

/// Side of the squares by which plots are looked up.
const BUCKET: i64 = 128;
/// Tiles whose plots are remembered; more than there are threads on most machines.
const REMEMBERED: usize = 32;

/// Plots in cells of a grid.
pub struct Laid {
    plots: Vec<Plot>,
    weighting: Weighting,
    /// The cells that each may cover, cut at the grid.
    bounds: Vec<Option<Window>>,
    on_grid: Vec<f64>,
    buckets: BTreeMap<(i64, i64), Vec<u32>>,
    /// About how many cells each has, and the corners of all.
    cells: Vec<u64>,
    corners: usize,
    /// Area of a cell of each row, m²; one number where all are equal.
    areas: Vec<f64>,
    recent: Mutex<VecDeque<(Window, Arc<Vec<Lying>>)>>,
}

/// How a plot lies in a window.
#[derive(Debug, Clone)]
pub struct Lying {
    /// Its number.
    pub plot: u32,
    /// Cells of its bounds in the window, which tell when all of it has been seen.
    pub seen: u64,
    /// Its cells in the window.
    pub coverage: Coverage,
}

impl Laid {
    /// Lays plots, given in cells of the grid.
    pub fn new(plots: Vec<Plot>, grid: &Grid, weighting: Weighting) -> Laid {
        let all = grid.window();
        let bounds: Vec<Option<Window>> = plots.iter().map(|p| cells_around(&p.shape, all)).collect();
        let on_grid = plots.iter().zip(&bounds).map(|(p, b)| share_on(&p.shape, *b, all)).collect();
        let mut buckets: BTreeMap<(i64, i64), Vec<u32>> = BTreeMap::new();
        for (i, w) in bounds.iter().enumerate() {
            let Some(w) = w else { continue };
            for key in squares(*w) {
                buckets.entry(key).or_default().push(i as u32);
            }
        }
        let area = |row: u32| grid.cell_area(row).unwrap_or(f64::NAN);
        let same = grid.crs.is_none_or(|c| !c.is_geographic());
        let areas = (0..if same { 1 } else { grid.rows }).map(area).collect();
        let cells = plots.iter().zip(&bounds).map(|(p, b)| b.map_or(0, |b| about_cells(&p.shape, b))).collect();
        let corners = plots.iter().map(|p| p.shape.positions().count()).sum();
        Laid { plots, weighting, bounds, on_grid, buckets, cells, corners, areas, recent: Mutex::default() }
    }

    /// The plots, in cells of the grid.
    pub fn plots(&self) -> &[Plot] {
        &self.plots
    }

    /// The cells that each plot may cover, cut at the grid; none outside it.
    pub fn bounds(&self) -> &[Option<Window>] {
        &self.bounds
    }

    /// Share of each plot's area, or of its points, that lies on the grid, 0–1.
    pub fn on_grid(&self) -> &[f64] {
        &self.on_grid
    }

    /// Area of a cell in a row, m²; NaN where it is not known.
    pub(super) fn cell_area(&self, row: i64) -> f64 {
        let at = if self.areas.len() == 1 { 0 } else { row.max(0) as usize };
        self.areas.get(at).copied().unwrap_or(f64::NAN)
    }

    /// The smallest window that holds all that plots may cover of a tile.
    pub(super) fn wanted(&self, tile: Window) -> Option<Window> {
        let parts = self.touching(tile).into_iter().filter_map(|i| self.bounds[i as usize]?.intersect(&tile));
        parts.reduce(|a, b| a.union(&b))
    }

    /// The plots of a window with their cells there, in order.
    pub fn within(&self, window: Window) -> Arc<Vec<Lying>> {
        let lock = || self.recent.lock().unwrap_or_else(PoisonError::into_inner);
        if let Some((_, found)) = lock().iter().find(|(w, _)| *w == window) {
            return found.clone();
        }
        let found: Arc<Vec<Lying>> =
            Arc::new(self.touching(window).into_iter().filter_map(|i| self.lying(i, window)).collect());
        let mut recent = lock();
        if recent.len() == REMEMBERED {
            recent.pop_front();
        }
        recent.push_back((window, found.clone()));
        found
    }

    fn lying(&self, i: u32, window: Window) -> Option<Lying> {
        let bounds = self.bounds[i as usize]?;
        let part = bounds.intersect(&window)?;
        let coverage = match &self.plots[i as usize].shape {
            Shape::Polygons(all) => cover_part(all, bounds, part, self.weighting),
            Shape::Points(all) => Coverage::of_cells(all.iter().filter_map(|p| cell_of(*p)), part),
            Shape::Lines(_) | Shape::Nothing | Shape::Mixture => Coverage::default(),
        };
        Some(Lying { plot: i, seen: part.len() as u64, coverage })
    }

    /// Number of cells within a plot's bounds.
    pub(super) fn cells_of(&self, plot: u32) -> u64 {
        self.bounds[plot as usize].map_or(0, |w| w.len() as u64)
    }

    /// Plots that may have cells in a window, in order.
    fn touching(&self, window: Window) -> Vec<u32> {
        let mut found: Vec<u32> = squares(window).filter_map(|k| self.buckets.get(&k)).flatten().copied().collect();
        found.sort_unstable();
        found.dedup();
        found.retain(|i| self.bounds[*i as usize].is_some_and(|b| b.intersect(&window).is_some()));
        found
    }

    /// Bytes that plots and the cells of a number of tiles take.
    pub(super) fn bytes(&self, tile: Window, in_flight: usize) -> u64 {
        let runs = std::mem::size_of::<Run>() * (tile.cols as usize).div_ceil(4).max(2) * tile.rows as usize;
        (16 * self.corners + 200 * self.plots.len() + runs * in_flight.min(REMEMBERED)) as u64
    }

    /// Cells that may be held at once, for a number of tiles in flight: of plots that cross tiles, and of those tiles.
    pub(super) fn cells_held(&self, tile: Window, in_flight: usize) -> u64 {
        let (tc, tr) = (i64::from(tile.cols.max(1)), i64::from(tile.rows.max(1)));
        let crosses = |b: &Window| b.col / tc != (b.end_col() - 1) / tc || b.row / tr != (b.end_row() - 1) / tr;
        let placed = || self.bounds.iter().zip(&self.cells);
        let open: u64 = placed().filter(|(b, _)| b.as_ref().is_some_and(crosses)).map(|(_, n)| n).sum();
        let all: u64 = self.cells.iter().sum();
        open + all.min((tile.len() * in_flight) as u64)
    }
}

/// About how many cells a shape has: its area and its edge, within its bounds.
fn about_cells(shape: &Shape, bounds: Window) -> u64 {
    let edge = 2 * u64::from(bounds.cols + bounds.rows);
    (bounds.len() as u64).min(shape.area() as u64 + edge)
}

/// The cell of a position; none where it is not a position that cells can have.
fn cell_of((x, y): (f64, f64)) -> Option<(i64, i64)> {
    (x.abs() < 4e9 && y.abs() < 4e9).then(|| (x.floor() as i64, y.floor() as i64))
}

fn cells_around(shape: &Shape, grid: Window) -> Option<Window> {
    if let Shape::Points(all) = shape {
        let inside = all.iter().filter_map(|p| cell_of(*p)).map(|(c, r)| Window::new(c, r, 1, 1));
        return inside.filter(|w| grid.contains(w)).reduce(|a, b| a.union(&b));
    }
    // far beyond any grid, and still a number of cells
    let [w, n, e, s] = shape.bounds()?.map(|v| v.clamp(-4e9, 4e9));
    let (col, row) = (w.floor() as i64, n.floor() as i64);
    let size = |from: i64, to: f64| (to.ceil() as i64 - from).clamp(0, i64::from(u32::MAX)) as u32;
    Window::new(col, row, size(col, e), size(row, s)).intersect(&grid)
}

/// Share of a shape on the grid.
fn share_on(shape: &Shape, bounds: Option<Window>, grid: Window) -> f64 {
    let Some(bounds) = bounds else { return 0.0 };
    match shape {
        Shape::Points(all) => {
            let inside = |p: &&(f64, f64)| cell_of(**p).is_some_and(|(c, r)| grid.contains(&Window::new(c, r, 1, 1)));
            all.iter().filter(inside).count() as f64 / all.len().max(1) as f64
        }
        Shape::Polygons(all) => {
            let whole = shape.bounds().is_some_and(|[w, n, e, s]| {
                w >= grid.col as f64 && n >= grid.row as f64 && e <= grid.end_col() as f64 && s <= grid.end_row() as f64
            });
            match shape.area() {
                a if a <= 0.0 => 0.0,
                _ if whole => 1.0,
                a => (cover(all, bounds, Weighting::Share).weight / a).clamp(0.0, 1.0),
            }
        }
        Shape::Lines(_) | Shape::Nothing | Shape::Mixture => 0.0,
    }
}

fn squares(w: Window) -> impl Iterator<Item = (i64, i64)> {
    let cols = w.col / BUCKET..(w.end_col() - 1) / BUCKET + 1;
    (w.row / BUCKET..(w.end_row() - 1) / BUCKET + 1).flat_map(move |r| cols.clone().map(move |c| (r, c)))
}
