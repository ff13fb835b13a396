//! `slopes`: slope and aspect of a raster of heights.

use std::path::PathBuf;

use serde_json::json;
use telechroma_core::graph::NodeId;
use telechroma_core::method::plan_slopes;
use telechroma_core::run::Observer;
use telechroma_io::raster::cog::Packing;
use telechroma_io::raster::description::{BandInfo, Description, InputInfo, Kind, tool};

use crate::commands::chain::one_layer;
use crate::commands::frame::FrameArgs;
use crate::context::Context;
use crate::job::write_raster;
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
    let (heights, digest) = one_layer(&args.heights, "a raster of heights")?;
    let (graph, planes, notes) = plan_slopes(&heights.name(), &heights, &args.frame.frame()?)?;
    notes.into_iter().for_each(|n| ctx.progress.note(n));
    let description = Description {
        tool: tool(),
        kind: Kind::Layer,
        period: None,
        scene: None,
        bands: planes.iter().map(|(name, _, unit)| BandInfo::new(*name, *unit)).collect(),
        legend: vec![],
        classes: vec![],
        inputs: vec![InputInfo { id: args.heights.display().to_string(), digest }],
        steps: vec!["slope and aspect after Horn 1981".into()],
    };
    let grid = graph.grid().clone();
    let nodes: Vec<NodeId> = planes.iter().map(|p| p.1).collect();
    write_raster(&args.out, graph, &nodes, &description, (Packing::Float, true), ctx)?;
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
