//! Looks on any days brought onto every day, smoothed if that is wanted.

use jiff::civil::Date;

use super::smooth::{lambda_for_step, leave_one_out, savitzky_golay, whittaker};

/// How a curve is drawn through looks.
#[derive(Debug, Clone, Copy, PartialEq, Default)]
pub enum Smoothing {
    /// Straight from look to look.
    #[default]
    None,
    /// Whittaker's smoother, second differences; λ as for steps of sixteen days, or chosen by leaving out each look.
    Whittaker(Option<f64>),
    /// Moving polynomials of second order over so many days, on values filled in straight.
    SavitzkyGolay(usize),
}

/// λ that are tried, as for steps of sixteen days.
const LADDER: [f64; 9] = [0.1, 0.3, 1.0, 3.0, 10.0, 30.0, 100.0, 300.0, 1000.0];
/// Days of the step for which λ is given.
const STEP: f64 = 16.0;
const ORDER: usize = 2;
/// Passes of the upper envelope, and the weight of looks below the curve.
const ENVELOPE: (usize, f64) = (4, 0.1);

/// A value for every day from the first to the last look; NaN within gaps longer than the limit.
#[derive(Debug, Clone, PartialEq)]
pub struct Curve {
    /// The first day.
    pub first: Date,
    /// By day.
    pub values: Vec<f64>,
    /// The λ that was used, as for steps of sixteen days.
    pub lambda: Option<f64>,
}

impl Curve {
    /// The value of a day; NaN outside.
    pub fn on(&self, day: Date) -> f64 {
        usize::try_from((day - self.first).get_days())
            .ok()
            .and_then(|i| self.values.get(i))
            .copied()
            .unwrap_or(f64::NAN)
    }

    /// The day at an index.
    pub fn day(&self, index: usize) -> Date {
        self.first.saturating_add(jiff::Span::new().days(index as i64))
    }
}

/// A curve through looks, sorted by day, one a day; missing values are not looks. Gaps of more than `limit` days stay
/// open. With `envelope` the curve follows the higher looks: what haze and missed clouds lower counts for less.
///
/// None where there is no look.
pub fn curve(looks: &[(Date, f64)], smoothing: Smoothing, limit: u32, envelope: bool) -> Option<Curve> {
    let known: Vec<(Date, f64)> = looks.iter().copied().filter(|l| l.1.is_finite()).collect();
    let (first, last) = (known.first()?.0, known.last()?.0);
    let index = |d: Date| (d - first).get_days().max(0) as usize;
    let n = index(last) + 1;
    let mut straight = vec![f64::NAN; n];
    let mut open = vec![false; n];
    for pair in known.windows(2) {
        let (a, b) = (index(pair[0].0), index(pair[1].0));
        for (i, v) in straight[a..=b].iter_mut().enumerate() {
            *v = pair[0].1 + (pair[1].1 - pair[0].1) * i as f64 / (b - a).max(1) as f64;
        }
        if b - a > limit as usize {
            open[a + 1..b].fill(true);
        }
    }
    straight[0] = known[0].1;
    let (mut y, mut w) = (vec![f64::NAN; n], vec![0.0; n]);
    for (d, v) in &known {
        (y[index(*d)], w[index(*d)]) = (*v, 1.0);
    }
    let (mut values, mut lambda) = (straight.clone(), None);
    match smoothing {
        Smoothing::None => {}
        // too few looks for a smoother: the straight lines stay
        _ if known.len() < 4 => {}
        Smoothing::Whittaker(given) => {
            let daily = |l: f64| lambda_for_step(l, STEP, 1.0, ORDER);
            let chosen = given.unwrap_or_else(|| {
                let error = |l: f64| leave_one_out(&y, &w, daily(l), ORDER).unwrap_or(f64::INFINITY);
                LADDER
                    .into_iter()
                    .map(|l| (l, error(l)))
                    .reduce(|a, b| if b.1 < a.1 { b } else { a })
                    .map_or(10.0, |c| c.0)
            });
            if let Some(z) = whittaker(&y, &w, daily(chosen), ORDER) {
                (values, lambda) = (z, Some(chosen));
            }
            for _ in 0..if envelope { ENVELOPE.0 } else { 0 } {
                for (i, w) in w.iter_mut().enumerate().filter(|(_, w)| **w > 0.0) {
                    *w = if y[i] >= values[i] { 1.0 } else { ENVELOPE.1 };
                }
                if let Some(z) = whittaker(&y, &w, daily(chosen), ORDER) {
                    values = z;
                }
            }
        }
        Smoothing::SavitzkyGolay(window) => {
            if let Some(z) = savitzky_golay(&straight, window, 2) {
                values = z;
            }
        }
    }
    values.iter_mut().zip(&open).filter(|(_, o)| **o).for_each(|(v, _)| *v = f64::NAN);
    Some(Curve { first, values, lambda })
}

#[cfg(test)]
mod tests {
    use super::*;

    fn day(n: i64) -> Date {
        jiff::civil::date(2031, 4, 1).saturating_add(jiff::Span::new().days(n))
    }

    #[test]
    fn short_gaps_are_bridged_long_ones_stay_open_and_nothing_is_extrapolated() {
        let looks = [(day(0), 0.2), (day(10), 0.4), (day(15), f64::NAN), (day(60), 0.6), (day(70), 0.8)];
        let c = curve(&looks, Smoothing::None, 32, false).unwrap();
        assert_eq!((c.first, c.values.len()), (day(0), 71));
        let on = |n: i64| (c.on(day(n)) * 1e9).round() / 1e9;
        assert_eq!((on(0), on(5), on(10), on(65)), (0.2, 0.3, 0.4, 0.7));
        assert!(c.on(day(11)).is_nan() && c.on(day(59)).is_nan() && c.on(day(60)) == 0.6);
        assert!(c.on(day(-1)).is_nan() && c.on(day(71)).is_nan());
        assert_eq!(curve(&[(day(3), f64::NAN)], Smoothing::None, 32, false), None);
        assert_eq!(curve(&[(day(3), 0.5)], Smoothing::Whittaker(None), 32, false).unwrap().values, [0.5]);
    }

    #[test]
    fn smoothing_takes_noise_off_a_season_and_the_envelope_takes_off_haze() {
        let truth = |n: f64| 0.2 + 0.6 * (-((n - 90.0) / 35.0).powi(2)).exp();
        let noise = |i: i64| ((i * 7919 % 13) as f64 / 6.0 - 1.0) * 0.05;
        let looks: Vec<(Date, f64)> = (0..36).map(|i| (day(i * 5), truth(i as f64 * 5.0) + noise(i))).collect();
        let error = |c: &Curve| {
            let n = c.values.len() as f64;
            (c.values.iter().enumerate().map(|(i, v)| (v - truth(i as f64)).powi(2)).sum::<f64>() / n).sqrt()
        };
        let of = |s| error(&curve(&looks, s, 32, false).unwrap());
        let plain = of(Smoothing::None);
        for s in [Smoothing::Whittaker(None), Smoothing::Whittaker(Some(0.1)), Smoothing::SavitzkyGolay(31)] {
            assert!(of(s) < 0.8 * plain, "{s:?}: {} {plain}", of(s));
        }
        let mut hazy = looks.clone();
        (0..36).step_by(4).for_each(|i| hazy[i].1 -= 0.25);
        let below = error(&curve(&hazy, Smoothing::Whittaker(Some(0.1)), 32, false).unwrap());
        let above = error(&curve(&hazy, Smoothing::Whittaker(Some(0.1)), 32, true).unwrap());
        assert!(above < 0.7 * below, "{above} {below}");
    }
}
