//! One raster of some planes, written under the name that was asked for.

use std::path::Path;

use telechroma_core::graph::{Graph, NodeId};
use telechroma_core::run::{Plan, RunReport, Sink, run};
use telechroma_core::tile::Kind;
use telechroma_io::publish::Publisher;
use telechroma_io::raster::cog::{CogEncoder, CogOptions, Packing};
use telechroma_io::raster::description::Description;

use super::Naming;
use crate::context::Context;
use crate::report::Report;

/// Computes planes of values and publishes them as one raster: how its numbers are coded, and whether it is packed.
///
/// # Errors
/// Where the name is no raster's, it exists, or computing or writing fails; nothing is left behind then.
pub fn write_raster(
    out: &Path,
    graph: Graph,
    planes: &[NodeId],
    description: &Description,
    (packing, packed): (Packing, bool),
    ctx: &Context,
) -> Result<RunReport, Report> {
    let naming = Naming::of(Some(out), &["tif", "tiff"]);
    let Some(name) = naming.single else {
        return Err(Report::usage(format!("{}: --out takes the name of a .tif file", out.display())));
    };
    let mut publisher = Publisher::new(&naming.root, ctx.overwrite)?;
    let path = publisher.stage(&name)?;
    let text = serde_json::to_string(description).unwrap_or_default();
    let options = CogOptions {
        bands: planes.len() as u32,
        packing,
        packed,
        ..CogOptions::new(graph.grid().clone(), Kind::Values, text)
    };
    let (encoder, mut file) = CogEncoder::create(&path, options);
    let groups = planes.iter().map(|p| vec![*p]).collect();
    let sinks = vec![Sink { groups, prepare: &encoder, absorb: &mut file }];
    let plan = Plan::new(graph, &sinks, ctx.budget)?;
    let report = run(&plan, sinks, &ctx.progress)?;
    file.finish(&path, ctx.budget.threads)?;
    publisher.publish()?;
    ctx.progress.clear();
    Ok(report)
}
