//! What names in formulas mean: bands of scenes, layers of rasters, aliases, what the user defined.

use super::calibrate::Target;
use super::season::{Aliased, LayerRequest, Recipe, side_of};
use crate::index::Names;
use crate::scene::{Band, BandRole, Content, Layer, LayerSet, Scene};
use crate::units::Unit;

/// Cells that some look shows.
pub(super) const LOOKS: &str = "clear_looks";
const CLEAR: &str = "clear_looks > 0";

/// The user's own: formulas of layers, and values of names such as `emissivity`.
fn own_formula(recipe: &Recipe, name: &str) -> Option<String> {
    let layer = |l: &&LayerRequest| l.name == name;
    let defined = recipe.defined.iter().find(|(n, _)| n == name).map(|(_, f)| f.clone());
    defined.or_else(|| recipe.layers.iter().find(layer).and_then(|l| l.formula.clone()))
}

/// A layer of a raster by name, or by what may stand in for a band.
fn layer_of<'a>(set: &'a LayerSet, name: &str) -> Option<&'a Layer> {
    let by_name = |n: &str| set.layers.iter().find(|l| l.name == n);
    match BandRole::from_name(name) {
        Some(role) => role.met_by().find_map(|r| by_name(r.name())),
        None => by_name(name),
    }
}

/// A layer behind an alias: `after.nir`, or `after` alone where the raster has one layer.
pub(super) fn aliased<'a>(aliases: &'a [Aliased], name: &str) -> Option<&'a Layer> {
    let (alias, layer) = name.split_once('.').map_or((name, None), |(a, l)| (a, Some(l)));
    let set = &aliases.iter().find(|a| a.alias == alias)?.set;
    match (layer, set.layers.as_slice()) {
        (Some(layer), _) => layer_of(set, layer),
        (None, [one]) => Some(one),
        (None, _) => None,
    }
}

fn aliased_names(aliases: &[Aliased]) -> impl Iterator<Item = String> {
    aliases.iter().flat_map(|a| a.set.layers.iter().map(move |l| format!("{}.{}", a.alias, l.name)))
}

/// Names of the bands of scenes.
pub(super) struct SceneNames<'a> {
    pub scenes: &'a [Scene],
    pub recipe: &'a Recipe,
    /// Numbers that belong to a scene, such as the day of its year.
    pub numbers: Vec<(&'static str, f64)>,
}

impl<'a> SceneNames<'a> {
    pub fn new(scenes: &'a [Scene], recipe: &'a Recipe) -> SceneNames<'a> {
        SceneNames { scenes, recipe, numbers: vec![] }
    }

    fn any(&self, name: &str) -> Option<&Band> {
        let name = side_of(self.recipe, name).map_or(name, |s| s.1);
        let role = BandRole::from_name(name)?;
        self.scenes.iter().find_map(|s| s.band(role))
    }
}

impl Names for SceneNames<'_> {
    fn band(&self, name: &str) -> Option<Unit> {
        if name == LOOKS && self.numbers.is_empty() && self.recipe.sides.is_empty() {
            return Some(Unit::Looks);
        }
        if let Some(layer) = aliased(&self.recipe.aliases, name) {
            return Some(layer.unit);
        }
        // where sides are compared, bands belong to one of them
        let name = match (side_of(self.recipe, name), self.recipe.sides.is_empty()) {
            (Some((_, LOOKS)), _) => return Some(Unit::Looks),
            (Some((_, plain)), _) => plain,
            (None, true) => name,
            (None, false) => return None,
        };
        let band = self.any(name)?;
        Some(match &band.content {
            Content::Values(unit) => *unit,
            Content::Counts(_) => self.recipe.target.unit(band.role),
        })
    }

    fn formula(&self, name: &str) -> Option<String> {
        let number = self.numbers.iter().find(|(n, _)| *n == name).map(|(_, v)| format!("{v}"));
        let clear = (name == "clear" && self.numbers.is_empty()).then(|| CLEAR.to_string());
        number.or_else(|| own_formula(self.recipe, name)).or(clear)
    }

    fn wavelength_um(&self, name: &str) -> Option<f64> {
        self.any(name)?.wavelength.map(|w| w.0 / 1000.0)
    }

    fn thermal(&self, name: &str) -> Option<(f64, f64)> {
        match &self.any(name)?.content {
            Content::Counts(c) if self.recipe.target != Target::Radiance => c.thermal.clone().ok(),
            _ => None,
        }
    }

    fn all(&self) -> Vec<String> {
        let mut roles: Vec<BandRole> = self.scenes.iter().flat_map(|s| s.bands.iter().map(|b| b.role)).collect();
        roles.sort();
        roles.dedup();
        let numbers = self.numbers.iter().map(|(n, _)| (*n).to_string());
        let roles = roles.iter().map(|r| r.name().to_string());
        roles.chain(numbers).chain(aliased_names(&self.recipe.aliases)).collect()
    }
}

/// Names of the flag planes and bands of one scene; bands are reflectance above the air and temperatures.
pub(super) struct FlagNames<'a> {
    pub scene: &'a Scene,
}

impl Names for FlagNames<'_> {
    fn band(&self, name: &str) -> Option<Unit> {
        if self.scene.flags.iter().any(|f| f.name == name && f.raw.is_some()) {
            return Some(Unit::Flags);
        }
        let band = self.scene.band(BandRole::from_name(name)?)?;
        Some(match &band.content {
            Content::Values(unit) => *unit,
            Content::Counts(_) => Target::Toa.unit(band.role),
        })
    }

    fn wavelength_um(&self, name: &str) -> Option<f64> {
        self.scene.band(BandRole::from_name(name)?)?.wavelength.map(|w| w.0 / 1000.0)
    }

    fn all(&self) -> Vec<String> {
        let flags = self.scene.flags.iter().filter(|f| f.raw.is_some()).map(|f| f.name.clone());
        flags.chain(self.scene.roles()).collect()
    }
}

/// Names of the layers of a raster, if there is one without an alias.
pub(super) struct LayerNames<'a> {
    pub set: Option<&'a LayerSet>,
    pub recipe: &'a Recipe,
}

impl LayerNames<'_> {
    pub fn layer(&self, name: &str) -> Option<&Layer> {
        let plain = self.set.and_then(|set| layer_of(set, name));
        plain.or_else(|| aliased(&self.recipe.aliases, name))
    }
}

impl Names for LayerNames<'_> {
    fn band(&self, name: &str) -> Option<Unit> {
        self.layer(name).map(|l| l.unit)
    }

    fn formula(&self, name: &str) -> Option<String> {
        let clear = || (name == "clear" && self.layer(LOOKS).is_some()).then(|| CLEAR.to_string());
        own_formula(self.recipe, name).or_else(clear)
    }

    fn wavelength_um(&self, name: &str) -> Option<f64> {
        self.layer(name)?.wavelength.map(|w| w.0 / 1000.0)
    }

    fn all(&self) -> Vec<String> {
        let plain = self.set.iter().flat_map(|s| s.layers.iter().map(|l| l.name.clone()));
        plain.chain(aliased_names(&self.recipe.aliases)).collect()
    }
}
