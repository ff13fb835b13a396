//! `plots`: trial grids, points, rings, choices and joins, and how plots fit a raster.

mod align;
mod check;
mod files;
mod join;
mod lay;
mod pick;
mod ring;
mod scatter;

use clap::Subcommand;
pub use files::{From, metric};

use crate::context::Context;
use crate::report::Report;

/// Lay out plots, change them, and check them against a raster
///
/// Example: telechroma plots check fields.geojson results/layers/ndvi_2031-07.tif
#[derive(clap::Args)]
pub struct Args {
    #[command(subcommand)]
    what: What,
}

#[derive(Subcommand)]
enum What {
    Lay(lay::Args),
    Align(Box<align::Args>),
    Scatter(scatter::Args),
    Ring(ring::Args),
    Pick(pick::Args),
    Join(join::Args),
    Check(check::Args),
}

pub fn run(args: Args, ctx: &Context) -> Result<(), Report> {
    match args.what {
        What::Lay(a) => lay::run(&a, ctx),
        What::Align(a) => align::run(*a, ctx),
        What::Scatter(a) => scatter::run(&a, ctx),
        What::Ring(a) => ring::run(&a, ctx),
        What::Pick(a) => pick::run(&a, ctx),
        What::Join(a) => join::run(&a, ctx),
        What::Check(a) => check::run(&a, ctx),
    }
}
