//! Smoothing on even steps.
//!
//! Sources: Eilers 2003 (Whittaker's smoother), Savitzky & Golay 1964.

/// The curve `z` that minimises `Σ w (y − z)² + λ Σ (Δᵈ z)²`, for even steps; values of weight 0 may be NaN.
///
/// None where fewer than `order` values have a weight, or λ is not above zero.
pub fn whittaker(y: &[f64], weights: &[f64], lambda: f64, order: usize) -> Option<Vec<f64>> {
    let right: Vec<f64> = y.iter().zip(weights).map(|(y, w)| if *w > 0.0 { w * y } else { 0.0 }).collect();
    Some(factors(weights, lambda, order)?.solve(&right))
}

/// The root mean square of what each value differs from the curve of all others: small where λ fits.
pub fn leave_one_out(y: &[f64], weights: &[f64], lambda: f64, order: usize) -> Option<f64> {
    let z = whittaker(y, weights, lambda, order)?;
    let factors = factors(weights, lambda, order)?;
    let (mut sum, mut n) = (0.0, 0u32);
    for i in (0..y.len()).filter(|i| weights[*i] > 0.0) {
        let mut unit = vec![0.0; y.len()];
        unit[i] = 1.0;
        let leverage = weights[i] * factors.solve(&unit)[i];
        sum += ((y[i] - z[i]) / (1.0 - leverage)).powi(2);
        n += 1;
    }
    Some((sum / f64::from(n)).sqrt())
}

/// λ for steps of another length with the same smoothness: it grows with the step's length to the power 1 − 2d.
pub fn lambda_for_step(lambda: f64, from: f64, to: f64, order: usize) -> f64 {
    lambda * (from / to).powi(2 * order as i32 - 1)
}

/// A banded symmetric matrix as `L D Lᵀ`.
struct Factors {
    /// Below the diagonal, by row: `lower[i][k]` stands `k + 1` columns left of it.
    lower: Vec<Vec<f64>>,
    diagonal: Vec<f64>,
}

/// `W + λ DᵀD`, taken apart.
fn factors(weights: &[f64], lambda: f64, order: usize) -> Option<Factors> {
    let n = weights.len();
    if weights.iter().filter(|w| **w > 0.0).count() < order.max(1) || lambda <= 0.0 || lambda.is_nan() || n <= order {
        return None;
    }
    // the coefficients of the difference: binomial, with alternating signs
    let mut d = vec![1.0];
    for _ in 0..order {
        let mut next = vec![0.0; d.len() + 1];
        for (i, v) in d.iter().enumerate() {
            next[i] -= v;
            next[i + 1] += v;
        }
        d = next;
    }
    // bands[k][i] is the element at row i, column i − k
    let mut bands = vec![vec![0.0; n]; order + 1];
    bands[0].copy_from_slice(weights);
    for row in 0..n - order {
        for (a, da) in d.iter().enumerate() {
            for (b, db) in d.iter().enumerate().take(a + 1) {
                bands[a - b][row + a] += lambda * da * db;
            }
        }
    }
    let (mut lower, mut diagonal) = (vec![vec![0.0; order]; n], vec![0.0; n]);
    for i in 0..n {
        for k in (1..=order.min(i)).rev() {
            let j = i - k;
            let shared: f64 = (1..=order.min(j))
                .filter(|m| m + k <= order)
                .map(|m| lower[i][m + k - 1] * lower[j][m - 1] * diagonal[j - m])
                .sum();
            lower[i][k - 1] = (bands[k][i] - shared) / diagonal[j];
        }
        let shared: f64 = (1..=order.min(i)).map(|k| lower[i][k - 1].powi(2) * diagonal[i - k]).sum();
        diagonal[i] = bands[0][i] - shared;
        if diagonal[i] <= 0.0 || diagonal[i].is_nan() {
            return None;
        }
    }
    Some(Factors { lower, diagonal })
}

impl Factors {
    fn solve(&self, right: &[f64]) -> Vec<f64> {
        let n = right.len();
        let band = self.lower.first().map_or(0, Vec::len);
        let mut z = right.to_vec();
        for i in 0..n {
            for k in 1..=band.min(i) {
                z[i] -= self.lower[i][k - 1] * z[i - k];
            }
        }
        z.iter_mut().zip(&self.diagonal).for_each(|(z, d)| *z /= d);
        for i in (0..n).rev() {
            for k in 1..=band.min(n - 1 - i) {
                z[i] -= self.lower[i + k][k - 1] * z[i + k];
            }
        }
        z
    }
}

/// Least-squares polynomials over a moving window of an odd number of even steps, at its middle; the ends are read off
/// the polynomials of the first and last whole window.
///
/// None where the window is even, not longer than the order, or longer than the values.
pub fn savitzky_golay(y: &[f64], window: usize, order: usize) -> Option<Vec<f64>> {
    if window.is_multiple_of(2) || window <= order || y.len() < window {
        return None;
    }
    let half = (window / 2) as i64;
    // weights of a window's values for the polynomial at each of its places
    let at: Vec<Vec<f64>> = (-half..=half).map(|x| hat(window, order, x as f64)).collect::<Option<_>>()?;
    let apply = |first: usize, weights: &[f64]| -> f64 {
        y[first..first + window].iter().zip(weights).map(|(y, w)| y * w).sum()
    };
    let n = y.len();
    let one = |i: usize| {
        let first = i.saturating_sub(half as usize).min(n - window);
        apply(first, &at[i - first])
    };
    Some((0..n).map(one).collect())
}

/// The weights that give the fitted polynomial's value at `x`, counted from the window's middle.
fn hat(window: usize, order: usize, x: f64) -> Option<Vec<f64>> {
    let half = (window / 2) as f64;
    // scaled to −1…1: high powers of large numbers would lose digits
    let scale = if half > 0.0 { half } else { 1.0 };
    let places: Vec<f64> = (0..window).map(|i| (i as f64 - half) / scale).collect();
    let (n, x) = (order + 1, x / scale);
    let power = |v: f64, k: usize| v.powi(k as i32);
    // normal equations, solved by elimination
    let mut m: Vec<Vec<f64>> = (0..n)
        .map(|i| {
            let mut row: Vec<f64> = (0..n).map(|j| places.iter().map(|p| power(*p, i + j)).sum()).collect();
            row.push(power(x, i));
            row
        })
        .collect();
    for i in 0..n {
        let pivot = (i..n).max_by(|a, b| m[*a][i].abs().total_cmp(&m[*b][i].abs()))?;
        m.swap(i, pivot);
        for j in (0..n).filter(|j| *j != i) {
            let f = m[j][i] / m[i][i];
            let row = m[i].clone();
            m[j].iter_mut().zip(&row).skip(i).for_each(|(a, b)| *a -= f * b);
        }
    }
    let solved: Vec<f64> = (0..n).map(|i| m[i][n] / m[i][i]).collect();
    Some(places.iter().map(|p| solved.iter().enumerate().map(|(k, c)| c * power(*p, k)).sum()).collect())
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::worked;
    use proptest::prelude::*;

    fn near(got: &[f64], want: &[f64], tolerance: f64, what: &str) {
        assert_eq!(got.len(), want.len(), "{what}");
        got.iter().zip(want).for_each(|(g, w)| assert!((g - w).abs() < tolerance, "{what}: {g} {w}"));
    }

    #[test]
    fn worked_whittaker_curves() {
        for name in [
            "whittaker_lambda1_order2",
            "whittaker_lambda10_order2",
            "whittaker_lambda10_order1",
            "whittaker_lambda100_order3",
        ] {
            let e = worked::example(name);
            let y: Vec<f64> =
                e.value("/inputs/y").as_array().unwrap().iter().map(|v| v.as_f64().unwrap_or(f64::NAN)).collect();
            let (w, lambda, order) = (e.numbers("weights"), e.number("lam"), e.number("order") as usize);
            let want: Vec<f64> = serde_json::from_value(e.value("/expected/z").clone()).unwrap();
            near(&whittaker(&y, &w, lambda, order).unwrap(), &want, 1e-8, name);
            e.check_one(leave_one_out(&y, &w, lambda, order).unwrap(), e.expected("leave_one_out_rmse"));
        }
        let e = worked::example("whittaker_lambda_for_daily_grid");
        let daily = lambda_for_step(
            e.number("lam_16day"),
            e.number("step_from"),
            e.number("step_to"),
            e.number("order") as usize,
        );
        e.check(daily);
    }

    #[test]
    fn worked_moving_polynomials() {
        for name in ["savitzky_golay_5", "savitzky_golay_7"] {
            let e = worked::example(name);
            let (window, order) = (e.number("window") as usize, e.number("order") as usize);
            near(&savitzky_golay(&e.numbers("y"), window, order).unwrap(), &e.expected_numbers(), 1e-9, name);
        }
        assert_eq!(savitzky_golay(&[1.0; 4], 5, 2), None);
        assert_eq!(savitzky_golay(&[1.0; 9], 4, 2), None);
    }

    proptest! {
        #[test]
        fn straight_lines_stay_as_they_are(a in -5.0..5.0f64, b in -1.0..1.0f64, lambda in 0.1..1e6f64, n in 8usize..80, gone in proptest::collection::vec(any::<bool>(), 80)) {
            let line: Vec<f64> = (0..n).map(|i| a + b * i as f64).collect();
            let mut weights: Vec<f64> = (0..n).map(|i| if gone[i] { 0.0 } else { 1.0 }).collect();
            (weights[0], weights[n - 1]) = (1.0, 1.0);
            let z = whittaker(&line, &weights, lambda, 2).unwrap();
            prop_assert!(z.iter().zip(&line).all(|(z, y)| (z - y).abs() < 1e-5 * (1.0 + y.abs())));
            let s = savitzky_golay(&line, 7, 2).unwrap();
            prop_assert!(s.iter().zip(&line).all(|(z, y)| (z - y).abs() < 1e-9 * (1.0 + y.abs())));
        }
    }
}
