//! `slopes`: slope and aspect of a raster of heights.

use std::path::PathBuf;

use serde_json::json;
use telechroma_core::method::plan_slopes;
use telechroma_core::run::{Observer, Plan, Sink, run as execute};
use telechroma_core::tile::Kind as PlaneKind;
use telechroma_io::publish::Publisher;
use telechroma_io::raster::cog::{CogEncoder, CogOptions};
use telechroma_io::raster::description::{BandInfo, Description, InputInfo, Kind, tool};

use crate::commands::chain::{Out, one_layer};
use crate::commands::frame::FrameArgs;
use crate::context::Context;
use crate::report::Report;

/// Write slope and aspect of a raster of heights, both in degrees
///
/// Slope is measured from level ground, aspect is the direction of the fall clockwise from north, by the eight neighbours
/// of a cell (Horn 1981). Heights are in metres; cells at the edge, and beside missing ones, are missing.
///
/// Example: telechroma slopes heights.tif --out slopes.tif
#[derive(clap::Args)]
pub struct Args {
    /// Raster of heights, metres
    #[arg(value_name = "RASTER")]
    pub heights: PathBuf,
    #[command(flatten)]
    pub frame: FrameArgs,
    /// The raster to write
    #[arg(long, value_name = "FILE")]
    pub out: PathBuf,
}

pub fn run(args: Args, ctx: &Context) -> Result<(), Report> {
    let heights = one_layer(&args.heights, "a raster of heights")?;
    let (graph, planes, notes) = plan_slopes(&heights.name(), &heights, &args.frame.frame()?)?;
    notes.into_iter().for_each(|n| ctx.progress.note(n));
    let naming = Out { out: Some(args.out.clone()) }.naming(&["tif", "tiff"]);
    let Some(name) = naming.single else {
        return Err(Report::usage(format!("{}: --out takes the name of a .tif file", args.out.display())));
    };
    let mut publisher = Publisher::new(&naming.root, ctx.overwrite)?;
    let path = publisher.stage(&name)?;
    let info = |(name, _, unit): &(&str, _, telechroma_core::units::Unit)| BandInfo {
        name: (*name).into(),
        unit: unit.label().into(),
        wavelength_nm: None,
        formula: None,
        scale: None,
        offset: None,
    };
    let description = Description {
        tool: tool(),
        kind: Kind::Layer,
        period: None,
        scene: None,
        bands: planes.iter().map(info).collect(),
        legend: vec![],
        classes: vec![],
        inputs: vec![InputInfo { id: args.heights.display().to_string(), digest: String::new() }],
        steps: vec!["slope and aspect after Horn 1981".into()],
    };
    let text = serde_json::to_string(&description).unwrap_or_default();
    let grid = graph.grid().clone();
    let options = CogOptions { bands: planes.len() as u32, ..CogOptions::new(grid.clone(), PlaneKind::Values, text) };
    let (encoder, mut file) = CogEncoder::create(&path, options);
    let groups = planes.iter().map(|p| vec![p.1]).collect();
    let sinks = vec![Sink { groups, prepare: &encoder, absorb: &mut file }];
    let plan = Plan::new(graph, &sinks, ctx.budget)?;
    execute(&plan, sinks, &ctx.progress)?;
    file.finish(&path, ctx.budget.threads)?;
    publisher.publish()?;
    ctx.progress.clear();
    match ctx.json {
        true => ctx.print_json(&json!({
            "outputs": [{"kind": "slopes", "path": args.out.display().to_string(), "bands": ["slope", "aspect"], "unit": "degrees"}],
            "notes": ctx.progress.notes().iter().map(ToString::to_string).collect::<Vec<_>>(),
        })),
        false => ctx.progress.say(&format!(
            "{}: slope and aspect in degrees, {} x {} cells",
            args.out.display(),
            grid.cols,
            grid.rows
        )),
    }
    Ok(())
}
