//! Clouds and their shadows by what a whole scene looks like, found before its cells are computed: two passes over the
//! scene, in memory that grows with its clouds, not its cells.

use std::sync::Arc;

use super::calibrate::{Target, calibration, plain_values};
use super::clear::{MaskOptions, clear_sky};
use super::levels::{Levels, look_at_levels};
use super::shadow::{Taker, find_shadows};
use crate::error::{Error, Result};
use crate::graph::{Graph, NodeId};
use crate::held::{Held, Holder};
use crate::mask::{CIRRUS, REASONS, Reasons};
use crate::op::{CloudTest, FlagRule, Majority, Mask};
use crate::run::{Budget, Note, Observer, Plan, run};
use crate::scene::{BandRole, Content, FlagPlane, Scene};

/// What was found in a scene.
pub struct FoundSky {
    /// Where: in our own reasons, on the scene's grid.
    pub flags: FlagPlane,
    /// How, for people.
    pub said: Vec<String>,
    /// What is odd.
    pub notes: Vec<Note>,
}

/// Bands that the cloud test looks at, in its order.
const BANDS: [&str; 6] = ["blue", "green", "red", "nir", "swir16", "swir22"];
/// The reasons that are looked for.
const LOOKED_FOR: Reasons =
    Reasons::FILL.and(Reasons::CLOUD).and(Reasons::CIRRUS).and(Reasons::SHADOW).and(Reasons::SNOW).and(Reasons::WATER);

fn role(name: &str) -> BandRole {
    BandRole::from_name(name).unwrap_or_else(|| unreachable!("'{name}' is a role"))
}

/// What of a scene the cloud test can use.
struct Bands {
    roles: Vec<BandRole>,
    thermal: Option<BandRole>,
    cirrus: Option<BandRole>,
    saturated: [f32; 3],
}

impl Bands {
    fn of(scene: &Scene) -> Result<Bands> {
        if scene.is_at_surface() {
            return Err(Error::Usage(format!(
                "scene {} holds reflectance at the surface ({}): the cloud test needs the light of the air, so Level 1 or \
                 what was calibrated to toa",
                scene.id, scene.level
            )));
        }
        let roles: Vec<BandRole> = BANDS.iter().map(|n| role(n)).collect();
        let lacking: Vec<&str> = roles.iter().filter(|r| scene.band(**r).is_none()).map(|r| r.name()).collect();
        if !lacking.is_empty() {
            return Err(Error::MissingBand {
                scene: format!("scene {}", scene.id),
                role: lacking.join(", "),
                for_what: " (needed by the cloud test)".into(),
                have: scene.roles(),
            });
        }
        let there = |name: &str| Some(role(name)).filter(|r| scene.band(*r).is_some_and(|b| b.role.name() == name));
        let thermal = there("lwir11").or_else(|| there("lwir"));
        let mut saturated = [f32::INFINITY; 3];
        for (s, r) in saturated.iter_mut().zip(&roles) {
            let Some(band) = scene.band(*r) else { continue };
            if let Content::Counts(c) = &band.content
                && let Some(count) = c.saturated
            {
                // half a count below, for the rounding of the values stored
                *s = calibration(scene, band, Target::Toa)?.at(f64::from(count) - 0.5) as f32;
            }
        }
        Ok(Bands { roles, thermal, cirrus: there("cirrus"), saturated })
    }

    fn nodes(&self, g: &mut Graph, scene: &Scene, cirrus: bool) -> Result<Vec<NodeId>> {
        let all = self.roles.iter().chain(&self.thermal).chain(self.cirrus.iter().filter(|_| cirrus));
        all.map(|r| plain_values(g, scene, *r, None)).collect()
    }
}

/// The first pass.
fn levels_of(scene: &Scene, bands: &Bands, budget: Budget, observer: &dyn Observer) -> Result<Levels> {
    let mut g = Graph::new((*scene.grid).clone());
    let inputs = bands.nodes(&mut g, scene, false)?;
    look_at_levels(g, inputs, bands.saturated, budget, observer)
}

/// Looks for the clouds and shadows of a scene; nothing where neither is asked for.
///
/// Clouds: the tests of Zhu & Woodcock 2012, by percentiles of the scene's own clear land and water. Shadows: each cloud's
/// shape is moved along the sun's azimuth by every height that its temperature allows, and lies where it matches cells of
/// dark near infrared best; clouds that the scene's flags know of count too.
///
/// # Errors
/// Where bands or the sun's place are missing, the scene is of Level 2, or its grid is not in metres.
pub fn find_sky(
    scene: &Scene,
    options: &MaskOptions,
    budget: Budget,
    observer: &dyn Observer,
) -> Result<Option<FoundSky>> {
    let find = options.find;
    if !find.clouds && !find.shadows {
        return Ok(None);
    }
    let (mut said, mut notes) = (vec![], vec![]);
    let bands = if find.clouds { Some(Bands::of(scene)?) } else { None };
    let levels = bands.as_ref().map(|b| levels_of(scene, b, budget, observer)).transpose()?;
    if let Some(levels) = &levels {
        said.push(levels.text());
        notes.extend(levels.trouble().map(|t| Note::Layer(format!("scene {}: {t}", scene.id))));
    }
    let levels = levels.map(|l| l.found);
    let mut g = Graph::new((*scene.grid).clone());
    let mut parts = vec![];
    if let (Some(b), Some(levels)) = (&bands, levels) {
        let inputs = b.nodes(&mut g, scene, true)?;
        let test = CloudTest {
            thermal: b.thermal.is_some(),
            cirrus: b.cirrus.map(|_| CIRRUS),
            saturated: b.saturated,
            levels,
        };
        let found = g.add(test, &inputs)?;
        parts.push(g.add(Majority { reason: Reasons::CLOUD }, &[found])?);
    }
    let delivered = scene.flags.iter().any(|f| f.raw.is_some()) && !options.ignore_flags;
    if delivered || scene.mask.is_some() {
        let clouds = Reasons::FILL.and(Reasons::CLOUD).and(Reasons::WATER);
        let plain = MaskOptions { drop: clouds, confidence: options.confidence, ..MaskOptions::default() };
        parts.push(clear_sky(&mut g, scene, &plain)?.run);
    }
    if parts.is_empty() {
        return Err(Error::Unmasked { scene: scene.id.clone() });
    }
    let rules = (0..parts.len()).flat_map(FlagRule::passing).collect();
    let flags = g.add(Mask { rules }, &parts)?;
    let (holder, mut holding) = Holder::new(1, &scene.grid);
    let mut sinks = vec![holder.sink(&mut holding, &[flags])];
    let (taker, mut taken) = Taker::new(&scene.grid);
    // temperatures narrow a cloud's height, where the land's are known
    let warmth = levels.and_then(|l| l.land).zip(bands.as_ref().and_then(|b| b.thermal));
    if find.shadows {
        let mut planes = vec![flags, plain_values(&mut g, scene, role("nir"), None)?];
        if let Some((_, thermal)) = warmth {
            planes.push(plain_values(&mut g, scene, thermal, None)?);
        }
        sinks.push(taker.sink(&mut taken, planes));
    }
    let plan = Plan::new(g, &sinks, budget)?;
    run(&plan, sinks, observer)?;
    let mut spans = holding.finish().pop().unwrap_or_default();
    if find.shadows {
        let found = find_shadows(scene, &spans, taken, warmth.map(|w| w.0), budget.threads)?;
        said.push(found.text());
        spans.lay(&found.spans, scene.grid.cols);
    }
    let legend = REASONS.iter().map(|d| d.reason).filter(|r| LOOKED_FOR.has(*r)).map(|r| (r.bits(), r)).collect();
    let name = format!("{} found in {}", find.names().join(" and "), scene.id);
    let held = Held::new(name.clone(), scene.grid.clone(), Reasons::FILL.bits(), spans);
    let flags = FlagPlane { name, legend, confidence: vec![], source: Arc::new(held), raw: None };
    Ok(Some(FoundSky { flags, said, notes }))
}
