//! `man`: manual pages.

use std::path::PathBuf;

use clap::CommandFactory;
use telechroma_io::publish::Publisher;

use crate::cli::Cli;
use crate::context::Context;
use crate::report::Report;

/// Write the manual pages, one a command
///
/// Example: telechroma man ~/.local/share/man/man1
#[derive(clap::Args)]
pub struct Args {
    /// Folder they go to
    pub dir: PathBuf,
}

pub fn run(args: Args, ctx: &Context) -> Result<(), Report> {
    let mut publisher = Publisher::new(&args.dir, ctx.overwrite)?;
    let mut command = Cli::command();
    command.build();
    pages(&command, "telechroma", &mut publisher)?;
    let written = publisher.publish()?;
    ctx.progress.say(&format!("{} pages in {}", written.len(), args.dir.display()));
    Ok(())
}

fn pages(command: &clap::Command, name: &str, publisher: &mut Publisher) -> Result<(), Report> {
    let path = publisher.stage(&format!("{name}.1"))?;
    let mut text = vec![];
    let page = clap_mangen::Man::new(command.clone()).title(name.to_uppercase());
    let rendered = page.render(&mut text).and_then(|()| std::fs::write(&path, text));
    rendered.map_err(|e| Report::from(telechroma_io::Error::io(&path, e)))?;
    for sub in command.get_subcommands().filter(|s| !s.is_hide_set()) {
        pages(sub, &format!("{name}-{}", sub.get_name()), publisher)?;
    }
    Ok(())
}
