//! Quantiles of weighted values.
//!
//! Positions `t₁ = 0, t_k = t_{k−1} + (w_{k−1} + w_k)/2`, `p_k = t_k/t_n`, linear between: equal weights give
//! Hyndman & Fan (1996) type 7.

/// The quantile `p` (0–1) of `(value, weight)` pairs sorted by value, weights above zero; NaN where there is none.
pub fn weighted_quantile(sorted: &[(f32, f64)], p: f64) -> f64 {
    let (Some(first), Some(last)) = (sorted.first(), sorted.last()) else { return f64::NAN };
    let total: f64 = sorted.windows(2).map(|w| (w[0].1 + w[1].1) / 2.0).sum();
    let target = p * total;
    let (mut t, mut before) = (0.0, first);
    for next in &sorted[1..] {
        let step = (before.1 + next.1) / 2.0;
        if t + step >= target {
            let share = ((target - t) / step).clamp(0.0, 1.0);
            return f64::from(before.0) + share * (f64::from(next.0) - f64::from(before.0));
        }
        (t, before) = (t + step, next);
    }
    f64::from(last.0)
}

/// The quantile `p` of unweighted values, which are rearranged (type 7).
pub(crate) fn plain_quantile(values: &mut [f32], p: f64) -> f64 {
    if values.is_empty() {
        return f64::NAN;
    }
    let h = (values.len() - 1) as f64 * p;
    let (low, share) = (h.floor() as usize, h - h.floor());
    let (_, at, above) = values.select_nth_unstable_by(low, f32::total_cmp);
    let at = f64::from(*at);
    match above.iter().copied().min_by(f32::total_cmp) {
        Some(next) if share > 0.0 => at + share * (f64::from(next) - at),
        _ => at,
    }
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

    #[test]
    fn worked_quantiles() {
        let e = worked::example("weighted_quantile");
        let mut pairs: Vec<(f32, f64)> =
            e.numbers("values").iter().map(|v| *v as f32).zip(e.numbers("weights")).collect();
        pairs.sort_by(|a, b| a.0.total_cmp(&b.0));
        for (p, want) in e.numbers("p").iter().zip(e.expected_numbers()) {
            let got = weighted_quantile(&pairs, *p);
            assert!((got - want).abs() < 1e-7, "{p}: {got} {want}"); // the values are held in f32
        }
        for name in ["percentiles_type7_odd", "percentiles_type7_even"] {
            let e = worked::example(name);
            let values: Vec<f32> = e.numbers("values").iter().map(|v| *v as f32).collect();
            for (p, want) in e.numbers("percent").iter().zip(e.expected_numbers()) {
                assert!((plain_quantile(&mut values.clone(), p / 100.0) - want).abs() < 1e-7);
            }
        }
    }

    proptest! {
        #[test]
        fn equal_weights_are_type_7(mut values in proptest::collection::vec(-9.0f32..9.0, 1..60), p in 0.0..=1.0f64, w in 0.1..1.0f64) {
            values.sort_by(f32::total_cmp);
            let pairs: Vec<(f32, f64)> = values.iter().map(|v| (*v, w)).collect();
            prop_assert!((weighted_quantile(&pairs, p) - plain_quantile(&mut values, p)).abs() < 1e-6);
        }
    }
}
