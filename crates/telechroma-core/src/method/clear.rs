//! The clear-sky layer of one scene.

use std::sync::Arc;

use super::frame::{Frame, bring};
use crate::error::{Error, Result};
use crate::graph::{Graph, NodeId};
use crate::mask::{REASONS, Reasons};
use crate::op::{Extent, FlagRule, Grow, Mask, limit};
use crate::run::Note;
use crate::scene::{FlagPlane, Scene};
use crate::tile::PlaneSource;
use crate::units::Metres;

/// What a mask drops.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct MaskOptions {
    /// Reasons to drop a cell.
    pub drop: Reasons,
    /// How far clouds and shadows are grown.
    pub grow: Option<Metres>,
    /// Scenes without flags are used as they are, instead of refused.
    pub unmasked: bool,
}

impl Default for MaskOptions {
    fn default() -> Self {
        MaskOptions { drop: Reasons::default_drop(), grow: None, unmasked: false }
    }
}

/// The mask of a scene in a graph.
#[derive(Debug, Clone, Copy)]
pub struct Sky {
    /// On the grid of the flags.
    pub native: NodeId,
    /// On the run's grid.
    pub run: NodeId,
}

/// Adds the mask of a scene: zero where clear, else the reasons. Outside the scene is fill. Clouds are grown on the
/// flags' own grid, before they are brought to the run's.
///
/// # Errors
/// Where the scene has no flags, or growing is asked for on a grid that is not in metres.
pub fn clear_sky(g: &mut Graph, scene: &Scene, options: &MaskOptions) -> Result<Sky> {
    if let Some(made) = &scene.mask {
        let native = placed(g, made)?;
        return Ok(Sky { native, run: bring(g, native, None)? });
    }
    if scene.flags.is_empty() && !options.unmasked {
        return Err(Error::Usage(format!("scene {} has no mask: give its mask raster too", scene.id)));
    }
    let mut masks: Vec<(NodeId, NodeId)> = vec![];
    let wanted = |f: &FlagPlane| f.legend.iter().filter(|(_, r)| options.drop.has(*r)).copied().collect::<Vec<_>>();
    let mut flags: Vec<&FlagPlane> = scene.flags.iter().filter(|f| !wanted(f).is_empty()).collect();
    while let Some(first) = flags.first() {
        let grid = first.source.spec().grid.clone();
        let (same, others): (Vec<_>, Vec<_>) = flags.into_iter().partition(|f| *f.source.spec().grid == *grid);
        flags = others;
        let (mut rules, mut planes) = (vec![], vec![]);
        for (plane, f) in same.into_iter().enumerate() {
            planes.push(placed(g, &f.source)?);
            rules.extend(wanted(f).into_iter().map(|(bits, reason)| FlagRule { plane, bits, reason }));
        }
        masks.push(on_run(g, scene, options, rules, &planes)?);
    }
    if masks.is_empty() {
        // nothing is dropped; the scene's edge still is: a band stands in for its extent
        let band = scene.bands.first().ok_or_else(|| Error::Usage(format!("scene {} has no band", scene.id)))?;
        let extent: Arc<dyn PlaneSource> = Arc::new(Extent::of(&band.source));
        let plane = placed(g, &extent)?;
        let rule = FlagRule { plane: 0, bits: Reasons::FILL.bits(), reason: Reasons::FILL };
        masks.push(on_run(g, scene, options, vec![rule], &[plane])?);
    }
    if let [(native, run)] = masks[..] {
        return Ok(Sky { native, run });
    }
    // flags of several resolutions: their masks are joined on the run's grid
    let all: Vec<NodeId> = masks.iter().map(|m| m.1).collect();
    let reasons = || REASONS.iter().map(|d| d.reason);
    let rules = (0..all.len()).flat_map(|plane| reasons().map(move |r| FlagRule { plane, bits: r.bits(), reason: r }));
    let run = g.add(Mask { rules: rules.collect() }, &all)?;
    Ok(Sky { native: masks[0].0, run })
}

/// A plane on the run's grid where its cells fit, else on its own.
fn placed(g: &mut Graph, source: &Arc<dyn PlaneSource>) -> Result<NodeId> {
    if g.fits(&**source) { g.source(source.clone(), None) } else { g.native(source.clone(), None) }
}

/// A mask, grown, on the grid of its flags and on the run's.
fn on_run(
    g: &mut Graph,
    scene: &Scene,
    options: &MaskOptions,
    rules: Vec<FlagRule>,
    planes: &[NodeId],
) -> Result<(NodeId, NodeId)> {
    let mask = g.add(Mask { rules }, planes)?;
    let native = match options.grow.filter(|m| m.0 > 0.0) {
        None => mask,
        Some(Metres(radius_m)) => {
            let grid = g.node(mask).spec().grid.clone();
            let Some(metres) = grid.crs.and_then(|c| c.metres()) else {
                return Err(Error::Usage(format!(
                    "scene {} is not on a grid in metres, so its mask cannot be grown by {radius_m}m",
                    scene.id
                )));
            };
            let (w, h) = grid.transform.cell();
            g.add(Grow { seeds: options.drop.growing(), radius_m, cell_m: (w * metres, h * metres) }, &[mask])?
        }
    };
    Ok((native, bring(g, native, None)?))
}

/// A graph of one scene's mask on the frame's grid.
///
/// # Errors
/// As [`clear_sky`].
pub fn plan_mask(scene: &Scene, options: &MaskOptions, frame: &Frame) -> Result<(Graph, NodeId, Vec<Note>)> {
    // a mask lies on the grid of the flags it is made of, unless another is asked for
    let own = scene.flags.first().map_or(&scene.grid, |f| &f.source.spec().grid);
    let framed = frame.over(&[(format!("scene {}", scene.id), own.clone())])?;
    let mut g = Graph::new(framed.grid);
    let sky = clear_sky(&mut g, scene, options)?;
    let mask = limit(&mut g, sky.run, framed.area.as_ref())?;
    Ok((g, mask, framed.notes))
}
