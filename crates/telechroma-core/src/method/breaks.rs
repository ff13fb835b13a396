//! Breaks of classes read from the values themselves: one pass for their range, another for what must be exact.

use crate::class::{Otsu, otsu};
use crate::error::{Error, Result};
use crate::graph::{Graph, NodeId};
use crate::run::{Budget, Observer, Plan, run};
use crate::survey::{Refined, Refiner, Survey, Surveyor};
use crate::tile::Kind;

/// Bins of the histogram that a threshold is found in.
const BINS: usize = 256;

/// How breaks follow from values.
#[derive(Debug, Clone, Copy, PartialEq)]
pub enum Breaks {
    /// So many classes of equal width from the least to the greatest value.
    Equal(usize),
    /// So many classes with equally many cells: breaks are percentiles of type 7 (Hyndman & Fan 1996).
    Quantiles(usize),
    /// Two classes, parted by Otsu's threshold; over the 0.1st to 99.9th percentile where outliers are left out.
    Otsu {
        /// True to leave out outliers.
        trimmed: bool,
    },
}

/// A plane to be looked at; planned anew for each pass.
pub type Planned<'a> = &'a dyn Fn() -> Result<(Graph, NodeId)>;

/// Finds breaks, and the threshold's worth where there is one.
///
/// # Errors
/// Where reading fails, or the values cannot be parted.
pub fn find_breaks(
    plane: Planned,
    how: Breaks,
    budget: Budget,
    observer: &dyn Observer,
) -> Result<(Vec<f64>, Option<Otsu>)> {
    let survey = survey(plane, budget, observer)?;
    let (least, most) = survey.range;
    if survey.known == 0 {
        return Err(Error::Usage("there is no value to put into classes".into()));
    }
    if least == most {
        return Err(Error::Usage(format!("all values are {least}: there is nothing to part")));
    }
    match how {
        Breaks::Equal(n) => {
            let at = |i: usize| if i == n { most } else { least + (most - least) * i as f64 / n as f64 };
            Ok(((0..=n).map(at).collect(), None))
        }
        Breaks::Quantiles(n) => {
            let shares: Vec<f64> = (0..=n).map(|i| 100.0 * i as f64 / n as f64).collect();
            let mut breaks = percentiles(plane, &survey, &shares, budget, observer)?;
            let asked = breaks.len();
            breaks.dedup();
            if breaks.len() < asked {
                return Err(Error::Usage(format!(
                    "values occur so often that {n} classes of equal size cannot be told apart: ask for fewer"
                )));
            }
            Ok((breaks, None))
        }
        Breaks::Otsu { trimmed } => {
            let ends = match trimmed {
                true => percentiles(plane, &survey, &[0.1, 99.9], budget, observer)?,
                false => vec![least, most],
            };
            let (from, to) = (ends[0], ends[1]);
            let none = || Error::Usage("the values do not fall into two lumps: give breaks instead".to_string());
            if from >= to {
                return Err(none());
            }
            let refined = refine(plane, Refiner::histogram(from, to, BINS), budget, observer)?;
            let found = otsu(refined.histogram(), from, to).ok_or_else(none)?;
            Ok((vec![f64::NEG_INFINITY, found.threshold, f64::INFINITY], Some(found)))
        }
    }
}

fn survey(plane: Planned, budget: Budget, observer: &dyn Observer) -> Result<Survey> {
    let (g, node) = plane()?;
    let (surveyor, mut surveys) = Surveyor::new(vec![Kind::Values], g.grid().window());
    let sinks = vec![surveyor.sink(&mut surveys, &[node])];
    let plan = Plan::new(g, &sinks, budget)?;
    run(&plan, sinks, observer)?;
    let mut found = surveys.finish();
    Ok(found.swap_remove(0))
}

fn refine(plane: Planned, refiner: Refiner, budget: Budget, observer: &dyn Observer) -> Result<Refined> {
    let (g, node) = plane()?;
    let mut refined = Refined::new(&refiner);
    let sinks = vec![refiner.sink(&mut refined, node)];
    let plan = Plan::new(g, &sinks, budget)?;
    run(&plan, sinks, observer)?;
    Ok(refined)
}

/// Exact percentiles of type 7, by a second pass over the bins that hold the wanted ranks.
fn percentiles(
    plane: Planned,
    survey: &Survey,
    shares: &[f64],
    budget: Budget,
    observer: &dyn Observer,
) -> Result<Vec<f64>> {
    let last = survey.known - 1;
    let h: Vec<f64> = shares.iter().map(|p| last as f64 * p / 100.0).collect();
    let ranks: Vec<u64> = h.iter().flat_map(|h| [*h as u64, (*h as u64 + 1).min(last)]).collect();
    let refiner = Refiner::ranks(survey, &ranks);
    let refined = refine(plane, refiner, budget, observer)?;
    Ok(h.iter()
        .map(|h| {
            let low = *h as u64;
            let (a, b) = (refined.at_rank(survey, low), refined.at_rank(survey, (low + 1).min(last)));
            a + h.fract() * (b - a)
        })
        .collect())
}

#[cfg(test)]
mod tests {
    use std::sync::Arc;

    use proptest::prelude::*;

    use super::*;
    use crate::geo::Affine;
    use crate::grid::Grid;
    use crate::run::Silent;
    use crate::tile::{BlockShape, PlaneSource, PlaneSpec, Tile};
    use crate::units::Unit;

    #[derive(Debug)]
    struct Given(Vec<f32>, PlaneSpec);

    impl PlaneSource for Given {
        fn spec(&self) -> &PlaneSpec {
            &self.1
        }
        fn block(&self) -> BlockShape {
            BlockShape { cols: self.0.len() as u32, rows: 1 }
        }
        fn read_block(&self, _: u32, out: &mut Tile) -> Result<()> {
            let from = out.window.col as usize;
            let n = out.window.len();
            out.values_mut().copy_from_slice(&self.0[from..from + n]);
            Ok(())
        }
        fn name(&self) -> String {
            "given".into()
        }
    }

    fn breaks(values: &[f32], how: Breaks) -> Result<Vec<f64>> {
        let grid =
            Grid { crs: None, transform: Affine::north_up(0.0, 0.0, 1.0, 1.0), cols: values.len() as u32, rows: 1 };
        let spec = PlaneSpec { grid: Arc::new(grid.clone()), kind: Kind::Values, unit: Unit::One };
        let source: Arc<dyn PlaneSource> = Arc::new(Given(values.to_vec(), spec));
        let plane = || {
            let mut g = Graph::new(grid.clone());
            let node = g.source(source.clone(), None)?;
            Ok((g, node))
        };
        let budget = Budget { threads: 1, bytes: 1 << 30 };
        find_breaks(&plane, how, budget, &Silent).map(|b| b.0)
    }

    #[test]
    fn what_cannot_be_parted_is_said() {
        let said = |v: &[f32], how| breaks(v, how).unwrap_err().to_string();
        assert!(said(&[f32::NAN; 4], Breaks::Equal(3)).contains("no value"));
        assert!(said(&[0.5; 9], Breaks::Otsu { trimmed: false }).contains("all values are 0.5"));
        assert!(said(&[0.0, 0.0, 0.0, 0.0, 1.0], Breaks::Quantiles(4)).contains("ask for fewer"));
        assert_eq!(breaks(&[2.0, f32::NAN, 5.0], Breaks::Equal(3)).unwrap(), [2.0, 3.0, 4.0, 5.0]);
    }

    proptest! {
        #[test]
        fn quantiles_are_those_of_the_sorted_values(values in proptest::collection::hash_set(-30000i32..30000, 12..300), n in 2usize..6) {
            let values: Vec<f32> = values.into_iter().map(|v| v as f32 / 7919.0).collect();
            let mut sorted: Vec<f64> = values.iter().map(|v| f64::from(*v)).collect();
            sorted.sort_by(f64::total_cmp);
            let got = breaks(&values, Breaks::Quantiles(n)).unwrap();
            for (i, got) in got.into_iter().enumerate() {
                let h = (sorted.len() - 1) as f64 * i as f64 / n as f64;
                let low = (h + 1e-9) as usize;
                let high = (low + 1).min(sorted.len() - 1);
                let want = sorted[low] + (h - low as f64) * (sorted[high] - sorted[low]);
                prop_assert!((got - want).abs() < 1e-6, "{got} {want}");
            }
        }
    }
}
