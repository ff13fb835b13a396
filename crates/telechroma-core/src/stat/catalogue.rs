//! The catalogue of statistics, one row each, and percentiles `p0` to `p100`.

use std::fmt;
use std::str::FromStr;

use super::gather::Gather;
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
}

/// One statistic.
pub struct StatDef {
    /// Name, and the end of its column's name.
    pub id: &'static str,
    /// In words.
    pub doc: &'static str,
    /// Its unit.
    pub unit: UnitRule,
    /// True where all values must be kept until the plot is done.
    pub quantile: bool,
    finish: fn(&mut Gather, f64) -> f64,
}

/// Rows sorted by id. `finish` is given what was gathered and the weight of all cells of the raster in the plot.
pub const STATS: &[StatDef] = &[
    StatDef {
        id: "count",
        doc: "cells with a value",
        unit: UnitRule::One,
        quantile: false,
        finish: |g, _| g.count() as f64,
    },
    StatDef {
        id: "kept_share",
        doc: "of the cells with a value, the share that meets the keep condition, 0 to 1",
        unit: UnitRule::One,
        quantile: false,
        finish: |g, _| share(g.weight(), g.valid_weight()),
    },
    StatDef { id: "max", doc: "greatest value", unit: UnitRule::Same, quantile: false, finish: |g, _| g.max() },
    StatDef { id: "mean", doc: "weighted mean", unit: UnitRule::Same, quantile: false, finish: |g, _| g.mean() },
    StatDef {
        id: "median",
        doc: "weighted median",
        unit: UnitRule::Same,
        quantile: true,
        finish: |g, _| g.quantile(0.5),
    },
    StatDef { id: "min", doc: "least value", unit: UnitRule::Same, quantile: false, finish: |g, _| g.min() },
    StatDef {
        id: "range",
        doc: "greatest less least value",
        unit: UnitRule::Same,
        quantile: false,
        finish: |g, _| g.max() - g.min(),
    },
    StatDef {
        id: "sd",
        doc: "standard deviation of the population (divisor: sum of weights)",
        unit: UnitRule::Same,
        quantile: false,
        finish: |g, _| g.sd(),
    },
    StatDef {
        id: "sum",
        doc: "weighted sum over cells",
        unit: UnitRule::PerCell,
        quantile: false,
        finish: |g, _| g.sum(),
    },
    StatDef {
        id: "valid_share",
        doc: "share of the plot's cells that have a value, 0 to 1",
        unit: UnitRule::One,
        quantile: false,
        finish: |g, all| share(g.valid_weight(), all),
    },
];

/// What a table holds if nothing else is asked for.
pub const DEFAULT_STATS: &[&str] = &["count", "valid_share", "mean", "sd", "min", "max", "median"];

fn share(part: f64, all: f64) -> f64 {
    if all > 0.0 { part / all } else { f64::NAN }
}

/// A statistic that was asked for.
#[derive(Clone, Copy)]
pub enum Stat {
    /// A row of the catalogue.
    Row(&'static StatDef),
    /// A percentile, 0 to 100.
    Percentile(f64),
}

impl Stat {
    /// The value; NaN where no cell counts.
    pub fn of(&self, gathered: &mut Gather, all_weight: f64) -> f64 {
        match self {
            Stat::Row(row) => (row.finish)(gathered, all_weight),
            Stat::Percentile(p) => gathered.quantile(p / 100.0),
        }
    }

    /// True where all values must be kept.
    pub fn needs_values(&self) -> bool {
        match self {
            Stat::Row(row) => row.quantile,
            Stat::Percentile(_) => true,
        }
    }

    /// The sign of its unit for a layer in `unit`.
    pub fn unit_sign(&self, unit: Unit) -> String {
        match self {
            Stat::Row(StatDef { unit: UnitRule::One, .. }) => String::new(),
            Stat::Row(StatDef { unit: UnitRule::PerCell, .. }) => format!("{} cells", unit.sign()).trim().to_string(),
            _ => unit.sign().to_string(),
        }
    }

    /// In words.
    pub fn doc(&self) -> String {
        match self {
            Stat::Row(row) => row.doc.into(),
            Stat::Percentile(p) => format!("weighted percentile {p}"),
        }
    }
}

impl fmt::Display for Stat {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Stat::Row(row) => f.write_str(row.id),
            Stat::Percentile(p) => write!(f, "p{p}"),
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
        match text.strip_prefix('p').map(str::parse::<f64>) {
            Some(Ok(p)) if (0.0..=100.0).contains(&p) => Ok(Stat::Percentile(p)),
            Some(Ok(p)) => Err(Error::Usage(format!("percentile {p} does not exist: p0 to p100"))),
            _ => Err(Error::unknown("statistic", text, STATS.iter().map(|s| s.id).chain(["p10"]))),
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
        let mut g = Gather::new(true);
        g.add(&[301.27; 40], None, 1.0);
        g.add(&[301.27, f32::NAN], None, 0.4);
        let get = |id: &str, g: &mut Gather| id.parse::<Stat>().unwrap().of(g, 50.0);
        assert_eq!(get("sd", &mut g), 0.0);
        assert_eq!(get("count", &mut g), 41.0);
        assert!((get("valid_share", &mut g) - 40.4 / 50.0).abs() < 1e-15);
        let mut none = Gather::new(true);
        none.add(&[f32::NAN; 3], None, 1.0);
        assert_eq!(get("count", &mut none), 0.0);
        for id in ["mean", "sd", "min", "max", "median", "sum", "range", "p10"] {
            assert!(get(id, &mut none).is_nan(), "{id}");
        }
    }

    #[test]
    fn cells_that_fail_the_condition_are_valid_but_not_kept() {
        let mut g = Gather::new(false);
        g.add(&[1.0, 2.0, 3.0, f32::NAN], Some(&[1.0, 0.0, f32::NAN, 1.0]), 0.5);
        assert_eq!((g.count(), g.valid_weight(), g.weight(), g.mean()), (1, 1.5, 0.5, 1.0));
    }
}
