//! `completions`: for a shell.

use clap::CommandFactory;

use crate::cli::Cli;
use crate::context::Context;
use crate::report::Report;

/// Print the completions of a shell
///
/// Example: telechroma completions bash > ~/.local/share/bash-completion/completions/telechroma
#[derive(clap::Args)]
pub struct Args {
    /// Which shell
    pub shell: clap_complete::Shell,
}

pub fn run(args: Args, ctx: &Context) -> Result<(), Report> {
    let mut text = vec![];
    clap_complete::generate(args.shell, &mut Cli::command(), "telechroma", &mut text);
    ctx.print(&String::from_utf8_lossy(&text));
    Ok(())
}
