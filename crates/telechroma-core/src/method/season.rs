//! The main job: scenes → calibrated, masked → one composite a period → layers. Also layers of rasters made earlier.

use std::collections::BTreeMap;

use super::calibrate::{SceneBand, Target, calibrated_band, missing};
use super::clear::{MaskOptions, clear_sky};
use super::period::Every;
use crate::error::{Error, Result};
use crate::graph::{Graph, NodeId};
use crate::index::{INDICES, IndexDef, Names, Program, find};
use crate::op::{Clear, Composite, Compute, Looks};
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

/// Everything the main job may be told.
#[derive(Debug, Clone, Default)]
pub struct Recipe {
    /// What counts become.
    pub target: Target,
    /// What is dropped.
    pub mask: MaskOptions,
    /// How scenes are put together.
    pub every: Every,
    /// Clear samples a cell needs.
    pub at_least: u32,
    /// The composite's bands.
    pub bands: BandChoice,
    /// The layers.
    pub layers: Vec<LayerRequest>,
    /// Unit of layers that are temperatures; composites stay in kelvin.
    pub temperature: TemperatureUnit,
    /// Cells that count in a summary.
    pub keep: Option<String>,
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

struct SceneNames<'a> {
    scenes: &'a [Scene],
    recipe: &'a Recipe,
}

impl SceneNames<'_> {
    fn any(&self, name: &str) -> Option<&crate::scene::Band> {
        let role = BandRole::from_name(name)?;
        self.scenes.iter().find_map(|s| s.band(role))
    }
}

fn own_formula(layers: &[LayerRequest], name: &str) -> Option<String> {
    layers.iter().find(|l| l.name == name).and_then(|l| l.formula.clone())
}

impl Names for SceneNames<'_> {
    fn band(&self, name: &str) -> Option<Unit> {
        let band = self.any(name)?;
        Some(match &band.content {
            crate::scene::Content::Values(unit) => *unit,
            crate::scene::Content::Counts(_) => self.recipe.target.unit(band.role),
        })
    }

    fn formula(&self, name: &str) -> Option<String> {
        own_formula(&self.recipe.layers, name)
    }

    fn wavelength_um(&self, name: &str) -> Option<f64> {
        self.any(name)?.wavelength.map(|w| w.0 / 1000.0)
    }

    fn all(&self) -> Vec<String> {
        let mut roles: Vec<BandRole> = self.scenes.iter().flat_map(|s| s.bands.iter().map(|b| b.role)).collect();
        roles.sort();
        roles.dedup();
        roles.iter().map(|r| r.name().to_string()).collect()
    }
}

struct LayerNames<'a> {
    set: &'a LayerSet,
    requests: &'a [LayerRequest],
}

impl LayerNames<'_> {
    fn layer(&self, name: &str) -> Option<&crate::scene::Layer> {
        let by_name = |n: &str| self.set.layers.iter().find(|l| l.name == n);
        match BandRole::from_name(name) {
            Some(role) => role.met_by().find_map(|r| by_name(r.name())),
            None => by_name(name),
        }
    }
}

impl Names for LayerNames<'_> {
    fn band(&self, name: &str) -> Option<Unit> {
        self.layer(name).map(|l| l.unit)
    }

    fn formula(&self, name: &str) -> Option<String> {
        own_formula(self.requests, name)
    }

    fn wavelength_um(&self, name: &str) -> Option<f64> {
        self.layer(name)?.wavelength.map(|w| w.0 / 1000.0)
    }

    fn all(&self) -> Vec<String> {
        self.set.layers.iter().map(|l| l.name.clone()).collect()
    }
}

/// A layer's formula, compiled, and its unit at the edge.
struct Ready {
    name: String,
    formula: String,
    program: Program,
    unit: Unit,
}

fn ready(request: &LayerRequest, names: &dyn Names, temperature: TemperatureUnit) -> Result<Ready> {
    let (formula, unit) = match &request.formula {
        Some(own) => (own.clone(), own_unit(own, names)),
        None => match find(&request.name) {
            Ok(row) => (row.formula.to_string(), row.unit),
            // a band or layer of the input itself
            Err(unknown) => match names.band(&request.name) {
                Some(unit) => (request.name.clone(), unit),
                None => return Err(unknown),
            },
        },
    };
    // compiled under its own name, so that a missing band is said to be needed by it
    let text = if request.formula.is_some() { &formula } else { &request.name };
    let program = Program::compile(text, names)?;
    for input in program.inputs() {
        if let Some(found @ Unit::Counts) = names.band(input) {
            let (what, found) = (format!("band '{input}'"), found.label().to_string());
            return Err(Error::UnitMismatch { what, found, wants: "a calibrated unit".into() });
        }
    }
    let (program, unit) = match unit {
        Unit::Kelvin => {
            let (factor, offset) = temperature.from_kelvin();
            (program.then_line(factor, offset), temperature.unit())
        }
        other => (program, other),
    };
    Ok(Ready { name: request.name.clone(), formula, program, unit })
}

/// A formula that is just a name has the unit of what it names.
fn own_unit(formula: &str, names: &dyn Names) -> Unit {
    let name = formula.trim();
    let index = INDICES.iter().find(|d: &&IndexDef| d.id == name).map(|d| d.unit);
    names.band(name).or(index).unwrap_or(Unit::One)
}

fn keep_program(recipe: &Recipe, names: &dyn Names) -> Result<Option<Program>> {
    recipe.keep.as_deref().map(|text| Program::compile(text, names)).transpose()
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
    let mut g = Graph::new(common_grid(&scenes)?);
    let names = SceneNames { scenes: &scenes, recipe };
    let layers = recipe.layers.iter().map(|l| ready(l, &names, recipe.temperature)).collect::<Result<Vec<_>>>()?;
    let keep = keep_program(recipe, &names)?;
    let shown = shown_bands(&scenes, recipe, &layers, keep.as_ref())?;
    let mut roles = shown.clone();
    for program in layers.iter().map(|l| &l.program).chain(keep.as_ref()) {
        roles.extend(program.inputs().iter().filter_map(|n| BandRole::from_name(n)).filter(|r| !shown.contains(r)));
    }
    roles.sort();
    roles.dedup();
    let masks = scenes.iter().map(|s| clear_sky(&mut g, s, &recipe.mask)).collect::<Result<Vec<_>>>()?;
    low_sun(&scenes, &roles, &mut notes);
    let mut periods = vec![];
    for (period, members) in periods_of(&scenes, recipe.every)? {
        let sky = members
            .chunks(Clear::SCENES)
            .map(|chunk| g.add(Clear, &chunk.iter().map(|i| masks[*i]).collect::<Vec<_>>()));
        let stack = Stack { scenes: &scenes, members: &members, masks: &masks, clear: sky.collect::<Result<_>>()? };
        let mut bands: BTreeMap<BandRole, PlannedLayer> = BTreeMap::new();
        for role in &roles {
            let needed_by =
                layers.iter().find(|l| l.program.inputs().iter().any(|n| n == role.name())).map_or("", |l| &l.name);
            bands.insert(*role, composite(&mut g, &stack, *role, recipe, needed_by)?);
        }
        let looks = Some(g.add(Looks, &stack.clear)?);
        let node_of = |name: &str| BandRole::from_name(name).and_then(|r| bands.get(&r)).map(|b| b.node);
        let mut planned = vec![];
        for l in &layers {
            planned.push(add_layer(&mut g, l, &node_of)?);
        }
        let keep = keep.as_ref().map(|p| add_program(&mut g, p, Unit::One, &node_of)).transpose()?;
        let bands = shown.iter().filter_map(|r| bands.get(r).cloned()).collect();
        periods.push(PlannedPeriod { period, scenes: members, bands, looks, layers: planned, keep });
    }
    let inputs = scenes.into_iter().map(|s| (s.id, s.digest)).collect();
    Ok(PlannedSeason { graph: g, periods, inputs, notes })
}

/// Plans layers of one raster made earlier: those asked for, or all it has.
///
/// # Errors
/// Where a layer cannot be computed from it.
pub fn plan_layers(set: &LayerSet, recipe: &Recipe) -> Result<PlannedSeason> {
    let all = || set.layers.iter().map(|l| LayerRequest { name: l.name.clone(), formula: None }).collect();
    let requests: Vec<LayerRequest> = if recipe.layers.is_empty() { all() } else { recipe.layers.clone() };
    let names = LayerNames { set, requests: &requests };
    let layers = requests.iter().map(|l| ready(l, &names, recipe.temperature)).collect::<Result<Vec<_>>>();
    let layers = layers.map_err(|e| named(e, &set.name))?;
    let keep = keep_program(recipe, &names).map_err(|e| named(e, &set.name))?;
    let mut g = Graph::new((*set.grid).clone());
    let mut nodes: BTreeMap<String, NodeId> = BTreeMap::new();
    for name in layers.iter().flat_map(|l| l.program.inputs()).chain(keep.iter().flat_map(|p| p.inputs())) {
        if let Some(layer) = names.layer(name) {
            nodes.insert(name.clone(), g.source(layer.source.clone(), None)?);
        }
    }
    let node_of = |name: &str| nodes.get(name).copied();
    let mut planned = vec![];
    for l in &layers {
        planned.push(add_layer(&mut g, l, &node_of)?);
    }
    let keep = keep.as_ref().map(|p| add_program(&mut g, p, Unit::One, &node_of)).transpose()?;
    let period = PlannedPeriod {
        period: set.period.clone(),
        scenes: vec![0],
        bands: vec![],
        looks: None,
        layers: planned,
        keep,
    };
    let inputs = vec![(set.name.clone(), set.digest.clone())];
    Ok(PlannedSeason { graph: g, periods: vec![period], inputs, notes: vec![] })
}

fn named(e: Error, file: &str) -> Error {
    match e {
        Error::MissingBand { role, for_what, have, .. } => {
            Error::MissingBand { scene: file.into(), role, for_what, have }
        }
        other => other,
    }
}

fn add_layer(g: &mut Graph, layer: &Ready, node_of: &dyn Fn(&str) -> Option<NodeId>) -> Result<PlannedLayer> {
    // a plane asked for as it is needs no computing
    let node = match (layer.program.inputs(), layer.formula.trim()) {
        ([one], formula) if one == formula && layer.unit == unit_of(g, node_of(one)) => node_of(one),
        _ => None,
    };
    let node = match node {
        Some(node) => node,
        None => add_program(g, &layer.program, layer.unit, node_of)?,
    };
    let formula = Some(layer.formula.clone());
    Ok(PlannedLayer { name: layer.name.clone(), node, unit: layer.unit, wavelength: None, formula })
}

fn unit_of(g: &Graph, node: Option<NodeId>) -> Unit {
    node.map_or(Unit::Unknown, |n| g.node(n).spec().unit)
}

fn add_program(
    g: &mut Graph,
    program: &Program,
    unit: Unit,
    node_of: &dyn Fn(&str) -> Option<NodeId>,
) -> Result<NodeId> {
    let inputs: Vec<NodeId> = program.inputs().iter().filter_map(|n| node_of(n)).collect();
    g.add(Compute { program: program.clone(), unit }, &inputs)
}

fn common_grid(scenes: &[Scene]) -> Result<crate::grid::Grid> {
    let Some((first, rest)) = scenes.split_first() else {
        return Err(Error::Usage("there is no scene to work on".into()));
    };
    first.grid.union(rest.iter().map(|s| &*s.grid)).map_err(|(i, difference)| Error::GridMismatch {
        first: format!("scene {}", first.id),
        second: format!("scene {}", rest[i].id),
        difference,
    })
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
            let fits =
                |s: &Scene, r: BandRole| s.band(r).is_some_and(|b| first.grid.offset_of(&b.source.spec().grid).is_ok());
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

fn periods_of(scenes: &[Scene], every: Every) -> Result<Vec<(String, Vec<usize>)>> {
    let mut periods: BTreeMap<String, Vec<usize>> = BTreeMap::new();
    for (i, s) in scenes.iter().enumerate() {
        let name = match (every, s.date) {
            (Every::All, _) => "all".to_string(),
            (_, Some(date)) => {
                let name = every.period(date);
                let taken = every == Every::Scene && periods.contains_key(&name);
                if taken { format!("{name}_{}", s.id) } else { name }
            }
            (Every::Scene, None) => s.id.clone(),
            (_, None) => {
                return Err(Error::Usage(format!("scene {} has no date, so it falls in no {}", s.id, every.name())));
            }
        };
        periods.entry(name).or_default().push(i);
    }
    Ok(periods.into_iter().collect())
}

/// The scenes of a period.
struct Stack<'a> {
    scenes: &'a [Scene],
    /// Which of them.
    members: &'a [usize],
    /// The mask of each scene.
    masks: &'a [NodeId],
    /// The clear looks of the members.
    clear: Vec<NodeId>,
}

fn composite(g: &mut Graph, stack: &Stack, role: BandRole, recipe: &Recipe, needed_by: &str) -> Result<PlannedLayer> {
    let (mut samples, mut inputs, mut unit, mut wavelength) = (vec![], stack.clear.clone(), None, None);
    for i in stack.members {
        let scene = &stack.scenes[*i];
        let band = scene.band(role).ok_or_else(|| missing(scene, role, needed_by))?;
        wavelength = wavelength.or(band.wavelength);
        let SceneBand { node, sample, unit: found } =
            calibrated_band(g, scene, role, recipe.target, Some(stack.masks[*i]))?;
        match unit {
            Some(first) if first != found => {
                return Err(Error::UnitMismatch {
                    what: format!("band '{role}' of scene {}", scene.id),
                    found: found.label().into(),
                    wants: format!("{}, as in the other scenes,", Unit::label(first)),
                });
            }
            _ => unit = Some(found),
        }
        samples.push(sample);
        inputs.push(node);
    }
    let unit = unit.unwrap_or(Unit::Unknown);
    let node = g.add(Composite::median(samples, unit, recipe.at_least.max(1)), &inputs)?;
    Ok(PlannedLayer { name: role.name().into(), node, unit, wavelength, formula: None })
}
