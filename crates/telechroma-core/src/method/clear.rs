//! The clear-sky layer of one scene.

use crate::error::{Error, Result};
use crate::graph::{Graph, NodeId};
use crate::mask::Reasons;
use crate::op::{FlagRule, Grow, Mask};
use crate::scene::Scene;
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

/// Adds the mask of a scene: zero where clear, else the reasons. Outside the scene is fill.
///
/// # Errors
/// Where the scene has no flags, or growing is asked for on a grid that is not in metres.
pub fn clear_sky(g: &mut Graph, scene: &Scene, options: &MaskOptions) -> Result<NodeId> {
    if let Some(made) = &scene.mask {
        return g.source(made.clone(), None);
    }
    if scene.flags.is_empty() && !options.unmasked {
        return Err(Error::Usage(format!("scene {} has no mask: give its mask raster too", scene.id)));
    }
    let (mut rules, mut planes) = (vec![], vec![]);
    for flags in &scene.flags {
        let wanted = || flags.legend.iter().filter(|(_, r)| options.drop.has(*r));
        if wanted().next().is_none() {
            continue;
        }
        let plane = planes.len();
        planes.push(g.source(flags.source.clone(), None)?);
        rules.extend(wanted().map(|(bits, reason)| FlagRule { plane, bits: *bits, reason: *reason }));
    }
    if planes.is_empty() {
        // nothing is dropped; the scene's edge still is: a band stands in for its extent
        let band = scene.bands.first().ok_or_else(|| Error::Usage(format!("scene {} has no band", scene.id)))?;
        planes.push(g.source(std::sync::Arc::new(crate::op::Extent::of(&band.source)), None)?);
        rules.push(FlagRule { plane: 0, bits: Reasons::FILL.bits(), reason: Reasons::FILL });
    }
    let mask = g.add(Mask { rules }, &planes)?;
    let Some(Metres(radius_m)) = options.grow.filter(|m| m.0 > 0.0) else { return Ok(mask) };
    if !scene.grid.is_metric() {
        return Err(Error::Usage(format!(
            "scene {} is not on a grid in metres, so its mask cannot be grown by {radius_m}m",
            scene.id
        )));
    }
    g.add(Grow { seeds: options.drop.growing(), radius_m, cell_m: scene.grid.transform.cell() }, &[mask])
}

/// A graph of one scene's mask.
///
/// # Errors
/// As [`clear_sky`].
pub fn plan_mask(scene: &Scene, options: &MaskOptions) -> Result<(Graph, NodeId)> {
    let mut g = Graph::new((*scene.grid).clone());
    let mask = clear_sky(&mut g, scene, options)?;
    Ok((g, mask))
}
