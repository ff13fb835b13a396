//! The main job: scenes → calibrated, masked → one composite a period → layers.

use std::collections::BTreeMap;
use std::sync::Arc;

use jiff::civil::Date;

use super::calibrate::{Light, Target};
use super::clear::{MaskOptions, Sky, clear_sky};
use super::frame::Frame;
use super::layers::{Ready, add_layer, add_program, keep_program, limited, place, ready, wants};
use super::names::{LOOKS, SceneNames, aliased};
use super::period::{Every, window_name};
use super::stack::{By, Stack, score_roles};
use crate::area::Area;
use crate::error::{Error, Result};
use crate::graph::{Graph, NodeId};
use crate::index::Program;
use crate::op::{Clear, Looks, limit};
use crate::run::Note;
use crate::scene::{BandRole, LayerSet, Scene};
use crate::units::{Nanometres, TemperatureUnit, Unit};

/// Which bands of a composite are outputs of their own.
#[derive(Debug, Clone, PartialEq, Default)]
pub enum BandChoice {
    /// Those that the layers need.
    #[default]
    Needed,
    /// Every band that all scenes have on the run's grid.
    All,
    /// These, in this order.
    List(Vec<BandRole>),
}

/// A layer asked for: of the catalogue, or by the user's formula.
#[derive(Debug, Clone, PartialEq)]
pub struct LayerRequest {
    /// Its name.
    pub name: String,
    /// The user's formula; none: the catalogue's.
    pub formula: Option<String>,
}

/// A raster that formulas name by an alias: `after.nir`.
#[derive(Debug, Clone)]
pub struct Aliased {
    /// The alias.
    pub alias: String,
    /// The raster.
    pub set: LayerSet,
}

/// Everything the main job may be told.
#[derive(Debug, Clone, Default)]
pub struct Recipe {
    /// What counts become.
    pub target: Target,
    /// The light on each cell.
    pub light: Light,
    /// What is dropped.
    pub mask: MaskOptions,
    /// How scenes are put together.
    pub every: Every,
    /// How the dates of a period become one value.
    pub by: By,
    /// The spread of each band's looks round their median is an output too.
    pub spread: bool,
    /// Clear samples a cell needs.
    pub at_least: u32,
    /// The composite's bands.
    pub bands: BandChoice,
    /// The layers.
    pub layers: Vec<LayerRequest>,
    /// Names that formulas use, and what they stand for: an emissivity, the water vapour of the air.
    pub defined: Vec<(String, String)>,
    /// Rasters that formulas use.
    pub aliases: Vec<Aliased>,
    /// Windows of days whose composites formulas compare by these names; there is one period then.
    pub sides: Vec<(String, (Date, Date))>,
    /// Unit of layers that are temperatures; composites stay in kelvin.
    pub temperature: TemperatureUnit,
    /// Cells that count in a summary.
    pub keep: Option<String>,
    /// The grid and the area.
    pub frame: Frame,
}

/// One output plane.
#[derive(Debug, Clone)]
pub struct PlannedLayer {
    /// Its name.
    pub name: String,
    /// The plane.
    pub node: NodeId,
    /// Its unit.
    pub unit: Unit,
    /// Effective wavelength, for bands.
    pub wavelength: Option<Nanometres>,
    /// The formula it is computed by.
    pub formula: Option<String>,
}

/// The planes of one period.
#[derive(Debug)]
pub struct PlannedPeriod {
    /// Its name.
    pub period: String,
    /// Numbers of the scenes in it.
    pub scenes: Vec<usize>,
    /// The composite's bands.
    pub bands: Vec<PlannedLayer>,
    /// Count of clear looks; none for rasters made earlier.
    pub looks: Option<NodeId>,
    /// What goes with the bands: their spread, the day of the look chosen.
    pub extras: Vec<PlannedLayer>,
    /// The layers.
    pub layers: Vec<PlannedLayer>,
    /// Cells that count in a summary are not zero here.
    pub keep: Option<NodeId>,
}

/// A planned job.
#[derive(Debug)]
pub struct PlannedSeason {
    /// The planes.
    pub graph: Graph,
    /// By period, sorted.
    pub periods: Vec<PlannedPeriod>,
    /// The inputs used, in the order of their numbers: id and fingerprint.
    pub inputs: Vec<(String, String)>,
    /// What to know.
    pub notes: Vec<Note>,
}

/// Sun elevation below which reflectance is uncertain, degrees.
const LOW_SUN: f64 = 15.0;

/// The side that a name such as `before.nir` is about, and what is meant of it.
pub(super) fn side_of<'a>(recipe: &Recipe, name: &'a str) -> Option<(&'a str, &'a str)> {
    name.split_once('.').filter(|(side, _)| recipe.sides.iter().any(|s| s.0 == *side))
}

/// What a recipe asks of scenes.
struct Resolved {
    layers: Vec<Ready>,
    keep: Option<Program>,
    /// Bands that are outputs of their own.
    shown: Vec<BandRole>,
    /// All bands that are composed.
    roles: Vec<BandRole>,
}

fn resolve(scenes: &[Scene], recipe: &Recipe) -> Result<Resolved> {
    let names = SceneNames::new(scenes, recipe);
    let layers = recipe.layers.iter().map(|l| ready(l, &names, recipe.temperature)).collect::<Result<Vec<_>>>()?;
    let keep = keep_program(recipe, &names)?;
    let shown = shown_bands(scenes, recipe, &layers, keep.as_ref())?;
    let mut roles = shown.clone();
    for program in layers.iter().map(|l| &l.program).chain(keep.as_ref()) {
        let plain = |n: &String| BandRole::from_name(side_of(recipe, n).map_or(n.as_str(), |s| s.1));
        roles.extend(program.inputs().iter().filter_map(plain).filter(|r| !shown.contains(r)));
    }
    roles.sort();
    roles.dedup();
    Ok(Resolved { layers, keep, shown, roles })
}

/// The bands of scenes that a recipe reads.
///
/// # Errors
/// Where a layer or score needs a band that no scene has.
pub fn needed_roles(scenes: &[Scene], recipe: &Recipe) -> Result<Vec<BandRole>> {
    if scenes.is_empty() {
        return Ok(vec![]);
    }
    let mut roles = resolve(scenes, recipe)?.roles;
    if let By::Look { score: Some(score), .. } = &recipe.by {
        roles.extend(score_roles(scenes, score, recipe)?);
    }
    roles.sort();
    roles.dedup();
    Ok(roles)
}

/// Plans the main job.
///
/// # Errors
/// Where scenes lack bands or coefficients, do not share a grid, or a layer cannot be computed.
pub fn plan_season(mut scenes: Vec<Scene>, recipe: &Recipe) -> Result<PlannedSeason> {
    let mut notes = vec![];
    scenes.sort_by(|a, b| (a.acquired, a.date, &a.id).cmp(&(b.acquired, b.date, &b.id)));
    scenes.dedup_by(|later, first| {
        let twice = later.id == first.id;
        if twice {
            notes.push(Note::SceneTwice(first.id.clone()));
        }
        twice
    });
    if scenes.is_empty() {
        return Err(Error::Usage("there is no scene to work on".into()));
    }
    let grids: Vec<_> = scenes.iter().map(|s| (format!("scene {}", s.id), s.grid.clone())).collect();
    let framed = recipe.frame.over(&grids)?;
    notes.extend(framed.notes);
    mixed_levels(&scenes, &mut notes);
    let mut g = Graph::new(framed.grid);
    let area = framed.area.as_ref();
    let Resolved { layers, keep, shown, roles } = resolve(&scenes, recipe)?;
    let names = SceneNames::new(&scenes, recipe);
    let surface = recipe.target.is_surface() || scenes.iter().all(Scene::is_at_surface);
    wants(&layers, &names, surface, &mut notes);
    let programs = || layers.iter().map(|l| &l.program).chain(keep.as_ref());
    let masks = scenes.iter().map(|s| clear_sky(&mut g, s, &recipe.mask)).collect::<Result<Vec<_>>>()?;
    low_sun(&scenes, &roles, &mut notes);
    let mut rasters: BTreeMap<String, NodeId> = BTreeMap::new();
    for name in programs().flat_map(|p| p.inputs()) {
        if let Some(layer) = aliased(&recipe.aliases, name) {
            rasters.insert(name.clone(), place(&mut g, layer, recipe)?);
        }
    }
    let needed_by = |role: BandRole| {
        let needs = |l: &&Ready| l.program.inputs().iter().any(|n| n == role.name());
        layers.iter().find(needs).map_or(String::new(), |l| l.name.clone())
    };
    let mut periods = vec![];
    if !recipe.sides.is_empty() {
        let work = Work { scenes: &scenes, masks: &masks, roles: &roles, recipe, needed_by: &needed_by };
        periods.push(compared(&mut g, &work, &layers, &rasters, area)?);
    }
    let ordinary = if recipe.sides.is_empty() { periods_of(&scenes, &recipe.every, &mut notes)? } else { vec![] };
    for (period, members) in ordinary {
        let stack = stacked(&mut g, &scenes, &masks, &members)?;
        let (bands, extras) = stack.compose(&mut g, &roles, recipe, &needed_by)?;
        let looks = g.add(Looks, &stack.clear)?;
        let node_of = |name: &str| match name {
            LOOKS => Some(looks),
            _ => bands.iter().find(|b| b.name == name).map(|b| b.node).or_else(|| rasters.get(name).copied()),
        };
        let mut planned = vec![];
        for l in &layers {
            let layer = add_layer(&mut g, l, &node_of)?;
            planned.push(limited(&mut g, layer, area)?);
        }
        let keep = keep.as_ref().map(|p| add_program(&mut g, p, Unit::One, &node_of)).transpose()?;
        let looks = Some(limit(&mut g, looks, area)?);
        let shown = shown.iter().filter_map(|r| bands.iter().find(|b| b.name == r.name())).cloned();
        let bands = shown.map(|b| limited(&mut g, b, area)).collect::<Result<_>>()?;
        let extras = extras.into_iter().map(|b| limited(&mut g, b, area)).collect::<Result<_>>()?;
        periods.push(PlannedPeriod { period, scenes: members, bands, looks, extras, layers: planned, keep });
    }
    let aliases = recipe.aliases.iter().map(|a| (a.set.name.clone(), a.set.digest.clone()));
    let inputs = scenes.iter().map(|s| (s.id.clone(), s.digest.clone())).chain(aliases).collect();
    Ok(PlannedSeason { graph: g, periods, inputs, notes })
}

fn stacked<'a>(g: &mut Graph, scenes: &'a [Scene], masks: &'a [Sky], members: &'a [usize]) -> Result<Stack<'a>> {
    let sky = members
        .chunks(Clear::SCENES)
        .map(|chunk| g.add(Clear, &chunk.iter().map(|i| masks[*i].run).collect::<Vec<_>>()));
    Ok(Stack { scenes, members, masks, clear: sky.collect::<Result<_>>()? })
}

/// What the composites of sides are made of.
struct Work<'a> {
    scenes: &'a [Scene],
    masks: &'a [Sky],
    roles: &'a [BandRole],
    recipe: &'a Recipe,
    needed_by: &'a dyn Fn(BandRole) -> String,
}

/// The one period of layers that compare the composites of several windows.
fn compared(
    g: &mut Graph,
    work: &Work,
    layers: &[Ready],
    rasters: &BTreeMap<String, NodeId>,
    area: Option<&Arc<Area>>,
) -> Result<PlannedPeriod> {
    let mut nodes: BTreeMap<String, NodeId> = rasters.clone();
    let (mut all, mut names) = (vec![], vec![]);
    for (side, (first, last)) in &work.recipe.sides {
        let within = |s: &Scene| s.date.is_some_and(|d| (*first..=*last).contains(&d));
        let members: Vec<usize> = (0..work.scenes.len()).filter(|i| within(&work.scenes[*i])).collect();
        if members.is_empty() {
            return Err(Error::Usage(format!("no scene lies in the window {first} to {last} ({side})")));
        }
        let stack = stacked(g, work.scenes, work.masks, &members)?;
        let (bands, _) = stack.compose(g, work.roles, work.recipe, work.needed_by)?;
        nodes.extend(bands.into_iter().map(|b| (format!("{side}.{}", b.name), b.node)));
        let looks = g.add(Looks, &stack.clear)?;
        nodes.insert(format!("{side}.{LOOKS}"), looks);
        names.push(window_name(*first, *last));
        all.extend(members);
    }
    let node_of = |name: &str| nodes.get(name).copied();
    let mut planned = vec![];
    for l in layers {
        let layer = add_layer(g, l, &node_of)?;
        planned.push(limited(g, layer, area)?);
    }
    all.sort_unstable();
    all.dedup();
    Ok(PlannedPeriod {
        period: names.join("_to_"),
        scenes: all,
        bands: vec![],
        looks: None,
        extras: vec![],
        layers: planned,
        keep: None,
    })
}

/// Reflectance above the air and at the ground are not to be mixed without a word.
fn mixed_levels(scenes: &[Scene], notes: &mut Vec<Note>) {
    let at = |level: &str| scenes.iter().filter(|s| s.level.starts_with(level)).count();
    let (top, ground) = (at("L1"), at("L2"));
    if top > 0 && ground > 0 {
        notes.push(Note::Metadata(format!(
            "{top} scenes are of Level 1 and {ground} of Level 2: their reflectance is not comparable"
        )));
    }
}

fn shown_bands(scenes: &[Scene], recipe: &Recipe, layers: &[Ready], keep: Option<&Program>) -> Result<Vec<BandRole>> {
    match &recipe.bands {
        BandChoice::List(list) => Ok(list.clone()),
        BandChoice::Needed => {
            let programs = layers.iter().map(|l| &l.program).chain(keep);
            let mut roles: Vec<BandRole> =
                programs.flat_map(|p| p.inputs().iter().filter_map(|n| BandRole::from_name(n))).collect();
            roles.sort();
            roles.dedup();
            Ok(roles)
        }
        BandChoice::All => {
            let Some(first) = scenes.first() else { return Ok(vec![]) };
            // bands with finer cells than the scene's, such as pan, are not thinned out unasked
            let fits = |s: &Scene, r: BandRole| {
                let side = |g: &crate::grid::Grid| g.transform.determinant().abs();
                s.band(r).is_some_and(|b| side(&b.source.spec().grid) > 0.9 * side(&s.grid))
            };
            let mut roles: Vec<BandRole> =
                first.bands.iter().map(|b| b.role).filter(|r| scenes.iter().all(|s| fits(s, *r))).collect();
            roles.sort();
            match roles.is_empty() {
                true => Err(Error::Usage("no band is in every scene on one grid".into())),
                false => Ok(roles),
            }
        }
    }
}

fn low_sun(scenes: &[Scene], roles: &[BandRole], notes: &mut Vec<Note>) {
    if roles.iter().all(|r| r.is_thermal()) {
        return;
    }
    for (s, sun) in scenes.iter().filter_map(|s| Some((s, s.sun?))) {
        if sun.elevation.0 < LOW_SUN {
            notes.push(Note::LowSun { scene: s.id.clone(), elevation: sun.elevation.0 });
        }
    }
}

fn periods_of(scenes: &[Scene], every: &Every, notes: &mut Vec<Note>) -> Result<Vec<(String, Vec<usize>)>> {
    let mut periods: BTreeMap<String, Vec<usize>> = BTreeMap::new();
    let mut outside = 0;
    for (i, s) in scenes.iter().enumerate() {
        let name = match (every, s.date) {
            (Every::All, _) => "all".to_string(),
            (_, Some(date)) => {
                let Some(name) = every.period(date) else {
                    outside += 1;
                    continue;
                };
                let taken = *every == Every::Scene && periods.contains_key(&name);
                if taken { format!("{name}_{}", s.id) } else { name }
            }
            (Every::Scene, None) => s.id.clone(),
            (_, None) => {
                return Err(Error::Usage(format!("scene {} has no date, so it falls in no {}", s.id, every.name())));
            }
        };
        periods.entry(name).or_default().push(i);
    }
    if periods.is_empty() {
        return Err(Error::Usage(format!("none of the {outside} scenes lies in {}", every.name())));
    }
    if outside > 0 {
        notes.push(Note::Layer(format!(
            "{outside} of {} scenes lie in none of the windows and are left out",
            scenes.len()
        )));
    }
    Ok(periods.into_iter().collect())
}
