//! The chart of a series: its lines as looks, curves and bands.

use jiff::civil::Date;
use telechroma_core::series::{Curve, Smoothing, curve};
use telechroma_io::figure::{Chart, ChartLine};

use super::super::table::Table;
use super::SeriesJob;
use super::looks::{Line, Look};

/// The day from which a chart counts: the first look, or the start of the first window.
pub fn origin(job: &SeriesJob, lines: &[Line]) -> Date {
    let first = lines.iter().flat_map(|l| l.looks.iter().map(|k| k.day)).min();
    let window = job.windows.as_ref().and_then(|w| w.0.first()).map(|w| w.0);
    window.or(first).unwrap_or(Date::MIN)
}

/// A line of the chart; days count from `origin`.
pub fn chart_line(job: &SeriesJob, line: &Line, origin: Date) -> ChartLine {
    // windows lie over each other: each counts from its own start
    let from = line.window.map_or(origin, |w| w.0);
    let day = |d: Date| f64::from((d - from).get_days());
    let name = match line.window {
        Some((a, _)) => format!("{} {}", line.name, a.year()),
        None => line.name.to_string(),
    };
    let spread: Vec<&Look> = line.looks.iter().filter(|l| l.used && l.sd.is_finite()).collect();
    let band = |c: &Curve| {
        let sds: Vec<(Date, f64)> = spread.iter().map(|l| (l.day, l.sd)).collect();
        let sd = curve(&sds, Smoothing::None, job.gap, false);
        let at = |(i, v): (usize, &f64)| {
            let s = sd.as_ref().map_or(f64::NAN, |s| s.on(c.day(i)));
            (day(c.day(i)), v - s, v + s)
        };
        c.values.iter().enumerate().map(at).collect()
    };
    ChartLine {
        name,
        looks: line.looks.iter().map(|l| (day(l.day), l.value, l.used)).collect(),
        curve: line
            .curve
            .as_ref()
            .map_or(vec![], |c| c.values.iter().enumerate().map(|(i, v)| (day(c.day(i)), *v)).collect()),
        band: line.curve.as_ref().filter(|_| job.by.is_some()).map_or(vec![], band),
    }
}

fn smoothing_text(job: &SeriesJob) -> String {
    let how = match job.smoothing {
        Smoothing::None => "straight from look to look".to_string(),
        Smoothing::Whittaker(None) => "Whittaker's smoother, λ by leaving out each look".into(),
        Smoothing::Whittaker(Some(l)) => format!("Whittaker's smoother, λ {l}"),
        Smoothing::SavitzkyGolay(days) => format!("Savitzky–Golay over {days} days"),
    };
    format!("{how}{}  ·  gaps over {} days open", if job.envelope { ", upper envelope" } else { "" }, job.gap)
}

/// The chart of a layer.
pub fn chart(job: &SeriesJob, table: &Table, layer: &str, lines: &[ChartLine], origin: Date) -> Chart {
    let unit = table.layers().iter().find(|l| l.0 == layer).map_or("", |l| l.1.sign());
    let what = match &job.by {
        Some(by) => format!("by {by}"),
        None => format!("{} plots", table.ids().len()),
    };
    Chart {
        title: format!("{layer} through time, {what}"),
        subtitle: smoothing_text(job),
        label: if unit.is_empty() { layer.to_string() } else { format!("{layer}, {unit}") },
        origin,
        years: job.windows.is_none(),
        lines: lines.to_vec(),
    }
}
