//! `plots ring`: what lies within a distance.

use std::path::PathBuf;

use telechroma_core::feature::ring_round;
use telechroma_core::plot::Shape;
use telechroma_core::run::{Note, Observer};
use telechroma_core::units::Metres;

use super::files::{From, metric, units, write};
use crate::context::Context;
use crate::report::Report;

/// Draw circles round points, or bands round polygons; polygons can be drawn in as well
///
/// Example: telechroma plots ring probes.csv --by 20m --out probes_20m.gpkg
#[derive(clap::Args)]
pub struct Args {
    #[command(flatten)]
    from: From,
    /// The distance, such as 20m; with a minus polygons are drawn in: -5m
    #[arg(long, value_name = "LENGTH", allow_hyphen_values = true, value_parser = signed)]
    by: f64,
    /// The file to write: .gpkg, .geojson, .shp, .parquet
    #[arg(long, value_name = "FILE")]
    out: PathBuf,
}

fn signed(text: &str) -> Result<f64, String> {
    let (sign, t) = text.strip_prefix('-').map_or((1.0, text), |t| (-1.0, t));
    t.parse::<Metres>().map(|m| sign * m.0).map_err(|e| e.to_string())
}

pub fn run(args: &Args, ctx: &Context) -> Result<(), Report> {
    let features = args.from.read(ctx)?;
    let mut moved = features.in_crs(metric(&features)?)?;
    let (mut empty, distance) = (0, units(moved.crs, args.by));
    for row in &mut moved.rows {
        row.shape = ring_round(&row.shape, distance)?;
        empty += usize::from(matches!(&row.shape, Shape::Polygons(all) if all.is_empty()));
    }
    if empty > 0 {
        ctx.progress.note(Note::Plots(format!("nothing is left of {empty} of {} shapes", moved.rows.len())));
    }
    let what = format!("{} shapes with {} m round them", moved.rows.len(), args.by);
    write(&args.out, &moved, &what, ctx)
}
