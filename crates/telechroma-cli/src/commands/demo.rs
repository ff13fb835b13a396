//! `demo`: a made-up estate, and the whole campaign on it.

use std::path::{Path, PathBuf};

use clap::Parser;

use crate::campaign;
use crate::cli::Cli;
use crate::commands::run::report;
use crate::context::Context;
use crate::job::{Job, Outcome, execute};
use crate::progress::Progress;
use crate::report::Report;

/// Everything made up follows from this.
const SEED: u64 = 2031;

/// Write a made-up estate (scenes, fields, a trial, campaign) and run the whole campaign and the trial on it
///
/// Example: telechroma demo
#[derive(clap::Args)]
pub struct Args {
    /// Where it goes
    #[arg(default_value = "tarn-hollow")]
    pub dir: PathBuf,
    /// Only write the estate; run nothing
    #[arg(long)]
    pub no_run: bool,
}

pub fn run(args: Args, ctx: &Context) -> Result<(), Report> {
    let dir = &args.dir;
    let kept = ["scenes", "truth", "fields.geojson", "campaign.toml"].iter().find(|n| dir.join(n).exists());
    match kept {
        Some(_) if !ctx.overwrite && !dir.join("truth").join("README.txt").exists() => {
            return Err(Report::usage(format!(
                "{} holds other files; the demo goes into a folder of its own",
                dir.display()
            ))
            .hint("name another folder: telechroma demo DIR"));
        }
        _ => {}
    }
    ctx.progress
        .say(&format!("making up Tarn Hollow in {}: 10 scenes of an estate that does not exist", dir.display()));
    telechroma_world::write_estate(dir, SEED, ctx.budget.threads)
        .map_err(|e| Report::from(telechroma_io::Error::io(dir, e)))?;
    let campaign = dir.join("campaign.toml");
    if args.no_run {
        ctx.progress.say(&format!("next: telechroma run {}", campaign.display()));
        return Ok(());
    }
    let job = campaign::read(&campaign)?;
    // the estate is the demo's own: its results may be replaced
    let again = Context { overwrite: true, ..ctx.again() };
    let done = execute(&job, &again)?;
    report(&job, &done, ctx);
    for line in ALSO {
        perform(line, dir, &again)?;
    }
    if !ctx.json {
        ctx.print(&highlights(&job, &done));
    }
    Ok(())
}

/// What is done beside the campaign, as it would be typed: crops through the season, and the trial plot by plot.
const ALSO: &[&str] = &[
    "series DIR/scenes --index ndvi --plots DIR/fields.geojson --by crop --smooth whittaker \
     --out DIR/results/tables/series.csv --seasons DIR/results/tables/seasons.csv --chart DIR/results/pictures/season.png",
    "plots lay --origin 503985,4400715 --crs EPSG:32625 --size 1.5m,6m --alley 0.5m,1m --count 12,5 --angle 11 \
     --design DIR/trial/design.csv --out DIR/results/plots/trial_as_given.gpkg",
    "plots align DIR/results/plots/trial_as_given.gpkg DIR/trial/mosaic_20310706.tif ndvi --unmasked \
     --picture DIR/results/pictures/trial_fit.png --out DIR/results/plots/trial_moved.gpkg",
    "plots join DIR/results/plots/trial_moved.gpkg DIR/trial/harvest.csv --out DIR/results/plots/trial_harvest.gpkg",
    "summarise DIR/trial/mosaic_20310706.tif --index ndvi,ndre --unmasked --plots DIR/results/plots/trial_harvest.gpkg \
     --inset 0.2m --stats mean,sd,p90 --out DIR/results/plots/trial.gpkg",
    "draw plots DIR/results/plots/trial.gpkg --by ndvi_mean --out DIR/results/pictures/trial_ndvi.png",
];

/// Runs a command for its files.
fn perform(line: &str, dir: &Path, ctx: &Context) -> Result<(), Report> {
    let place = dir.display().to_string();
    let words = line.split_whitespace().map(|w| w.replace("DIR", &place));
    let cli = Cli::try_parse_from(std::iter::once("telechroma".to_string()).chain(words))
        .map_err(|e| Report::failed(format!("the demo's own command is wrong: {e}")))?;
    let silent = Context { mute: true, json: false, progress: Progress::new(true), ..*ctx };
    cli.command.run(&silent)
}

/// Columns of the table that are shown: its name, what it is called here, and how its numbers are written.
type Shown = (&'static str, &'static str, fn(f64) -> String);

const SHOWN: [Shown; 4] = [
    ("ndvi_mean", "ndvi mean", |v| format!("{v:.2}")),
    ("ndvi_sd", "ndvi sd", |v| format!("{v:.2}")),
    ("lst_mean", "surface °C", |v| format!("{v:.1}")),
    ("ndvi_valid_share", "clear", |v| format!("{:.0} %", 100.0 * v)),
];

/// One field's rows of the table, and where to look next.
fn highlights(job: &Job, done: &Outcome) -> String {
    let root = job.naming.root.display();
    let mut t = String::new();
    if let Some((header, rows)) = done.table.as_ref().map(|t| t.texts(job.rows)) {
        let cell = |row: &[String], name: &str| {
            header.iter().position(|h| h == name).map_or(String::new(), |i| row[i].clone())
        };
        let first = rows.first().map(|r| (r[0].clone(), cell(r, "crop"), cell(r, "area_ha"))).unwrap_or_default();
        t += &format!("\nOne field through the season, from the table: {}, {}, {} ha\n", first.0, first.1, first.2);
        t += &format!("  {:9}{}\n", "month", SHOWN.map(|s| format!("{:>12}", s.1)).concat());
        for row in rows.iter().filter(|r| r[0] == first.0) {
            let values =
                SHOWN.map(|(name, _, text)| format!("{:>12}", cell(row, name).parse().map_or("–".into(), text)));
            t += &format!("  {:9}{}\n", cell(row, "period"), values.concat());
        }
    }
    let dir = job.naming.root.parent().map_or(".".into(), |p| p.display().to_string());
    t += &format!("\nThe table    {root}/tables/fields.csv\n");
    t += &format!("A map        {root}/pictures/ndvi_2031-07.png\n");
    t += &format!("Crops        {root}/pictures/season.png, through the season\n");
    t += &format!("A trial      {root}/pictures/trial_fit.png, its plots brought to where they grow\n");
    t += "Try next     ";
    let next = [
        format!("telechroma inspect {dir}/scenes/*20310727*"),
        format!("telechroma run {dir}/campaign.toml --dry-run"),
        format!("telechroma summarise {dir}/scenes --index ndmi --plots {dir}/fields.geojson"),
        format!("telechroma series {dir}/scenes --index ndmi --plots {dir}/fields.geojson --by crop --chart ndmi.png"),
    ];
    t + &next.join("\n             ") + "\n"
}
