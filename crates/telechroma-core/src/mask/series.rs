//! Cells that stand out of their own series.

use crate::stat::median;

/// A jump in the blue since the last clear look that no change of the ground explains (Hagolle et al. 2010): the longer
/// ago, the more is allowed; a redder jump is the ground's.
pub fn is_blue_jump(blue: f64, red: f64, days: f64) -> bool {
    blue > 0.03 * (1.0 + days / 30.0) && red <= 1.5 * blue
}

/// Looks that a series needs for its spread to mean anything.
pub const LEAST_LOOKS: usize = 5;
/// Distances from the median, in robust standard deviations, from which on a look is an outlier.
pub const ROBUST_DEVIATIONS: f64 = 3.0;
/// From the median distance from the median to a standard deviation, for normal values.
const TO_SD: f64 = 1.4826;

/// Median and median absolute deviation of known values; `values` is left sorted by distance from the median. NaN of
/// none.
pub fn robust(values: &mut [f64]) -> (f64, f64) {
    let centre = median(values);
    values.iter_mut().for_each(|v| *v = (*v - centre).abs());
    (centre, median(values))
}

/// The highest value that still belongs to a series of this median and median absolute deviation; infinite where the
/// series does not vary.
pub fn highest(median: f64, mad: f64) -> f64 {
    if mad > 0.0 { median + ROBUST_DEVIATIONS * TO_SD * mad } else { f64::INFINITY }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::worked;

    #[test]
    fn worked_jumps() {
        let e = worked::example("blue_jump");
        let cases = e.value("/inputs/cases").as_array().unwrap();
        let want = e.value("/expected").as_array().unwrap();
        assert_eq!(cases.len(), 4);
        for (case, want) in cases.iter().zip(want) {
            let n = |k: &str| case[k].as_f64().unwrap();
            assert_eq!(is_blue_jump(n("d_blue"), n("d_red"), n("days")), want.as_bool().unwrap(), "{case}");
        }
    }

    #[test]
    fn worked_robust_deviations() {
        let e = worked::example("mad_outliers");
        let values = e.numbers("values");
        let (median, mad) = robust(&mut values.clone());
        e.check_one(median, e.expected("median"));
        e.check_one(mad, e.expected("mad"));
        // the worked series has its outlier below; ours looks above, so both are mirrored
        let flags: Vec<bool> = values.iter().map(|v| -v > highest(-median, mad)).collect();
        let want: Vec<bool> =
            e.value("/expected/flags").as_array().unwrap().iter().map(|f| f.as_bool().unwrap()).collect();
        assert_eq!(flags, want);
        assert_eq!(highest(0.5, 0.0), f64::INFINITY);
        assert!(robust(&mut []).0.is_nan());
    }
}
