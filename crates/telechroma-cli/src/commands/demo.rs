//! `demo`: a made-up estate, and the whole campaign on it.

use std::path::PathBuf;

use crate::campaign;
use crate::commands::run::report;
use crate::context::Context;
use crate::job::{Job, Outcome, execute};
use crate::report::Report;

/// Everything made up follows from this.
const SEED: u64 = 2031;

/// Write a made-up estate (scenes, fields, campaign) and run the whole campaign on it
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
    if !ctx.json {
        ctx.print(&highlights(&job, &done));
    }
    Ok(())
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
    t += "Try next     ";
    let next = [
        format!("telechroma inspect {dir}/scenes/*20310727*"),
        format!("telechroma run {dir}/campaign.toml --dry-run"),
        format!("telechroma summarise {dir}/scenes --index ndmi --plots {dir}/fields.geojson"),
    ];
    t + &next.join("\n             ") + "\n"
}
