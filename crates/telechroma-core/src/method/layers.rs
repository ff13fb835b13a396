//! Layers: indices and formulas over the bands of a composite, or over rasters made earlier.

use std::collections::BTreeMap;
use std::sync::Arc;

use super::frame::bring;
use super::names::LayerNames;
use super::season::{LayerRequest, PlannedLayer, PlannedPeriod, PlannedSeason, Recipe};
use crate::area::Area;
use crate::error::{Error, Result};
use crate::graph::{Graph, NodeId};
use crate::index::{INDICES, IndexDef, Names, Program, Wants, find};
use crate::op::{Compute, limit};
use crate::run::Note;
use crate::scene::{Layer, LayerSet};
use crate::units::{TemperatureUnit, Unit};

/// A layer's formula, compiled, and its unit at the edge.
pub(super) struct Ready {
    pub name: String,
    pub formula: String,
    pub program: Program,
    pub unit: Unit,
}

/// Compiles a layer.
///
/// # Errors
/// Where it names what is not there, a band holds raw counts, or a coefficient does not hold for a band.
pub(super) fn ready(request: &LayerRequest, names: &dyn Names, temperature: TemperatureUnit) -> Result<Ready> {
    let (formula, unit) = match &request.formula {
        Some(own) => (own.clone(), own_unit(own, names)),
        None => match find(&request.name) {
            Ok(row) => {
                // what is delivered under an index's name stands for it
                if names.band(&request.name).is_none() {
                    valid(row, names)?;
                }
                (row.formula.to_string(), row.unit)
            }
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
    // a ratio of radiances is none of reflectances: the sun shines differently in each band
    let radiance = |n: &&String| names.band(n) == Some(Unit::Radiance);
    if let (None, Ok(_), Some(input)) = (&request.formula, find(&request.name), program.inputs().iter().find(radiance))
    {
        return Err(Error::UnitMismatch {
            what: format!("band '{input}'"),
            found: Unit::Radiance.label().into(),
            wants: format!("reflectance, or a temperature, for {}", request.name),
        });
    }
    let (program, unit) = match unit {
        // a difference has no zero of its own: the factor alone converts it
        Unit::Kelvin if request.formula.as_deref().is_some_and(|f| is_difference(f, names)) => {
            let (factor, _) = temperature.from_kelvin();
            (program.then_line(factor, 0.0), temperature.unit())
        }
        Unit::Kelvin => {
            let (factor, offset) = temperature.from_kelvin();
            (program.then_line(factor, offset), temperature.unit())
        }
        other => (program, other),
    };
    Ok(Ready { name: request.name.clone(), formula, program, unit })
}

/// Some coefficients hold for one sensor's band only.
fn valid(row: &IndexDef, names: &dyn Names) -> Result<()> {
    for (band, (from, to)) in &row.valid {
        let Some(um) = names.wavelength_um(band) else { continue };
        if um < *from || um > *to {
            return Err(Error::Usage(format!(
                "{}: its coefficients hold for a band '{band}' at {from} to {to} µm; this one is at {um:.3} µm",
                row.id
            )));
        }
    }
    Ok(())
}

/// A formula that is just a name has the unit of what it names.
fn own_unit(formula: &str, names: &dyn Names) -> Unit {
    if is_difference(formula, names) {
        return Unit::Kelvin;
    }
    let name = formula.trim();
    let plain = name.rsplit('.').next().unwrap_or(name);
    let index = INDICES.iter().find(|d: &&IndexDef| d.id == plain).map(|d| d.unit);
    names.band(name).or(index).unwrap_or(Unit::One)
}

/// True for one temperature less another.
fn is_difference(formula: &str, names: &dyn Names) -> bool {
    let Some((a, b)) = formula.split_once(" - ") else { return false };
    let word = |t: &str| !t.is_empty() && t.chars().all(|c| c.is_ascii_alphanumeric() || matches!(c, '_' | '.'));
    let kelvin = |t: &str| word(t) && own_unit(t, names) == Unit::Kelvin;
    kelvin(a.trim()) && kelvin(b.trim())
}

/// The program of the cells that count in a summary.
pub(super) fn keep_program(recipe: &Recipe, names: &dyn Names) -> Result<Option<Program>> {
    recipe.keep.as_deref().map(|text| Program::compile(text, names)).transpose()
}

/// Says where an index is given less than it wants.
pub(super) fn wants(layers: &[Ready], names: &dyn Names, surface: bool, notes: &mut Vec<Note>) {
    for (layer, row) in layers.iter().filter_map(|l| Some((l, INDICES.iter().find(|d| d.id == l.name)?))) {
        if row.wants == Wants::Surface && !surface {
            notes.push(Note::Layer(format!(
                "{} is defined for surface reflectance; it is computed of reflectance above the air",
                row.id
            )));
        }
        let vague = |n: &&String| names.band(n) == Some(Unit::Unknown);
        if let (Wants::Reflectance | Wants::Surface, Some(band)) =
            (row.wants, layer.program.inputs().iter().find(vague))
        {
            notes.push(Note::Layer(format!(
                "{} needs true reflectance, 0 to 1, and band '{band}' does not say what it holds",
                row.id
            )));
        }
    }
}

/// Plans layers of rasters made earlier: of one whose layers are named as they are, and of those behind aliases. Those
/// asked for, or all that the one has.
///
/// # Errors
/// Where a layer cannot be computed from them.
pub fn plan_layers(set: Option<&LayerSet>, recipe: &Recipe) -> Result<PlannedSeason> {
    let all = || -> Vec<LayerRequest> {
        let layers = set.iter().flat_map(|s| &s.layers);
        layers.map(|l| LayerRequest { name: l.name.clone(), formula: None }).collect()
    };
    let sets: Vec<&LayerSet> = set.into_iter().chain(recipe.aliases.iter().map(|a| &a.set)).collect();
    let who = sets.iter().map(|s| s.name.as_str()).collect::<Vec<_>>().join(", ");
    let recipe =
        &Recipe { layers: if recipe.layers.is_empty() { all() } else { recipe.layers.clone() }, ..recipe.clone() };
    let names = LayerNames { set, recipe };
    let layers = recipe.layers.iter().map(|l| ready(l, &names, recipe.temperature)).collect::<Result<Vec<_>>>();
    let layers = layers.map_err(|e| named(e, &who))?;
    let keep = keep_program(recipe, &names).map_err(|e| named(e, &who))?;
    let grids: Vec<_> = sets.iter().map(|s| (s.name.clone(), s.grid.clone())).collect();
    let mut framed = recipe.frame.over(&grids)?;
    wants(&layers, &names, true, &mut framed.notes);
    let mut g = Graph::new(framed.grid);
    let area = framed.area.as_ref();
    let mut nodes: BTreeMap<String, NodeId> = BTreeMap::new();
    for name in layers.iter().flat_map(|l| l.program.inputs()).chain(keep.iter().flat_map(|p| p.inputs())) {
        if let Some(layer) = names.layer(name) {
            nodes.insert(name.clone(), place(&mut g, layer, recipe)?);
        }
    }
    let node_of = |name: &str| nodes.get(name).copied();
    let mut planned = vec![];
    for l in &layers {
        let layer = add_layer(&mut g, l, &node_of)?;
        planned.push(limited(&mut g, layer, area)?);
    }
    let keep = keep.as_ref().map(|p| add_program(&mut g, p, Unit::One, &node_of)).transpose()?;
    let mut periods: Vec<&str> = sets.iter().map(|s| s.period.as_str()).collect();
    periods.dedup();
    let period = PlannedPeriod {
        period: periods.join("_"),
        scenes: (0..sets.len()).collect(),
        bands: vec![],
        looks: None,
        extras: vec![],
        layers: planned,
        keep,
    };
    let inputs = sets.iter().map(|s| (s.name.clone(), s.digest.clone())).collect();
    Ok(PlannedSeason { graph: g, periods: vec![period], inputs, notes: framed.notes })
}

/// A layer of a raster on the run's grid.
pub(super) fn place(g: &mut Graph, layer: &Layer, recipe: &Recipe) -> Result<NodeId> {
    let node = match g.fits(&*layer.source) {
        true => g.source(layer.source.clone(), None)?,
        false => g.native(layer.source.clone(), None)?,
    };
    bring(g, node, recipe.frame.resample)
}

/// A layer limited to the run's area.
pub(super) fn limited(g: &mut Graph, layer: PlannedLayer, area: Option<&Arc<Area>>) -> Result<PlannedLayer> {
    Ok(PlannedLayer { node: limit(g, layer.node, area)?, ..layer })
}

fn named(e: Error, file: &str) -> Error {
    match e {
        Error::MissingBand { role, for_what, have, .. } => {
            Error::MissingBand { scene: file.into(), role, for_what, have }
        }
        other => other,
    }
}

/// Adds a layer to a graph in which its bands have nodes.
pub(super) fn add_layer(
    g: &mut Graph,
    layer: &Ready,
    node_of: &dyn Fn(&str) -> Option<NodeId>,
) -> Result<PlannedLayer> {
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

/// Adds a compiled formula to a graph in which its bands have nodes.
pub(super) fn add_program(
    g: &mut Graph,
    program: &Program,
    unit: Unit,
    node_of: &dyn Fn(&str) -> Option<NodeId>,
) -> Result<NodeId> {
    let inputs: Vec<NodeId> = program.inputs().iter().filter_map(|n| node_of(n)).collect();
    if inputs.is_empty() && !program.inputs().is_empty() {
        unreachable!("names are resolved when a formula is compiled");
    }
    g.add(Compute { program: program.clone(), unit }, &inputs)
}
