//! The sink that gathers plots' statistics while tiles pass: only cells inside plots are touched.
//!
//! Values for quantiles are held only until the last tile of their plot has passed.

use std::collections::BTreeMap;

use super::Plot;
use super::coverage::{Coverage, Run, Weighting, cover};
use crate::error::{Error, Result};
use crate::graph::{Inputs, values_row};
use crate::grid::Window;
use crate::run::{Absorb, Part, Prepare};
use crate::stat::{Gather, Stat};

/// Side of the squares by which plots are looked up.
const BUCKET: i64 = 128;

/// A plot's results.
#[derive(Debug, Clone)]
pub struct PlotRow {
    /// The plot's id.
    pub id: String,
    /// Share of its area that lies on the grid, 0–1.
    pub on_grid: f64,
    /// Statistics by plane, then by statistic; NaN where no cell counts.
    pub values: Vec<Vec<f64>>,
}

/// The half that workers share.
pub struct PlotSink {
    ids: Vec<String>,
    coverages: Vec<Coverage>,
    bounds: Vec<Option<Window>>,
    buckets: BTreeMap<(i64, i64), Vec<u32>>,
    quantiles: bool,
    planes: usize,
}

/// The half of the caller.
pub struct PlotTable {
    stats: Vec<Stat>,
    weights: Vec<(f64, u64)>,
    open: BTreeMap<(usize, u32), (Gather, u64)>,
    done: Vec<Vec<Vec<f64>>>,
}

/// What one tile holds of one plot: the cells seen (missing ones too) and what was gathered.
type Share = (u32, u64, Gather);

impl PlotSink {
    /// Lays plots on a grid. Each group of the sink is one plane, with the keep plane behind it if there is one.
    pub fn new(
        plots: &[Plot],
        grid: Window,
        weighting: Weighting,
        stats: &[Stat],
        planes: usize,
    ) -> (PlotSink, PlotTable) {
        let coverages: Vec<Coverage> = plots.iter().map(|p| cover(&p.parts, grid, weighting)).collect();
        let bounds: Vec<Option<Window>> = coverages
            .iter()
            .map(|c| {
                c.runs
                    .iter()
                    .map(|r| Window::new(i64::from(r.col), i64::from(r.row), r.cols, 1))
                    .reduce(|a, b| a.union(&b))
            })
            .collect();
        let mut buckets: BTreeMap<(i64, i64), Vec<u32>> = BTreeMap::new();
        for (i, w) in bounds.iter().enumerate() {
            let Some(w) = w else { continue };
            for key in squares(*w) {
                buckets.entry(key).or_default().push(i as u32);
            }
        }
        let table = PlotTable {
            stats: stats.to_vec(),
            weights: coverages.iter().map(|c| (c.weight, c.cells)).collect(),
            open: BTreeMap::new(),
            done: vec![vec![vec![]; planes]; plots.len()],
        };
        let quantiles = stats.iter().any(Stat::needs_values);
        let ids = plots.iter().map(|p| p.id.clone()).collect();
        (PlotSink { ids, coverages, bounds, buckets, quantiles, planes }, table)
    }

    /// How each plot lies on the grid, in the plots' order.
    pub fn coverages(&self) -> &[Coverage] {
        &self.coverages
    }

    /// The window of cells of each plot.
    pub fn bounds(&self) -> &[Option<Window>] {
        &self.bounds
    }

    /// The rows of a finished run, in the plots' order.
    pub fn rows(&self, table: PlotTable) -> Vec<PlotRow> {
        let PlotTable { stats, done, .. } = table;
        let missing = || stats.iter().map(|s| s.of(&mut Gather::new(true), 0.0)).collect::<Vec<f64>>();
        self.ids
            .iter()
            .zip(&self.coverages)
            .zip(done)
            .map(|((id, c), planes)| PlotRow {
                id: id.clone(),
                on_grid: c.on_grid,
                values: planes.into_iter().map(|v| if v.is_empty() { missing() } else { v }).collect(),
            })
            .collect()
    }

    /// Plots that have cells in a window, in order.
    fn touching(&self, window: Window) -> Vec<u32> {
        let mut found: Vec<u32> = squares(window).filter_map(|k| self.buckets.get(&k)).flatten().copied().collect();
        found.sort_unstable();
        found.dedup();
        found.retain(|i| self.bounds[*i as usize].is_some_and(|b| b.intersect(&window).is_some()));
        found
    }
}

fn squares(w: Window) -> impl Iterator<Item = (i64, i64)> {
    let cols = w.col / BUCKET..(w.end_col() - 1) / BUCKET + 1;
    (w.row / BUCKET..(w.end_row() - 1) / BUCKET + 1).flat_map(move |r| cols.clone().map(move |c| (r, c)))
}

/// The part of a run inside a window.
fn clip(run: &Run, w: &Window) -> Option<Window> {
    Window::new(i64::from(run.col), i64::from(run.row), run.cols, 1).intersect(w)
}

impl Prepare for PlotSink {
    fn wants(&self, tile: Window) -> Option<Window> {
        let bounds = self.touching(tile).into_iter().filter_map(|i| self.bounds[i as usize]?.intersect(&tile));
        bounds.reduce(|a, b| a.union(&b))
    }

    fn prepare(&self, _: usize, window: Window, planes: &Inputs) -> Result<Part> {
        let mut shares: Vec<Share> = vec![];
        for i in self.touching(window) {
            let runs = &self.coverages[i as usize].runs;
            let first = runs.partition_point(|r| i64::from(r.row) < window.row);
            let mut gather = Gather::new(self.quantiles);
            let mut cells = 0;
            for run in runs[first..].iter().take_while(|r| i64::from(r.row) < window.end_row()) {
                let Some(part) = clip(run, &window) else { continue };
                cells += u64::from(part.cols);
                if let Some(values) = planes.get(0) {
                    let keep = match (planes.len(), planes.tiles.get(1)) {
                        (2, Some(Some(k))) => Some(values_row(k, &part, part.row)),
                        (2, _) => continue, // nothing is kept where the condition has no data
                        _ => None,
                    };
                    gather.add(values_row(values, &part, part.row), keep, run.weight);
                }
            }
            if cells > 0 {
                shares.push((i, cells, gather));
            }
        }
        Ok(Box::new(shares))
    }

    fn holds(&self, tile: Window, in_flight: usize) -> u64 {
        let runs: u64 = self.coverages.iter().map(|c| c.runs.len() as u64 * std::mem::size_of::<Run>() as u64).sum();
        if !self.quantiles {
            return runs;
        }
        // plots that cross tiles stay open; in flight are at most the cells of so many tiles
        let (tc, tr) = (i64::from(tile.cols.max(1)), i64::from(tile.rows.max(1)));
        let crosses = |b: &Window| b.col / tc != (b.end_col() - 1) / tc || b.row / tr != (b.end_row() - 1) / tr;
        let open: u64 = self
            .bounds
            .iter()
            .zip(&self.coverages)
            .filter_map(|(b, c)| b.filter(|b| crosses(b)).map(|_| c.cells))
            .sum();
        let all: u64 = self.coverages.iter().map(|c| c.cells).sum();
        runs + 4 * self.planes as u64 * (open + all.min((tile.len() * in_flight) as u64))
    }
}

impl Absorb for PlotTable {
    fn absorb(&mut self, group: usize, part: Part) -> Result<()> {
        let Ok(shares) = part.downcast::<Vec<Share>>() else {
            return Err(Error::Defect { tile: 0, text: "a part of another sink".into() });
        };
        for (plot, cells, gather) in *shares {
            let (weight, all) = self.weights[plot as usize];
            let (mut whole, seen) = match self.open.remove(&(group, plot)) {
                Some((mut before, n)) => {
                    before.merge(gather);
                    (before, n + cells)
                }
                None => (gather, cells),
            };
            if seen == all {
                self.done[plot as usize][group] = self.stats.iter().map(|s| s.of(&mut whole, weight)).collect();
            } else {
                self.open.insert((group, plot), (whole, seen));
            }
        }
        Ok(())
    }
}
