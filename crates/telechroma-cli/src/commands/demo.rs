//! `demo`: a made-up estate, and the whole campaign on it.

use std::path::PathBuf;

use crate::campaign;
use crate::commands::run::report;
use crate::context::Context;
use crate::job::execute;
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

/// A few lines of the table, and where to look next.
fn highlights(job: &crate::job::Job, done: &crate::job::Outcome) -> String {
    let root = job.naming.root.display();
    let mut t = String::new();
    if let Some((header, rows)) = &done.table {
        let wanted = ["field", "period", "crop", "ndvi_mean", "ndvi_valid_share", "lst_mean"];
        let at: Vec<usize> = wanted.iter().filter_map(|w| header.iter().position(|h| h == w)).collect();
        let short = |v: &str| {
            v.parse::<f64>().map_or(v.to_string(), |n| if v.contains('.') { format!("{n:.3}") } else { v.to_string() })
        };
        t += "\nOne field through the season, of the table:\n";
        let heads = ["field", "month", "crop", "ndvi mean", "clear share", "temperature °C"];
        let mut table = vec![heads.map(String::from).to_vec()];
        let first = rows.first().map(|r| r[0].clone()).unwrap_or_default();
        table.extend(
            rows.iter()
                .filter(|r| r[0] == first)
                .map(|r| at.iter().map(|i| if r[*i].is_empty() { "–".into() } else { short(&r[*i]) }).collect()),
        );
        let widths: Vec<usize> = (0..heads.len())
            .map(|c| table.iter().map(|r| r.get(c).map_or(0, |s: &String| s.chars().count())).max().unwrap_or(0))
            .collect();
        for row in &table {
            let cells: Vec<String> =
                row.iter().zip(&widths).map(|(s, w)| format!("{s}{}", " ".repeat(w - s.chars().count()))).collect();
            t += &format!("  {}\n", cells.join("   ").trim_end());
        }
    }
    t += &format!("\nLook at {root}/pictures/ndvi_2031-07.png and {root}/tables/fields.csv, then try\n");
    let dir = job.naming.root.parent().map_or(".".into(), |p| p.display().to_string());
    t += &format!("  telechroma run {dir}/campaign.toml --dry-run\n");
    t += &format!("  telechroma inspect {dir}/scenes/*20310727*\n");
    t += &format!("  telechroma summarise {dir}/scenes --index ndmi --plots {dir}/fields.geojson\n");
    t
}
