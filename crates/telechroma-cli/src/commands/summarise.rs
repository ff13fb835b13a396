//! `summarise`: statistics per plot.

use std::path::PathBuf;

use telechroma_core::method::BandChoice;
use telechroma_core::units::TemperatureUnit;

use crate::commands::chain::{Chain, Out, advise, layers};
use crate::commands::plotted::{PlotArgs, TableArgs};
use crate::commands::run::report;
use crate::context::Context;
use crate::job::{Naming, Sheet, Wanted, endings, execute, format_of};
use crate::report::Report;

/// Statistics per plot: a table, or the plots with the statistics as columns
///
/// Example: telechroma summarise scenes --index ndvi,lst --plots fields.geojson --stats mean,sd,p90
#[derive(clap::Args)]
pub struct Args {
    /// Scenes, or rasters an earlier command wrote (all their layers, unless --index says which)
    #[arg(required = true, value_name = "INPUT")]
    pub inputs: Vec<String>,
    /// Indices to compute and summarise
    #[arg(long, value_name = "LIST", value_delimiter = ',')]
    pub index: Vec<String>,
    /// An own layer: 'name = formula'; may be repeated
    #[arg(long, value_name = "NAME = FORMULA")]
    pub formula: Vec<String>,
    /// Unit of temperatures: K, C or F
    #[arg(long, value_name = "UNIT", default_value = "K")]
    pub unit: TemperatureUnit,
    #[command(flatten)]
    pub plots: PlotArgs,
    #[command(flatten)]
    pub table: TableArgs,
    #[command(flatten)]
    pub chain: Chain,
    /// A table (.csv, .jsonl, .parquet), the plots with the statistics as columns (.gpkg, .geojson, .shp, .geoparquet),
    /// or a folder; default: the table goes to standard output as CSV
    #[arg(long, value_name = "PATH")]
    pub out: Option<PathBuf>,
}

pub fn run(args: Args, ctx: &Context) -> Result<(), Report> {
    let layers = layers(&args.index, &args.formula)?;
    advise(&layers, ctx);
    // raw scenes without an index: their bands are summarised
    let bands = if layers.is_empty() { BandChoice::All } else { BandChoice::Needed };
    let mut recipe = args.chain.recipe(layers, bands, args.unit)?;
    recipe.keep = args.plots.keep.clone();
    let to_stdout = args.out.is_none();
    let naming = Out { out: args.out }.naming(&endings());
    let ending = naming.single.as_deref().and_then(|n| n.rsplit_once('.')).map_or("csv", |(_, e)| e);
    let format = format_of(ending).filter(|_| !to_stdout);
    let mut job = args.chain.job("summarise", &args.inputs, recipe, naming.clone())?;
    args.table.set(&mut job)?;
    job.plots = Some(args.plots.job()?);
    job.wanted = Wanted { tables: format.into_iter().collect(), ..Wanted::default() };
    args.chain.say(&job.inputs, ctx, &job);
    if !to_stdout {
        let done = execute(&job, ctx)?;
        report(&job, &done, ctx);
        return Ok(());
    }
    job.naming = Naming::nowhere();
    let done = execute(&job, ctx)?;
    let Some(table) = &done.table else { return Ok(()) };
    let mut sheet = Sheet::new(table.columns(job.rows));
    match ctx.json {
        true => sheet.keep(),
        false => sheet.show(job.csv)?,
    }
    table.each_row(job.rows, |row| sheet.push(row))?;
    let rows = sheet.finish()?;
    if ctx.json {
        let mut all = done.to_json();
        all["rows"] = rows.into();
        ctx.print_json(&all);
    }
    Ok(())
}
