//! What was seen of a plot or a group on each day, and the curve through it.

use std::collections::BTreeMap;

use jiff::civil::Date;
use telechroma_core::attribute::Value;
use telechroma_core::method::days_of;
use telechroma_core::series::{Curve, curve};

use super::super::table::Table;
use super::{SeriesJob, Windows};

/// A look at a plot, or at a group of them.
#[derive(Debug, Clone)]
pub struct Look {
    /// The day, or the middle of a period.
    pub day: Date,
    /// The period's name.
    pub period: String,
    /// The statistic; NaN where nothing was seen.
    pub value: f64,
    /// Between plots of a group.
    pub sd: f64,
    /// Plots of a group that were seen well enough.
    pub plots: usize,
    /// Share of the plot that was seen.
    pub seen: f64,
    /// Whether that is enough.
    pub used: bool,
    /// Why there is no value, or it is not used.
    pub note: String,
}

/// A plot or a group in one layer and window.
pub struct Line {
    /// The plot's id, or the group.
    pub name: Value,
    /// The window of days it was cut to.
    pub window: Option<(Date, Date)>,
    /// By day.
    pub looks: Vec<Look>,
    /// Through the looks that are used; none where none is.
    pub curve: Option<Curve>,
}

/// Plots by name: each for itself, or those that share an attribute.
pub fn groups_of(table: &Table, by: Option<usize>) -> Vec<(Value, Vec<usize>)> {
    let Some(column) = by else {
        return table.ids().iter().enumerate().map(|(i, id)| (Value::Text(id.clone()), vec![i])).collect();
    };
    let mut groups: Vec<(Value, Vec<usize>)> = vec![];
    for (i, row) in table.features().rows.iter().enumerate() {
        let value = &row.values[column];
        match groups.iter_mut().find(|g| g.0 == *value) {
            Some(g) => g.1.push(i),
            None => groups.push((value.clone(), vec![i])),
        }
    }
    groups.sort_by_key(|g| g.0.to_string());
    groups
}

/// Looks at a plot in a layer: one a day, what was seen in several scenes of a day joined by the share seen in each.
pub fn looks_of(job: &SeriesJob, table: &Table, plot: usize, layer: &str) -> Vec<Look> {
    let mut days: BTreeMap<Date, Vec<Look>> = BTreeMap::new();
    for period in table.periods() {
        let (Some(found), Some((first, last))) = (table.found(period, plot, layer), days_of(period)) else { continue };
        let day = first.saturating_add(jiff::Span::new().days(i64::from((last - first).get_days() / 2)));
        let value = found.values.first().copied().unwrap_or(f64::NAN);
        days.entry(day).or_default().push(Look {
            day,
            period: if first == last { day.to_string() } else { period.to_string() },
            value,
            sd: f64::NAN,
            plots: usize::from(value.is_finite()),
            seen: found.seen,
            used: value.is_finite() && found.seen >= job.least_seen,
            note: found.reason.to_string(),
        });
    }
    days.into_values().map(|all| joined(job, all)).collect()
}

fn joined(job: &SeriesJob, mut all: Vec<Look>) -> Look {
    let weight = |l: &Look| if l.value.is_finite() { l.seen } else { 0.0 };
    let sum: f64 = all.iter().map(weight).sum();
    let value = all.iter().filter(|l| weight(l) > 0.0).map(|l| weight(l) / sum * l.value).sum::<f64>();
    let seen = sum.min(1.0);
    all.sort_by(|a, b| b.seen.total_cmp(&a.seen));
    let mut one = all.swap_remove(0);
    if !all.is_empty() && sum > 0.0 {
        (one.value, one.seen, one.used) = (value, seen, seen >= job.least_seen);
    }
    if one.value.is_finite() && !one.used {
        let text = format!("{:.0} % seen, {:.0} % needed", 100.0 * one.seen, 100.0 * job.least_seen);
        one.note = if one.note.is_empty() { text } else { format!("{}, {text}", one.note) };
    }
    one
}

/// The line of looks, in each window.
pub fn lines_of(job: &SeriesJob, name: &Value, looks: Vec<Look>) -> Vec<Line> {
    let line = |window: Option<(Date, Date)>, looks: Vec<Look>| {
        let used: Vec<(Date, f64)> = looks.iter().filter(|l| l.used).map(|l| (l.day, l.value)).collect();
        let curve = curve(&used, job.smoothing, job.gap, job.envelope);
        Line { name: name.clone(), window, looks, curve }
    };
    match &job.windows {
        None => vec![line(None, looks)],
        Some(Windows(all)) => {
            let inside = |(a, b): (Date, Date)| looks.iter().filter(|l| (a..=b).contains(&l.day)).cloned().collect();
            all.iter().map(|w| line(Some(*w), inside(*w))).collect()
        }
    }
}

/// The mean of plots on each day, with the spread between them.
pub fn group(job: &SeriesJob, table: &Table, plots: &[usize], layer: &str) -> Vec<Look> {
    let mut days: BTreeMap<Date, Vec<Look>> = BTreeMap::new();
    for plot in plots {
        looks_of(job, table, *plot, layer).into_iter().for_each(|l| days.entry(l.day).or_default().push(l));
    }
    let one = |(day, all): (Date, Vec<Look>)| {
        let used: Vec<f64> = all.iter().filter(|l| l.used).map(|l| l.value).collect();
        let n = used.len() as f64;
        let mean = used.iter().sum::<f64>() / n;
        let sd = (used.iter().map(|v| (v - mean).powi(2)).sum::<f64>() / (n - 1.0)).sqrt();
        let note = match used.len() {
            0 => "no plot seen well enough".into(),
            k if k < plots.len() => format!("{k} of {} plots", plots.len()),
            _ => String::new(),
        };
        Look {
            day,
            period: all[0].period.clone(),
            value: mean,
            sd: if used.len() > 1 { sd } else { f64::NAN },
            plots: used.len(),
            seen: all.iter().map(|l| l.seen).sum::<f64>() / all.len() as f64,
            used: !used.is_empty(),
            note,
        }
    };
    days.into_iter().map(one).collect()
}
