//! Sums that do not depend on the order of adding: whole numbers of 2⁻⁶⁰.

use crate::wide;

/// An exact sum of values cut to multiples of 2⁻⁶⁰ (about 10⁻¹⁸).
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq, PartialOrd, Ord)]
pub struct ExactSum {
    sum: i128,
    too_large: bool,
}

const UNIT: f64 = (1u64 << 60) as f64;

impl ExactSum {
    /// Adds a value. One of 2⁶⁴ or more makes the sum missing, as would one that is not finite.
    #[inline(always)]
    pub fn add(&mut self, v: f64) {
        if v.abs() < 8.0 {
            self.sum += i128::from((v * UNIT) as i64);
        } else {
            self.add_large(v);
        }
    }

    /// Adds a value, below 8, as many times.
    pub fn add_times(&mut self, v: f64, times: usize) {
        self.sum += i128::from((v * UNIT) as i64) * times as i128;
    }

    /// Adds values to one sum and their squares, which are exact in a double (48 digits), to another.
    pub fn add_all(values: &[f32], sum: &mut ExactSum, squares: &mut ExactSum) {
        let terms = values.iter().map(|v| {
            let x = f64::from(*v);
            [(x, 0.0), (x * x, 0.0)]
        });
        ExactSum::add_terms(terms, values, sum, squares);
    }

    /// Adds products of weights up to one and values to one sum, and of weights and their squares to another, none of them
    /// rounded first.
    pub fn add_products(weights: &[f64], values: &[f32], sum: &mut ExactSum, squares: &mut ExactSum) {
        let terms = weights.iter().zip(values).map(|(weight, v)| {
            let x = f64::from(*v);
            [product(*weight, x), product(*weight, x * x)]
        });
        ExactSum::add_terms(terms, values, sum, squares);
    }

    /// Adds what is formed of values and of their squares, each in two parts.
    #[inline(always)]
    fn add_terms(
        terms: impl Iterator<Item = [(f64, f64); 2]>,
        values: &[f32],
        sum: &mut ExactSum,
        squares: &mut ExactSum,
    ) {
        // squares below 8, and room for their sum
        if values.len() < 1 << 30 && values.iter().all(|v| v.abs() < 2.8) {
            wide::run(Small { terms, sum, squares });
        } else {
            for [one, square] in terms {
                sum.add(one.0);
                sum.add(one.1);
                squares.add(square.0);
                squares.add(square.1);
            }
        }
    }

    #[cold]
    #[inline(never)]
    fn add_large(&mut self, v: f64) {
        match v.abs() < 18_446_744_073_709_551_616.0 {
            true => self.sum = self.sum.saturating_add((v * UNIT) as i128),
            false => self.too_large = true,
        }
    }

    /// Adds a product without rounding it first.
    #[inline]
    pub fn add_product(&mut self, a: f64, b: f64) {
        let (high, low) = product(a, b);
        self.add(high);
        self.add(low);
    }

    /// Adds another sum.
    pub fn merge(&mut self, other: &ExactSum) {
        let (sum, over) = self.sum.overflowing_add(other.sum);
        self.sum = sum;
        self.too_large |= other.too_large | over;
    }

    /// The sum; NaN if something too large went in.
    pub fn value(&self) -> f64 {
        if self.too_large { f64::NAN } else { self.sum as f64 / UNIT }
    }

    /// The sum in two parts, the second what the first leaves over.
    fn pair(&self) -> (f64, f64) {
        if self.too_large {
            return (f64::NAN, 0.0);
        }
        let high = self.sum as f64;
        (high / UNIT, (self.sum.wrapping_sub(high as i128)) as f64 / UNIT)
    }
}

/// Sums of small terms with the widest instructions there are.
struct Small<'a, T> {
    terms: T,
    sum: &'a mut ExactSum,
    squares: &'a mut ExactSum,
}

impl<T: Iterator<Item = [(f64, f64); 2]>> wide::Loop for Small<'_, T> {
    #[inline(always)]
    fn run(self, _: impl wide::Instructions) {
        let (mut sum, mut squares) = (Halves::default(), Halves::default());
        for [one, square] in self.terms {
            sum.add(one.0);
            sum.add(one.1);
            squares.add(square.0);
            squares.add(square.1);
        }
        self.sum.sum += sum.value();
        self.squares.sum += squares.value();
    }
}

/// A sum of up to 2³¹ numbers below 8, cut to whole numbers of 2⁻⁶⁰, in halves of 32 bits.
#[derive(Default)]
struct Halves {
    high: i64,
    low: i64,
}

impl Halves {
    #[inline(always)]
    fn add(&mut self, v: f64) {
        let v = (v * UNIT) as i64;
        self.high += v >> 32;
        self.low += v & 0xFFFF_FFFF;
    }

    #[inline(always)]
    fn value(&self) -> i128 {
        (i128::from(self.high) << 32) + i128::from(self.low)
    }
}

/// The product and what rounding cut off it (Dekker 1971), for factors far from the largest numbers.
#[inline(always)]
fn product(a: f64, b: f64) -> (f64, f64) {
    let halves = |v: f64| {
        let c = 134_217_729.0 * v; // 2²⁷ + 1
        let high = c - (c - v);
        (high, v - high)
    };
    let (high, (ah, al), (bh, bl)) = (a * b, halves(a), halves(b));
    (high, ((ah * bh - high) + ah * bl + al * bh) + al * bl)
}

/// The product of two sums in two parts.
fn wide_product(a: (f64, f64), b: (f64, f64)) -> (f64, f64) {
    let (high, low) = product(a.0, b.0);
    (high, low + a.0 * b.1 + a.1 * b.0)
}

/// The population's variance, Σw(x − mean)² / Σw, from Σw, Σwx and Σwx²: the difference of large products is formed in
/// twice the usual digits, so that a small spread about a large mean keeps its own.
pub fn variance(weight: &ExactSum, sum: &ExactSum, squares: &ExactSum) -> f64 {
    let (w, s, q) = (weight.pair(), sum.pair(), squares.pair());
    let (a, b) = (wide_product(q, w), wide_product(s, s));
    let difference = (a.0 - b.0) + (a.1 - b.1);
    (difference / (w.0 * w.0)).max(0.0)
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    proptest! {
        #[test]
        fn any_order_and_any_split_give_the_same_bits(
            mut values in proptest::collection::vec(prop_oneof![-2.0..2.0f64, -1e6..1e6f64], 1..200), cut in 0usize..200,
        ) {
            let plain: f64 = values.iter().sum();
            let mut forward = ExactSum::default();
            values.iter().for_each(|v| forward.add(*v));
            prop_assert!((forward.value() - plain).abs() <= 1e-7);
            values.reverse();
            let (a, b) = values.split_at(cut.min(values.len()));
            let mut parts = [ExactSum::default(), ExactSum::default()];
            a.iter().for_each(|v| parts[0].add(*v));
            b.iter().for_each(|v| parts[1].add(*v));
            let [mut x, y] = parts;
            x.merge(&y);
            prop_assert_eq!(x.value().to_bits(), forward.value().to_bits());
        }
    }

    proptest! {
        /// By vectors or one by one: the same bits.
        #[test]
        fn sums_of_many_are_those_of_each(values in proptest::collection::vec(prop_oneof![9 => -2.8f32..2.8, 1 => -4.0f32..4.0], 0..200)) {
            let ((mut sum, mut squares), (mut each, mut each_square)) = <((ExactSum, ExactSum), (ExactSum, ExactSum))>::default();
            ExactSum::add_all(&values, &mut sum, &mut squares);
            for v in values.iter().map(|v| f64::from(*v)) {
                each.add(v);
                each_square.add(v * v);
            }
            prop_assert_eq!((sum, squares), (each, each_square));
            let weights: Vec<f64> = (1..=values.len()).map(|i| i as f64 / 211.0).collect();
            ExactSum::add_products(&weights, &values, &mut sum, &mut squares);
            for (weight, v) in weights.iter().zip(values.iter().map(|v| f64::from(*v))) {
                each.add_product(*weight, v);
                each_square.add_product(*weight, v * v);
            }
            prop_assert_eq!((sum, squares), (each, each_square));
        }
    }

    /// Independent: deviations from the mean, summed plainly, of values whose mean is exact.
    #[test]
    fn a_small_spread_about_a_large_mean_keeps_its_digits() {
        let (mut w, mut s, mut q) = <(ExactSum, ExactSum, ExactSum)>::default();
        let cells: Vec<(f64, f64)> = (0..1000)
            .map(|i| (f64::from(301.25f32 + (i % 7) as f32 / 1024.0), 0.1 + f64::from(i % 10) * 0.09))
            .collect();
        for (x, weight) in &cells {
            w.add(*weight);
            s.add_product(*weight, *x);
            q.add_product(*weight, x * x);
        }
        let all: f64 = cells.iter().map(|c| c.1).sum();
        let mean = 301.25 + cells.iter().map(|(x, w)| w * (x - 301.25)).sum::<f64>() / all;
        let want = cells.iter().map(|(x, w)| w * (x - mean).powi(2)).sum::<f64>() / all;
        let got = variance(&w, &s, &q);
        assert!((got / want - 1.0).abs() < 1e-11, "{got} {want}");
    }

    #[test]
    fn what_is_too_large_is_missing_not_wrong() {
        let mut s = ExactSum::default();
        s.add(1e300);
        s.add(f64::NAN);
        assert!(s.value().is_nan());
    }
}
