//! The command line as typed.

use clap::{Args, Parser, Subcommand};

use crate::commands;
use crate::context::Context;
use crate::report::Report;

/// Calibrates multispectral scenes, masks clouds, builds composites, computes indices and land surface temperature,
/// and summarises them per plot.
#[derive(Parser)]
#[command(name = "telechroma", version, propagate_version = true, max_term_width = 100, disable_help_subcommand = true)]
pub struct Cli {
    #[command(flatten)]
    pub common: Common,
    #[command(subcommand)]
    pub command: Command,
}

/// Options that mean the same everywhere.
#[derive(Args)]
pub struct Common {
    /// Threads that compute; default: all cores
    #[arg(long, global = true, value_name = "N", help_heading = "Limits and output")]
    pub threads: Option<usize>,
    /// Most memory to use, such as 500MB; default: half of what is free
    #[arg(long, global = true, value_name = "SIZE", value_parser = crate::context::bytes, help_heading = "Limits and output")]
    pub memory: Option<u64>,
    /// Results as one JSON object on standard output
    #[arg(long, global = true, help_heading = "Limits and output")]
    pub json: bool,
    /// Say nothing but errors
    #[arg(short, long, global = true, help_heading = "Limits and output")]
    pub quiet: bool,
    /// Say more
    #[arg(short, long, global = true, help_heading = "Limits and output")]
    pub verbose: bool,
    /// Replace results that exist
    #[arg(long, global = true, help_heading = "Limits and output")]
    pub overwrite: bool,
    /// End with code 3 if there was anything to note
    #[arg(long, global = true, help_heading = "Limits and output")]
    pub strict: bool,
    /// Colour in messages
    #[arg(long, global = true, value_name = "WHEN", default_value = "auto", help_heading = "Limits and output")]
    pub color: clap::ColorChoice,
}

#[derive(Subcommand)]
pub enum Command {
    Demo(commands::demo::Args),
    Run(commands::run::Args),
    Inspect(commands::inspect::Args),
    Calibrate(commands::calibrate::Args),
    Mask(commands::mask::Args),
    Composite(commands::composite::Args),
    Index(commands::index::Args),
    Summarise(commands::summarise::Args),
    Series(commands::series::Args),
    Classify(commands::classify::Args),
    Compare(commands::compare::Args),
    Assemble(commands::assemble::Args),
    Probe(commands::probe::Args),
    Plots(commands::plots::Args),
    Scenes(commands::scenes::Args),
    Slopes(commands::slopes::Args),
    Declare(commands::declare::Args),
    Draw(commands::draw::Args),
    Indices(commands::indices::Args),
    Sensors(commands::sensors::Args),
    Completions(commands::completions::Args),
    Man(commands::man::Args),
}

impl Command {
    /// Does it.
    ///
    /// # Errors
    /// Whatever goes wrong.
    pub fn run(self, ctx: &Context) -> Result<(), Report> {
        match self {
            Command::Demo(a) => commands::demo::run(a, ctx),
            Command::Run(a) => commands::run::run(a, ctx),
            Command::Inspect(a) => commands::inspect::run(a, ctx),
            Command::Calibrate(a) => commands::calibrate::run(a, ctx),
            Command::Mask(a) => commands::mask::run(a, ctx),
            Command::Composite(a) => commands::composite::run(a, ctx),
            Command::Index(a) => commands::index::run(a, ctx),
            Command::Assemble(a) => commands::assemble::run(a, ctx),
            Command::Probe(a) => commands::probe::run(a, ctx),
            Command::Plots(a) => commands::plots::run(a, ctx),
            Command::Scenes(a) => commands::scenes::run(a, ctx),
            Command::Declare(a) => commands::declare::run(a, ctx),
            Command::Classify(a) => commands::classify::run(a, ctx),
            Command::Compare(a) => commands::compare::run(a, ctx),
            Command::Summarise(a) => commands::summarise::run(a, ctx),
            Command::Series(a) => commands::series::run(a, ctx),
            Command::Draw(a) => commands::draw::run(a, ctx),
            Command::Slopes(a) => commands::slopes::run(a, ctx),
            Command::Indices(a) => commands::indices::run(a, ctx),
            Command::Sensors(a) => commands::sensors::run(a, ctx),
            Command::Completions(a) => commands::completions::run(a, ctx),
            Command::Man(a) => commands::man::run(a, ctx),
        }
    }
}
