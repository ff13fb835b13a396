//! The threshold that parts two lumps of values best (Otsu 1979).

/// A threshold between two classes.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Otsu {
    /// Values from here on belong to the upper class.
    pub threshold: f64,
    /// Variance between the two classes.
    pub between: f64,
    /// Its share of the whole variance, 0 to 1: how well two lumps describe the values.
    pub eta: f64,
}

/// Below this share two lumps describe the values poorly.
pub const WEAK: f64 = 0.7;

impl Otsu {
    /// True where the values hardly fall into two lumps.
    pub fn is_weak(&self) -> bool {
        self.eta < WEAK
    }
}

/// From a histogram of equal bins between two values: the edge behind a bin that maximises ω₀ω₁(μ₀ − μ₁)², means taken
/// from the bins' centres. Where several edges in a row do equally well (a gap between the lumps) their middle is taken.
/// None where all values are the same.
pub fn otsu(counts: &[u64], from: f64, to: f64) -> Option<Otsu> {
    let width = (to - from) / counts.len() as f64;
    let centre = |i: usize| from + (i as f64 + 0.5) * width;
    let all: f64 = counts.iter().map(|n| *n as f64).sum();
    let sum: f64 = counts.iter().enumerate().map(|(i, n)| *n as f64 * centre(i)).sum();
    let mean = sum / all;
    let total: f64 = counts.iter().enumerate().map(|(i, n)| *n as f64 * (centre(i) - mean).powi(2)).sum::<f64>() / all;
    if total.is_nan() || total <= 0.0 {
        return None;
    }
    let (mut below, mut below_sum) = (0.0, 0.0);
    let (mut best, mut edges) = (0.0f64, (0, 0));
    for (i, n) in counts.iter().enumerate().take(counts.len() - 1) {
        below += *n as f64;
        below_sum += *n as f64 * centre(i);
        let above = all - below;
        if below == 0.0 || above == 0.0 {
            continue;
        }
        let between = below / all * (above / all) * (below_sum / below - (sum - below_sum) / above).powi(2);
        let tie = (between - best).abs() <= 1e-12 * best && edges.1 == i;
        if tie {
            edges.1 = i + 1;
        } else if between > best {
            (best, edges) = (between, (i + 1, i + 1));
        }
    }
    let threshold = from + width * (edges.0 + edges.1) as f64 / 2.0;
    Some(Otsu { threshold, between: best, eta: best / total })
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::worked;

    fn histogram(values: &[f64], bins: usize) -> (Vec<u64>, f64, f64) {
        let (from, to) = values.iter().fold((f64::MAX, f64::MIN), |(a, b), v| (a.min(*v), b.max(*v)));
        let mut counts = vec![0; bins];
        for v in values {
            counts[(((v - from) / (to - from) * bins as f64) as usize).min(bins - 1)] += 1;
        }
        (counts, from, to)
    }

    #[test]
    fn worked_thresholds() {
        for name in ["otsu_8_bins", "otsu_256_bins", "otsu_two_lumps"] {
            let e = worked::example(name);
            let values = match name {
                "otsu_two_lumps" => (0..2000)
                    .map(f64::from)
                    .map(|k| if k % 3.0 == 0.0 { 0.6 + 0.1 * (0.7 * k).sin() } else { 0.15 + 0.08 * (1.3 * k).cos() })
                    .collect(),
                _ => e.numbers("values"),
            };
            let (counts, from, to) = histogram(&values, e.number("bins") as usize);
            let got = otsu(&counts, from, to).unwrap();
            e.check_one(got.threshold, e.expected("threshold"));
            e.check_one(got.between, e.expected("between"));
            e.check_one(got.eta, e.expected("eta"));
        }
    }

    #[test]
    fn one_value_has_no_threshold() {
        assert_eq!(otsu(&[0, 7, 0, 0], 0.0, 1.0), None);
        assert!(
            otsu(&[5, 4, 5, 4, 5], 0.0, 1.0).unwrap().is_weak() || otsu(&[5, 4, 5, 4, 5], 0.0, 1.0).unwrap().eta < 0.8
        );
    }
}
