//! Round numbers for axes and legends, and the ends of a stretch.

/// The percentile (0–100) of known values by linear interpolation between the two nearest (Hyndman & Fan 1996, type 7).
/// Rearranges `known`, which has no NaN.
fn percentile(known: &mut [f32], p: f64) -> f64 {
    let Some(last) = known.len().checked_sub(1) else { return f64::NAN };
    let h = last as f64 * p / 100.0;
    let (_, low, above) = known.select_nth_unstable_by(h as usize, f32::total_cmp);
    let low = *low;
    let high = above.iter().copied().min_by(f32::total_cmp).unwrap_or(low);
    f64::from(low) + h.fract() * (f64::from(high) - f64::from(low))
}

/// The ends of a stretch from one percentile to another; none where all values are missing. Equal ends are parted.
pub fn ends(values: impl Iterator<Item = f32>, low: f64, high: f64) -> Option<(f64, f64)> {
    let mut known: Vec<f32> = values.filter(|v| v.is_finite()).collect();
    if known.is_empty() {
        return None;
    }
    let (a, b) = (percentile(&mut known, low), percentile(&mut known, high));
    let apart = 1e-6 * a.abs().max(b.abs()).max(1e-6);
    Some(if b - a < apart { (a - apart, b + apart) } else { (a, b) })
}

/// A round step (1, 2 or 5 times a power of ten) that cuts `span` into about `parts` parts.
pub(crate) fn step(span: f64, parts: f64) -> f64 {
    let raw = span / parts;
    let power = 10f64.powf(raw.log10().floor());
    // whichever is nearest by ratio: the borders are √2, √10 and √50
    power
        * match raw / power {
            r if r < 1.414 => 1.0,
            r if r < 3.162 => 2.0,
            r if r < 7.071 => 5.0,
            _ => 10.0,
        }
}

/// Multiples of a round step inside `low..=high`, with the digits behind the point that they need.
pub(crate) fn ticks(low: f64, high: f64, parts: f64) -> (Vec<f64>, usize) {
    let (span, step) = (high - low, step(high - low, parts));
    if !(span.is_finite() && step.is_finite() && step > 0.0) {
        return (vec![], 0);
    }
    let (first, last) = ((low / step - 1e-9).ceil() as i64, (high / step + 1e-9).floor() as i64);
    let digits = (-step.log10().floor()).clamp(0.0, 9.0) as usize;
    ((first..=last).map(|i| i as f64 * step).collect(), digits)
}

/// A number with so many digits behind the point and a true minus sign.
pub(crate) fn number(v: f64, digits: usize) -> String {
    let t = format!("{:.digits$}", if v.abs() < 0.5 * 10f64.powi(-(digits as i32)) { 0.0 } else { v });
    t.replace('-', "\u{2212}")
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn ticks_are_round_and_inside() {
        assert_eq!(
            ticks(-0.23, 0.91, 5.0),
            ((-1..=4).map(|i| f64::from(i) * 0.2).filter(|t| *t >= -0.23).collect(), 1)
        );
        let (t, digits) = ticks(283.1, 311.9, 6.0);
        assert_eq!((t, digits), (vec![285.0, 290.0, 295.0, 300.0, 305.0, 310.0], 0));
        assert_eq!(number(-0.2, 1), "\u{2212}0.2");
        assert_eq!(number(-0.0001, 2), "0.00");
    }

    #[test]
    fn ends_leave_out_the_missing_and_part_the_equal() {
        let v = [f32::NAN, 0.0, 1.0, 2.0, 3.0, 4.0];
        assert_eq!(ends(v.into_iter(), 0.0, 100.0), Some((0.0, 4.0)));
        assert_eq!(ends(v.into_iter(), 25.0, 50.0), Some((1.0, 2.0)));
        assert_eq!(ends([f32::NAN].into_iter(), 2.0, 98.0), None);
        let (a, b) = ends([5.0f32; 3].into_iter(), 2.0, 98.0).unwrap();
        assert!(a < 5.0 && b > 5.0);
    }
}
