//! `series`: one value per plot and date, as a table, as curves and seasons, and as a chart.

use std::path::PathBuf;

use telechroma_core::method::{BandChoice, Every};
use telechroma_core::plot::Weighting;
use telechroma_core::series::{LEAST_AMPLITUDE, Smoothing};
use telechroma_core::stat::Stat;
use telechroma_core::units::{Metres, TemperatureUnit};

use crate::commands::chain::{CalibrateArgs, Chain, CompositeArgs, HeatArgs, MaskArgs, Selection, advise, layers};
use crate::commands::plotted::{PlotFileArgs, TableArgs};
use crate::context::Context;
use crate::job::{Naming, PlotJob, SeriesJob, Windows, execute, write_series};
use crate::report::Report;

/// Values of plots or points through time: a table, curves, seasons, and a chart
///
/// Each date is a scene, unless --every makes composites. Dates on which too little of a plot was seen are kept in the
/// table with the reason, but are not used.
///
/// Example: telechroma series scenes --index ndvi --plots fields.geojson --by crop --smooth whittaker --chart ndvi.svg
#[derive(clap::Args)]
pub struct Args {
    /// Scenes, or rasters an earlier command wrote
    #[arg(required = true, value_name = "INPUT")]
    inputs: Vec<String>,
    /// Indices to follow
    #[arg(long, value_name = "LIST", value_delimiter = ',')]
    index: Vec<String>,
    /// An own layer: 'name = formula'; may be repeated
    #[arg(long, value_name = "NAME = FORMULA")]
    formula: Vec<String>,
    /// Unit of temperatures: K, C or F
    #[arg(long, value_name = "UNIT", default_value = "K")]
    unit: TemperatureUnit,
    #[command(flatten)]
    plots: PlotFileArgs,
    /// The statistic of a plot on a date that is followed: mean, median, p90 …
    #[arg(long, value_name = "STAT", default_value = "mean", help_heading = "Series")]
    stat: Stat,
    /// How cells on the edge count: share (exact covered share), centre, touch
    #[arg(long, value_name = "RULE", default_value = "share", help_heading = "Plots")]
    weight: Weighting,
    /// Draw plots in by this length first, such as 5m
    #[arg(long, value_name = "LENGTH", help_heading = "Plots")]
    inset: Option<Metres>,
    /// Cells that count, such as 'ndvi > 0.3'
    #[arg(long, value_name = "COND", help_heading = "Plots")]
    keep: Option<String>,
    /// Share of a plot that must be seen clearly on a date
    #[arg(long, value_name = "SHARE", default_value_t = 0.75, help_heading = "Series")]
    least_seen: f64,
    /// The curve through the dates: none (straight), whittaker (λ chosen by leaving out each look), whittaker:10,
    /// savitzky-golay:31 (days of the window)
    #[arg(long, value_name = "HOW", default_value = "none", value_parser = smoothing, help_heading = "Series")]
    smooth: Smoothing,
    /// Let the curve follow the higher looks, which haze lowered less: for indices of vegetation only
    #[arg(long, help_heading = "Series")]
    envelope: bool,
    /// Longest gap that the curve bridges, in days
    #[arg(long, value_name = "DAYS", default_value_t = 32, help_heading = "Series")]
    gap: u32,
    /// One curve for all plots that share an attribute, with mean and spread
    #[arg(long, value_name = "FIELD", help_heading = "Series")]
    by: Option<String>,
    /// Two windows of days or more, laid over each other: 2031-04-01..2031-09-30,2032-04-01..2032-09-30
    #[arg(long, value_name = "DAYS", value_parser = |t: &str| t.parse::<Windows>(), help_heading = "Series")]
    windows: Option<Windows>,
    /// Compare each date with the same day of other years (five are needed): difference, percent, z, and the place
    /// between the lowest and the highest
    #[arg(long, help_heading = "Series")]
    anomaly: bool,
    /// Share of the amplitude at which a season starts and ends
    #[arg(long, value_name = "SHARE", default_value_t = 0.2, help_heading = "Series")]
    season_share: f64,
    /// Least amplitude of a season
    #[arg(long, value_name = "VALUE", default_value_t = LEAST_AMPLITUDE, help_heading = "Series")]
    season_least: f64,
    /// The month with which a year begins, for seasons: 7 where summer is around the turn of the year
    #[arg(long, value_name = "MONTH", default_value_t = 1, value_parser = clap::value_parser!(i8).range(1..=12), help_heading = "Series")]
    year_from: i8,
    /// The chart, .svg or .png; with several layers the layer's name is added
    #[arg(long, value_name = "FILE", help_heading = "Results")]
    chart: Option<PathBuf>,
    /// A table of seasons: start, peak, end, length, amplitude, integral
    #[arg(long, value_name = "FILE", help_heading = "Results")]
    seasons: Option<PathBuf>,
    /// A table of the curves, a row a day
    #[arg(long, value_name = "FILE", help_heading = "Results")]
    curves: Option<PathBuf>,
    /// A table of trends over years, a value each year (--every year): median slope, and how sure its sign is
    #[arg(long, value_name = "FILE", help_heading = "Results")]
    trends: Option<PathBuf>,
    /// The table, .csv, .jsonl or .parquet; default: standard output, if nothing else is asked for
    #[arg(long, value_name = "FILE", help_heading = "Results")]
    out: Option<PathBuf>,
    #[command(flatten)]
    table: TableArgs,
    /// A value for each scene, or for a composite each month, '16 days' (any number), season, year, or window of days
    #[arg(long, value_name = "PERIOD", default_value = "scene", help_heading = "Composite")]
    every: Every,
    /// How the dates of a period become one value: median, mean, min, max, p25, medoid, latest, earliest
    #[arg(long, value_name = "RULE", default_value = "median", help_heading = "Composite")]
    rule: String,
    /// Clear looks that a cell needs
    #[arg(long, value_name = "N", default_value_t = 1, help_heading = "Composite")]
    at_least: u32,
    #[command(flatten)]
    calibrate: CalibrateArgs,
    #[command(flatten)]
    mask: MaskArgs,
    #[command(flatten)]
    heat: HeatArgs,
    #[command(flatten)]
    selection: Selection,
}

fn smoothing(text: &str) -> Result<Smoothing, String> {
    let wrong = || format!("'{text}' is no smoothing: none, whittaker, whittaker:10 or savitzky-golay:31");
    let (name, value) = text.split_once(':').map_or((text, None), |(n, v)| (n, Some(v)));
    match (name, value) {
        ("none", None) => Ok(Smoothing::None),
        ("whittaker", None) => Ok(Smoothing::Whittaker(None)),
        ("whittaker", Some(v)) => {
            let lambda = v.parse().ok().filter(|l: &f64| *l > 0.0 && l.is_finite());
            lambda.map(|l| Smoothing::Whittaker(Some(l))).ok_or_else(wrong)
        }
        ("savitzky-golay", v) => {
            let days: usize = v.unwrap_or("31").parse().map_err(|_| wrong())?;
            match days % 2 == 1 && days >= 5 {
                true => Ok(Smoothing::SavitzkyGolay(days)),
                false => Err(format!("a window of {days} days: it is an odd number of at least 5")),
            }
        }
        _ => Err(wrong()),
    }
}

pub fn run(args: Args, ctx: &Context) -> Result<(), Report> {
    let share = |v: f64, what: &str| match (0.0..=1.0).contains(&v) {
        true => Ok(v),
        false => Err(Report::usage(format!("{what} {v}: it is a share, 0 to 1"))),
    };
    let least_seen = share(args.least_seen, "--least-seen")?;
    let season_share = share(args.season_share, "--season-share")?;
    let layers = layers(&args.index, &args.formula)?;
    advise(&layers, ctx);
    let bands = if layers.is_empty() { BandChoice::All } else { BandChoice::Needed };
    if args.every == Every::All {
        return Err(Report::usage("one composite of all dates is no series").hint("--every scene, month or '16 days'"));
    }
    let composite =
        CompositeArgs { every: args.every, by: args.rule, score: None, spread: false, at_least: args.at_least };
    let chain =
        Chain { calibrate: args.calibrate, mask: args.mask, composite, heat: args.heat, selection: args.selection };
    let mut recipe = chain.recipe(layers, bands, args.unit)?;
    recipe.keep = args.keep.clone();
    let mut job = chain.job("series", &args.inputs, recipe, Naming::nowhere())?;
    job.plots = Some(PlotJob {
        source: args.plots.required()?,
        id: args.plots.id.clone(),
        weight: args.weight,
        inset: args.inset,
        stats: vec![args.stat.clone()],
    });
    chain.say(&job.inputs, ctx, &job);
    let series = SeriesJob {
        least_seen,
        smoothing: args.smooth,
        envelope: args.envelope,
        gap: args.gap,
        by: args.by,
        windows: args.windows,
        anomaly: args.anomaly,
        season: (season_share, args.season_least),
        year_from: args.year_from,
        stat: args.stat.to_string(),
        csv: args.table.style()?,
        chart: args.chart,
        seasons: args.seasons,
        curves: args.curves,
        trends: args.trends,
        out: args.out,
    };
    series.check(ctx)?;
    let done = execute(&job, ctx)?;
    match done.table {
        Some(table) => write_series(&series, &table, ctx),
        None => Ok(()),
    }
}
