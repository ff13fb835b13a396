//! `inspect`: what a delivery or raster is, what its cells hold, and what looks wrong.

mod raster;
mod scene;
mod sheet;

use std::path::PathBuf;

use serde_json::json;
use telechroma_io::delivery::{self, Opened};

use self::sheet::Sheet;
use crate::context::{Context, listed};
use crate::report::Report;

/// Show what scenes and rasters are: sensor, date, sun, grid, bands, values, and troubles
///
/// Example: telechroma inspect scenes/LC08_L1TP_250300_20310727_20310812_02_T1
#[derive(clap::Args)]
pub struct Args {
    /// Deliveries, folders of deliveries, rasters; @list.txt for a list
    #[arg(required = true, value_name = "PATH")]
    pub paths: Vec<String>,
    /// Only the metadata; read no cell
    #[arg(long)]
    pub no_cells: bool,
}

pub fn run(args: Args, ctx: &Context) -> Result<(), Report> {
    let mut paths: Vec<PathBuf> = vec![];
    for p in listed(&args.paths)? {
        paths.extend(if p.is_dir() { delivery::find(&p)? } else { vec![p] });
    }
    let (mut sheets, mut troubles) = (vec![], 0);
    for path in paths {
        let mut notes = vec![];
        let opened = delivery::open(&path, &mut |n| notes.push(n.to_string()))?;
        let mut sheet = match &opened {
            Opened::Scene(s) => scene::of_scene(s, args.no_cells, ctx)?,
            Opened::Mask { scene, source, .. } => raster::of_mask(&path, scene, source, args.no_cells, ctx)?,
            Opened::Layers(set) => raster::of_layers(&path, set, args.no_cells, ctx)?,
        };
        notes.append(&mut sheet.troubles);
        sheet.troubles = notes;
        troubles += sheet.troubles.len();
        sheets.push(sheet);
    }
    ctx.progress.clear();
    match ctx.json {
        true => ctx.print_json(&json!({"inspected": sheets.iter().map(Sheet::to_json).collect::<Vec<_>>()})),
        false => ctx.print(&sheets.iter().map(Sheet::text).collect::<Vec<_>>().join("\n")),
    }
    match ctx.strict && troubles > 0 {
        true => Err(Report::strict(format!("{troubles} troubles"))),
        false => Ok(()),
    }
}
