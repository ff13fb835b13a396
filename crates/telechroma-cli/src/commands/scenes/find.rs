//! `scenes find`: what fits an area, dates and a cloud limit.

use std::path::{Path, PathBuf};

use jiff::civil::Date;
use serde_json::json;
use telechroma_core::area::Outline;
use telechroma_core::mask::Reasons;
use telechroma_core::method::{Every, Frame, MaskOptions, plan_mask};
use telechroma_io::delivery::{Opened, Opener, Summary, stac};
use telechroma_io::publish::Publisher;

use super::cache::summaries;
use super::list::{HowArgs, as_json, covered, grid_of, row};
use crate::commands::frame::AreaArgs;
use crate::commands::text::aligned;
use crate::context::Context;
use crate::job::reason_shares;
use crate::report::Report;

#[derive(clap::Args)]
pub struct Args {
    /// A folder, or a STAC catalogue
    #[arg(value_name = "DIR|CATALOGUE")]
    pub from: PathBuf,
    #[command(flatten)]
    pub area: AreaArgs,
    /// First day, such as 2031-04-01
    #[arg(long, value_name = "DATE")]
    pub since: Option<Date>,
    /// Last day, inclusive
    #[arg(long, value_name = "DATE")]
    pub until: Option<Date>,
    /// Most cloud of the whole scene by the metadata, in percent
    #[arg(long, value_name = "PCT", value_parser = percentage)]
    pub max_cloud: Option<f64>,
    /// Most cloud, shadow and cirrus inside the area by the scene's own mask, in percent of what is seen there
    #[arg(long, value_name = "PCT", value_parser = percentage)]
    pub max_cloud_here: Option<f64>,
    /// Least share of the area that the scene covers, such as 95%
    #[arg(long, value_name = "PCT", value_parser = percentage)]
    pub covers: Option<f64>,
    /// Order: date, cloud (inside the area where that is asked for) or cover
    #[arg(long, value_name = "KEY", default_value = "date", value_parser = ["date", "cloud", "cover"])]
    pub sort: String,
    /// Only the N with least cloud
    #[arg(long, value_name = "N", conflicts_with = "latest")]
    pub clearest: Option<usize>,
    /// Only the N latest
    #[arg(long, value_name = "N")]
    pub latest: Option<usize>,
    /// Only the clearest of each month, or each 16 days from 1 January
    #[arg(long, value_name = "PERIOD", value_parser = ["month", "16days"])]
    pub one_per: Option<String>,
    #[command(flatten)]
    pub how: HowArgs,
    /// Write the list: paths for @list.txt, or STAC items for .json
    #[arg(long, value_name = "FILE")]
    pub out: Option<PathBuf>,
}

fn percentage(text: &str) -> Result<f64, String> {
    match text.trim().trim_end_matches('%').trim().parse::<f64>() {
        Ok(p) if (0.0..=100.0).contains(&p) => Ok(p),
        _ => Err("write a percentage from 0 to 100, such as 20 or 20%".into()),
    }
}

/// A scene with what was asked about it.
struct Fit {
    scene: Summary,
    cover: Option<Option<f64>>,
    here: Option<f64>,
}

impl Fit {
    /// Least cloud first; what is not known comes last.
    fn cloud(&self) -> f64 {
        self.here.map(|h| h * 100.0).or(self.scene.cloud).unwrap_or(f64::INFINITY)
    }
}

pub fn run(args: Args, ctx: &Context) -> Result<(), Report> {
    let area = args.area.outline()?;
    let needs_area = [
        ("--covers", args.covers.is_some()),
        ("--max-cloud-here", args.max_cloud_here.is_some()),
        ("--sort cover", args.sort == "cover"),
    ];
    if let (None, Some((option, _))) = (&area, needs_area.iter().find(|(_, asked)| *asked)) {
        return Err(Report::usage(format!("{option} needs an area")).hint("give --area FILE or --box W,S,E,N"));
    }
    let opener = args.how.opener()?;
    let all = summaries(&args.from, &opener, args.how.fresh, ctx)?;
    let total = all.iter().filter(|s| s.kind == "scene").count();
    let mut found: Vec<Fit> = vec![];
    for scene in all.into_iter().filter(|s| s.kind == "scene") {
        let date: Option<Date> = scene.date.as_ref().and_then(|d| d.parse().ok());
        let in_time = args.since.is_none_or(|s| date.is_some_and(|d| d >= s))
            && args.until.is_none_or(|u| date.is_some_and(|d| d <= u));
        let clear = args.max_cloud.is_none_or(|m| scene.cloud.is_none_or(|c| c <= m));
        let cover = area.as_ref().map(|a| covered(grid_of(&scene), a));
        // a scene that does not meet the area never fits
        let least = args.covers.map_or(f64::MIN_POSITIVE, |c| (c / 100.0 - 1e-9).max(f64::MIN_POSITIVE));
        let meets = cover.is_none_or(|c| c.is_some_and(|c| c >= least));
        if in_time && clear && meets {
            found.push(Fit { scene, cover, here: None });
        }
    }
    if let (Some(area), Some(most)) = (&area, args.max_cloud_here) {
        let mut clear = vec![];
        for mut fit in found {
            fit.here = cloud_here(&fit.scene, area, &opener, ctx)?;
            match fit.here {
                Some(share) if share * 100.0 <= most => clear.push(fit),
                Some(_) => {}
                None => ctx
                    .progress
                    .say(&format!("{}: nothing of the area is seen, or it has no mask: left out", fit.scene.id)),
            }
        }
        found = clear;
    }
    choose(&args, &mut found);
    if let Some(out) = &args.out {
        write(out, &found, ctx)?;
    }
    show(&args, &found, area.is_some(), total, ctx);
    match found.is_empty() {
        true => Err(Report::failed(format!("none of the {total} scenes fits"))
            .hint("loosen the dates, the cloud limit or the cover asked for")),
        false => Ok(()),
    }
}

fn choose(args: &Args, found: &mut Vec<Fit>) {
    if let Some(period) = &args.one_per {
        let every = if period == "month" { Every::Month } else { Every::Days(16) };
        found.sort_by(|a, b| a.cloud().total_cmp(&b.cloud()));
        let mut seen = std::collections::BTreeSet::new();
        found.retain(|f| {
            f.scene.date.as_ref().and_then(|d| d.parse().ok()).is_some_and(|d| seen.insert(every.period(d)))
        });
        found.sort_by(|a, b| (&a.scene.date, &a.scene.path).cmp(&(&b.scene.date, &b.scene.path)));
    }
    if let Some(n) = args.clearest {
        found.sort_by(|a, b| a.cloud().total_cmp(&b.cloud()));
        found.truncate(n);
        found.sort_by(|a, b| (&a.scene.date, &a.scene.path).cmp(&(&b.scene.date, &b.scene.path)));
    }
    if let Some(n) = args.latest {
        found.drain(..found.len().saturating_sub(n)); // sorted by date
    }
    match args.sort.as_str() {
        "cloud" => found.sort_by(|a, b| a.cloud().total_cmp(&b.cloud())),
        "cover" => {
            found.sort_by(|a, b| b.cover.flatten().unwrap_or(-1.0).total_cmp(&a.cover.flatten().unwrap_or(-1.0)))
        }
        _ => {}
    }
}

fn show(args: &Args, found: &[Fit], with_area: bool, total: usize, ctx: &Context) {
    if ctx.json {
        ctx.print_json(&json!({"found": found.iter().map(|f| as_json(&f.scene, f.cover, f.here)).collect::<Vec<_>>(), "scenes": total}));
        return;
    }
    let mut head = vec!["date", "sensor", "place", "level", "cloud"];
    if with_area {
        head.push("covers");
    }
    if args.max_cloud_here.is_some() {
        head.push("cloud here");
    }
    head.extend(["size", "path"]);
    let right: Vec<usize> = (4..head.len() - 1).collect();
    let mut rows: Vec<Vec<String>> = vec![head.into_iter().map(String::from).collect()];
    rows.extend(found.iter().map(|f| row(&f.scene, f.cover, f.here, &args.from)));
    ctx.print(&aligned(&rows, &right));
    ctx.progress.say(&format!("{} of {total} scenes", found.len()));
}

fn write(out: &Path, found: &[Fit], ctx: &Context) -> Result<(), Report> {
    let folder = out.parent().filter(|p| !p.as_os_str().is_empty()).unwrap_or(Path::new("."));
    let Some(name) = out.file_name().map(|n| n.to_string_lossy().into_owned()) else {
        return Err(Report::usage(format!("{}: names no file", out.display())));
    };
    let text = if name.to_lowercase().ends_with(".json") {
        let scenes: Vec<Summary> = found.iter().map(|f| f.scene.clone()).collect();
        serde_json::to_string_pretty(&stac::collection(&scenes, folder)).unwrap_or_default() + "\n"
    } else {
        let line = |f: &Fit| {
            std::path::absolute(&f.scene.path).map_or(f.scene.path.clone(), |p| p).display().to_string() + "\n"
        };
        found.iter().map(line).collect()
    };
    let mut publisher = Publisher::new(folder, ctx.overwrite)?;
    let path = publisher.stage(&name)?;
    std::fs::write(&path, text).map_err(|e| telechroma_io::Error::io(&path, e))?;
    publisher.publish()?;
    Ok(())
}

/// Share of the cells seen inside an area that the scene's own mask drops; none where nothing is seen or nothing can be told.
fn cloud_here(s: &Summary, area: &Outline, opener: &Opener, ctx: &Context) -> Result<Option<f64>, Report> {
    let Opened::Scene(scene) = opener.open(&s.path, &mut |_| {})? else { return Ok(None) };
    if scene.flags.is_empty() {
        return Ok(None);
    }
    let frame = Frame { area: Some(area.clone()), ..Frame::default() };
    let options = MaskOptions { drop: Reasons::default_drop(), ..MaskOptions::default() };
    let (graph, node, _) = plan_mask(&scene, &options, &frame)?;
    let shares = reason_shares(graph, node, ctx)?;
    Ok(shares.dropped_of_seen())
}
