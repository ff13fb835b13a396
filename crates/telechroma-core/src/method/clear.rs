//! The clear-sky layer of one scene.

use std::sync::Arc;

use super::calibrate::plain_values;
use super::frame::{Frame, bring};
use super::names::FlagNames;
use crate::area::Outline;
use crate::error::{Error, Result};
use crate::graph::{Graph, NodeId};
use crate::held::{Held, Span, Spans};
use crate::index::Program;
use crate::mask::Reasons;
use crate::op::{Compute, Extent, FlagRule, FlagTest, Grow, Leading, Mark, Mask, limit};
use crate::run::Note;
use crate::scene::{BandRole, FlagPlane, Scene};
use crate::tile::PlaneSource;
use crate::units::{Metres, Unit};

/// What a mask drops.
#[derive(Debug, Clone)]
pub struct MaskOptions {
    /// Reasons to drop a cell.
    pub drop: Reasons,
    /// How far clouds and shadows are grown.
    pub grow: Option<Metres>,
    /// Scenes without flags are used as they are, instead of refused.
    pub unmasked: bool,
    /// Flags that hold a confidence of at least this drop a cell too.
    pub confidence: Option<Confidence>,
    /// What is looked for in the cells themselves.
    pub find: Find,
    /// The delivery's own flags are not used, except for fill.
    pub ignore_flags: bool,
    /// Cells by a condition on flag planes, bands and indices.
    pub condition: Option<String>,
    /// Cells in these polygons.
    pub areas: Vec<Outline>,
    /// Cells where this plane is neither zero nor missing.
    pub raster: Option<Arc<dyn PlaneSource>>,
}

impl Default for MaskOptions {
    fn default() -> Self {
        MaskOptions {
            drop: Reasons::default_drop(),
            grow: None,
            unmasked: false,
            confidence: None,
            find: Find::default(),
            ignore_flags: false,
            condition: None,
            areas: vec![],
            raster: None,
        }
    }
}

/// How sure flags must be.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
pub enum Confidence {
    /// At least low.
    Low = 1,
    /// At least medium.
    Medium = 2,
    /// High.
    High = 3,
}

impl Confidence {
    /// Its name.
    pub fn name(self) -> &'static str {
        match self {
            Confidence::Low => "low",
            Confidence::Medium => "medium",
            Confidence::High => "high",
        }
    }
}

impl std::str::FromStr for Confidence {
    type Err = Error;

    fn from_str(text: &str) -> Result<Confidence> {
        let all = [Confidence::Low, Confidence::Medium, Confidence::High];
        let found = all.into_iter().find(|c| c.name() == text);
        found.ok_or_else(|| Error::unknown("confidence", text, all.map(Confidence::name)))
    }
}

/// What is looked for in the cells themselves, beside what the flags say.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub struct Find {
    /// Clouds, by spectral tests.
    pub clouds: bool,
    /// The shadows of clouds.
    pub shadows: bool,
    /// Cells far above their own series.
    pub outliers: bool,
}

impl Find {
    const NAMES: [&'static str; 3] = ["clouds", "shadows", "outliers"];

    /// From names.
    ///
    /// # Errors
    /// [`Error::UnknownName`] for others.
    pub fn from_names<S: AsRef<str>>(names: &[S]) -> Result<Find> {
        let mut find = Find::default();
        for name in names {
            match name.as_ref().trim() {
                "clouds" => find.clouds = true,
                "shadows" => find.shadows = true,
                "outliers" => find.outliers = true,
                other => return Err(Error::unknown("thing to find", other, Find::NAMES)),
            }
        }
        Ok(find)
    }

    /// The names.
    pub fn names(self) -> Vec<&'static str> {
        let has = [self.clouds, self.shadows, self.outliers];
        Find::NAMES.into_iter().zip(has).filter(|n| n.1).map(|n| n.0).collect()
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

/// The rules by which a flag plane, number `plane` of a mask's inputs, drops cells.
fn rules(f: &FlagPlane, options: &MaskOptions, plane: usize) -> Vec<FlagRule> {
    let delivered = f.raw.is_some();
    let wanted = |r: Reasons| match delivered && options.ignore_flags {
        true => r == Reasons::FILL,
        false => options.drop.and(Reasons::ASKED).has(r),
    };
    let flagged = f.legend.iter().filter(|(_, r)| wanted(*r));
    let mut all: Vec<FlagRule> =
        flagged.map(|(bits, reason)| FlagRule { plane, test: FlagTest::Any(*bits), reason: *reason }).collect();
    if let Some(least) = options.confidence {
        all.extend(f.confidence.iter().filter(|(_, r)| wanted(*r)).map(|(shift, reason)| FlagRule {
            plane,
            test: FlagTest::Confidence { shift: *shift, least: least as u16 },
            reason: *reason,
        }));
    }
    all
}

/// Adds the mask of a scene: zero where clear, else the reasons. Outside the scene is fill. Clouds are grown on the
/// flags' own grid, before they are brought to the run's.
///
/// # Errors
/// Where the scene has no flags, or growing is asked for on a grid that is not in metres.
pub fn clear_sky(g: &mut Graph, scene: &Scene, options: &MaskOptions) -> Result<Sky> {
    let found = scene.flags.iter().any(|f| f.raw.is_none());
    if let Some(made) = &scene.mask {
        let native = placed(g, made)?;
        let run = bring(g, native, None)?;
        if !found {
            return Ok(Sky { native, run: given(g, scene, options, run)? });
        }
        // the mask made earlier, and what was found in the cells since
        let rest = clear_sky(g, &Scene { mask: None, ..scene.clone() }, options)?;
        return Ok(Sky { native, run: merged(g, &[run, rest.run])? });
    }
    if (scene.flags.is_empty() || (options.ignore_flags && !found)) && !options.unmasked {
        return Err(Error::Unmasked { scene: scene.id.clone() });
    }
    let mut masks: Vec<(NodeId, NodeId)> = vec![];
    let mut flags: Vec<&FlagPlane> = scene.flags.iter().filter(|f| !rules(f, options, 0).is_empty()).collect();
    while let Some(first) = flags.first() {
        let grid = first.source.spec().grid.clone();
        let (same, others): (Vec<_>, Vec<_>) = flags.into_iter().partition(|f| *f.source.spec().grid == *grid);
        flags = others;
        let (mut all, mut planes) = (vec![], vec![]);
        for (plane, f) in same.into_iter().enumerate() {
            planes.push(placed(g, &f.source)?);
            all.extend(rules(f, options, plane));
        }
        masks.push(on_run(g, scene, options, all, &planes)?);
    }
    if masks.is_empty() {
        // nothing is dropped; the scene's edge still is: a band stands in for its extent
        let band = scene.bands.first().ok_or_else(|| Error::Usage(format!("scene {} has no band", scene.id)))?;
        let extent: Arc<dyn PlaneSource> = Arc::new(Extent::of(&band.source));
        let plane = placed(g, &extent)?;
        masks.push(on_run(g, scene, options, FlagRule::passing(0).take(1).collect(), &[plane])?);
    }
    let native = masks[0].0;
    let run = match masks[..] {
        [(_, run)] => run,
        // flags of several resolutions: their masks are joined on the run's grid
        _ => merged(g, &masks.iter().map(|m| m.1).collect::<Vec<_>>())?,
    };
    Ok(Sky { native, run: given(g, scene, options, run)? })
}

/// Planes of reasons as one.
fn merged(g: &mut Graph, planes: &[NodeId]) -> Result<NodeId> {
    g.add(Mask { rules: (0..planes.len()).flat_map(FlagRule::passing).collect() }, planes)
}

/// A mask with what the user wants dropped besides.
fn given(g: &mut Graph, scene: &Scene, options: &MaskOptions, mask: NodeId) -> Result<NodeId> {
    let mut planes = vec![mask];
    if let Some(text) = &options.condition {
        planes.push(condition(g, scene, text)?);
    }
    if let Some(raster) = &options.raster {
        let plane = placed(g, raster)?;
        let plane = bring(g, plane, Some(crate::op::Resample::Nearest))?;
        planes.push(g.add(Mark { reason: Reasons::GIVEN }, &[plane])?);
    }
    for outline in &options.areas {
        let grid = g.grid().clone();
        let Some(area) = outline.covers(&grid, "the run")? else { continue };
        let mut spans = Spans::new(grid.rows);
        for (row, r) in spans.rows.iter_mut().zip(0i64..) {
            let bits = Reasons::GIVEN.bits();
            row.extend(area.row(r).iter().map(|(a, b)| Span { col: *a as u32, end: *b as u32, bits }));
        }
        let held: Arc<dyn PlaneSource> = Arc::new(Held::new(outline.name.clone(), grid, 0, spans));
        planes.push(g.source(held, None)?);
    }
    if planes.len() == 1 { Ok(mask) } else { merged(g, &planes) }
}

/// Cells by a condition: flag planes by their names, as delivered, else bands above the air and indices.
fn condition(g: &mut Graph, scene: &Scene, text: &str) -> Result<NodeId> {
    let program = Program::compile(text, &FlagNames { scene })?;
    let mut inputs = vec![];
    for name in program.inputs() {
        let node = match (scene.flags.iter().find(|f| f.name == *name), BandRole::from_name(name)) {
            (Some(FlagPlane { raw: Some(raw), .. }), _) => {
                let plane = placed(g, raw)?;
                bring(g, plane, Some(crate::op::Resample::Nearest))?
            }
            (_, Some(role)) => plain_values(g, scene, role, None)?,
            _ => return Err(Error::Usage(format!("a condition to drop cells does not know '{name}'"))),
        };
        inputs.push(node);
    }
    if inputs.is_empty() {
        return Err(Error::Usage(format!("'{text}' names no flag plane and no band, so it drops all cells or none")));
    }
    let held = g.add(Compute { program, unit: Unit::One }, &inputs)?;
    g.add(Mark { reason: Reasons::GIVEN }, &[held])
}

/// A plane on the run's grid where its cells fit, else on its own.
pub(super) fn placed(g: &mut Graph, source: &Arc<dyn PlaneSource>) -> Result<NodeId> {
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
    let framed = frame.over(&[(format!("scene {}", scene.id), mask_grid(scene))])?;
    let mut g = Graph::new(framed.grid);
    let sky = clear_sky(&mut g, scene, options)?;
    let mask = limit(&mut g, sky.run, framed.area.as_ref())?;
    Ok((g, mask, framed.notes))
}

/// A graph of one scene's mask as the numbers of its leading reasons, and of three of its bands above the air.
///
/// # Errors
/// As [`clear_sky`], and where a band is missing.
pub fn plan_masked(
    scene: &Scene,
    options: &MaskOptions,
    order: &[Reasons],
    bands: [BandRole; 3],
    frame: &Frame,
) -> Result<(Graph, NodeId, [NodeId; 3])> {
    let framed = frame.over(&[(format!("scene {}", scene.id), mask_grid(scene))])?;
    let area = framed.area.as_ref();
    let mut g = Graph::new(framed.grid);
    let sky = clear_sky(&mut g, scene, options)?;
    let leading = g.add(Leading { order: order.to_vec() }, &[sky.run])?;
    let leading = limit(&mut g, leading, area)?;
    let mut planes = [leading; 3];
    for (plane, role) in planes.iter_mut().zip(bands) {
        let band = plain_values(&mut g, scene, role, None)?;
        *plane = limit(&mut g, band, area)?;
    }
    Ok((g, leading, planes))
}

/// The grid of a scene's own mask: that of the flags it is made of.
fn mask_grid(scene: &Scene) -> Arc<crate::grid::Grid> {
    scene.flags.iter().find(|f| f.raw.is_some()).map_or(&scene.grid, |f| &f.source.spec().grid).clone()
}
