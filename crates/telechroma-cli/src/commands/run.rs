//! `run`: a campaign in one pass.

use std::path::PathBuf;

use serde_json::json;
use telechroma_core::error::bytes_text;

use crate::campaign;
use crate::context::Context;
use crate::job::{Job, Outcome, Preview, execute, preview};
use crate::report::Report;

/// Do a whole campaign in one pass over the data
///
/// Example: telechroma run campaign.toml --dry-run
#[derive(clap::Args)]
pub struct Args {
    /// The campaign file
    pub campaign: PathBuf,
    /// Show the plan, the sizes and what is there already; read no cell, write nothing
    #[arg(long)]
    pub dry_run: bool,
    /// Folder of the results, instead of the file's `out`
    #[arg(long, value_name = "DIR")]
    pub out: Option<PathBuf>,
}

pub fn run(args: Args, ctx: &Context) -> Result<(), Report> {
    let mut job = campaign::read(&args.campaign)?;
    if let Some(out) = args.out {
        job.naming.root = out;
    }
    if args.dry_run {
        let p = preview(&job, ctx)?;
        match ctx.json {
            true => ctx.print_json(&preview_json(&job, &p)),
            false => ctx.print(&preview_text(&job, &p, ctx)),
        }
        return Ok(());
    }
    let done = execute(&job, ctx)?;
    report(&job, &done, ctx);
    Ok(())
}

/// Says what was done: JSON on standard output, or lines for people.
pub fn report(job: &Job, done: &Outcome, ctx: &Context) {
    if ctx.json {
        ctx.print_json(&done.to_json());
        return;
    }
    let count = |kind: &str| done.outputs.iter().filter(|o| o.kind == kind).count();
    let mut parts = vec![];
    let plural = |n: usize, what: &str| format!("{n} {what}{}", if n == 1 { "" } else { "s" });
    if count("composite") + count("layer") > 0 {
        parts.push(plural(count("composite") + count("layer"), "raster"));
    }
    if count("picture") > 0 {
        parts.push(plural(count("picture"), "picture"));
    }
    if let Some((name, plots, periods)) = &done.plots {
        parts.push(format!("a table of {plots} {name} x {}", plural(*periods, "period")));
    }
    let r = &done.report;
    ctx.progress.say(&format!("{} from {} in {:.1} s, in {}", parts.join(", "), plural(done.inputs.len(), "scene"), done.seconds(), job.naming.root.display()));
    if ctx.verbose {
        ctx.progress.say(&format!(
            "{} of {} blocks decoded ({} again), {} cells in {}; planned memory {}, highest {}",
            r.decoded, r.blocks, r.decoded_again, r.cells, plural(r.tiles, "tile"), bytes_text(done.planned),
            crate::context::peak_bytes().map_or("unknown".into(), bytes_text),
        ));
        for (step, seconds) in &r.seconds {
            ctx.progress.say(&format!("  {seconds:8.3} s  {step}"));
        }
    }
}

fn preview_json(job: &Job, p: &Preview) -> serde_json::Value {
    json!({
        "name": job.name,
        "plans": p.plans.iter().map(|(plan, scenes, periods)| json!({
            "scenes": scenes,
            "periods": periods.iter().map(|(name, n)| json!({"period": name, "scenes": n})).collect::<Vec<_>>(),
            "grid": {"cols": plan.graph.grid().cols, "rows": plan.graph.grid().rows, "crs": plan.graph.grid().crs.map(|c| c.to_string())},
            "tile": [plan.tiling.cols, plan.tiling.rows], "tiles": plan.tiling.tiles.len(), "halo_cells": plan.halo(),
            "source_planes": plan.source_planes(), "blocks": plan.blocks(), "decodes_again": plan.decodes_again,
            "bytes": plan.bytes, "threads": plan.threads,
        })).collect::<Vec<_>>(),
        "results": p.results.iter().map(|(name, there)| json!({"path": name, "exists": there})).collect::<Vec<_>>(),
    })
}

fn preview_text(job: &Job, p: &Preview, ctx: &Context) -> String {
    let mut t = format!("{}\n", job.name);
    for (plan, scenes, periods) in &p.plans {
        let g = plan.graph.grid();
        let (w, h) = g.transform.cell();
        t += &format!("\nInputs    {} scenes\n", scenes.len());
        for s in scenes {
            t += &format!("          {s}\n");
        }
        let crs = g.crs.map_or("no coordinate system".into(), |c| format!("{} ({c})", c.name()));
        t += &format!("Grid      {} x {} cells of {w} x {h}{}, {crs}\n", g.cols, g.rows, if g.is_metric() { " m" } else { "" });
        let list: Vec<String> = periods.iter().map(|(name, n)| format!("{name} ({n})")).collect();
        t += &format!("Periods   {} (with the number of scenes)\n", list.join(", "));
        t += "Steps     ";
        let steps: Vec<String> = plan.steps().iter().map(|(name, n)| format!("{name} ({n} planes)")).collect();
        t += &format!("{}\n", steps.join(" → "));
        t += &format!(
            "Work      {} tiles of {} x {} cells, {} cells read beyond each; {} blocks of {} planes, each decoded {}\n",
            plan.tiling.tiles.len(), plan.tiling.cols, plan.tiling.rows, plan.halo(), plan.blocks(), plan.source_planes(),
            if plan.decodes_again { "once or more: the memory allowed is tight" } else { "once at most" },
        );
        t += &format!(
            "Memory    {} at most with {} threads ({} allowed)\n",
            bytes_text(plan.bytes), plan.threads, bytes_text(ctx.budget.bytes),
        );
    }
    t += "Settings  as in effect, defaults included\n";
    for line in settings(job) {
        t += &format!("          {line}\n");
    }
    t += &format!("Results   in {}\n", job.naming.root.display());
    for (name, there) in &p.results {
        t += &format!("          {name}{}\n", if *there { "  (exists already)" } else { "" });
    }
    t
}

/// The campaign's keys with the values in effect.
fn settings(job: &Job) -> Vec<String> {
    let r = &job.recipe;
    let list = |names: Vec<String>| format!("[{}]", names.iter().map(|n| format!("\"{n}\"")).collect::<Vec<_>>().join(", "));
    let day = |d: Option<jiff::civil::Date>| d.map_or("none".into(), |d| d.to_string());
    let mut s = vec![
        format!("scenes.since = {}, until = {}, max_cloud = {}", day(job.filter.since), day(job.filter.until), job.filter.max_cloud.map_or("none".into(), |c| c.to_string())),
        format!("calibrate.to = \"{}\"", r.target.name()),
        format!("mask.drop = {}, grow = \"{}\"", list(r.mask.drop.names().iter().map(|n| n.to_string()).collect()), r.mask.grow.map_or("0m".into(), |g| g.to_string())),
        format!("composite.every = \"{}\", by = \"median\", at_least = {}", r.every.name(), r.at_least),
    ];
    for l in &r.layers {
        let row = telechroma_core::index::INDICES.iter().find(|d| d.id == l.name);
        let formula = l.formula.clone().or(row.map(|d| d.formula.to_string())).unwrap_or_default();
        s.push(format!("layer {} = {formula}", l.name));
    }
    if r.layers.iter().any(|l| l.name == "lst") {
        s.push(format!("output.temperature = \"{:?}\"", r.temperature));
    }
    if let Some(p) = &job.plots {
        let stats = p.stats.iter().map(|s| s.to_string()).collect();
        s.push(format!("plots.file = \"{}\", weight = \"{}\", stats = {}", p.file.display(), format!("{:?}", p.weight).to_lowercase(), list(stats)));
        s.push(format!("plots.keep = {}", r.keep.as_ref().map_or("none".into(), |k| format!("'{k}'"))));
    }
    s
}
