//! Values through time from a table of plots and dates: rows, curves, seasons, charts.

use std::collections::BTreeMap;
use std::fs::File;
use std::io::{BufWriter, Write};
use std::path::{Path, PathBuf};

use jiff::civil::Date;
use telechroma_core::attribute::Value;
use telechroma_core::error::Error;
use telechroma_core::feature::FieldKind;
use telechroma_core::method::{days_of, window};
use telechroma_core::run::{Note, Observer, listed};
use telechroma_core::series::{Curve, SeasonError, Smoothing, anomaly, curve, season};
use telechroma_core::units::Unit;
use telechroma_io::figure::{Chart, ChartLine};
use telechroma_io::publish::Publisher;
use telechroma_io::table::{csv, parquet};

use super::table::{Table, number};
use crate::context::Context;
use crate::report::Report;

/// Windows of days that are laid over each other.
#[derive(Debug, Clone, PartialEq)]
pub struct Windows(Vec<(Date, Date)>);

impl std::str::FromStr for Windows {
    type Err = Error;

    fn from_str(text: &str) -> Result<Windows, Error> {
        let all = text.split(',').map(window).collect::<Result<Vec<_>, _>>()?;
        match all.len() {
            0 | 1 => Err(Error::Usage(format!("'{text}': two windows or more are laid over each other"))),
            _ => Ok(Windows(all)),
        }
    }
}

/// What is made of a table.
pub struct SeriesJob {
    /// Share of a plot that must be seen.
    pub least_seen: f64,
    /// The curve.
    pub smoothing: Smoothing,
    /// It follows the higher looks.
    pub envelope: bool,
    /// Longest gap that is bridged, days.
    pub gap: u32,
    /// The attribute that plots share.
    pub by: Option<String>,
    /// Windows laid over each other.
    pub windows: Option<Windows>,
    /// Against other years.
    pub anomaly: bool,
    /// Share of the amplitude, and least amplitude.
    pub season: (f64, f64),
    /// The month with which a year begins.
    pub year_from: i8,
    /// The statistic's name.
    pub stat: String,
    /// How CSV is written.
    pub csv: csv::Style,
    /// Files.
    pub chart: Option<PathBuf>,
    /// Files.
    pub seasons: Option<PathBuf>,
    /// Files.
    pub curves: Option<PathBuf>,
    /// Files.
    pub out: Option<PathBuf>,
}

/// A look at a plot, or at a group of them.
#[derive(Debug, Clone)]
struct Look {
    day: Date,
    period: String,
    value: f64,
    /// Between plots of a group.
    sd: f64,
    plots: usize,
    seen: f64,
    used: bool,
    note: String,
}

/// A plot or a group in one layer and window.
struct Line {
    name: Value,
    window: Option<(Date, Date)>,
    looks: Vec<Look>,
    curve: Option<Curve>,
}

/// Most lines of a chart.
const MOST_LINES: usize = 240;

impl SeriesJob {
    /// Checks what can be checked before the work.
    ///
    /// # Errors
    /// Where a file has an ending that cannot be written, or its name is taken.
    pub fn check(&self, ctx: &Context) -> Result<(), Report> {
        let endings = |path: &Option<PathBuf>, known: &[&str], what: &str| match path {
            Some(p) if !known.iter().any(|k| p.extension().is_some_and(|e| e.eq_ignore_ascii_case(k))) => {
                Err(Report::usage(format!("{}: {what} is written as .{}", p.display(), known.join(", ."))))
            }
            _ => Ok(()),
        };
        endings(&self.chart, &["svg", "png"], "a chart")?;
        for table in [&self.out, &self.seasons, &self.curves] {
            endings(table, &["csv", "jsonl", "parquet"], "a table")?;
        }
        for path in [&self.out, &self.seasons, &self.curves, &self.chart].into_iter().flatten() {
            if path.exists() && !ctx.overwrite {
                let e = telechroma_io::Error::usage(
                    telechroma_io::error::Place::file(path),
                    "exists already and is not replaced",
                );
                return Err(e.into());
            }
        }
        Ok(())
    }
}

/// Writes what is wanted of a table.
///
/// # Errors
/// Where the attribute to group by is not there, no period is a span of days, or writing fails.
pub fn write_series(job: &SeriesJob, table: &Table, ctx: &Context) -> Result<(), Report> {
    let by = job.by.as_deref().map(|n| table.features().named(n)).transpose()?;
    let mut results = Results { overwrite: ctx.overwrite, publishers: BTreeMap::new(), written: vec![] };
    let shown = job.out.is_none() && job.chart.is_none() && job.seasons.is_none() && job.curves.is_none();
    let mut rows = Rows::of(job, table, by);
    let (mut seasons, mut curves) = (Rows::seasons(job, table, by), Rows::curves(job, table, by));
    for (path, rows) in [(&job.out, &mut rows), (&job.seasons, &mut seasons), (&job.curves, &mut curves)] {
        if let Some(path) = path {
            rows.open(&results.stage(path)?, path, job.csv)?;
        }
    }
    match (shown, ctx.json) {
        (true, true) => rows.out = Sheet::Memory(vec![]),
        (true, false) => {
            ctx.progress.clear();
            let out: Box<dyn Write> = Box::new(BufWriter::new(std::io::stdout()));
            rows.out = Sheet::Csv(csv::Rows::to(out, &rows.names(), job.csv)?);
        }
        (false, _) => {}
    }
    let made = each_line(job, table, by, (&mut rows, &mut seasons, &mut curves), ctx);
    let charts = match made {
        // a reader that went away is not an error
        Err(e) if shown && e.message.contains("Broken pipe") => return Ok(()),
        other => other?,
    };
    for (layer, lines, origin) in &charts {
        results.draw(job, table, (layer, lines, *origin), charts.len())?;
    }
    let count = rows.count;
    let kept = match rows.finish() {
        Err(e) if shown && e.message.contains("Broken pipe") => return Ok(()),
        other => other?,
    };
    seasons.finish()?;
    curves.finish()?;
    let written = results.publish()?;
    ctx.progress.clear();
    if ctx.json {
        let notes: Vec<String> = ctx.progress.notes().iter().map(ToString::to_string).collect();
        let mut all = serde_json::json!({"outputs": written, "notes": notes});
        if shown {
            all["rows"] = kept.into();
        }
        ctx.print_json(&all);
    } else if !shown {
        ctx.progress.say(&format!("{count} rows of {} dates, in {}", table.periods().count(), written.join(", ")));
    }
    Ok(())
}

/// What is drawn of a layer, and the day from which it counts.
type Drawn = (String, Vec<ChartLine>, Date);

/// Hands every line to the tables; what charts need comes back.
fn each_line(
    job: &SeriesJob,
    table: &Table,
    by: Option<usize>,
    (rows, seasons, curves): (&mut Rows, &mut Rows, &mut Rows),
    ctx: &Context,
) -> Result<Vec<Drawn>, Report> {
    if !table.periods().any(|p| days_of(p).is_some()) {
        return Err(Report::usage("the inputs have no dates, so they make no series"));
    }
    let groups = groups_of(table, by);
    let windows = job.windows.as_ref().map_or(1, |w| w.0.len());
    if job.chart.is_some() && groups.len() * windows > MOST_LINES {
        return Err(Report::usage(format!("a chart of {} lines cannot be read", groups.len() * windows))
            .hint("put plots together by an attribute with --by, or pick some with 'telechroma plots pick'"));
    }
    let (mut charts, mut unused) = (vec![], vec![]);
    for (layer, unit) in table.layers() {
        let mut lines: Vec<Line> = vec![];
        for (name, plots) in &groups {
            let looks = match by {
                None => looks_of(job, table, plots[0], layer),
                Some(_) => group(job, table, plots, layer),
            };
            for line in lines_of(job, name, looks) {
                if line.looks.iter().all(|l| !l.used) {
                    unused.push(line.name.to_string());
                }
                rows.add(job, &line, layer, *unit)?;
                if job.curves.is_some() {
                    curves.add_curve(&line, layer)?;
                }
                if job.seasons.is_some() {
                    seasons.add_seasons(job, &line, layer)?;
                }
                if job.chart.is_some() {
                    lines.push(line);
                }
            }
        }
        if job.chart.is_some() {
            let origin = origin(job, &lines);
            charts.push((layer.clone(), lines.iter().map(|l| chart_line(job, l, origin)).collect(), origin));
        }
    }
    unused.dedup();
    if !unused.is_empty() {
        let ids = listed(&unused);
        ctx.progress.note(Note::Plots(format!("never seen well enough, so without a curve: {ids}")));
    }
    Ok(charts)
}

/// Plots by name: each for itself, or those that share an attribute.
fn groups_of(table: &Table, by: Option<usize>) -> Vec<(Value, Vec<usize>)> {
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
fn looks_of(job: &SeriesJob, table: &Table, plot: usize, layer: &str) -> Vec<Look> {
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
fn lines_of(job: &SeriesJob, name: &Value, looks: Vec<Look>) -> Vec<Line> {
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
fn group(job: &SeriesJob, table: &Table, plots: &[usize], layer: &str) -> Vec<Look> {
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

/// A column: its name, type and meaning.
type Named = (String, FieldKind, String);

/// A table being written row by row, however long it is.
struct Rows {
    columns: Vec<Named>,
    out: Sheet,
    count: u64,
}

/// Where rows go.
enum Sheet {
    Nowhere,
    Memory(Vec<Vec<Value>>),
    Csv(csv::Rows<Box<dyn Write>>),
    JsonLines(BufWriter<File>, PathBuf),
    Parquet(parquet::Writer, Vec<Vec<Value>>),
}

/// Rows of a group in a Parquet file.
const GROUP: usize = 200_000;

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
        let mut columns = vec![(
            id.to_string(),
            FieldKind::Text,
            if by.is_some() { "the group" } else { "the plot's id" }.to_string(),
        )];
        if job.windows.is_some() {
            columns.push(("window".into(), FieldKind::Text, "the window of days".into()));
        }
        columns.push(("layer".into(), FieldKind::Text, "the layer".into()));
        columns.extend(more.iter().map(|(n, k, m)| (n.to_string(), *k, m.to_string())));
        Rows { columns, out: Sheet::Nowhere, count: 0 }
    }

    fn of(job: &SeriesJob, table: &Table, by: Option<usize>) -> Rows {
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

    fn seasons(job: &SeriesJob, table: &Table, by: Option<usize>) -> Rows {
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

    fn curves(job: &SeriesJob, table: &Table, by: Option<usize>) -> Rows {
        let more = [
            ("date", FieldKind::Date, "the day"),
            ("curve", FieldKind::Number, "the curve, in the layer's unit; missing in gaps"),
        ];
        Rows::new(job, table, by, &more)
    }

    fn begin(line: &Line, layer: &str) -> Vec<Value> {
        let mut row = vec![Value::Text(line.name.to_string())];
        row.extend(window_text(line.window));
        row.push(Value::Text(layer.into()));
        row
    }

    fn add(&mut self, job: &SeriesJob, line: &Line, layer: &str, unit: Unit) -> Result<(), Report> {
        let grouped = self.columns.iter().any(|c| c.0 == "plots");
        for l in &line.looks {
            let mut row = Rows::begin(line, layer);
            row.extend([
                text(unit.sign()),
                Value::Text(l.day.to_string()),
                Value::Text(l.period.clone()),
                number(l.value),
            ]);
            if grouped {
                row.extend([number(l.sd), Value::Whole(l.plots as i64)]);
            }
            let on_curve = line.curve.as_ref().map_or(f64::NAN, |c| c.on(l.day));
            row.extend([number((l.seen * 1e6).round() / 1e6), Value::Truth(l.used), number(on_curve)]);
            if job.anomaly {
                row.extend(against_years(line, l));
            }
            row.push(text(l.note.clone()));
            self.push(row)?;
        }
        Ok(())
    }

    fn add_curve(&mut self, line: &Line, layer: &str) -> Result<(), Report> {
        let Some(curve) = &line.curve else { return Ok(()) };
        for (i, v) in curve.values.iter().enumerate() {
            let mut row = Rows::begin(line, layer);
            row.extend([Value::Text(curve.day(i).to_string()), number(*v)]);
            self.push(row)?;
        }
        Ok(())
    }

    fn add_seasons(&mut self, job: &SeriesJob, line: &Line, layer: &str) -> Result<(), Report> {
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
            self.push(row)?;
        }
        Ok(())
    }

    fn names(&self) -> Vec<String> {
        self.columns.iter().map(|c| c.0.clone()).collect()
    }

    /// Lets rows go to a file of the format of `named`'s ending.
    fn open(&mut self, path: &Path, named: &Path, style: csv::Style) -> Result<(), Report> {
        let create = || File::create(path).map_err(|e| Report::from(telechroma_io::Error::io(path, e)));
        let ending = named.extension().map_or(String::new(), |e| e.to_string_lossy().to_lowercase());
        self.out = match ending.as_str() {
            "parquet" => {
                let column =
                    |c: &Named| parquet::Column { name: c.0.clone(), cells: parquet::Cells::Values(c.1, vec![]) };
                let about: serde_json::Map<_, _> =
                    self.columns.iter().map(|c| (c.0.clone(), serde_json::json!({"meaning": c.2}))).collect();
                let about = [("columns", serde_json::Value::Object(about).to_string())];
                let columns: Vec<_> = self.columns.iter().map(column).collect();
                Sheet::Parquet(parquet::Writer::create(path, &columns, &about)?, vec![])
            }
            "jsonl" => Sheet::JsonLines(BufWriter::new(create()?), path.to_path_buf()),
            _ => {
                let out: Box<dyn Write> = Box::new(BufWriter::new(create()?));
                Sheet::Csv(csv::Rows::to(out, &self.names(), style)?)
            }
        };
        Ok(())
    }

    fn push(&mut self, row: Vec<Value>) -> Result<(), Report> {
        self.count += 1;
        match &mut self.out {
            Sheet::Nowhere => {}
            Sheet::Memory(rows) => rows.push(row),
            Sheet::Csv(out) => out.write(&row)?,
            Sheet::JsonLines(out, path) => {
                writeln!(out, "{}", object(&self.columns, &row)).map_err(|e| telechroma_io::Error::io(path, e))?
            }
            Sheet::Parquet(out, rows) => {
                rows.push(row);
                if rows.len() == GROUP {
                    out.group(cells(&self.columns, std::mem::take(rows)))?;
                }
            }
        }
        Ok(())
    }

    /// Ends the table; rows that were kept in memory come back.
    fn finish(self) -> Result<Vec<serde_json::Value>, Report> {
        match self.out {
            Sheet::Nowhere => {}
            Sheet::Memory(rows) => return Ok(rows.iter().map(|r| object(&self.columns, r)).collect()),
            Sheet::Csv(out) => out.finish()?,
            Sheet::JsonLines(mut out, path) => out.flush().map_err(|e| telechroma_io::Error::io(&path, e))?,
            Sheet::Parquet(mut out, rows) => {
                out.group(cells(&self.columns, rows))?;
                out.finish()?;
            }
        }
        Ok(vec![])
    }
}

fn object(columns: &[Named], row: &[Value]) -> serde_json::Value {
    serde_json::Value::Object(columns.iter().zip(row).map(|(c, v)| (c.0.clone(), csv::json(v))).collect())
}

/// Rows turned into columns.
fn cells(columns: &[Named], rows: Vec<Vec<Value>>) -> Vec<parquet::Cells> {
    let mut by_column: Vec<Vec<Value>> = columns.iter().map(|_| Vec::with_capacity(rows.len())).collect();
    for row in rows {
        by_column.iter_mut().zip(row).for_each(|(c, v)| c.push(v));
    }
    columns.iter().zip(by_column).map(|(c, v)| parquet::Cells::Values(c.1, v)).collect()
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
type Found = Result<(telechroma_core::series::Season, Box<dyn Fn(f64) -> Date>), SeasonError>;

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

/// The day from which a chart counts: the first look, or the start of the first window.
fn origin(job: &SeriesJob, lines: &[Line]) -> Date {
    let first = lines.iter().flat_map(|l| l.looks.iter().map(|k| k.day)).min();
    let window = job.windows.as_ref().and_then(|w| w.0.first()).map(|w| w.0);
    window.or(first).unwrap_or(Date::MIN)
}

fn chart_line(job: &SeriesJob, line: &Line, origin: Date) -> ChartLine {
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

fn chart(job: &SeriesJob, table: &Table, layer: &str, lines: &[ChartLine], origin: Date) -> Chart {
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

/// The files of a series: all are made before any has its name.
struct Results {
    overwrite: bool,
    /// By folder.
    publishers: BTreeMap<PathBuf, Publisher>,
    written: Vec<String>,
}

impl Results {
    /// Where a file is written until all are.
    fn stage(&mut self, path: &Path) -> Result<PathBuf, Report> {
        let name = path.file_name().map(|n| n.to_string_lossy().into_owned()).unwrap_or_default();
        let root = path.parent().filter(|p| !p.as_os_str().is_empty()).unwrap_or(Path::new("."));
        let publisher = match self.publishers.entry(root.to_path_buf()) {
            std::collections::btree_map::Entry::Occupied(e) => e.into_mut(),
            std::collections::btree_map::Entry::Vacant(e) => e.insert(Publisher::new(root, self.overwrite)?),
        };
        let at = publisher.stage(&name)?;
        self.written.push(path.display().to_string());
        Ok(at)
    }

    /// The chart of a layer, one of so many.
    fn draw(
        &mut self,
        job: &SeriesJob,
        table: &Table,
        (layer, lines, origin): (&str, &[ChartLine], Date),
        charts: usize,
    ) -> Result<(), Report> {
        let Some(path) = &job.chart else { return Ok(()) };
        let stem = path.file_stem().unwrap_or_default().to_string_lossy();
        let ending = path.extension().unwrap_or_default().to_string_lossy();
        let path = if charts == 1 { path.clone() } else { path.with_file_name(format!("{stem}_{layer}.{ending}")) };
        let drawn = chart(job, table, layer, lines, origin);
        let bytes = match ending.eq_ignore_ascii_case("svg") {
            true => drawn.svg().into_bytes(),
            false => drawn.png().map_err(|e| Report::failed(format!("the chart cannot be drawn: {e}")))?,
        };
        let at = self.stage(&path)?;
        Ok(std::fs::write(&at, bytes).map_err(|e| telechroma_io::Error::io(&at, e))?)
    }

    /// Gives all files their names.
    fn publish(self) -> Result<Vec<String>, Report> {
        for publisher in self.publishers.into_values() {
            publisher.publish()?;
        }
        Ok(self.written)
    }
}
