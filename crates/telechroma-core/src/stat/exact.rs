//! Sums that do not depend on the order of adding: whole numbers of 2⁻⁶⁰.

/// An exact sum of values cut to multiples of 2⁻⁶⁰ (about 10⁻¹⁸).
#[derive(Debug, Clone, Copy, Default, PartialEq)]
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

    #[cold]
    #[inline(never)]
    fn add_large(&mut self, v: f64) {
        match v.abs() < 18_446_744_073_709_551_616.0 {
            true => self.sum = self.sum.saturating_add((v * UNIT) as i128),
            false => self.too_large = true,
        }
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

    #[test]
    fn what_is_too_large_is_missing_not_wrong() {
        let mut s = ExactSum::default();
        s.add(1e300);
        s.add(f64::NAN);
        assert!(s.value().is_nan());
    }
}
