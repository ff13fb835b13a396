//! The catalogue of statistics, one row each, percentiles `p0` to `p100`, shares of
//! classes and bins of histograms.

use std::fmt;
use std::str::FromStr;
use std::sync::Arc;

use super::gather::{Bins, Gather, Needs};
use crate::error::{Error, Result};
use crate::units::Unit;

/// What unit a statistic has, given that of the layer.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum UnitRule {
    /// The layer's.
    Same,
    /// None: a count or share.
    One,
    /// The layer's times cells.
    PerCell,
    /// The layer's, squared.
    Square,
    /// Hectares.
    Hectares,
}

/// What a statistic needs beyond sums and extremes.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Wants {
    /// Nothing.
    Nothing,
    /// All values, until the plot is done.
    Values,
    /// The weight of each class.
    Classes,
}

/// One statistic.
pub struct StatDef {
    /// Name, and the end of its column's name.
    pub id: &'static str,
    /// In words.
    pub doc: &'static str,
    /// Its unit.
    pub unit: UnitRule,
    /// What it needs.
    pub wants: Wants,
    finish: fn(&mut Gather, f64) -> f64,
}

const fn row(
    id: &'static str,
    doc: &'static str,
    unit: UnitRule,
    wants: Wants,
    finish: fn(&mut Gather, f64) -> f64,
) -> StatDef {
    StatDef { id, doc, unit, wants, finish }
}

use UnitRule::{Hectares, One, PerCell, Same, Square};
use Wants::{Classes, Nothing, Values};

/// Rows sorted by id. `finish` is given what was gathered and the weight of all cells of the raster in the plot.
#[rustfmt::skip]
pub const STATS: &[StatDef] = &[
    row("area", "area of the cells that count, by the share of each inside", Hectares, Nothing, |g, _| g.area() / 1e4),
    row("count", "cells with a value", One, Nothing, |g, _| g.count() as f64),
    row("cv", "coefficient of variation: sd over mean", One, Nothing, |g, _| g.variance().sqrt() / g.mean()),
    row("kept_share", "of the cells with a value, the share that meets the keep condition, 0 to 1", One, Nothing, |g, _| share(g.weight(), g.valid_weight())),
    row("majority", "the class that covers most; of equal ones the smallest number", Same, Classes, |g, _| g.majority()),
    row("max", "greatest value", Same, Nothing, |g, _| g.max()),
    row("mean", "weighted mean", Same, Nothing, |g, _| g.mean()),
    row("median", "weighted median", Same, Values, |g, _| g.quantile(0.5)),
    row("min", "least value", Same, Nothing, |g, _| g.min()),
    row("minority", "the class that covers least; of equal ones the smallest number", Same, Classes, |g, _| g.minority()),
    row("range", "greatest less least value", Same, Nothing, |g, _| g.max() - g.min()),
    row("sd", "standard deviation of the population (divisor: sum of weights)", Same, Nothing, |g, _| g.variance().sqrt()),
    row("sum", "weighted sum over cells", PerCell, Nothing, |g, _| g.sum()),
    row("valid_share", "share of the plot's cells that have a value, 0 to 1", One, Nothing, |g, all| share(g.valid_weight(), all)),
    row("variance", "variance of the population (divisor: sum of weights)", Square, Nothing, |g, _| g.variance()),
    row("variety", "how many classes there are", One, Classes, |g, _| g.variety()),
];

/// What a table holds if nothing else is asked for.
pub const DEFAULT_STATS: &[&str] = &["count", "valid_share", "mean", "sd", "min", "max", "median"];

fn share(part: f64, all: f64) -> f64 {
    if all > 0.0 { part / all } else { f64::NAN }
}

/// A statistic that was asked for.
#[derive(Clone)]
pub enum Stat {
    /// A row of the catalogue.
    Row(&'static StatDef),
    /// A percentile, 0 to 100.
    Percentile(f64),
    /// The share of a class.
    Class(i32),
    /// The share of a bin of a histogram.
    Bin(Arc<Bins>, u32),
}

/// The statistics that make a histogram, one a bin.
///
/// # Errors
/// Where the ends are not two numbers in order, or there are no bins, or more than 1000.
pub fn histogram(low: f64, high: f64, count: u32) -> Result<Vec<Stat>> {
    if !(low.is_finite() && high.is_finite() && low < high && (1..=1000).contains(&count)) {
        return Err(Error::Usage(format!(
            "a histogram from {low} to {high} in {count} bins does not exist: the first end is the smaller, and bins are 1 to 1000"
        )));
    }
    let bins = Arc::new(Bins { low, high, count });
    Ok((0..count).map(|i| Stat::Bin(bins.clone(), i)).collect())
}

impl Stat {
    /// The value; NaN where no cell counts.
    pub fn of(&self, gathered: &mut Gather, all_weight: f64) -> f64 {
        match self {
            Stat::Row(row) => (row.finish)(gathered, all_weight),
            Stat::Percentile(p) => gathered.quantile(p / 100.0),
            Stat::Class(class) => gathered.class_share(*class),
            Stat::Bin(_, i) => gathered.bin_share(*i),
        }
    }

    /// What a list of statistics needs.
    pub fn needs(all: &[Stat]) -> Needs {
        let wants = |w: Wants| {
            all.iter().any(|s| match s {
                Stat::Row(row) => row.wants == w,
                Stat::Percentile(_) => w == Wants::Values,
                Stat::Class(_) => w == Wants::Classes,
                Stat::Bin(..) => false,
            })
        };
        let bins = all.iter().find_map(|s| if let Stat::Bin(bins, _) = s { Some(bins.clone()) } else { None });
        Needs { values: wants(Wants::Values), classes: wants(Wants::Classes), bins }
    }

    /// The sign of its unit for a layer in `unit`.
    pub fn unit_sign(&self, unit: Unit) -> String {
        let rule = match self {
            Stat::Row(row) => row.unit,
            Stat::Percentile(_) => UnitRule::Same,
            Stat::Class(_) | Stat::Bin(..) => UnitRule::One,
        };
        match (rule, unit.sign()) {
            (UnitRule::Same, sign) => sign.to_string(),
            (UnitRule::One, _) | (UnitRule::Square, "") => String::new(),
            (UnitRule::PerCell, sign) => format!("{sign} cells").trim().to_string(),
            (UnitRule::Square, sign) => format!("({sign})²"),
            (UnitRule::Hectares, _) => "ha".to_string(),
        }
    }

    /// In words.
    pub fn doc(&self) -> String {
        match self {
            Stat::Row(row) => row.doc.into(),
            Stat::Percentile(p) => format!("weighted percentile {p}"),
            Stat::Class(class) => format!("share of the cells that are of class {class}, 0 to 1"),
            Stat::Bin(bins, i) => {
                let until = if i + 1 == bins.count { "up to" } else { "to below" };
                format!(
                    "share of the cells from {} {until} {}, 0 to 1",
                    tidy(bins.border(*i)),
                    tidy(bins.border(i + 1))
                )
            }
        }
    }
}

/// A border without the last digits that arithmetic leaves.
fn tidy(v: f64) -> f64 {
    let digits = format!("{v:.12e}");
    digits.parse().unwrap_or(v)
}

impl fmt::Display for Stat {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Stat::Row(row) => f.write_str(row.id),
            Stat::Percentile(p) => write!(f, "p{p}"),
            Stat::Class(class) => write!(f, "class_{class}"),
            Stat::Bin(bins, i) => write!(f, "from_{}_to_{}", tidy(bins.border(*i)), tidy(bins.border(i + 1))),
        }
    }
}

impl fmt::Debug for Stat {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "{self}")
    }
}

impl FromStr for Stat {
    type Err = Error;

    fn from_str(text: &str) -> Result<Stat> {
        if let Some(row) = STATS.iter().find(|s| s.id == text) {
            return Ok(Stat::Row(row));
        }
        if let Some(Ok(class)) = text.strip_prefix("class_").map(str::parse) {
            return Ok(Stat::Class(class));
        }
        match text.strip_prefix('p').map(str::parse::<f64>) {
            Some(Ok(p)) if (0.0..=100.0).contains(&p) => Ok(Stat::Percentile(p)),
            Some(Ok(p)) => Err(Error::Usage(format!("percentile {p} does not exist: p0 to p100"))),
            _ => Err(Error::unknown("statistic", text, STATS.iter().map(|s| s.id).chain(["p10", "class_1"]))),
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn rows_are_sorted_and_found() {
        assert!(STATS.is_sorted_by_key(|s| s.id));
        for id in DEFAULT_STATS {
            assert_eq!(id.parse::<Stat>().unwrap().to_string(), *id);
        }
        assert_eq!("p2.5".parse::<Stat>().unwrap().to_string(), "p2.5");
        assert!("p101".parse::<Stat>().unwrap_err().to_string().contains("p0 to p100"));
        assert!("meen".parse::<Stat>().unwrap_err().to_string().contains("did you mean 'mean'"));
    }

    #[test]
    fn a_constant_plot_has_no_spread_and_an_empty_one_is_missing() {
        let needs = Needs { values: true, ..Needs::default() };
        let mut g = Gather::new(&needs);
        g.add_weighted(&[301.27; 40], None, 1.0, 100.0);
        g.add_weighted(&[301.27, f32::NAN], None, 0.4, 100.0);
        let get = |id: &str, g: &mut Gather| id.parse::<Stat>().unwrap().of(g, 50.0);
        assert_eq!(get("sd", &mut g), 0.0);
        assert_eq!(get("count", &mut g), 41.0);
        assert!((get("valid_share", &mut g) - 40.4 / 50.0).abs() < 1e-15);
        assert!((get("area", &mut g) - 0.404).abs() < 1e-15);
        let mut none = Gather::new(&needs);
        none.add_weighted(&[f32::NAN; 3], None, 1.0, 100.0);
        assert_eq!(get("area", &mut none), 0.0);
        assert_eq!(get("count", &mut none), 0.0);
        for id in ["mean", "sd", "cv", "variance", "min", "max", "median", "sum", "range", "p10"] {
            assert!(get(id, &mut none).is_nan(), "{id}");
        }
    }

    #[test]
    fn cells_that_fail_the_condition_are_valid_but_not_kept() {
        let mut g = Gather::new(&Needs::default());
        let keep = [1.0, 0.0, f32::NAN, 1.0];
        g.add_weighted(&[1.0, 2.0, 3.0, f32::NAN], Some(&keep), 0.5, 1.0);
        assert_eq!((g.count(), g.valid_weight(), g.weight(), g.mean()), (1, 1.5, 0.5, 1.0));
    }

    #[test]
    fn a_histogram_is_one_column_a_bin() {
        let stats = histogram(0.0, 0.6, 3).unwrap();
        let names: Vec<String> = stats.iter().map(Stat::to_string).collect();
        assert_eq!(names, ["from_0_to_0.2", "from_0.2_to_0.4", "from_0.4_to_0.6"]);
        let mut g = Gather::new(&Stat::needs(&stats));
        g.add_weighted(&[0.1, 0.3, 0.35, 0.5, 0.7], None, 1.0, 1.0);
        let shares: Vec<f64> = stats.iter().map(|s| s.of(&mut g, 5.0)).collect();
        assert_eq!(shares, [0.2, 0.4, 0.2], "0.7 lies beyond: the shares are of all cells that count");
        assert!(histogram(1.0, 1.0, 3).is_err() && histogram(0.0, f64::NAN, 3).is_err());
    }
}
