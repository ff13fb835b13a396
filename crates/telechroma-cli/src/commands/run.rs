//! `run`: a campaign in one pass.

use std::path::PathBuf;

use serde_json::json;
use telechroma_core::error::bytes_text;
use telechroma_core::index::INDICES;
use telechroma_core::method::{BandChoice, By, Target};

use crate::campaign;
use crate::context::Context;
use crate::job::Table;
use crate::job::{Job, Outcome, Preview, execute, preview};
use crate::report::Report;

/// Do a whole campaign in one pass over the data
///
/// Example: telechroma run campaign.toml --dry-run
#[derive(clap::Args)]
pub struct Args {
    /// The campaign file
    #[arg(required_unless_present = "keys")]
    pub campaign: Option<PathBuf>,
    /// Print every key of a campaign file with its default and meaning, as a table in Markdown
    #[arg(long)]
    pub keys: bool,
    /// Show the plan, the sizes and what is there already; read no cell, write nothing
    #[arg(long)]
    pub dry_run: bool,
    /// Folder of the results, instead of the file's `out`
    #[arg(long, value_name = "DIR")]
    pub out: Option<PathBuf>,
}

pub fn run(args: Args, ctx: &Context) -> Result<(), Report> {
    let Some(file) = args.campaign.filter(|_| !args.keys) else {
        ctx.print(&keys());
        return Ok(());
    };
    let mut job = campaign::read(&file)?;
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

fn keys() -> String {
    let mut t = String::from("| key | default | meaning |\n| --- | --- | --- |\n");
    for (key, default, meaning) in campaign::KEYS {
        t += &format!(
            "| `{key}` | {} | {meaning} |\n",
            if default.starts_with(['"', '[', '0', '1', 't', 'f']) && !default.starts_with("the") {
                format!("`{default}`")
            } else {
                (*default).into()
            }
        );
    }
    t
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
    if let Some((plots, periods)) = done.table.as_ref().map(Table::size) {
        parts.push(format!("a table of {} x {}", plural(plots, "plot"), plural(periods, "period")));
    }
    let r = &done.report;
    ctx.progress.say(&format!(
        "{} from {} in {:.1} s, in {}",
        parts.join(", "),
        plural(done.inputs.len(), if done.of_rasters { "raster" } else { "scene" }),
        done.seconds(),
        job.naming.root.display()
    ));
    if ctx.verbose {
        ctx.progress.say(&format!(
            "{} of {} blocks decoded ({} again), {} cells in {}; planned memory {}, highest {}",
            r.decoded,
            r.blocks,
            r.decoded_again,
            r.cells,
            plural(r.tiles, "tile"),
            bytes_text(done.planned),
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
        "source_bytes": p.plans.iter().map(|(plan, _, _)| plan.source_bytes()).sum::<u64>(),
        "raster_bytes": p.raster_bytes,
        "results": p.results.iter().map(|(name, there)| json!({"path": name, "exists": there})).collect::<Vec<_>>(),
    })
}

fn preview_text(job: &Job, p: &Preview, ctx: &Context) -> String {
    let mut t = format!("{}\n", job.name);
    for (plan, scenes, periods) in &p.plans {
        let g = plan.graph.grid();
        let (w, h) = g.transform.cell();
        t += &format!("\nInputs    {} {}\n", scenes.len(), if scenes.len() == 1 { "scene" } else { "scenes" });
        for s in scenes {
            t += &format!("          {s}\n");
        }
        let crs = g.crs.map_or("no coordinate system".into(), |c| format!("{} ({c})", c.name()));
        t += &format!(
            "Grid      {} x {} cells of {w} x {h}{}, {crs}\n",
            g.cols,
            g.rows,
            if g.is_metric() { " m" } else { "" }
        );
        let list: Vec<String> = periods.iter().map(|(name, n)| format!("{name} ({n})")).collect();
        t += &format!("Periods   {}: name and number of scenes\n", list.join(", "));
        for (i, (name, n)) in plan.steps().iter().enumerate() {
            let planes = if *n == 1 { "plane" } else { "planes" };
            t += &format!("{:10}{name:22}{n} {planes}\n", if i == 0 { "Steps" } else { "" });
        }
        t += &format!(
            "Work      {} tiles of {} x {} cells, {} cells read beyond each; {} blocks of {} planes, each decoded {}\n",
            plan.tiling.tiles.len(),
            plan.tiling.cols,
            plan.tiling.rows,
            plan.halo(),
            plan.blocks(),
            plan.source_planes(),
            if plan.decodes_again { "once or more: the memory allowed is tight" } else { "once at most" },
        );
        t += &format!(
            "Memory    {} at most with {} of {} threads ({} allowed)\n",
            bytes_text(plan.bytes),
            plan.threads,
            ctx.budget.threads,
            bytes_text(ctx.budget.bytes)
        );
    }
    let read: u64 = p.plans.iter().map(|(plan, _, _)| plan.source_bytes()).sum();
    t += &format!(
        "Sizes     {} to read, rasters of {} to write, both before packing\n",
        bytes_text(read),
        bytes_text(p.raster_bytes)
    );
    t += &format!("Results   in {}\n", job.naming.root.display());
    for line in results(&p.results) {
        t += &format!("          {line}\n");
    }
    t += "Settings  in effect, defaults included, as a campaign file\n";
    for line in settings(job) {
        t += &if line.is_empty() { "\n".into() } else { format!("          {line}\n") };
    }
    t
}

/// Results that differ in their period alone share a line.
fn results(all: &[(String, bool)]) -> Vec<String> {
    let mut groups: Vec<(String, usize, usize)> = vec![];
    for (name, there) in all {
        let stem = match (name.rsplit_once('_'), name.rsplit_once('.')) {
            (Some((what, _)), Some((_, ending))) if name.starts_with("layers/") || name.starts_with("pictures/") => {
                format!("{what}_PERIOD.{ending}")
            }
            _ => name.clone(),
        };
        match groups.iter_mut().find(|g| g.0 == stem) {
            Some(g) => (g.1, g.2) = (g.1 + 1, g.2 + usize::from(*there)),
            None => groups.push((stem, 1, usize::from(*there))),
        }
    }
    let line = |(stem, n, there): (String, usize, usize)| {
        let times = if stem.contains("_PERIOD.") { format!("  x {n}") } else { String::new() };
        let done = match there {
            0 => String::new(),
            t if t == n => "  (there already)".into(),
            t => format!("  ({t} there already)"),
        };
        format!("{stem}{times}{done}")
    };
    groups.into_iter().map(line).collect()
}

/// The campaign's keys with the values in effect; what has no value is a comment.
fn settings(job: &Job) -> Vec<String> {
    let r = &job.recipe;
    let text = |t: &str| toml::Value::from(t).to_string();
    let list = |names: Vec<String>| format!("[{}]", names.iter().map(|n| text(n)).collect::<Vec<_>>().join(", "));
    let path = |p: &std::path::Path| text(&p.display().to_string());
    let or_none = |key: &str, value: Option<String>| value.map_or(format!("# {key}: none"), |v| format!("{key} = {v}"));
    let mut s = vec![format!("name = {}", text(&job.name)), format!("out = {}", path(&job.naming.root))];
    let mut section = |name: &str, lines: Vec<String>| {
        s.extend([String::new(), format!("[{name}]")]);
        s.extend(lines);
    };
    for (name, lines) in
        job.written.iter().filter(|(n, l)| !matches!(*n, "scenes" | "calibrate" | "mask") && !l.is_empty())
    {
        section(name, lines.clone());
    }
    let sensor = job.written.iter().filter(|(n, _)| *n == "scenes").flat_map(|(_, l)| l.clone());
    section(
        "scenes",
        [
            sensor.collect(),
            vec![
                format!("from = [{}]", job.inputs.iter().map(|p| path(p)).collect::<Vec<_>>().join(", ")),
                or_none("since", job.filter.since.map(|d| d.to_string())),
                or_none("until", job.filter.until.map(|d| d.to_string())),
                or_none("max_cloud", job.filter.max_cloud.map(|c| c.to_string())),
            ],
        ]
        .concat(),
    );
    let mut calibrate = vec![format!("to = {}", text(r.target.name()))];
    if let Target::Surface(method) = r.target {
        calibrate.push(format!("dark_object = {}", text(method.name())));
    }
    let written = |section: &'static str| {
        job.written.iter().filter(move |(n, _)| *n == section).flat_map(|(_, lines)| lines.clone())
    };
    calibrate.extend(written("calibrate"));
    section("calibrate", calibrate);
    let mut mask = vec![
        format!("drop = {}", list(r.mask.drop.names().iter().map(|n| n.to_string()).collect())),
        format!("grow = {}", text(&r.mask.grow.map_or("0m".into(), |g| g.to_string()))),
    ];
    mask.extend(written("mask"));
    section("mask", mask);
    section(
        "composite",
        vec![
            format!("every = {}", text(&r.every.name())),
            format!("by = {}", text(&r.by.name())),
            or_none(
                "score",
                match &r.by {
                    By::Look { score, .. } => score.as_deref().map(text),
                    By::Band(_) => None,
                },
            ),
            format!("spread = {}", r.spread),
            format!("at_least = {}", r.at_least.max(1)),
            format!(
                "bands = {}",
                match &r.bands {
                    BandChoice::Needed => text("needed"),
                    BandChoice::All => text("all"),
                    BandChoice::List(roles) => list(roles.iter().map(|r| r.name().to_string()).collect()),
                }
            ),
        ],
    );
    let (named, own): (Vec<_>, Vec<_>) = r.layers.iter().partition(|l| l.formula.is_none());
    let mut layers = vec![format!("use = {}", list(named.iter().map(|l| l.name.clone()).collect()))];
    layers.extend(
        named
            .iter()
            .filter_map(|l| INDICES.iter().find(|d| d.id == l.name))
            .map(|d| format!("# {} is {}", d.id, d.formula)),
    );
    layers.extend(own.iter().map(|l| format!("{} = {}", l.name, text(l.formula.as_deref().unwrap_or_default()))));
    section("layers", layers);
    if !r.defined.is_empty() || !job.aliases.is_empty() {
        let value = |name: &str| r.defined.iter().find(|(n, _)| n == name).map(|(_, v)| v.clone());
        let raster = job.aliases.iter().find(|(n, _)| n == "given_emissivity").map(|(_, p)| path(p));
        section(
            "temperature",
            vec![
                or_none("emissivity", raster.or_else(|| value("emissivity").map(|v| text(&v)))),
                or_none("water_vapour", value("water_vapour")),
                or_none(
                    "air",
                    value("transmittance")
                        .zip(value("upwelling"))
                        .zip(value("downwelling"))
                        .map(|((t, u), d)| format!("[{t}, {u}, {d}]")),
                ),
                or_none("cavity", value("cavity")),
            ],
        );
    }
    if let Some(p) = &job.plots {
        section(
            "plots",
            vec![
                format!("file = {}", path(&p.source.path)),
                or_none("id", p.id.as_deref().map(text)),
                format!("weight = {}", text(&format!("{:?}", p.weight).to_lowercase())),
                or_none("layer", p.source.layer.as_deref().map(text)),
                or_none("inset", p.inset.map(|m| text(&format!("{}m", m.0)))),
                or_none("keep", r.keep.as_deref().map(text)),
                format!("stats = {}", list(p.stats.iter().map(|s| s.to_string()).collect())),
            ],
        );
    }
    section(
        "output",
        vec![
            format!("rasters = {}", job.wanted.layers),
            format!("tables = {}", list(job.wanted.tables.iter().map(|t| t.ending.to_string()).collect())),
            format!("rows = {}", text(&format!("{:?}", job.rows).to_lowercase())),
            format!("pictures = {}", job.wanted.maps),
            "report = false".into(),
            format!("temperature = {}", text(&format!("{:?}", r.temperature))),
        ],
    );
    s
}
