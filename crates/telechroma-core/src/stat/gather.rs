//! What is gathered of a plot's cells in one plane: enough for every statistic that is wanted.

use std::collections::BTreeMap;
use std::sync::Arc;

use super::exact::{ExactSum, variance};
use super::quantile::Weighted;

/// Equal bins from one value to another: bin `i` holds `low + i·step ≤ x < low + (i + 1)·step`, the last one its upper
/// end too.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Bins {
    /// The lower end.
    pub low: f64,
    /// The upper end.
    pub high: f64,
    /// How many.
    pub count: u32,
}

impl Bins {
    /// The border below bin `i`.
    pub fn border(&self, i: u32) -> f64 {
        self.low + (self.high - self.low) * f64::from(i) / f64::from(self.count)
    }

    /// The bin of a value; none beyond the ends.
    fn of(&self, x: f64) -> Option<usize> {
        if !(self.low..=self.high).contains(&x) {
            return None;
        }
        let at = ((x - self.low) / (self.high - self.low) * f64::from(self.count)) as u32;
        // the borders themselves decide, not the rounding of the division
        let at = at.min(self.count - 1);
        Some(match () {
            () if x < self.border(at) => at as usize - 1,
            () if at + 1 < self.count && x >= self.border(at + 1) => at as usize + 1,
            () => at as usize,
        })
    }
}

/// What statistics need beyond sums and extremes.
#[derive(Debug, Clone, Default, PartialEq)]
pub struct Needs {
    /// All values, for quantiles.
    pub values: bool,
    /// The weight of each class.
    pub classes: bool,
    /// A histogram.
    pub bins: Option<Arc<Bins>>,
}

/// More different numbers than classes ever are.
const MOST_CLASSES: usize = 1 << 16;

/// Sums, extremes, and what else is wanted. Merging in any order gives the same statistics.
#[derive(Debug, Clone)]
pub struct Gather {
    count: u64,
    /// Weight of valid cells, kept or not.
    valid: ExactSum,
    weight: ExactSum,
    area: ExactSum,
    sum: ExactSum,
    squares: ExactSum,
    min: f32,
    max: f32,
    values: Option<Weighted>,
    classes: Option<Classes>,
    bins: Option<(Arc<Bins>, Vec<ExactSum>)>,
}

/// Weight by class; `broken` once a value was no class.
#[derive(Debug, Clone, Default)]
struct Classes {
    weights: BTreeMap<i32, ExactSum>,
    broken: bool,
}

/// Cells looked at together.
const CHUNK: usize = 64;

/// A run of neighbouring cells of weight one.
#[derive(Debug, Clone, Copy)]
pub struct Cells<'a> {
    /// Their values; NaN where missing.
    pub values: &'a [f32],
    /// Where there is a condition: zero or NaN means that a cell is not kept.
    pub keep: Option<&'a [f32]>,
    /// The area of each, m²; NaN where it is not known.
    pub area: f64,
}

/// Kept cells of weights below one, such as those on a plot's edge, gathered to be added together.
#[derive(Debug, Clone, Default)]
pub struct Parts {
    values: Vec<f32>,
    weights: Vec<f64>,
    areas: Vec<f64>,
    /// Weight of the valid ones, kept or not.
    valid: ExactSum,
}

impl Parts {
    /// Adds a cell, NaN where missing, of a weight up to one in steps of 2⁻⁴⁴ and an area in m²; zero or NaN in `keep`
    /// means that it is not kept.
    pub fn push(&mut self, value: f32, keep: Option<f32>, weight: f64, area: f64) {
        if value.is_nan() {
            return;
        }
        self.valid.add(weight);
        if keep.is_none_or(is_kept) {
            self.values.push(value);
            self.weights.push(weight);
            self.areas.push(area * weight);
        }
    }
}

fn is_kept(keep: f32) -> bool {
    !keep.is_nan() && keep != 0.0
}

impl Gather {
    /// Empty.
    pub fn new(needs: &Needs) -> Gather {
        let none = ExactSum::default();
        Gather {
            count: 0,
            valid: none,
            weight: none,
            area: none,
            sum: none,
            squares: none,
            min: f32::INFINITY,
            max: f32::NEG_INFINITY,
            values: needs.values.then(Weighted::default),
            classes: needs.classes.then(Classes::default),
            bins: needs.bins.as_ref().map(|b| (b.clone(), vec![none; b.count as usize])),
        }
    }

    /// Makes room for as many more cells.
    pub fn reserve(&mut self, cells: usize) {
        if let Some(values) = &mut self.values {
            values.reserve(cells);
        }
    }

    /// Adds a run of cells of weight one; missing ones do not count, and of the others those that are not kept are valid
    /// only.
    pub fn add(&mut self, cells: Cells) {
        let Cells { values, keep, area } = cells;
        let before = self.count;
        let mut valid = 0;
        for (i, values) in values.chunks(CHUNK).enumerate() {
            match keep.map(|k| &k[i * CHUNK..]) {
                None if !values.iter().any(|v| v.is_nan()) => {
                    valid += values.len();
                    self.take(values);
                }
                keep => valid += self.sift(values, keep),
            }
        }
        let kept = self.count - before;
        self.valid.add_times(1.0, valid);
        self.weight.add_times(1.0, kept as usize);
        if kept > 0 {
            self.area.add(area * kept as f64);
        }
    }

    /// Takes those that are to be kept; gives how many are valid.
    fn sift(&mut self, values: &[f32], keep: Option<&[f32]>) -> usize {
        let (mut some, mut valid, mut kept) = ([0f32; CHUNK], 0, 0);
        for (i, v) in values.iter().enumerate() {
            some[kept] = *v;
            kept += usize::from(!v.is_nan() && keep.is_none_or(|k| is_kept(k[i])));
            valid += usize::from(!v.is_nan());
        }
        self.take(&some[..kept]);
        valid
    }

    /// Takes kept cells: one loop for each that wants them, so that its sums stay in registers.
    fn take(&mut self, cells: &[f32]) {
        ExactSum::add_all(cells, &mut self.sum, &mut self.squares);
        if let Some(values) = &mut self.values {
            values.extend(cells);
        }
        self.rest(cells, |_| 1.0);
    }

    /// Adds cells of other weights, and empties them.
    pub fn add_parts(&mut self, parts: &mut Parts) {
        let Parts { values, weights, areas, valid } = parts;
        self.valid.merge(valid);
        weights.iter().for_each(|w| self.weight.add(*w));
        areas.iter().for_each(|a| self.area.add(*a));
        ExactSum::add_products(weights, values, &mut self.sum, &mut self.squares);
        if let Some(all) = &mut self.values {
            all.extend_parts(values, weights);
        }
        self.rest(values, |i| weights[i]);
        *valid = ExactSum::default();
        values.clear();
        weights.clear();
        areas.clear();
    }

    /// Adds cells of one weight.
    #[cfg(test)]
    pub(super) fn add_weighted(&mut self, values: &[f32], keep: Option<&[f32]>, weight: f64, area: f64) {
        let mut parts = Parts::default();
        match weight == 1.0 {
            true => self.add(Cells { values, keep, area }),
            false => {
                values.iter().enumerate().for_each(|(i, v)| parts.push(*v, keep.map(|k| k[i]), weight, area));
                self.add_parts(&mut parts);
            }
        }
    }

    /// What does not depend on how sums are formed.
    #[inline(always)]
    fn rest(&mut self, cells: &[f32], weight: impl Fn(usize) -> f64) {
        self.count += cells.len() as u64;
        self.min = cells.iter().fold(self.min, |min, v| min.min(*v));
        self.max = cells.iter().fold(self.max, |max, v| max.max(*v));
        if let Some(classes) = &mut self.classes {
            cells.iter().enumerate().for_each(|(i, v)| classes.add(*v, weight(i)));
        }
        if let Some((bins, weights)) = &mut self.bins {
            for (i, v) in cells.iter().enumerate() {
                if let Some(bin) = bins.of(f64::from(*v)) {
                    weights[bin].add(weight(i));
                }
            }
        }
    }

    /// Adds what was gathered elsewhere.
    pub fn merge(&mut self, other: Gather) {
        self.count += other.count;
        self.valid.merge(&other.valid);
        self.weight.merge(&other.weight);
        self.area.merge(&other.area);
        self.sum.merge(&other.sum);
        self.squares.merge(&other.squares);
        self.min = self.min.min(other.min);
        self.max = self.max.max(other.max);
        if let (Some(mine), Some(theirs)) = (&mut self.values, other.values) {
            mine.merge(theirs);
        }
        if let (Some(mine), Some(theirs)) = (&mut self.classes, other.classes) {
            mine.broken |= theirs.broken;
            for (class, weight) in theirs.weights {
                mine.weights.entry(class).or_default().merge(&weight);
            }
            mine.check();
        }
        if let (Some((_, mine)), Some((_, theirs))) = (&mut self.bins, other.bins) {
            mine.iter_mut().zip(&theirs).for_each(|(a, b)| a.merge(b));
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

    /// Area of the kept cells, weighted, m²; 0 where no cell counts.
    pub fn area(&self) -> f64 {
        self.area.value()
    }

    fn unless_empty(&self, f: impl FnOnce(&Gather) -> f64) -> f64 {
        if self.count == 0 { f64::NAN } else { f(self) }
    }

    /// Σwx, in cells.
    pub fn sum(&self) -> f64 {
        self.unless_empty(|g| g.sum.value())
    }

    /// Σwx / Σw.
    pub fn mean(&self) -> f64 {
        self.unless_empty(|g| g.sum.value() / g.weight.value())
    }

    /// Population variance, Σw(x − mean)² / Σw.
    pub fn variance(&self) -> f64 {
        self.unless_empty(|g| if g.min == g.max { 0.0 } else { variance(&g.weight, &g.sum, &g.squares) })
    }

    /// The least value.
    pub fn min(&self) -> f64 {
        self.unless_empty(|g| f64::from(g.min))
    }

    /// The greatest value.
    pub fn max(&self) -> f64 {
        self.unless_empty(|g| f64::from(g.max))
    }

    /// The quantile `p` (0–1); NaN if values were not kept.
    pub fn quantile(&mut self, p: f64) -> f64 {
        self.values.as_mut().map_or(f64::NAN, |values| values.quantile(p))
    }

    /// Share of the kept weight in bin `i`; NaN without bins or without cells.
    pub fn bin_share(&self, i: u32) -> f64 {
        let weight = self.bins.as_ref().and_then(|b| b.1.get(i as usize)).map_or(f64::NAN, ExactSum::value);
        self.unless_empty(|g| weight / g.weight.value())
    }

    /// Weights of the classes; none where values are no classes, or were not counted as such.
    fn class_weights(&self) -> Option<&BTreeMap<i32, ExactSum>> {
        self.classes.as_ref().filter(|c| !c.broken && self.count > 0).map(|c| &c.weights)
    }

    /// The class with the greatest weight; of equal ones the smallest number.
    pub fn majority(&self) -> f64 {
        let of = |w: &BTreeMap<i32, ExactSum>| w.iter().rev().max_by(|a, b| a.1.cmp(b.1)).map(|(c, _)| f64::from(*c));
        self.class_weights().and_then(of).unwrap_or(f64::NAN)
    }

    /// The class with the least weight; of equal ones the smallest number.
    pub fn minority(&self) -> f64 {
        let of = |w: &BTreeMap<i32, ExactSum>| w.iter().min_by(|a, b| a.1.cmp(b.1)).map(|(c, _)| f64::from(*c));
        self.class_weights().and_then(of).unwrap_or(f64::NAN)
    }

    /// How many classes there are.
    pub fn variety(&self) -> f64 {
        self.class_weights().map_or(f64::NAN, |w| w.len() as f64)
    }

    /// Share of the kept weight in a class; 0 for one that is not there.
    pub fn class_share(&self, class: i32) -> f64 {
        let of = |w: &BTreeMap<i32, ExactSum>| w.get(&class).map_or(0.0, ExactSum::value) / self.weight.value();
        self.class_weights().map_or(f64::NAN, of)
    }
}

impl Classes {
    fn add(&mut self, v: f32, weight: f64) {
        if v.fract() != 0.0 || v.abs() > 1e9 {
            self.broken = true;
        } else if !self.broken {
            self.weights.entry(v as i32).or_default().add(weight);
            self.check();
        }
    }

    fn check(&mut self) {
        if self.broken || self.weights.len() > MOST_CLASSES {
            self.broken = true;
            self.weights.clear();
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn borders_belong_to_the_bin_above_and_the_last_one_to_the_last() {
        let bins = Bins { low: 0.0, high: 0.3, count: 3 };
        let of = |x: f64| bins.of(x);
        assert_eq!([of(0.0), of(bins.border(1)), of(bins.border(2)), of(0.3)], [Some(0), Some(1), Some(2), Some(2)]);
        assert_eq!([of(-1e-9), of(0.3 + 1e-9), of(f64::NAN)], [None; 3]);
        // every border of bins that do not divide evenly
        let odd = Bins { low: -1.0, high: 1.0, count: 49 };
        (0..49).for_each(|i| assert_eq!(odd.of(odd.border(i)), Some(i as usize), "{i}"));
    }

    #[test]
    fn classes_are_weighed_and_ties_go_to_the_smallest() {
        let needs = Needs { classes: true, ..Needs::default() };
        let run = |values: &[f32], weight| {
            let mut g = Gather::new(&needs);
            g.add_weighted(values, None, weight, 1.0);
            g
        };
        let mut g = run(&[2.0, 2.0, 5.0, f32::NAN], 0.5);
        g.merge(run(&[5.0, 7.0], 0.5));
        assert_eq!((g.majority(), g.minority(), g.variety()), (2.0, 7.0, 3.0));
        assert_eq!((g.class_share(5), g.class_share(9)), (0.4, 0.0));
        g.merge(run(&[1.5], 1.0));
        assert!(g.majority().is_nan() && g.variety().is_nan(), "1.5 is no class");
    }
}
