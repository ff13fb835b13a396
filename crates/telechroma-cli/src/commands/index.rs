//! `index`: named indices and own formulas as rasters.

use telechroma_core::method::BandChoice;
use telechroma_core::units::TemperatureUnit;

use crate::commands::chain::{Chain, Out, advise, inputs_and_names, layers};
use crate::commands::run::report;
use crate::context::Context;
use crate::job::{Wanted, execute};
use crate::report::Report;

/// Compute indices, own formulas or land surface temperature
///
/// Example: telechroma index composite_all.tif ndvi lst --unit C
#[derive(clap::Args)]
pub struct Args {
    /// Composites or scenes, then the names of indices ('telechroma indices list' shows them)
    #[arg(required = true, value_name = "INPUT… NAME")]
    pub words: Vec<String>,
    /// An own layer: 'name = formula', such as 'green_red = green / red'; may be repeated
    #[arg(long, value_name = "NAME = FORMULA")]
    pub formula: Vec<String>,
    /// Unit of temperatures: K, C or F
    #[arg(long, value_name = "UNIT", default_value = "K")]
    pub unit: TemperatureUnit,
    #[command(flatten)]
    pub chain: Chain,
    #[command(flatten)]
    pub out: Out,
}

pub fn run(args: Args, ctx: &Context) -> Result<(), Report> {
    let (inputs, names) = inputs_and_names(&args.words);
    let layers = layers(&names, &args.formula)?;
    if inputs.is_empty() {
        return Err(Report::usage("no input: name a composite or scenes before the indices")
            .hint(format!("none of these exists as a file: {}", args.words.join(", "))));
    }
    if layers.is_empty() {
        return Err(Report::usage("no index: name one behind the inputs, or give --formula"));
    }
    advise(&layers, ctx);
    let recipe = args.chain.recipe(layers, BandChoice::Needed, args.unit)?;
    let mut job = args.chain.job("index", &inputs, recipe, args.out.naming(&["tif", "tiff"]))?;
    job.wanted = Wanted { layers: true, ..Wanted::default() };
    args.chain.say(&job.inputs, ctx, &job);
    let done = execute(&job, ctx)?;
    report(&job, &done, ctx);
    Ok(())
}
