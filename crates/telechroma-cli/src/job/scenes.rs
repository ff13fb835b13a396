//! Rasters of single scenes: `calibrate` and `mask`.

use serde_json::json;
use telechroma_core::graph::{Graph, NodeId};
use telechroma_core::mask::{REASONS, Reasons};
use telechroma_core::run::{Absorb, Part, Plan, Prepare, Sink, run};
use telechroma_core::scene::Scene;
use telechroma_core::tile::Kind as PlaneKind;
use telechroma_core::{graph::Inputs as Planes, grid::Window};
use telechroma_io::publish::Publisher;
use telechroma_io::raster::cog::{CogEncoder, CogOptions};
use telechroma_io::raster::description::{BandInfo, Kind};

use super::{Naming, describe};
use crate::context::Context;
use crate::report::Report;

/// One raster to be made of one scene.
pub struct SceneRaster {
    /// Its name, if there are several.
    pub name: String,
    /// For the messages.
    pub what: &'static str,
    /// What it is.
    pub kind: Kind,
    /// Values or flags.
    pub plane_kind: PlaneKind,
    /// The planes.
    pub nodes: Vec<NodeId>,
    /// Their names and units.
    pub infos: Vec<BandInfo>,
    /// What was done.
    pub steps: Vec<String>,
    /// The reasons of a mask.
    pub drop: Option<Reasons>,
    /// The reasons are told one by one.
    pub why: bool,
    /// The planes' graph.
    pub graph: Graph,
    /// The scene.
    pub scene: Scene,
}

/// Makes the rasters, scene by scene, and publishes them together.
///
/// # Errors
/// Whatever goes wrong; nothing is left behind then.
pub fn write_scene_rasters(jobs: Vec<SceneRaster>, naming: &Naming, ctx: &Context) -> Result<(), Report> {
    if let (Some(name), true) = (&naming.single, jobs.len() > 1) {
        return Err(Report::usage(format!("{} scenes do not go into one file '{name}'", jobs.len()))
            .hint("give a folder to --out"));
    }
    if jobs.is_empty() {
        return Err(Report::usage("the inputs hold no scene; rasters made earlier are calibrated already"));
    }
    let mut publisher = Publisher::new(&naming.root, ctx.overwrite)?;
    let mut staged = vec![];
    for job in jobs {
        let name = naming.single.clone().unwrap_or_else(|| job.name.clone());
        staged.push((publisher.stage(&name)?, name, job));
    }
    let (mut outputs, mut lines) = (vec![], vec![]);
    for (path, name, job) in staged {
        let description = describe::of_scene(&job.scene, job.kind, job.infos.clone(), job.steps, job.drop);
        let grid = job.graph.grid().clone();
        let options =
            CogOptions { bands: job.nodes.len() as u32, ..CogOptions::new(grid, job.plane_kind, description) };
        let (encoder, mut file) = CogEncoder::create(&path, options);
        let groups: Vec<Vec<NodeId>> = job.nodes.iter().map(|n| vec![*n]).collect();
        let (counter, mut shares) = (Counter, Shares::default());
        let mut sinks = vec![Sink { groups, prepare: &encoder, absorb: &mut file }];
        if job.kind == Kind::Mask {
            sinks.push(Sink { groups: vec![job.nodes.clone()], prepare: &counter, absorb: &mut shares });
        }
        let plan = Plan::new(job.graph, &sinks, ctx.budget)?;
        let report = run(&plan, sinks, &ctx.progress)?;
        file.finish(ctx.budget.threads)?;
        let summary = if job.kind == Kind::Mask {
            shares.text()
        } else {
            job.infos.iter().map(|b| b.name.as_str()).collect::<Vec<_>>().join(", ")
        };
        lines.push(format!("{name}  {summary}"));
        if job.why {
            lines.extend(shares.table());
        }
        outputs.push(json!({
            "kind": job.what, "scene": job.scene.id, "path": name, "bands": job.infos.iter().map(|b| json!({"name": b.name, "unit": b.unit})).collect::<Vec<_>>(),
            "shares": shares.to_json(), "blocks_decoded": report.decoded, "blocks_decoded_again": report.decoded_again,
        }));
    }
    publisher.publish()?;
    ctx.progress.clear();
    match ctx.json {
        true => ctx.print_json(&json!({"outputs": outputs, "notes": ctx.progress.notes().iter().map(ToString::to_string).collect::<Vec<_>>()})),
        false => lines.iter().for_each(|l| ctx.progress.say(l)),
    }
    Ok(())
}

/// Counts cells by reason.
struct Counter;

/// Cells of a mask by reason.
#[derive(Default)]
pub struct Shares {
    cells: u64,
    clear: u64,
    by_reason: Vec<u64>,
    /// Cells that have this reason alone.
    alone: Vec<u64>,
}

impl Prepare for Counter {
    fn prepare(&self, _: usize, window: Window, planes: &Planes) -> telechroma_core::Result<Part> {
        let mut s = Shares::of(window.len() as u64);
        let Some(tile) = planes.get(0) else {
            (s.by_reason[0], s.alone[0]) = (s.cells, s.cells); // nothing there: fill
            return Ok(Box::new(s));
        };
        for row in window.row..window.end_row() {
            for bits in &tile.bits()[tile.row_range(&window, row)] {
                s.clear += u64::from(*bits == 0);
                for ((n, alone), d) in s.by_reason.iter_mut().zip(&mut s.alone).zip(REASONS) {
                    *n += u64::from(bits & d.reason.bits() != 0);
                    *alone += u64::from(*bits == d.reason.bits());
                }
            }
        }
        Ok(Box::new(s))
    }

    fn holds(&self, _: Window, _: usize) -> u64 {
        0
    }
}

impl Absorb for Shares {
    fn absorb(&mut self, _: usize, part: Part) -> telechroma_core::Result<()> {
        if let Ok(s) = part.downcast::<Shares>() {
            self.cells += s.cells;
            self.clear += s.clear;
            for (sum, more) in [(&mut self.by_reason, &s.by_reason), (&mut self.alone, &s.alone)] {
                sum.resize(REASONS.len(), 0);
                sum.iter_mut().zip(more).for_each(|(a, b)| *a += b);
            }
        }
        Ok(())
    }
}

/// Counts the cells of a mask by reason.
///
/// # Errors
/// Where reading fails.
pub fn reason_shares(graph: Graph, mask: NodeId, ctx: &Context) -> Result<Shares, Report> {
    let (counter, mut shares) = (Counter, Shares::default());
    let sinks = vec![Sink { groups: vec![vec![mask]], prepare: &counter, absorb: &mut shares }];
    let plan = Plan::new(graph, &sinks, ctx.budget)?;
    run(&plan, sinks, &ctx.progress)?;
    ctx.progress.clear();
    Ok(shares)
}

impl Shares {
    fn of(cells: u64) -> Shares {
        Shares { cells, clear: 0, by_reason: vec![0; REASONS.len()], alone: vec![0; REASONS.len()] }
    }

    /// Cells seen: those that are not fill.
    fn seen(&self) -> u64 {
        self.cells - self.by_reason.first().copied().unwrap_or(self.cells)
    }

    /// The reasons one by one: cells, share of the cells seen, and cells that no other reason drops.
    fn table(&self) -> Vec<String> {
        let seen = self.seen();
        let row = |name: &str, n: u64, alone: Option<u64>| {
            let alone = alone.map_or(String::new(), |a| format!("{a:>12}"));
            format!("  {name:<10} {n:>11} {:>10.2} %{alone}", Self::exact_percent(n, seen)).trim_end().to_string()
        };
        let mut lines = vec![format!("  {:<10} {:>11} {:>12}{:>12}", "reason", "cells", "of cells seen", "only this")];
        let found = REASONS.iter().zip(&self.by_reason).zip(&self.alone).skip(1).filter(|((_, n), _)| **n > 0);
        lines.extend(found.map(|((d, n), alone)| row(d.name, *n, Some(*alone))));
        lines.push(row("dropped", seen - self.clear, None));
        lines.push(row("clear", self.clear, None));
        lines.push(format!("  seen are {seen} of {} cells; the others are fill", self.cells));
        lines
    }

    fn exact_percent(n: u64, of: u64) -> f64 {
        if of == 0 { 0.0 } else { n as f64 / of as f64 * 100.0 }
    }

    /// Share of the cells seen (those that are not fill) that are dropped; none where nothing is seen.
    pub fn dropped_of_seen(&self) -> Option<f64> {
        let seen = self.seen();
        (seen > 0).then(|| 1.0 - self.clear as f64 / seen as f64)
    }

    fn percent(n: u64, of: u64) -> f64 {
        (Self::exact_percent(n, of) * 10.0).round() / 10.0
    }

    /// Fill as a share of the scene; the rest as shares of the cells that are not fill.
    fn list(&self) -> Vec<(&'static str, f64)> {
        let Some(fill) = self.by_reason.first().copied() else { return vec![] };
        let seen = self.cells - fill;
        let mut list =
            vec![("fill of the scene", Self::percent(fill, self.cells)), ("clear", Self::percent(self.clear, seen))];
        list.extend(
            REASONS
                .iter()
                .zip(&self.by_reason)
                .skip(1)
                .filter(|(_, n)| **n > 0)
                .map(|(d, n)| (d.name, Self::percent(*n, seen))),
        );
        list
    }

    fn text(&self) -> String {
        let parts: Vec<String> = self.list().iter().map(|(name, p)| format!("{name} {p} %")).collect();
        parts.join(", ")
    }

    fn to_json(&self) -> serde_json::Value {
        self.list().into_iter().map(|(k, v)| (k.replace(' ', "_"), json!(v))).collect::<serde_json::Map<_, _>>().into()
    }
}
