//! `plots join`: a table's columns by id.

use std::path::PathBuf;

use telechroma_core::feature::{Features, join};
use telechroma_core::run::{Note, Observer, listed};
use telechroma_io::table::csv;

use super::files::{From, write};
use crate::context::Context;
use crate::report::Report;

/// Join the columns of a CSV to plots by id; what finds no partner is listed both ways
///
/// Example: telechroma plots join trial.gpkg yields.csv --key plot --out trial_yields.gpkg
#[derive(clap::Args)]
pub struct Args {
    #[command(flatten)]
    from: From,
    /// The table
    #[arg(value_name = "TABLE")]
    table: PathBuf,
    /// The attribute that is the plots' id; default: the first of id, plot, plot_id, field, field_id, name
    #[arg(long, value_name = "FIELD")]
    id: Option<String>,
    /// The column of the table that holds the ids; default: as the plots call it
    #[arg(long, value_name = "COLUMN")]
    key: Option<String>,
    /// The file to write: .gpkg, .geojson, .shp, .parquet
    #[arg(long, value_name = "FILE")]
    out: PathBuf,
}

pub fn run(args: &Args, ctx: &Context) -> Result<(), Report> {
    let features = args.from.read(ctx)?;
    let id = features.id_column(args.id.as_deref())?;
    let key = args.key.clone().unwrap_or_else(|| features.fields[id].name.clone());
    let (columns, rows) = csv::read(&args.table)?;
    let all = features.rows.len();
    let joined = joined(features, id, (&columns, &rows), &key, ctx)?;
    write(&args.out, &joined, &format!("{all} plots with {} more columns", columns.len() - 1), ctx)
}

/// Features with a table's columns; what found no partner is noted.
pub fn joined(
    features: Features,
    id: usize,
    (columns, rows): (&[String], &[Vec<String>]),
    key: &str,
    ctx: &Context,
) -> Result<Features, Report> {
    let found = join(features, id, columns, rows, key)?;
    if !found.without_row.is_empty() {
        ctx.progress.note(Note::Plots(format!("the table has no row for {}", listed(&found.without_row))));
    }
    if !found.without_plot.is_empty() {
        let ids = listed(&found.without_plot);
        ctx.progress.note(Note::Plots(format!("rows of the table that belong to no plot: {ids}")));
    }
    Ok(found.features)
}
