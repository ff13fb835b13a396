//! Not built yet.

use crate::context::Context;
use crate::report::Report;

/// Not built yet
#[derive(clap::Args)]
pub struct Args {}

pub fn run(_args: Args, _ctx: &Context) -> Result<(), Report> {
    Err(Report::usage("not built yet"))
}
