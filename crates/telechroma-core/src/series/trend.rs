//! A trend over years that outliers do not bend.

use crate::stat::median;

/// The median slope and how one-sided the series is.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Trend {
    /// Median of the slopes between all pairs, in units of the values per unit of time.
    pub slope: f64,
    /// Median of `value - slope · time`.
    pub intercept: f64,
    /// Pairs that rise less pairs that fall.
    pub s: i64,
    /// Variance of `s` where there is no trend.
    pub variance: f64,
}

/// Values that a trend needs.
pub const LEAST_VALUES: usize = 4;

impl Trend {
    /// `s` in standard deviations, brought towards 0 by one pair (continuity correction): beyond ±1.96 a trend this strong
    /// comes about by chance in less than 5 % of series. A rough measure below ten values.
    pub fn z(&self) -> f64 {
        let nearer = (self.s - self.s.signum()) as f64;
        if self.variance > 0.0 { nearer / self.variance.sqrt() } else { 0.0 }
    }
}

/// The trend of values at times; pairs in which either is not finite are left out. None of fewer than four values, or where
/// all are of one time. Values of several seasons of a year must be made one a year first.
///
/// Source: Sen (1968), Journal of the American Statistical Association 63, 1379–1389; Mann (1945), Econometrica 13,
/// 245–259, with the variance of Kendall (1975) for values that are equal.
pub fn trend(times: &[f64], values: &[f64]) -> Option<Trend> {
    let known: Vec<(f64, f64)> =
        times.iter().copied().zip(values.iter().copied()).filter(|(t, v)| t.is_finite() && v.is_finite()).collect();
    let n = known.len();
    let (mut slopes, mut s) = (vec![], 0i64);
    for (i, (t, v)) in known.iter().enumerate() {
        for (u, w) in &known[i + 1..] {
            if t != u {
                let slope = (w - v) / (u - t);
                s += if slope > 0.0 { 1 } else { -i64::from(slope < 0.0) };
                slopes.push(slope);
            }
        }
    }
    if n < LEAST_VALUES || slopes.is_empty() {
        return None;
    }
    let slope = median(&mut slopes);
    let mut sorted: Vec<f64> = known.iter().map(|k| k.1).collect();
    sorted.sort_by(f64::total_cmp);
    let term = |n: usize| (n * (n - 1) * (2 * n + 5)) as f64;
    let equal: f64 = sorted.chunk_by(|a, b| a == b).map(|c| term(c.len())).sum();
    let mut rests: Vec<f64> = known.iter().map(|(t, v)| v - slope * t).collect();
    let intercept = median(&mut rests);
    Some(Trend { slope, intercept, s, variance: (term(n) - equal) / 18.0 })
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::worked;

    #[test]
    fn worked_trend() {
        let e = worked::example("theil_sen");
        let t = trend(&e.numbers("t"), &e.numbers("v")).unwrap();
        let all =
            [("slope", t.slope), ("intercept", t.intercept), ("mann_kendall_s", t.s as f64), ("variance", t.variance)];
        for (key, got) in all {
            e.check_one(got, e.expected(key));
        }
        assert!((t.z() - 10.0 / t.variance.sqrt()).abs() < 1e-12);
    }

    #[test]
    fn what_makes_no_trend() {
        assert_eq!(trend(&[1.0, 2.0, 3.0, 4.0], &[0.1, f64::NAN, 0.3, 0.4]), None);
        assert_eq!(trend(&[1.0; 5], &[0.1, 0.2, 0.3, 0.4, 0.5]), None);
        let level = trend(&[1.0, 2.0, 3.0, 4.0, 5.0], &[0.5; 5]).unwrap();
        assert_eq!((level.slope, level.s, level.variance, level.z()), (0.0, 0, 0.0, 0.0));
        // one wild value of nine does not turn a falling series
        let times: Vec<f64> = (0..9).map(f64::from).collect();
        let values: Vec<f64> = times.iter().map(|t| if *t == 8.0 { 90.0 } else { -0.01 * t }).collect();
        let t = trend(&times, &values).unwrap();
        assert!((t.slope + 0.01).abs() < 1e-12 && t.s == 8 - 28 && t.z() < -1.96, "{t:?}");
    }
}
