//! `inspect`: what a delivery or raster is, what its cells hold, and what looks wrong.

mod mix;
mod raster;
mod scene;
mod sheet;

use std::path::{Path, PathBuf};

use serde_json::json;
use telechroma_core::grid::Grid;
use telechroma_core::method::suspicious;
use telechroma_io::delivery::{self, Opened, Opener, sensor_of};

use self::mix::{Facts, mixed};
use self::sheet::Sheet;
use crate::commands::frame::AreaArgs;
use crate::commands::scenes::list::covered;
use crate::context::{Context, listed};
use crate::job::{bands_of_layers, bands_of_scene};
use crate::report::Report;

/// Show what scenes and rasters are: sensor, date, sun, grid, bands, values, and troubles
///
/// Example: telechroma inspect scenes/LC08_L1TP_250300_20310727_20310812_02_T1
#[derive(clap::Args)]
pub struct Args {
    /// Deliveries, folders of deliveries, rasters; @list.txt for a list
    #[arg(required = true, value_name = "PATH")]
    pub paths: Vec<String>,
    /// Sensor of inputs that do not say it themselves: an id or a .toml file
    #[arg(long, value_name = "SENSOR")]
    pub sensor: Option<String>,
    /// Only these bands or layers
    #[arg(long, value_name = "LIST", value_delimiter = ',')]
    pub bands: Vec<String>,
    #[command(flatten)]
    pub area: AreaArgs,
    /// Only the metadata; read no cell
    #[arg(long)]
    pub no_cells: bool,
}

/// Keeps only some bands; the grid of what is left.
fn choose(opened: &mut Opened, bands: &[String]) -> Result<Grid, String> {
    let keep = |name: &str| bands.is_empty() || bands.iter().any(|b| b == name);
    let none = || Err(format!("has none of the bands {}", bands.join(", ")));
    match opened {
        Opened::Scene(s) => {
            s.bands.retain(|b| keep(b.role.name()) || keep(&b.name));
            if s.bands.is_empty() { none() } else { Ok((*s.grid).clone()) }
        }
        Opened::Layers(set) => {
            set.layers.retain(|l| keep(&l.name));
            if set.layers.is_empty() { none() } else { Ok((*set.grid).clone()) }
        }
        Opened::Mask { source, .. } => Ok((*source.spec().grid).clone()),
    }
}

pub fn run(args: Args, ctx: &Context) -> Result<(), Report> {
    let sensor = args.sensor.as_deref().map(|s| sensor_of(s, Path::new(""))).transpose()?;
    let opener = Opener { sensor };
    let mut paths: Vec<PathBuf> = vec![];
    for p in listed(&args.paths)? {
        paths.extend(if p.is_dir() { delivery::find(&p, &opener)? } else { vec![p] });
    }
    let area = args.area.outline()?;
    let (mut sheets, mut troubles, mut scenes) = (vec![], 0, vec![]);
    for path in paths {
        let mut notes = vec![];
        let mut opened = opener.open(&path, &mut |n| notes.push(n.to_string()))?;
        let grid =
            choose(&mut opened, &args.bands).map_err(|what| Report::usage(format!("{}: {what}", path.display())))?;
        if let Opened::Scene(s) = &opened {
            scenes.push(Facts::of(s));
        }
        let mut sheet = match &opened {
            Opened::Scene(s) => scene::of_scene(s, args.no_cells, ctx)?,
            Opened::Mask { scene, source, .. } => raster::of_mask(&path, scene, source, args.no_cells, ctx)?,
            Opened::Layers(set) => raster::of_layers(&path, set, args.no_cells, ctx)?,
        };
        if !args.no_cells {
            let bands = match &opened {
                Opened::Scene(s) => bands_of_scene(s),
                Opened::Layers(set) => bands_of_layers(set),
                Opened::Mask { .. } => vec![],
            };
            notes.extend(suspicious(&bands)?);
        }
        if let Some(area) = &area {
            let share = covered(Some(grid), area);
            sheet.json.insert("area_covered".into(), json!(share));
            let text = share.map_or("not known: no coordinate system".into(), |s| {
                format!("{} of it lies on the grid", sheet::percent(s))
            });
            sheet.facts.push(("area", format!("{}: {text}", area.name)));
            if share == Some(0.0) {
                sheet.troubles.push(format!("{} does not meet it", area.name));
            }
        }
        notes.append(&mut sheet.troubles);
        sheet.troubles = notes;
        troubles += sheet.troubles.len();
        sheets.push(sheet);
    }
    let together = mixed(&scenes);
    troubles += together.len();
    ctx.progress.clear();
    match ctx.json {
        true => ctx.print_json(
            &json!({"inspected": sheets.iter().map(Sheet::to_json).collect::<Vec<_>>(), "troubles_together": together}),
        ),
        false => {
            let mut text = sheets.iter().map(Sheet::text).collect::<Vec<_>>().join("\n");
            if !together.is_empty() {
                text += &format!("\nthe {} scenes together\n", scenes.len());
                together.iter().for_each(|t| text += &format!("  troubles  {t}\n"));
            }
            ctx.print(&text);
        }
    }
    match ctx.strict && troubles > 0 {
        true => Err(Report::strict(format!("{troubles} troubles"))),
        false => Ok(()),
    }
}
