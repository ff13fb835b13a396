//! Values through time from a table of plots and dates: rows, curves, seasons, charts.

mod looks;
mod picture;
mod rows;

use std::collections::BTreeMap;
use std::path::{Path, PathBuf};

use jiff::civil::Date;
use telechroma_core::error::Error;
use telechroma_core::method::{days_of, window};
use telechroma_core::run::{Note, Observer, listed};
use telechroma_core::series::Smoothing;
use telechroma_io::figure::ChartLine;
use telechroma_io::publish::Publisher;
use telechroma_io::table::csv;

use super::table::Table;
use crate::context::Context;
use crate::report::Report;
use looks::{Line, group, groups_of, lines_of, looks_of};
use picture::{chart, chart_line, origin};
use rows::Rows;

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
    /// The chart's file.
    pub chart: Option<PathBuf>,
    /// The table of seasons's file.
    pub seasons: Option<PathBuf>,
    /// The table of curves's file.
    pub curves: Option<PathBuf>,
    /// The table of trends's file.
    pub trends: Option<PathBuf>,
    /// The table of looks's file.
    pub out: Option<PathBuf>,
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
        for table in [&self.out, &self.seasons, &self.curves, &self.trends] {
            endings(table, &["csv", "jsonl", "parquet"], "a table")?;
        }
        // staged and dropped: names that are taken are found before the work
        let mut results = Results::new(ctx);
        let paths = [&self.out, &self.seasons, &self.curves, &self.trends, &self.chart].into_iter().flatten();
        paths.map(|p| results.stage(p)).collect::<Result<Vec<_>, _>>()?;
        Ok(())
    }
}

/// Writes what is wanted of a table.
///
/// # Errors
/// Where the attribute to group by is not there, no period is a span of days, or writing fails.
pub fn write_series(job: &SeriesJob, table: &Table, ctx: &Context) -> Result<(), Report> {
    let by = job.by.as_deref().map(|n| table.features().named(n)).transpose()?;
    let mut results = Results::new(ctx);
    let others = [&job.chart, &job.seasons, &job.curves, &job.trends];
    let shown = job.out.is_none() && others.iter().all(|o| o.is_none());
    let mut tables = Tables {
        looks: Rows::of(job, table, by),
        seasons: Rows::seasons(job, table, by),
        curves: Rows::curves(job, table, by),
        trends: Rows::trends(job, table, by),
    };
    let Tables { looks: rows, seasons, curves, trends } = &mut tables;
    for (path, rows) in [(&job.out, &mut *rows), (&job.seasons, seasons), (&job.curves, curves), (&job.trends, trends)]
    {
        let Some(path) = path else { continue };
        rows.sheet.open(&results.stage(path)?, job.csv)?;
        let columns = path.with_extension("columns.csv");
        rows.sheet.write_dictionary(&results.stage(&columns)?)?;
    }
    match (shown, ctx.json) {
        (true, true) => rows.sheet.keep(),
        (true, false) => {
            ctx.progress.clear();
            rows.sheet.show(job.csv)?;
        }
        (false, _) => {}
    }
    let charts = each_line(job, table, by, &mut tables, ctx)?;
    for (layer, lines, origin) in &charts {
        results.draw(job, table, (layer, lines, *origin), charts.len())?;
    }
    let count = tables.looks.sheet.count();
    let kept = tables.looks.sheet.finish()?;
    for other in [tables.seasons, tables.curves, tables.trends] {
        other.sheet.finish()?;
    }
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

/// The tables of a series, of which those that are asked for have rows.
struct Tables {
    looks: Rows,
    seasons: Rows,
    curves: Rows,
    trends: Rows,
}

/// What is drawn of a layer, and the day from which it counts.
type Drawn = (String, Vec<ChartLine>, Date);

/// Hands every line to the tables; what charts need comes back.
fn each_line(
    job: &SeriesJob,
    table: &Table,
    by: Option<usize>,
    tables: &mut Tables,
    ctx: &Context,
) -> Result<Vec<Drawn>, Report> {
    let undated: Vec<&str> = table.periods().filter(|p| days_of(p).is_none()).collect();
    if undated.len() == table.periods().count() {
        return Err(Report::usage("the inputs have no dates, so they make no series"));
    }
    if !undated.is_empty() {
        let names = undated.join(", ");
        ctx.progress.note(Note::Layer(format!("without a date, and so left out of the series: {names}")));
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
                tables.looks.add(job, &line, layer, *unit)?;
                if job.curves.is_some() {
                    tables.curves.add_curve(&line, layer)?;
                }
                if job.seasons.is_some() {
                    tables.seasons.add_seasons(job, &line, layer)?;
                }
                if job.trends.is_some() {
                    tables.trends.add_trend(&line, layer, *unit)?;
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

/// The files of a series: all are made before any has its name.
struct Results {
    overwrite: bool,
    /// By folder.
    publishers: BTreeMap<PathBuf, Publisher>,
    written: Vec<String>,
}

impl Results {
    fn new(ctx: &Context) -> Results {
        Results { overwrite: ctx.overwrite, publishers: BTreeMap::new(), written: vec![] }
    }

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
