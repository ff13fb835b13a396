//! `scenes list`: a table of everything below a folder.

use std::path::{Path, PathBuf};

use serde_json::json;
use telechroma_core::area::{Outline, bounds_of};
use telechroma_core::error::bytes_text;
use telechroma_core::grid::Grid;
use telechroma_core::plot::{Polygon, Weighting, cover};
use telechroma_io::delivery::{Opener, Summary, sensor_of, stac};
use telechroma_io::publish::Publisher;

use super::cache::summaries;
use crate::commands::frame::AreaArgs;
use crate::commands::text::aligned;
use crate::context::Context;
use crate::report::Report;

#[derive(clap::Args)]
pub struct Args {
    /// A folder, or a STAC catalogue
    #[arg(value_name = "DIR", default_value = ".")]
    pub from: PathBuf,
    #[command(flatten)]
    pub area: AreaArgs,
    /// Write a static STAC catalogue of what is found into a folder
    #[arg(long, value_name = "DIR")]
    pub write: Option<PathBuf>,
    #[command(flatten)]
    pub how: HowArgs,
}

/// How things are opened.
#[derive(clap::Args)]
pub struct HowArgs {
    /// Sensor of deliveries that do not say it themselves: an id or a .toml file
    #[arg(long, value_name = "SENSOR")]
    pub sensor: Option<String>,
    /// Open everything again, even what has not changed since the last time
    #[arg(long)]
    pub fresh: bool,
}

impl HowArgs {
    pub fn opener(&self) -> Result<Opener, Report> {
        let sensor = self.sensor.as_deref().map(|s| sensor_of(s, Path::new(""))).transpose()?;
        Ok(Opener { sensor })
    }
}

/// Columns of the coarse grid on which shares of an area are measured.
const COARSE: u32 = 512;

/// Share of an area that a grid covers, 0 to 1; none where its place is not known.
pub fn covered(grid: Option<Grid>, area: &Outline) -> Option<f64> {
    let grid = grid?;
    let polygons = area.in_crs(grid.crs?).ok()?;
    let [w, so, e, n] = bounds_of(&polygons);
    let [gw, gs, ge, gn] = grid.bounds();
    if w >= ge || e <= gw || so >= gn || n <= gs {
        return Some(0.0);
    }
    // the same extent in few cells: the share of cells is exact on the edges
    let (kx, ky) = (f64::from(grid.cols) / f64::from(COARSE), f64::from(grid.rows) / f64::from(COARSE));
    let coarse = Grid { crs: grid.crs, transform: grid.transform.coarser(kx, ky), cols: COARSE, rows: COARSE };
    let mut sums = (0.0, 0.0);
    for p in &polygons {
        let cells: Polygon = p.map(|x, y| Ok::<_, ()>(coarse.transform.to_cells(x, y))).ok()?;
        let c = cover(&[cells], coarse.window(), Weighting::Share);
        sums = (sums.0 + c.weight, sums.1 + p.area() / coarse.transform.determinant().abs());
    }
    (sums.1 > 0.0).then(|| (sums.0 / sums.1).min(1.0))
}

/// The grid of a summary, where it can be used.
pub fn grid_of(s: &Summary) -> Option<Grid> {
    s.grid.as_ref()?.grid()
}

/// A share for people: a part never reads as all or nothing.
pub fn percent(share: f64) -> String {
    match share * 100.0 {
        p if p <= 0.0 => "0 %".into(),
        p if p < 1.0 => "< 1 %".into(),
        p if (99.5..100.0).contains(&p) => "99 %".into(),
        p => format!("{p:.0} %"),
    }
}

/// Columns that several tables share.
pub fn row(s: &Summary, cover: Option<Option<f64>>, here: Option<f64>, base: &Path) -> Vec<String> {
    let or_dash = |t: &str| if t.is_empty() { "–".to_string() } else { t.to_string() };
    let path = s.path.strip_prefix(base).unwrap_or(&s.path);
    let mut row = vec![
        s.date.clone().unwrap_or_else(|| "–".into()),
        or_dash(if s.platform.is_empty() { &s.kind } else { &s.platform }),
        s.place.clone().unwrap_or_else(|| "–".into()),
        or_dash(&s.level),
        s.cloud.map_or("–".into(), |c| format!("{c:.0} %")),
    ];
    row.extend(cover.map(|c| c.map_or("–".into(), percent)));
    row.extend(here.map(percent));
    row.push(bytes_text(s.bytes));
    row.push(path.display().to_string());
    row
}

pub fn as_json(s: &Summary, cover: Option<Option<f64>>, here: Option<f64>) -> serde_json::Value {
    let mut j = serde_json::to_value(s).unwrap_or_default();
    if let Some(c) = cover {
        j["covered"] = json!(c);
    }
    if let Some(h) = here {
        j["cloud_here"] = json!(h * 100.0);
    }
    j
}

pub fn run(args: Args, ctx: &Context) -> Result<(), Report> {
    let area = args.area.outline()?;
    let all = summaries(&args.from, &args.how.opener()?, args.how.fresh, ctx)?;
    let cover: Vec<Option<Option<f64>>> = all.iter().map(|s| area.as_ref().map(|a| covered(grid_of(s), a))).collect();
    if let Some(dir) = &args.write {
        write(dir, &all, &args.from, ctx)?;
    }
    if ctx.json {
        ctx.print_json(&all.iter().zip(&cover).map(|(s, c)| as_json(s, *c, None)).collect());
    } else {
        let mut head = vec!["date", "sensor", "place", "level or bands", "cloud"];
        head.extend(area.as_ref().map(|_| "covers"));
        head.extend(["size", "path"]);
        let right: Vec<usize> = (4..head.len() - 1).collect();
        let mut rows: Vec<Vec<String>> = vec![head.into_iter().map(String::from).collect()];
        rows.extend(all.iter().zip(&cover).map(|(s, c)| row(s, *c, None, &args.from)));
        let mut text = String::new();
        // a line for each trouble, below what has it
        for (line, s) in aligned(&rows, &right).lines().zip(std::iter::once(None).chain(all.iter().map(Some))) {
            text += &format!("{line}\n");
            s.iter().flat_map(|s| &s.troubles).for_each(|t| text += &format!("            ! {t}\n"));
        }
        ctx.print(&text);
        let scenes = all.iter().filter(|s| s.kind == "scene").count();
        let troubled = all.iter().filter(|s| !s.troubles.is_empty()).count();
        ctx.progress.say(&format!("{scenes} scenes, {} other, {troubled} with troubles", all.len() - scenes));
    }
    match ctx.strict && all.iter().any(|s| !s.troubles.is_empty()) {
        true => Err(Report::strict("some have troubles")),
        false => Ok(()),
    }
}

fn write(dir: &Path, all: &[Summary], from: &Path, ctx: &Context) -> Result<(), Report> {
    let mut publisher = Publisher::new(dir, ctx.overwrite)?;
    for (name, json) in stac::catalogue(all, dir, &format!("Scenes in {}", from.display())) {
        let path = publisher.stage(&name)?;
        let text = serde_json::to_string_pretty(&json).unwrap_or_default();
        std::fs::write(&path, text + "\n").map_err(|e| telechroma_io::Error::io(&path, e))?;
    }
    publisher.publish()?;
    ctx.progress.say(&format!("catalogue of {} items in {}", all.len(), dir.display()));
    Ok(())
}
