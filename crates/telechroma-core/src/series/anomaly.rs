//! A value against the same time of other years.

/// How a value differs from those of other years.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Anomaly {
    /// Difference from their mean.
    pub difference: f64,
    /// The difference in percent of the mean; NaN where that is 0.
    pub percent: f64,
    /// The difference in standard deviations (n − 1) of the years; NaN where they do not differ.
    pub z: f64,
    /// Place between the lowest (0) and the highest (1) of the years; beyond 0 and 1 outside them.
    pub vci: f64,
}

/// Years that are needed.
pub const LEAST_YEARS: usize = 5;

/// The anomaly of a value; none where fewer than five other years have one.
pub fn anomaly(value: f64, years: &[f64]) -> Option<Anomaly> {
    let known: Vec<f64> = years.iter().copied().filter(|v| v.is_finite()).collect();
    if !value.is_finite() || known.len() < LEAST_YEARS {
        return None;
    }
    let n = known.len() as f64;
    let mean = known.iter().sum::<f64>() / n;
    let sd = (known.iter().map(|v| (v - mean).powi(2)).sum::<f64>() / (n - 1.0)).sqrt();
    let fold = |best: fn(f64, f64) -> f64| known.iter().copied().reduce(best).unwrap_or(f64::NAN);
    let (low, high) = (fold(f64::min), fold(f64::max));
    let over = |a: f64, b: f64| if b == 0.0 { f64::NAN } else { a / b };
    let difference = value - mean;
    Some(Anomaly {
        difference,
        percent: over(100.0 * difference, mean),
        z: over(difference, sd),
        vci: over(value - low, high - low),
    })
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::worked;

    #[test]
    fn worked_anomaly() {
        let e = worked::example("anomaly");
        let a = anomaly(e.number("value"), &e.numbers("reference_years")).unwrap();
        for (key, got) in [("z", a.z), ("difference", a.difference), ("percent", a.percent), ("vci", a.vci)] {
            e.check_one(got, e.expected(key));
        }
        assert_eq!(anomaly(0.5, &[0.5, 0.4, 0.3, 0.2, f64::NAN]), None);
        assert!(anomaly(0.5, &[0.4; 5]).unwrap().z.is_nan());
    }
}
