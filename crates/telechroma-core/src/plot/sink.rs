//! The sink that gathers plots' statistics while tiles pass: only cells inside plots are touched.
//!
//! What a plot needs is held only until the last tile of its bounds has passed.

use std::collections::BTreeMap;
use std::sync::Arc;

use super::laid::Laid;
use crate::error::{Error, Result};
use crate::graph::{Inputs, values_row};
use crate::grid::Window;
use crate::run::{Absorb, Part, Prepare};
use crate::stat::{Cells, ExactSum, Gather, Needs, Parts, Stat};

/// The half that workers share.
pub struct PlotSink {
    laid: Arc<Laid>,
    stats: Vec<Stat>,
    needs: Needs,
    planes: usize,
}

/// The half of the caller, and then the results: statistics of each plot in each plane.
pub struct PlotTable {
    stats: Vec<Stat>,
    laid: Arc<Laid>,
    open: BTreeMap<(usize, u32), Open>,
    /// By plane, then plot, then statistic.
    values: Vec<f64>,
}

/// A plot that is not yet whole.
struct Open {
    gather: Gather,
    weight: ExactSum,
    seen: u64,
}

/// What one tile holds of one plot.
enum Share {
    /// All of it: its statistics.
    Whole { plot: u32, values: Vec<f64> },
    /// Some of it.
    Part { plot: u32, part: Box<Open> },
}

impl Open {
    fn statistics(&mut self, stats: &[Stat]) -> Vec<f64> {
        let weight = self.weight.value();
        stats.iter().map(|stat| stat.of(&mut self.gather, weight)).collect()
    }
}

impl PlotSink {
    /// For plots on a grid. Each group of the sink is one plane, with the keep plane behind it if there is one.
    pub fn new(laid: Arc<Laid>, stats: &[Stat], planes: usize) -> (PlotSink, PlotTable) {
        let needs = Stat::needs(stats);
        let plots = laid.plots().len();
        let missing: Vec<f64> = stats.iter().map(|s| s.of(&mut Gather::new(&needs), 0.0)).collect();
        let table = PlotTable {
            stats: stats.to_vec(),
            laid: laid.clone(),
            open: BTreeMap::new(),
            values: missing.repeat(plots * planes),
        };
        (PlotSink { laid, stats: stats.to_vec(), needs, planes }, table)
    }
}

impl PlotTable {
    /// The statistics of a plot in a plane; counts are 0 and all others NaN where no cell counts.
    pub fn of(&self, plane: usize, plot: usize) -> &[f64] {
        let n = self.stats.len();
        let at = (plane * self.laid.plots().len() + plot) * n;
        &self.values[at..at + n]
    }

    fn close(&mut self, plane: usize, plot: u32, values: &[f64]) {
        let n = self.stats.len();
        let at = (plane * self.laid.plots().len() + plot as usize) * n;
        self.values[at..at + n].copy_from_slice(values);
    }
}

/// The part of a run inside a window, as a window of one row.
fn clip(row: u32, col: u32, cols: u32, w: &Window) -> Option<Window> {
    Window::new(i64::from(col), i64::from(row), cols, 1).intersect(w)
}

impl Prepare for PlotSink {
    fn wants(&self, tile: Window) -> Option<Window> {
        self.laid.wanted(tile)
    }

    fn prepare(&self, _: usize, window: Window, planes: &Inputs) -> Result<Part> {
        let (mut shares, mut edge): (Vec<Share>, _) = (vec![], Parts::default());
        for lying in self.laid.within(window).iter() {
            let mut gather = Gather::new(&self.needs);
            gather.reserve(lying.coverage.cells as usize);
            for run in &lying.coverage.runs {
                let Some(part) = clip(run.row, run.col, run.cols, &window) else { continue };
                let Some(values) = planes.get(0) else { continue };
                let keep = match (planes.len(), planes.tiles.get(1)) {
                    (2, Some(Some(k))) => Some(values_row(k, &part, part.row)),
                    (2, _) => continue, // nothing is kept where the condition has no data
                    _ => None,
                };
                let (values, area) = (values_row(values, &part, part.row), self.laid.cell_area(part.row));
                if run.weight == 1.0 {
                    gather.add(Cells { values, keep, area });
                } else {
                    for (i, v) in values.iter().enumerate() {
                        edge.push(*v, keep.map(|k| k[i]), run.weight, area);
                    }
                }
            }
            gather.add_parts(&mut edge);
            let (plot, mut weight) = (lying.plot, ExactSum::default());
            weight.add(lying.coverage.weight);
            let mut part = Open { gather, weight, seen: lying.seen };
            shares.push(match part.seen == self.laid.cells_of(plot) {
                true => Share::Whole { plot, values: part.statistics(&self.stats) },
                false => Share::Part { plot, part: Box::new(part) },
            });
        }
        Ok(Box::new(shares))
    }

    fn holds(&self, tile: Window, in_flight: usize) -> u64 {
        let results = (8 * self.planes * self.laid.plots().len()) as u64;
        let open = (self.planes * self.laid.plots().len().min(1 << 16) * std::mem::size_of::<Open>()) as u64;
        let values = if self.needs.values { 4 * self.planes as u64 * self.laid.cells_held(tile, in_flight) } else { 0 };
        self.laid.bytes(tile, in_flight) + results + open + values
    }
}

impl Absorb for PlotTable {
    fn absorb(&mut self, group: usize, part: Part) -> Result<()> {
        let Ok(shares) = part.downcast::<Vec<Share>>() else {
            return Err(Error::Defect { tile: 0, text: "a part of another sink".into() });
        };
        for share in *shares {
            let (plot, part) = match share {
                Share::Whole { plot, values } => {
                    self.close(group, plot, &values);
                    continue;
                }
                Share::Part { plot, part } => (plot, part),
            };
            let mut whole = match self.open.remove(&(group, plot)) {
                Some(mut whole) => {
                    whole.gather.merge(part.gather);
                    whole.weight.merge(&part.weight);
                    whole.seen += part.seen;
                    whole
                }
                None => *part,
            };
            match whole.seen == self.laid.cells_of(plot) {
                true => {
                    let values = whole.statistics(&self.stats);
                    self.close(group, plot, &values);
                }
                false => drop(self.open.insert((group, plot), whole)),
            }
        }
        Ok(())
    }
}
