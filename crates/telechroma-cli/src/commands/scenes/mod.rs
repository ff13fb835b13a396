//! `scenes`: what lies on the disk, and what of it fits.

mod cache;
mod find;
pub mod list;

use crate::context::Context;
use crate::report::Report;

/// List the scenes below a folder, or find those that fit an area, dates and a cloud limit
#[derive(clap::Args)]
pub struct Args {
    #[command(subcommand)]
    what: What,
}

#[derive(clap::Subcommand)]
enum What {
    /// Every delivery and raster below a folder: date, sensor, place, level, cloud, size, troubles
    ///
    /// Example: telechroma scenes list archive --area estate.geojson --write catalogue
    List(list::Args),
    /// Scenes that fit, from a folder or a STAC catalogue: a table, JSON, or a list for other commands
    ///
    /// Example: telechroma scenes find archive --area estate.geojson --max-cloud-here 20 --one-per month --out best.txt
    Find(find::Args),
}

pub fn run(args: Args, ctx: &Context) -> Result<(), Report> {
    match args.what {
        What::List(a) => list::run(a, ctx),
        What::Find(a) => find::run(a, ctx),
    }
}
