//! One file, written under the name that was asked for.

use std::path::Path;

use telechroma_core::graph::{Graph, NodeId};
use telechroma_core::run::{Note, Observer, Plan, RunReport, Sink, run};
use telechroma_core::tile::Kind;
use telechroma_io::publish::Publisher;
use telechroma_io::raster::cog::{CogEncoder, CogOptions, Packing};
use telechroma_io::raster::description::Description;

use super::Naming;
use crate::context::Context;
use crate::report::Report;

/// Publishes one file with one of the endings that are known for it; `write` is told where to write.
///
/// # Errors
/// Where the name has another ending, it exists, or writing fails; nothing is left behind then.
pub fn write_one<T>(
    out: &Path,
    endings: &[&str],
    ctx: &Context,
    write: impl FnOnce(&Path) -> Result<T, Report>,
) -> Result<T, Report> {
    let naming = Naming::of(Some(out), endings);
    let Some(name) = naming.single else {
        return Err(Report::usage(format!(
            "{}: the file written here ends in .{}",
            out.display(),
            endings.join(" or .")
        )));
    };
    let mut publisher = Publisher::new(&naming.root, ctx.overwrite)?;
    let written = write(&publisher.stage(&name)?)?;
    publisher.publish()?;
    ctx.progress.clear();
    Ok(written)
}

/// Publishes one picture.
///
/// # Errors
/// As [`write_one`], and where it could not be drawn.
pub fn write_picture(out: &Path, png: Result<Vec<u8>, String>, ctx: &Context) -> Result<(), Report> {
    let png = png.map_err(|e| Report::failed(format!("the picture cannot be drawn: {e}")))?;
    write_one(out, &["png"], ctx, |at| Ok(std::fs::write(at, png).map_err(|e| telechroma_io::Error::io(at, e))?))
}

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
    write_one(out, &["tif", "tiff"], ctx, |path| {
        let text = serde_json::to_string(description).unwrap_or_default();
        let options = CogOptions {
            bands: planes.len() as u32,
            packing,
            packed,
            ..CogOptions::new(graph.grid().clone(), Kind::Values, text)
        };
        let (encoder, mut file) = CogEncoder::create(path, options);
        let groups = planes.iter().map(|p| vec![*p]).collect();
        let sinks = vec![Sink { groups, prepare: &encoder, absorb: &mut file }];
        let plan = Plan::new(graph, &sinks, ctx.budget)?;
        let report = run(&plan, sinks, &ctx.progress)?;
        if file.lost() > 0 {
            let text = format!(
                "{}: {} values do not fit its type: those out of range are stored as the nearest it holds, those that become the number for missing are missing",
                out.display(),
                file.lost()
            );
            ctx.progress.note(Note::Layer(text));
        }
        file.finish(ctx.budget.threads)?;
        Ok(report)
    })
}
