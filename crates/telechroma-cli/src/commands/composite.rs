//! `composite`: many dates to one image a period.

use telechroma_core::method::BandChoice;
use telechroma_core::units::TemperatureUnit;

use crate::campaign::roles;
use crate::commands::chain::{Chain, Out};
use crate::commands::run::report;
use crate::context::Context;
use crate::job::{Wanted, execute};
use crate::report::Report;

/// Build one image a period from many dates, with a band that counts the clear looks
///
/// Example: telechroma composite scenes --every month --grow 60m --out composites
#[derive(clap::Args)]
pub struct Args {
    /// Scenes, folders of scenes, or calibrated rasters with their masks; @list.txt for a list
    #[arg(required = true, value_name = "SCENE")]
    pub inputs: Vec<String>,
    /// Bands, in this order; default: all that every scene has
    #[arg(long, value_name = "LIST", value_delimiter = ',')]
    pub bands: Vec<String>,
    #[command(flatten)]
    pub chain: Chain,
    #[command(flatten)]
    pub out: Out,
}

pub fn run(args: Args, ctx: &Context) -> Result<(), Report> {
    let bands = if args.bands.is_empty() { BandChoice::All } else { BandChoice::List(roles(&args.bands)?) };
    let recipe = args.chain.recipe(vec![], bands, TemperatureUnit::K)?;
    let mut job = args.chain.job("composite", &args.inputs, recipe, args.out.naming(&["tif", "tiff"]))?;
    job.wanted = Wanted { composites: true, ..Wanted::default() };
    args.chain.say(&job.inputs, ctx, &job);
    let done = execute(&job, ctx)?;
    report(&job, &done, ctx);
    Ok(())
}
