//! `plots pick`: plots chosen by their attributes, and united by them.

use std::path::PathBuf;

use telechroma_core::attribute::Condition;
use telechroma_core::feature::{dissolve, pick};

use super::files::{From, write};
use crate::context::Context;
use crate::report::Report;

/// Choose plots by their attributes, or unite those that share one; also turns a file into another format
///
/// Example: telechroma plots pick fields.geojson --only 'crop = "flax" and area_ha > 2' --out flax.gpkg
#[derive(clap::Args)]
pub struct Args {
    #[command(flatten)]
    from: From,
    /// Plots that meet a condition, such as 'crop = "flax"'
    #[arg(long, value_name = "COND")]
    only: Option<String>,
    /// Unite the plots that have the same value of an attribute
    #[arg(long, value_name = "FIELD")]
    dissolve: Option<String>,
    /// The file to write: .gpkg, .geojson, .shp, .parquet, or points as .csv
    #[arg(long, value_name = "FILE")]
    out: PathBuf,
}

pub fn run(args: &Args, ctx: &Context) -> Result<(), Report> {
    let mut features = args.from.read(ctx)?;
    let all = features.rows.len();
    if let Some(only) = &args.only {
        features = pick(features, &Condition::parse(only)?)?;
        if features.rows.is_empty() {
            return Err(Report::usage(format!("none of the {all} features meets the condition")));
        }
    }
    let picked = features.rows.len();
    let mut what = format!("{picked} of {all} features");
    if let Some(by) = &args.dissolve {
        features = dissolve(&features, by)?;
        what = format!("{what}, united by {by} to {}", features.rows.len());
    }
    write(&args.out, &features, &what, ctx)
}
