//! The measures of a season: its start, peak and end.
//!
//! Source: the amplitude threshold of Jönsson & Eklundh 2004.

/// A season, in days counted as the curve's are (fractions of days where a limit is crossed between two).
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Season {
    /// First rise above the left base by a share of the amplitude on that side.
    pub start: f64,
    /// Day of the highest value.
    pub peak_day: f64,
    /// Last fall below the right base by that share.
    pub end: f64,
    /// The highest value.
    pub peak: f64,
    /// Lowest value before the peak, and after it.
    pub base: (f64, f64),
    /// The peak above the mean of both bases.
    pub amplitude: f64,
    /// Sum over days from start to end of what lies above the line from one base to the other: the value's unit times
    /// days.
    pub integral: f64,
}

impl Season {
    /// Days from start to end.
    pub fn length(&self) -> f64 {
        self.end - self.start
    }
}

/// Why there is no season.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum SeasonError {
    /// Fewer than three values.
    TooFew,
    /// The amplitude is below the least.
    Flat,
    /// The curve does not rise before its peak, or does not fall after it: the window cuts the season.
    Cut,
    /// A gap lies where a limit is crossed.
    Gap,
}

impl SeasonError {
    /// In words.
    pub fn text(self) -> &'static str {
        match self {
            SeasonError::TooFew => "too few values",
            SeasonError::Flat => "too little change for a season",
            SeasonError::Cut => "the dates cut the season",
            SeasonError::Gap => "a gap lies at its start or end",
        }
    }
}

/// Least amplitude of a season of a vegetation index.
pub const LEAST_AMPLITUDE: f64 = 0.1;

/// The season of a curve given by days, rising, and values (NaN in gaps), with limits at a share of the amplitude.
///
/// # Errors
/// Where there is none, and why.
pub fn season(days: &[f64], values: &[f64], share: f64, least: f64) -> Result<Season, SeasonError> {
    let known = |i: &usize| values[*i].is_finite();
    let all: Vec<usize> = (0..days.len().min(values.len())).filter(known).collect();
    if all.len() < 3 {
        return Err(SeasonError::TooFew);
    }
    // of equal values the first
    let first_best = |better: fn(f64, f64) -> bool, some: &[usize]| {
        some.iter().copied().reduce(|a, b| if better(values[b], values[a]) { b } else { a })
    };
    let top = first_best(|a, b| a > b, &all).unwrap_or(0);
    let (before, after): (Vec<usize>, Vec<usize>) = all.iter().copied().partition(|i| *i <= top);
    let after: Vec<usize> = std::iter::once(top).chain(after).collect();
    let left = first_best(|a, b| a < b, &before).unwrap_or(top);
    let right = first_best(|a, b| a < b, &after).unwrap_or(top);
    let (peak, base) = (values[top], (values[left], values[right]));
    let lowest = base.0.min(base.1);
    if peak - lowest < least {
        return Err(SeasonError::Flat);
    }
    if left == top || right == top || peak - base.0 < least / 2.0 || peak - base.1 < least / 2.0 {
        return Err(SeasonError::Cut);
    }
    let amplitude = peak - (base.0 + base.1) / 2.0;
    if amplitude < least {
        return Err(SeasonError::Flat);
    }
    let limits = (base.0 + share * (peak - base.0), base.1 + share * (peak - base.1));
    let between = |a: usize, b: usize, limit: f64| {
        let t = (limit - values[a]) / (values[b] - values[a]);
        days[a] + t * (days[b] - days[a])
    };
    let neighbours = |a: usize, b: usize| if b == a + 1 { Ok(()) } else { Err(SeasonError::Gap) };
    let rise =
        before.windows(2).find(|p| values[p[0]] < limits.0 && values[p[1]] >= limits.0).ok_or(SeasonError::Cut)?;
    let fall =
        after.windows(2).rev().find(|p| values[p[0]] >= limits.1 && values[p[1]] < limits.1).ok_or(SeasonError::Cut)?;
    neighbours(rise[0], rise[1])?;
    neighbours(fall[0], fall[1])?;
    let (start, end) = (between(rise[0], rise[1], limits.0), between(fall[0], fall[1], limits.1));
    let line = |d: f64| base.0 + (base.1 - base.0) * (d - days[left]) / (days[right] - days[left]);
    // trapezes between the values, and to the ends
    let mut points: Vec<(f64, f64)> = vec![(start, limits.0 - line(start))];
    points.extend(
        all.iter().filter(|i| days[**i] > start && days[**i] < end).map(|i| (days[*i], values[*i] - line(days[*i]))),
    );
    points.push((end, limits.1 - line(end)));
    let integral = points.windows(2).map(|p| (p[1].0 - p[0].0) * (p[0].1 + p[1].1) / 2.0).sum();
    Ok(Season { start, peak_day: days[top], end, peak, base, amplitude, integral })
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::worked;

    #[test]
    fn worked_seasons() {
        for name in ["season_amplitude_20pct", "season_amplitude_50pct"] {
            let e = worked::example(name);
            let s = season(&e.numbers("day"), &e.numbers("ndvi"), e.number("fraction"), LEAST_AMPLITUDE).unwrap();
            for (key, got) in [
                ("start", s.start),
                ("end", s.end),
                ("length", s.length()),
                ("peak_day", s.peak_day),
                ("peak", s.peak),
                ("base_left", s.base.0),
                ("base_right", s.base.1),
            ] {
                e.check_one(got, e.expected(key));
            }
        }
    }

    #[test]
    fn a_triangle_has_the_area_of_a_triangle() {
        let days: Vec<f64> = (0..101).map(f64::from).collect();
        let values: Vec<f64> = days.iter().map(|d| 0.2 + 0.6 * (1.0 - (d - 50.0).abs() / 50.0)).collect();
        let s = season(&days, &values, 0.5, LEAST_AMPLITUDE).unwrap();
        assert!((s.start - 25.0).abs() < 1e-9 && (s.end - 75.0).abs() < 1e-9 && (s.amplitude - 0.6).abs() < 1e-12);
        // a trapeze: from half height up to the top and down again
        assert!((s.integral - 50.0 * (0.3 + 0.6) / 2.0).abs() < 1e-9, "{}", s.integral);
    }

    #[test]
    fn no_season_says_why() {
        let days: Vec<f64> = (0..11).map(f64::from).collect();
        let of =
            |f: fn(f64) -> f64| season(&days, &days.iter().map(|d| f(*d)).collect::<Vec<_>>(), 0.2, LEAST_AMPLITUDE);
        assert_eq!(of(|_| 0.4), Err(SeasonError::Flat));
        assert_eq!(of(|d| 0.1 * d), Err(SeasonError::Cut));
        assert_eq!(of(|d| if d < 2.0 { 0.5 } else { f64::NAN }), Err(SeasonError::TooFew));
        assert_eq!(of(|d| if d == 1.0 { f64::NAN } else { 0.8 - 0.1 * (d - 5.0).abs() }), Err(SeasonError::Gap));
    }
}
