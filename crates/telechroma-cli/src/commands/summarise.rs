//! `summarise`: statistics per plot.

use std::path::PathBuf;

use telechroma_core::method::BandChoice;
use telechroma_core::units::TemperatureUnit;
use telechroma_io::table::csv;

use crate::commands::chain::{Chain, Out, PlotArgs, advise, layers};
use crate::commands::run::report;
use crate::context::Context;
use crate::job::{Naming, Wanted, execute};
use crate::report::Report;

/// Statistics per plot: a table on standard output, or a .csv or .geojson file
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
    pub chain: Chain,
    /// A .csv or .geojson file, or a folder; default: the table goes to standard output
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
    let naming = Out { out: args.out }.naming(&["csv", "geojson", "json"]);
    let is_geojson = naming.single.as_ref().is_some_and(|n| !n.to_lowercase().ends_with(".csv"));
    let mut job = args.chain.job("summarise", &args.inputs, recipe, naming)?;
    job.plots = Some(args.plots.job()?);
    job.wanted = Wanted { csv: !to_stdout && !is_geojson, geojson: is_geojson, ..Wanted::default() };
    args.chain.say(&job.inputs, ctx, &job);
    if !to_stdout {
        let done = execute(&job, ctx)?;
        report(&job, &done, ctx);
        return Ok(());
    }
    // nothing is published: the scratch folder goes somewhere that may always be written
    job.naming = Naming { root: std::env::temp_dir().join(format!("telechroma-{}", std::process::id())), ..job.naming };
    let done = execute(&job, ctx)?;
    let _ = std::fs::remove_dir(&job.naming.root); // empty, and in the system's folder for such things
    let Some((header, rows)) = &done.table else { return Ok(()) };
    if ctx.json {
        let object = |row: &Vec<String>| {
            let cell = |v: &String| match v.parse::<f64>() {
                Ok(n) if n.is_finite() => serde_json::json!(n),
                _ if v.is_empty() => serde_json::Value::Null,
                _ => serde_json::json!(v),
            };
            header.iter().cloned().zip(row.iter().map(cell)).collect::<serde_json::Map<_, _>>()
        };
        let mut all = done.to_json();
        all["rows"] = rows.iter().map(object).map(serde_json::Value::Object).collect();
        ctx.print_json(&all);
        return Ok(());
    }
    ctx.print(&csv::to_text(header, rows)?);
    Ok(())
}
