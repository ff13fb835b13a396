//! What is gathered of a plot's cells in one plane: enough for every statistic that is wanted.

use super::exact::ExactSum;
use super::quantile::{plain_quantile, weighted_quantile};

/// Sums, extremes and (if quantiles are wanted) values. Merging in any order gives the same statistics.
#[derive(Debug, Clone)]
pub struct Gather {
    count: u64,
    /// Weight of valid cells, kept or not.
    valid: ExactSum,
    weight: ExactSum,
    sum: ExactSum,
    squares: ExactSum,
    min: f32,
    max: f32,
    values: Option<Values>,
}

/// Cells of weight one, and those on the edge.
#[derive(Debug, Clone, Default)]
struct Values {
    whole: Vec<f32>,
    parts: Vec<(f32, f64)>,
}

impl Gather {
    /// Empty; `quantiles`: values are kept.
    pub fn new(quantiles: bool) -> Gather {
        Gather {
            count: 0,
            valid: ExactSum::default(),
            weight: ExactSum::default(),
            sum: ExactSum::default(),
            squares: ExactSum::default(),
            min: f32::INFINITY,
            max: f32::NEG_INFINITY,
            values: quantiles.then(Values::default),
        }
    }

    /// Adds a run of cells of one weight; missing cells do not count, and of the others those whose `keep` is zero or
    /// missing are valid but not kept.
    pub fn add(&mut self, cells: &[f32], keep: Option<&[f32]>, weight: f64) {
        let (mut valid, mut kept) = (0u64, 0u64);
        if let Some(Values { whole, .. }) = &mut self.values
            && weight == 1.0
        {
            whole.reserve(cells.len());
        }
        for (i, v) in cells.iter().enumerate().filter(|(_, v)| !v.is_nan()) {
            valid += 1;
            if keep.is_some_and(|k| k[i].is_nan() || k[i] == 0.0) {
                continue;
            }
            kept += 1;
            let x = f64::from(*v);
            self.sum.add(weight * x);
            self.squares.add(weight * x * x);
            self.min = self.min.min(*v);
            self.max = self.max.max(*v);
            if let Some(values) = &mut self.values {
                match weight == 1.0 {
                    true => values.whole.push(*v),
                    false => values.parts.push((*v, weight)),
                }
            }
        }
        self.count += kept;
        self.valid.add(weight * valid as f64);
        self.weight.add(weight * kept as f64);
    }

    /// Adds what was gathered elsewhere.
    pub fn merge(&mut self, other: Gather) {
        self.count += other.count;
        self.valid.merge(&other.valid);
        self.weight.merge(&other.weight);
        self.sum.merge(&other.sum);
        self.squares.merge(&other.squares);
        self.min = self.min.min(other.min);
        self.max = self.max.max(other.max);
        if let (Some(mine), Some(theirs)) = (&mut self.values, other.values) {
            if mine.whole.is_empty() {
                mine.whole = theirs.whole;
            } else {
                mine.whole.extend_from_slice(&theirs.whole);
            }
            mine.parts.extend_from_slice(&theirs.parts);
        }
    }

    /// Cells with a weight, valid and kept.
    pub fn count(&self) -> u64 {
        self.count
    }

    /// Weight of the valid cells, kept or not.
    pub fn valid_weight(&self) -> f64 {
        self.valid.value()
    }

    /// Weight of the kept cells.
    pub fn weight(&self) -> f64 {
        self.weight.value()
    }

    /// Σwx, in cells.
    pub fn sum(&self) -> f64 {
        if self.count == 0 { f64::NAN } else { self.sum.value() }
    }

    /// Σwx / Σw.
    pub fn mean(&self) -> f64 {
        if self.count == 0 { f64::NAN } else { self.sum.value() / self.weight.value() }
    }

    /// Population standard deviation, √(Σw(x − mean)² / Σw).
    pub fn sd(&self) -> f64 {
        match (self.count, self.min == self.max) {
            (0, _) => f64::NAN,
            (_, true) => 0.0,
            _ => (self.squares.value() / self.weight.value() - self.mean().powi(2)).max(0.0).sqrt(),
        }
    }

    /// The least value.
    pub fn min(&self) -> f64 {
        if self.count == 0 { f64::NAN } else { f64::from(self.min) }
    }

    /// The greatest value.
    pub fn max(&self) -> f64 {
        if self.count == 0 { f64::NAN } else { f64::from(self.max) }
    }

    /// The quantile `p` (0–1); NaN if values were not kept.
    pub fn quantile(&mut self, p: f64) -> f64 {
        let Some(values) = &mut self.values else { return f64::NAN };
        if values.parts.is_empty() {
            return plain_quantile(&mut values.whole, p);
        }
        // the order of equal values does not change a quantile, but their weights' order would change its last bits
        let mut all: Vec<(f32, f64)> =
            values.whole.iter().map(|v| (*v, 1.0)).chain(values.parts.iter().copied()).collect();
        all.sort_unstable_by(|a, b| a.0.total_cmp(&b.0).then(a.1.total_cmp(&b.1)));
        weighted_quantile(&all, p)
    }
}
