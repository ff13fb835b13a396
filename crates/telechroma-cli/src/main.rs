//! The program: parse, dispatch, exit code.
#![allow(missing_docs)] // clap's doc comments are the help; the rest is private to the program

mod campaign;
mod cli;
mod commands;
mod context;
mod exit;
mod hint;
mod job;
mod progress;
mod report;

use std::io::{IsTerminal, Write};
use std::process::ExitCode;
use std::sync::atomic::Ordering;

use clap::Parser;
use telechroma_core::run::Budget;

use crate::cli::{Cli, Common};
use crate::context::Context;
use crate::exit::Exit;
use crate::report::Report;

fn main() -> ExitCode {
    let cli = Cli::parse();
    // without a handler an interrupt ends the program at once, which leaves no half result either
    let _ = ctrlc::set_handler(|| progress::INTERRUPTED.store(true, Ordering::SeqCst));
    let color = cli.common.color;
    let ctx = match context(&cli.common) {
        Ok(ctx) => ctx,
        Err(e) => return fail(&e, cli.common.json, color),
    };
    let result = cli.command.run(&ctx);
    ctx.progress.clear();
    match result {
        Ok(()) if ctx.strict && !ctx.progress.notes().is_empty() => {
            let n = ctx.progress.notes().len();
            fail(
                &Report::strict(format!(
                    "done, but --strict allows no notes and there {}",
                    if n == 1 { "is one".into() } else { format!("are {n}") }
                )),
                ctx.json,
                color,
            )
        }
        Ok(()) => Exit::Done.into(),
        Err(e) => fail(&e, ctx.json, color),
    }
}

fn context(common: &Common) -> Result<Context, Report> {
    let threads = common.threads.or_else(|| std::env::var("RAYON_NUM_THREADS").ok()?.parse().ok().filter(|n| *n > 0));
    let threads = threads.unwrap_or_else(|| std::thread::available_parallelism().map_or(1, |n| n.get()));
    if !(1..=1024).contains(&threads) {
        return Err(Report::usage(format!("--threads {threads}: use 1 to 1024")));
    }
    Ok(Context {
        budget: Budget { threads, bytes: common.memory.unwrap_or_else(context::default_memory) },
        json: common.json,
        strict: common.strict,
        verbose: common.verbose,
        overwrite: common.overwrite,
        mute: false,
        progress: progress::Progress::new(common.quiet),
    })
}

fn fail(e: &Report, json: bool, color: clap::ColorChoice) -> ExitCode {
    // what was done is on standard output already
    if json && e.exit != Exit::Strict {
        let mut out = std::io::stdout().lock();
        let _ = writeln!(out, "{}", serde_json::to_string_pretty(&e.to_json()).unwrap_or_default());
    }
    let mut err = std::io::stderr().lock();
    let coloured = match color {
        clap::ColorChoice::Always => true,
        clap::ColorChoice::Never => false,
        clap::ColorChoice::Auto => err.is_terminal() && std::env::var_os("NO_COLOR").is_none(),
    };
    let (red, bold, plain) = if coloured { ("\x1b[31;1m", "\x1b[1m", "\x1b[0m") } else { ("", "", "") };
    let _ = writeln!(err, "{red}error:{plain} {}", e.message);
    if let Some(hint) = &e.hint {
        let _ = writeln!(err, "{bold}hint:{plain} {hint}");
    }
    e.exit.into()
}
