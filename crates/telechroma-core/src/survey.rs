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
    fn new(kind: Kind) -> Survey {
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
                return match self.kind {
                    Kind::Values => value_of(bin).clamp(self.range.0, self.range.1),
                    Kind::Counts { .. } | Kind::Flags { .. } => bin as f64,
                };
            }
        }
        f64::NAN
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

/// The bin of a value: its highest 16 bits, turned so that bins rise with values.
fn bin_of(v: f32) -> usize {
    let bits = v.to_bits();
    let rising = if bits >> 31 == 0 { bits | 1 << 31 } else { !bits };
    (rising >> 16) as usize
}

/// The value of a bin that is nearest to zero: whole numbers up to 256 are exact.
fn value_of(bin: usize) -> f64 {
    let rising = (bin as u32) << 16;
    let bits = if rising >> 31 == 1 { rising & !(1 << 31) } else { !(rising | 0xFFFF) };
    f64::from(f32::from_bits(bits))
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
        assert!(Survey::new(Kind::Values).percentile(50.0).is_nan());
    }
}
