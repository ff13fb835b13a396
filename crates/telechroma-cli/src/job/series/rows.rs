//! The tables of a series: looks, curves, seasons.

use jiff::civil::Date;
use telechroma_core::attribute::Value;
use telechroma_core::feature::FieldKind;
use telechroma_core::series::{LEAST_VALUES, Season, SeasonError, anomaly, season, trend};
use telechroma_core::units::Unit;

use super::super::sheet::{Column, Sheet};
use super::super::table::{Table, number};
use super::SeriesJob;
use super::looks::{Line, Look};
use crate::report::Report;

/// A table of a series.
pub struct Rows {
    /// Where its rows go.
    pub sheet: Sheet,
    grouped: bool,
}

fn text(t: impl Into<String>) -> Value {
    let t: String = t.into();
    if t.is_empty() { Value::Missing } else { Value::Text(t) }
}

/// The window's name.
fn window_text(w: Option<(Date, Date)>) -> Option<Value> {
    w.map(|(a, b)| Value::Text(format!("{a}..{b}")))
}

impl Rows {
    fn new(job: &SeriesJob, table: &Table, by: Option<usize>, more: &[(&str, FieldKind, &str)]) -> Rows {
        let id = by.map_or(table.id_name(), |c| table.features().fields[c].name.as_str());
        let meaning = if by.is_some() { "the group" } else { "the plot's id" };
        let mut columns = vec![Column::new(id, FieldKind::Text, meaning)];
        if job.windows.is_some() {
            columns.push(Column::new("window", FieldKind::Text, "the window of days"));
        }
        columns.push(Column::new("layer", FieldKind::Text, "the layer"));
        columns.extend(more.iter().map(|(name, kind, meaning)| Column::new(name, *kind, meaning)));
        Rows { sheet: Sheet::new(columns), grouped: by.is_some() }
    }

    /// The table of looks.
    pub fn of(job: &SeriesJob, table: &Table, by: Option<usize>) -> Rows {
        use FieldKind::{Date, Number, Text, Truth, Whole};
        let value = format!("{} of the plot, in the layer's unit", job.stat);
        let mut more = vec![
            ("unit", Text, "the layer's unit"),
            ("date", Date, "the day, or the middle of the period"),
            ("period", Text, "the days that went into it"),
            ("value", Number, value.as_str()),
        ];
        if by.is_some() {
            more[3].2 = "mean over the plots of the group that were seen well enough, in the layer's unit";
            more.push(("sd", Number, "standard deviation between those plots (n - 1)"));
            more.push(("plots", Whole, "how many plots those are"));
        }
        more.push(("seen", Number, "share of the plot that was seen clearly, 0 to 1"));
        more.push(("used", Truth, "whether that is enough for the curve"));
        more.push(("curve", Number, "the curve on that day, in the layer's unit"));
        if job.anomaly {
            more.extend([
                ("years", Whole, "other years with a value on that day"),
                ("difference", Number, "from their mean, in the layer's unit"),
                ("percent", Number, "difference in percent of their mean"),
                ("z", Number, "difference in standard deviations of the years"),
                ("place", Number, "between the lowest (0) and the highest (1) of the years"),
            ]);
        }
        more.push(("note", Text, "why a value is missing or not used"));
        Rows::new(job, table, by, &more)
    }

    /// The table of seasons.
    pub fn seasons(job: &SeriesJob, table: &Table, by: Option<usize>) -> Rows {
        use FieldKind::{Date, Number, Text};
        let more = [
            ("year", Text, "the year, by its first day"),
            ("start", Date, "the curve rises above a share of the amplitude"),
            ("peak", Date, "the highest value"),
            ("end", Date, "the curve falls below that share"),
            ("length_days", Number, "days from start to end"),
            ("peak_value", Number, "the highest value, in the layer's unit"),
            ("amplitude", Number, "the peak above the mean of the lows before and after it"),
            ("integral", Number, "sum over days of what lies above the line between those lows: unit times days"),
            ("note", Text, "why there is no season"),
        ];
        Rows::new(job, table, by, &more)
    }

    /// The table of curves.
    pub fn curves(job: &SeriesJob, table: &Table, by: Option<usize>) -> Rows {
        let more = [
            ("date", FieldKind::Date, "the day"),
            ("curve", FieldKind::Number, "the curve, in the layer's unit; missing in gaps"),
        ];
        Rows::new(job, table, by, &more)
    }

    /// The table of trends.
    pub fn trends(job: &SeriesJob, table: &Table, by: Option<usize>) -> Rows {
        use FieldKind::{Number, Text, Whole};
        let more = [
            ("unit", Text, "the layer's unit"),
            ("years", Whole, "years with a value that was seen well enough"),
            ("first_year", Whole, "the first of them"),
            ("last_year", Whole, "the last"),
            ("slope", Number, "change in a year, in the layer's unit: median of the slopes between all pairs of years"),
            ("s", Whole, "pairs of years that rise less pairs that fall"),
            ("z", Number, "s in its standard deviations; beyond 1.96 or -1.96 such a trend is chance in less than 5 %"),
            ("note", Text, "why there is no trend"),
        ];
        Rows::new(job, table, by, &more)
    }

    fn begin(line: &Line, layer: &str) -> Vec<Value> {
        let mut row = vec![Value::Text(line.name.to_string())];
        row.extend(window_text(line.window));
        row.push(Value::Text(layer.into()));
        row
    }

    /// Adds the looks of a line.
    pub fn add(&mut self, job: &SeriesJob, line: &Line, layer: &str, unit: Unit) -> Result<(), Report> {
        for l in &line.looks {
            let mut row = Rows::begin(line, layer);
            row.extend([
                text(unit.sign()),
                Value::Text(l.day.to_string()),
                Value::Text(l.period.clone()),
                number(l.value),
            ]);
            if self.grouped {
                row.extend([number(l.sd), Value::Whole(l.plots as i64)]);
            }
            let on_curve = line.curve.as_ref().map_or(f64::NAN, |c| c.on(l.day));
            row.extend([number((l.seen * 1e6).round() / 1e6), Value::Truth(l.used), number(on_curve)]);
            if job.anomaly {
                row.extend(against_years(line, l));
            }
            row.push(text(l.note.clone()));
            self.sheet.push(row)?;
        }
        Ok(())
    }

    /// Adds the days of a line's curve.
    pub fn add_curve(&mut self, line: &Line, layer: &str) -> Result<(), Report> {
        let Some(curve) = &line.curve else { return Ok(()) };
        for (i, v) in curve.values.iter().enumerate() {
            let mut row = Rows::begin(line, layer);
            row.extend([Value::Text(curve.day(i).to_string()), number(*v)]);
            self.sheet.push(row)?;
        }
        Ok(())
    }

    /// Adds the trend of a line.
    pub fn add_trend(&mut self, line: &Line, layer: &str, unit: Unit) -> Result<(), Report> {
        let used: Vec<&Look> = line.looks.iter().filter(|l| l.used).collect();
        let mut years: Vec<i16> = used.iter().map(|l| l.day.year()).collect();
        years.sort_unstable();
        years.dedup();
        let twice = years.len() < used.len();
        let times: Vec<f64> = used.iter().map(|l| in_years(l.day)).collect();
        let values: Vec<f64> = used.iter().map(|l| l.value).collect();
        let mut row = Rows::begin(line, layer);
        row.extend([text(unit.sign()), Value::Whole(years.len() as i64)]);
        row.extend([years.first(), years.last()].map(|y| y.map_or(Value::Missing, |y| Value::Whole(i64::from(*y)))));
        match trend(&times, &values).filter(|_| !twice) {
            Some(t) => row.extend([number(t.slope), Value::Whole(t.s), number(t.z()), Value::Missing]),
            None => {
                row.extend(vec![Value::Missing; 3]);
                row.push(Value::Text(match twice {
                    true => "several values in a year, which the season moves: a trend is of one a year".into(),
                    false => format!("fewer than {LEAST_VALUES} years"),
                }));
            }
        }
        self.sheet.push(row)
    }

    /// Adds the seasons of a line.
    pub fn add_seasons(&mut self, job: &SeriesJob, line: &Line, layer: &str) -> Result<(), Report> {
        for (year, found) in seasons_of(job, line) {
            let mut row = Rows::begin(line, layer);
            row.push(Value::Text(year));
            match found {
                Ok((s, day)) => row.extend([
                    Value::Text(day(s.start).to_string()),
                    Value::Text(day(s.peak_day).to_string()),
                    Value::Text(day(s.end).to_string()),
                    number((s.length() * 10.0).round() / 10.0),
                    number(s.peak),
                    number(s.amplitude),
                    number(s.integral),
                    Value::Missing,
                ]),
                Err(e) => {
                    row.extend(vec![Value::Missing; 7]);
                    row.push(Value::Text(e.text().into()));
                }
            }
            self.sheet.push(row)?;
        }
        Ok(())
    }
}

/// A day as years and a part of one.
fn in_years(day: Date) -> f64 {
    f64::from(day.year()) + f64::from(day.day_of_year() - 1) / f64::from(day.days_in_year())
}

/// A look against the curve on the same day of other years.
fn against_years(line: &Line, l: &Look) -> Vec<Value> {
    let others: Vec<f64> = match &line.curve {
        None => vec![],
        Some(c) => {
            let (from, to) = (c.first.year(), c.day(c.values.len().saturating_sub(1)).year());
            let same = |year: i16| Date::new(year, l.day.month(), l.day.day()).or_else(|_| Date::new(year, 2, 28));
            (from..=to)
                .filter(|y| *y != l.day.year())
                .filter_map(|y| same(y).ok())
                .map(|d| c.on(d))
                .filter(|v| v.is_finite())
                .collect()
        }
    };
    let count = Value::Whole(others.len() as i64);
    match anomaly(l.value, &others) {
        Some(a) => vec![count, number(a.difference), number(a.percent), number(a.z), number(a.vci)],
        None => vec![count, Value::Missing, Value::Missing, Value::Missing, Value::Missing],
    }
}

/// The season of a line in a year, and how its days become dates.
type Found = Result<(Season, Box<dyn Fn(f64) -> Date>), SeasonError>;

/// The season of each year that the curve reaches into, or of the window.
fn seasons_of(job: &SeriesJob, line: &Line) -> Vec<(String, Found)> {
    let Some(curve) = &line.curve else { return vec![(String::new(), Err(SeasonError::TooFew))] };
    let year_of = |d: Date| d.year() - i16::from(d.month() < job.year_from);
    let last = curve.day(curve.values.len() - 1);
    let years: Vec<i16> = (year_of(curve.first)..=year_of(last)).collect();
    let first = curve.first;
    let of = |name: String, inside: &dyn Fn(Date) -> bool| {
        let some: Vec<usize> = (0..curve.values.len()).filter(|i| inside(curve.day(*i))).collect();
        let days: Vec<f64> = some.iter().map(|i| *i as f64).collect();
        let values: Vec<f64> = some.iter().map(|i| curve.values[*i]).collect();
        let found = season(&days, &values, job.season.0, job.season.1);
        let day = move |d: f64| first.saturating_add(jiff::Span::new().days(d.round() as i64));
        (name, found.map(|s| (s, Box::new(day) as Box<dyn Fn(f64) -> Date>)))
    };
    match line.window {
        Some((a, _)) => vec![of(a.year().to_string(), &|_| true)],
        None => years.into_iter().map(|y| of(y.to_string(), &|d| year_of(d) == y)).collect(),
    }
}
