//! What planes hold, by one pass over their cells: range, percentiles, what is missing, zeros along the edge.
//!
//! Percentiles come from a histogram of 65,536 bins: one a count, so exact for counts; for values one for each sign,
//! exponent and seven bits of the fraction, so within 0.8 % of the value.

use crate::error::Result;
use crate::graph::{Inputs, NodeId};
use crate::grid::Window;
use crate::run::{Absorb, Part, Prepare, Sink};
use crate::tile::{Cells, Kind};

const BINS: usize = 1 << 16;

/// What one plane holds.
#[derive(Debug, Clone, PartialEq)]
pub struct Survey {
    kind: Kind,
    /// All cells.
    pub cells: u64,
    /// Cells with a value.
    pub known: u64,
    /// Least and greatest value; NaN where none is known.
    pub range: (f64, f64),
    /// Cells that are exactly zero.
    pub zeros: u64,
    /// Of these, cells in the first or last row or column.
    pub edge_zeros: u64,
    bins: Vec<u32>,
}

impl Survey {
    pub(crate) fn new(kind: Kind) -> Survey {
        Survey { kind, cells: 0, known: 0, range: (f64::NAN, f64::NAN), zeros: 0, edge_zeros: 0, bins: vec![0; BINS] }
    }

    fn add(&mut self, value: f64, bin: usize, at_edge: bool) {
        self.known += 1;
        self.range = (self.range.0.min(value), self.range.1.max(value));
        if value == 0.0 {
            self.zeros += 1;
            self.edge_zeros += u64::from(at_edge);
        }
        self.bins[bin] = self.bins[bin].saturating_add(1);
    }

    /// So many cells of one count.
    #[cfg(test)]
    pub(crate) fn add_cells(&mut self, value: f64, bin: usize, cells: u64) {
        (0..cells).for_each(|_| self.add(value, bin, false));
    }

    /// The least value below or at which there are so many cells, and how many there are; none where there are fewer.
    pub fn reaching(&self, cells: u64) -> Option<(f64, u64)> {
        let mut seen = 0;
        self.bins.iter().enumerate().find_map(|(bin, n)| {
            seen += u64::from(*n);
            (seen >= cells && *n > 0).then(|| (self.value_of_bin(bin), seen))
        })
    }

    fn value_of_bin(&self, bin: usize) -> f64 {
        match self.kind {
            Kind::Values => value_of(bin).clamp(self.range.0, self.range.1),
            Kind::Counts { .. } | Kind::Flags { .. } => bin as f64,
        }
    }

    fn merge(&mut self, other: &Survey) {
        self.cells += other.cells;
        self.known += other.known;
        self.range = (self.range.0.min(other.range.0), self.range.1.max(other.range.1));
        self.zeros += other.zeros;
        self.edge_zeros += other.edge_zeros;
        self.bins.iter_mut().zip(&other.bins).for_each(|(a, b)| *a = a.saturating_add(*b));
    }

    /// Share of cells without a value, 0 to 1.
    pub fn missing(&self) -> f64 {
        if self.cells == 0 { 0.0 } else { 1.0 - self.known as f64 / self.cells as f64 }
    }

    /// The value below which a share of the known cells lies: exact for counts, else within 0.8 %. NaN where nothing
    /// is known.
    pub fn percentile(&self, p: f64) -> f64 {
        let rank = (p / 100.0 * self.known.saturating_sub(1) as f64).round() as u64;
        let mut seen = 0;
        for (bin, n) in self.bins.iter().enumerate() {
            seen += u64::from(*n);
            if seen > rank {
                return self.value_of_bin(bin);
            }
        }
        f64::NAN
    }

    /// Known cells in `n` equal steps from one value to another; cells beyond are left out.
    pub fn histogram(&self, from: f64, to: f64, n: usize) -> Vec<u64> {
        let mut steps = vec![0; n];
        for (bin, count) in self.bins.iter().enumerate().filter(|(_, c)| **c > 0) {
            let value = match self.kind {
                Kind::Values => value_of(bin),
                Kind::Counts { .. } | Kind::Flags { .. } => bin as f64,
            };
            let at = (value - from) / (to - from) * n as f64;
            if at >= 0.0 && value <= to {
                steps[(at as usize).min(n - 1)] += u64::from(*count);
            }
        }
        steps
    }

    /// Cells of a plane of counts that hold this count or a higher one.
    pub fn at_or_above(&self, count: u16) -> u64 {
        self.bins[usize::from(count)..].iter().map(|n| u64::from(*n)).sum()
    }

    /// Cells of a plane of flags in which a bit of `bits` is set.
    pub fn with_bits(&self, bits: u16) -> u64 {
        self.bins.iter().enumerate().filter(|(v, _)| *v as u16 & bits != 0).map(|(_, n)| u64::from(*n)).sum()
    }
}

/// A value's bits, turned so that they rise with values.
fn rising(v: f32) -> u32 {
    let bits = v.to_bits();
    if bits >> 31 == 0 { bits | 1 << 31 } else { !bits }
}

fn unrising(rising: u32) -> f32 {
    f32::from_bits(if rising >> 31 == 1 { rising & !(1 << 31) } else { !rising })
}

/// The bin of a value: its highest 16 bits, turned so that bins rise with values.
fn bin_of(v: f32) -> usize {
    (rising(v) >> 16) as usize
}

/// The value of a bin that is nearest to zero: whole numbers up to 256 are exact.
fn value_of(bin: usize) -> f64 {
    let rising = (bin as u32) << 16;
    let bits = if rising >> 31 == 1 { rising & !(1 << 31) } else { !(rising | 0xFFFF) };
    f64::from(f32::from_bits(bits))
}

impl Survey {
    /// The bin that holds the known value of a rank, from 0, and its rank within the bin.
    fn bin_of_rank(&self, rank: u64) -> (usize, u64) {
        let mut below = 0;
        for (bin, n) in self.bins.iter().enumerate() {
            if below + u64::from(*n) > rank {
                return (bin, rank - below);
            }
            below += u64::from(*n);
        }
        (BINS - 1, 0)
    }
}

/// A second look at a plane of values, for what a survey knows only nearly: values of given ranks, or a histogram.
pub struct Refiner {
    /// Bins whose values are told apart, sorted.
    bins: Vec<usize>,
    histogram: Option<(f64, f64, usize)>,
}

/// What the second look found.
pub struct Refined {
    bins: Vec<usize>,
    /// By bin: cells by the lower 16 bits of their value.
    low: Vec<Vec<u32>>,
    histogram: Vec<u64>,
}

impl Refiner {
    /// The values of ranks.
    pub fn ranks(survey: &Survey, ranks: &[u64]) -> Refiner {
        let mut bins: Vec<usize> = ranks.iter().map(|r| survey.bin_of_rank(*r).0).collect();
        bins.sort_unstable();
        bins.dedup();
        Refiner { bins, histogram: None }
    }

    /// Cells in so many equal steps between two values; cells beyond are left out.
    pub fn histogram(from: f64, to: f64, steps: usize) -> Refiner {
        Refiner { bins: vec![], histogram: Some((from, to, steps)) }
    }

    /// The sink of a plane.
    pub fn sink<'a>(&'a self, refined: &'a mut Refined, plane: NodeId) -> Sink<'a> {
        Sink { groups: vec![vec![plane]], prepare: self, absorb: refined }
    }
}

/// Number of a bin and lower bits of each value in it, and the histogram.
type Looked = (Vec<(u32, u16)>, Vec<u64>);

impl Prepare for Refiner {
    fn prepare(&self, _: usize, window: Window, planes: &Inputs) -> Result<Part> {
        let mut looked: Looked = (vec![], vec![0; self.histogram.map_or(0, |h| h.2)]);
        let Some(Cells::Values(values)) = planes.get(0).map(|t| &t.cells) else { return Ok(Box::new(looked)) };
        let tile = planes.tile(0);
        for row in window.row..window.end_row() {
            for v in values[tile.row_range(&window, row)].iter().filter(|v| v.is_finite()) {
                if let Ok(number) = self.bins.binary_search(&bin_of(*v)) {
                    looked.0.push((number as u32, rising(*v) as u16));
                }
                if let Some((from, to, steps)) = self.histogram {
                    let at = (f64::from(*v) - from) / (to - from) * steps as f64;
                    if at >= 0.0 && f64::from(*v) <= to {
                        looked.1[(at as usize).min(steps - 1)] += 1;
                    }
                }
            }
        }
        Ok(Box::new(looked))
    }

    fn holds(&self, tile: Window, in_flight: usize) -> u64 {
        let values = if self.bins.is_empty() { 0 } else { 8 * tile.len() as u64 * in_flight as u64 };
        values + self.bins.len() as u64 * 4 * BINS as u64
    }
}

impl Refined {
    /// Nothing seen yet.
    pub fn new(by: &Refiner) -> Refined {
        Refined {
            bins: by.bins.clone(),
            low: by.bins.iter().map(|_| vec![0; BINS]).collect(),
            histogram: vec![0; by.histogram.map_or(0, |h| h.2)],
        }
    }

    /// The histogram asked for.
    pub fn histogram(&self) -> &[u64] {
        &self.histogram
    }

    /// The known value of a rank asked for; NaN for others.
    pub fn at_rank(&self, survey: &Survey, rank: u64) -> f64 {
        let (bin, mut within) = survey.bin_of_rank(rank);
        let Ok(number) = self.bins.binary_search(&bin) else { return f64::NAN };
        for (low, n) in self.low[number].iter().enumerate() {
            if within < u64::from(*n) {
                return f64::from(unrising((bin as u32) << 16 | low as u32));
            }
            within -= u64::from(*n);
        }
        f64::NAN
    }
}

impl Absorb for Refined {
    fn absorb(&mut self, _: usize, part: Part) -> Result<()> {
        let Ok(looked) = part.downcast::<Looked>() else { unreachable!("parts come back to the sink that made them") };
        for (number, low) in &looked.0 {
            let n = &mut self.low[*number as usize][usize::from(*low)];
            *n = n.saturating_add(1);
        }
        self.histogram.iter_mut().zip(&looked.1).for_each(|(a, b)| *a += b);
        Ok(())
    }
}

/// Both halves of the sink; the caller keeps the second.
pub struct Surveyor {
    kinds: Vec<Kind>,
    grid: Window,
}

/// The caller's half.
pub struct Surveys(Vec<Survey>);

impl Surveyor {
    /// For planes of these kinds on one grid.
    pub fn new(kinds: Vec<Kind>, grid: Window) -> (Surveyor, Surveys) {
        let surveys = kinds.iter().map(|k| Survey::new(*k)).collect();
        (Surveyor { kinds, grid }, Surveys(surveys))
    }

    /// The sink of some planes, in the order of the kinds.
    pub fn sink<'a>(&'a self, surveys: &'a mut Surveys, planes: &[NodeId]) -> Sink<'a> {
        Sink { groups: planes.iter().map(|p| vec![*p]).collect(), prepare: self, absorb: surveys }
    }
}

impl Prepare for Surveyor {
    fn prepare(&self, group: usize, window: Window, planes: &Inputs) -> Result<Part> {
        let mut survey = Survey::new(self.kinds[group]);
        survey.cells = window.len() as u64;
        let Some(tile) = planes.get(0) else { return Ok(Box::new(survey)) };
        let fill = match self.kinds[group] {
            Kind::Counts { fill } => fill,
            Kind::Values | Kind::Flags { .. } => None,
        };
        for row in window.row..window.end_row() {
            let edge_row = row == self.grid.row || row + 1 == self.grid.end_row();
            let edge = |col: i64| edge_row || col == self.grid.col || col + 1 == self.grid.end_col();
            let cols = window.col..;
            match &tile.cells {
                Cells::Values(v) => {
                    for (col, v) in cols.zip(&v[tile.row_range(&window, row)]).filter(|(_, v)| v.is_finite()) {
                        survey.add(f64::from(*v), bin_of(*v), edge(col));
                    }
                }
                Cells::Bits(v) => {
                    for (col, v) in cols.zip(&v[tile.row_range(&window, row)]).filter(|(_, v)| Some(**v) != fill) {
                        survey.add(f64::from(*v), usize::from(*v), edge(col));
                    }
                }
            }
        }
        Ok(Box::new(survey))
    }

    fn holds(&self, _: Window, in_flight: usize) -> u64 {
        (1 + in_flight as u64) * self.kinds.len() as u64 * 4 * BINS as u64
    }
}

impl Absorb for Surveys {
    fn absorb(&mut self, group: usize, part: Part) -> Result<()> {
        let Ok(part) = part.downcast::<Survey>() else { unreachable!("parts come back to the sink that made them") };
        self.0[group].merge(&part);
        Ok(())
    }
}

impl Surveys {
    /// What was found, in the order of the planes.
    pub fn finish(self) -> Vec<Survey> {
        self.0
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn bins_rise_with_values_and_hold_them_closely() {
        let values = [-1e9f32, -300.5, -1.0, -0.001, 0.0, 0.001, 0.31, 1.0, 299.4, 1e9];
        let bins: Vec<usize> = values.iter().map(|v| bin_of(*v)).collect();
        assert!(bins.is_sorted_by(|a, b| a < b), "{bins:?}");
        for v in values.into_iter().filter(|v| *v != 0.0) {
            assert!((value_of(bin_of(v)) / f64::from(v) - 1.0).abs() < 0.008, "{v}");
        }
        assert!((-256..=256).all(|i| value_of(bin_of(i as f32)) == f64::from(i)));
    }

    #[test]
    fn percentiles_of_counts_are_exact() {
        let mut s = Survey::new(Kind::Counts { fill: Some(0) });
        (1..=101u16).for_each(|c| s.add(f64::from(c), usize::from(c), false));
        assert_eq!((s.percentile(0.0), s.percentile(50.0), s.percentile(98.0)), (1.0, 51.0, 99.0));
        assert_eq!((s.at_or_above(100), s.range), (2, (1.0, 101.0)));
        assert_eq!(s.histogram(1.0, 101.0, 4), [25, 25, 25, 26]);
        assert!(Survey::new(Kind::Values).percentile(50.0).is_nan());
    }
}
