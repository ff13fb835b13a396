//! Quantiles of weighted values.
//!
//! Positions `t₁ = 0, t_k = t_{k−1} + (w_{k−1} + w_k)/2`, `p_k = t_k/t_n`, linear between: equal weights give
//! Hyndman & Fan (1996) type 7.

/// Weights are counted in these steps, those of a cell's share: sums of them do not depend on the order.
const STEPS: f64 = (1u64 << 44) as f64;

/// A cell of weight one, in steps.
const ONE: u64 = 1 << 44;

/// Values among which sorting is quicker than another halving.
const FEW: usize = 16;

/// A number that is compared as a whole number, in the same order: −0 lies below 0.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
struct Ordered(i32);

impl Ordered {
    fn turned(bits: i32) -> i32 {
        bits ^ ((bits >> 31) as u32 >> 1) as i32 // below zero, larger bits mean less
    }

    fn of(v: f32) -> Ordered {
        Ordered(Ordered::turned(v.to_bits() as i32))
    }

    fn value(self) -> f64 {
        f64::from(f32::from_bits(Ordered::turned(self.0) as u32))
    }
}

/// Values with weights, of which most are one.
#[derive(Debug, Clone, Default)]
pub(super) struct Weighted {
    /// Those of weight one.
    whole: Vec<Ordered>,
    /// The others, with their weight in steps.
    parts: Vec<(Ordered, u64)>,
}

impl Weighted {
    /// Makes room for as many more of weight one.
    pub fn reserve(&mut self, values: usize) {
        self.whole.reserve(values);
    }

    /// Adds values, not NaN, of weight one.
    pub fn extend(&mut self, values: &[f32]) {
        self.whole.extend(values.iter().map(|v| Ordered::of(*v)));
    }

    /// Adds values, not NaN, with weights: above zero, up to one, in steps of 2⁻⁴⁴.
    pub fn extend_parts(&mut self, values: &[f32], weights: &[f64]) {
        self.parts.extend(values.iter().zip(weights).map(|(v, weight)| (Ordered::of(*v), (weight * STEPS) as u64)));
    }

    /// Adds what was gathered elsewhere.
    pub fn merge(&mut self, other: Weighted) {
        if self.whole.is_empty() {
            self.whole = other.whole;
        } else {
            self.whole.extend_from_slice(&other.whole);
        }
        self.parts.extend_from_slice(&other.parts);
    }

    /// The quantile `p` (0–1); NaN where there is no value. It does not depend on the order in which values came, but
    /// rearranges them.
    pub fn quantile(&mut self, p: f64) -> f64 {
        match self.parts.is_empty() {
            true => self.of_equal_weights(p),
            false => self.of_weights(p),
        }
    }

    fn of_equal_weights(&mut self, p: f64) -> f64 {
        if self.whole.is_empty() {
            return f64::NAN;
        }
        let h = (self.whole.len() - 1) as f64 * p;
        let (low, share) = (h.floor() as usize, h - h.floor());
        let (_, at, above) = self.whole.select_nth_unstable(low);
        let at = at.value();
        match above.iter().min() {
            Some(next) if share > 0.0 => at + share * (next.value() - at),
            _ => at,
        }
    }

    /// Those of weight one are halved, by what weighs up to the middle one, until few are left to be sorted with the
    /// parts that lie among them.
    fn of_weights(&mut self, p: f64) -> f64 {
        let Weighted { whole, parts } = self;
        // of equal values the lighter comes first, so that nothing depends on how they came
        let least = parts.iter().min().filter(|part| !whole.iter().any(|v| *v < part.0));
        let greatest = parts.iter().max().filter(|part| !whole.iter().any(|v| *v >= part.0));
        let (first, last) = (least.map_or(ONE, |part| part.1), greatest.map_or(ONE, |part| part.1));
        // positions and the target are doubled: t of the definition has halves
        let position = |under: u128, own: u64| (2 * under + u128::from(own) - u128::from(first)) as f64;
        let all = u128::from(ONE) * whole.len() as u128 + up_to(parts, Ordered(i32::MAX));
        let target = p * position(all - u128::from(last), last);
        let (mut low, mut high, mut under, mut before) = (0, whole.len(), 0, None);
        while high - low > FEW {
            let middle = usize::midpoint(low, high);
            let v = *whole[low..high].select_nth_unstable(middle - low).1;
            let up_to_it = u128::from(ONE) * middle as u128 + up_to(parts, v);
            if position(up_to_it, ONE) >= target {
                high = middle;
            } else {
                (low, under, before) = (middle + 1, up_to_it + u128::from(ONE), Some((v, ONE)));
            }
        }
        let end = whole.get(high).copied();
        let among = |v: Ordered| before.is_none_or(|b: (Ordered, u64)| v > b.0) && end.is_none_or(|e| v <= e);
        let mut rest: Vec<(Ordered, u64)> = parts.iter().copied().filter(|part| among(part.0)).collect();
        rest.extend(whole[low..high].iter().copied().chain(end).map(|v| (v, ONE)));
        rest.sort_unstable();
        for next in rest {
            let at = position(under, next.1);
            match before {
                Some((value, weight)) if at >= target => {
                    let share = (1.0 - (at - target) / (weight + next.1) as f64).clamp(0.0, 1.0);
                    return value.value() + share * (next.0.value() - value.value());
                }
                _ => (before, under) = (Some(next), under + u128::from(next.1)),
            }
        }
        // the only one, or the last
        before.map_or(f64::NAN, |(value, _)| value.value())
    }
}

/// What the parts up to a value weigh.
fn up_to(parts: &[(Ordered, u64)], v: Ordered) -> u128 {
    // a sum of so many has room in 64 bits
    let some = |parts: &[(Ordered, u64)]| parts.iter().map(|part| if part.0 <= v { part.1 } else { 0 }).sum::<u64>();
    parts.chunks(1 << 16).map(|parts| u128::from(some(parts))).sum()
}

/// The middle value, of an even number the mean of the two in the middle; sorts the values. NaN of none.
pub fn median(values: &mut [f64]) -> f64 {
    values.sort_unstable_by(f64::total_cmp);
    match values.len() {
        0 => f64::NAN,
        n if n % 2 == 1 => values[n / 2],
        n => (values[n / 2 - 1] + values[n / 2]) / 2.0,
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::worked;
    use proptest::prelude::*;

    fn weighted(pairs: &[(f32, f64)]) -> Weighted {
        let mut all = Weighted::default();
        for (v, w) in pairs {
            match *w == 1.0 {
                true => all.extend(&[*v]),
                false => all.extend_parts(&[*v], &[*w]),
            }
        }
        all
    }

    #[test]
    fn worked_quantiles() {
        let e = worked::example("weighted_quantile");
        let pairs: Vec<(f32, f64)> = e.numbers("values").iter().map(|v| *v as f32).zip(e.numbers("weights")).collect();
        let mut all = weighted(&pairs);
        for (p, want) in e.numbers("p").iter().zip(e.expected_numbers()) {
            let got = all.quantile(*p);
            assert!((got - want).abs() < 1e-7, "{p}: {got} {want}"); // the values are held in f32
        }
        for name in ["percentiles_type7_odd", "percentiles_type7_even"] {
            let e = worked::example(name);
            let mut all = weighted(&e.numbers("values").iter().map(|v| (*v as f32, 1.0)).collect::<Vec<_>>());
            for (p, want) in e.numbers("percent").iter().zip(e.expected_numbers()) {
                assert!((all.quantile(p / 100.0) - want).abs() < 1e-7);
            }
        }
    }

    /// As it is defined: sorted, and step by step.
    fn plainly(pairs: &[(f32, f64)], p: f64) -> f64 {
        let mut sorted = pairs.to_vec();
        sorted.sort_by(|a, b| a.0.total_cmp(&b.0).then(a.1.total_cmp(&b.1)));
        let mut positions = vec![0.0];
        for w in sorted.windows(2) {
            positions.push(positions[positions.len() - 1] + (w[0].1 + w[1].1) / 2.0);
        }
        let target = p * positions[positions.len() - 1];
        let after = positions.iter().position(|t| *t >= target).unwrap_or(sorted.len() - 1).max(1);
        let Some((before, next)) = sorted.get(after - 1).zip(sorted.get(after)) else { return f64::from(sorted[0].0) };
        let share = (target - positions[after - 1]) / (positions[after] - positions[after - 1]);
        f64::from(before.0) + share.clamp(0.0, 1.0) * (f64::from(next.0) - f64::from(before.0))
    }

    proptest! {
        #[test]
        fn equal_weights_are_type_7(values in proptest::collection::vec(-9.0f32..9.0, 1..60), p in 0.0..=1.0f64, w in 0.1..1.0f64) {
            let of = |weight: f64| weighted(&values.iter().map(|v| (*v, weight)).collect::<Vec<_>>()).quantile(p);
            prop_assert!((of(w) - of(1.0)).abs() < 1e-6);
        }

        /// Halving finds what sorting finds, and the order in which the pairs came does not matter to a bit.
        #[test]
        fn halving_is_sorting(
            pairs in proptest::collection::vec(
                (prop_oneof![(-40i32..40).prop_map(|v| v as f32 / 8.0), -9.0f32..9.0],
                 prop_oneof![3 => Just(1.0f64), 1 => (1u64..1 << 44).prop_map(|n| n as f64 / STEPS)]), 1..300),
            p in prop_oneof![4 => 0.0..=1.0f64, 1 => Just(0.0), 1 => Just(0.5), 1 => Just(1.0)],
            turn in any::<prop::sample::Index>(),
        ) {
            let got = weighted(&pairs).quantile(p);
            prop_assert!((got - plainly(&pairs, p)).abs() < 1e-9, "{got} {}", plainly(&pairs, p));
            let mut turned = pairs.clone();
            turned.rotate_left(turn.index(pairs.len()));
            turned.reverse();
            prop_assert_eq!(weighted(&turned).quantile(p).to_bits(), got.to_bits());
        }
    }
}
