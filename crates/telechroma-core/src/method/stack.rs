//! A period's composite: each band by a statistic of its own, or all bands from one look a cell.

use super::calibrate::{SceneBand, calibrated_band, missing, values_of};
use super::clear::Sky;
use super::layers::add_program;
use super::names::SceneNames;
use super::season::{PlannedLayer, Recipe};
use crate::error::{Error, Result};
use crate::graph::{Graph, NodeId};
use crate::index::Program;
use crate::op::{BandRule, Choice, Choose, Chosen, Composite, OfChosen, Sample};
use crate::scene::{BandRole, Scene};
use crate::units::Unit;

/// How the dates of a period become one value.
#[derive(Debug, Clone, PartialEq)]
pub enum By {
    /// Each band for itself: bands of a cell may come from different dates.
    Band(BandRule),
    /// One look for all bands: a spectrum that was really seen. The score is a formula over a scene's bands.
    Look {
        /// Which look.
        choice: Choice,
        /// For [`Choice::Best`].
        score: Option<String>,
    },
}

impl Default for By {
    fn default() -> By {
        By::Band(BandRule::Median)
    }
}

impl By {
    /// A rule by name: `median`, `mean`, `min`, `max`, a percentile as `p25`, `medoid`, `best` (with a score), `latest`,
    /// `earliest`.
    ///
    /// # Errors
    /// For other names, and a score without `best` or the reverse.
    pub fn new(text: &str, score: Option<String>) -> Result<By> {
        let percent =
            || text.strip_prefix('p').and_then(|n| n.parse::<f64>().ok()).filter(|p| (0.0..=100.0).contains(p));
        let by = match text {
            "median" => By::Band(BandRule::Median),
            "mean" => By::Band(BandRule::Mean),
            "min" => By::Band(BandRule::Min),
            "max" => By::Band(BandRule::Max),
            _ => match (percent(), text.parse::<Choice>()) {
                (Some(p), _) => By::Band(BandRule::Percentile(p)),
                (None, Ok(choice)) => By::Look { choice, score: score.clone() },
                (None, Err(_)) => {
                    let names = ["median", "mean", "min", "max", "p25"].into_iter().chain(Choice::names());
                    return Err(Error::unknown("composite rule", text, names));
                }
            },
        };
        match (&by, score.is_some()) {
            (By::Look { choice: Choice::Best, .. }, false) => {
                Err(Error::Usage("the rule 'best' needs a score, such as ndvi: the highest is taken".into()))
            }
            (By::Look { choice: Choice::Best, .. }, true) | (_, false) => Ok(by),
            (_, true) => Err(Error::Usage(format!("a score goes with the rule 'best', not with '{text}'"))),
        }
    }

    /// Its name.
    pub fn name(&self) -> String {
        match self {
            By::Band(BandRule::Median) => "median".into(),
            By::Band(BandRule::Mean) => "mean".into(),
            By::Band(BandRule::Min) => "min".into(),
            By::Band(BandRule::Max) => "max".into(),
            By::Band(BandRule::Percentile(p)) => format!("p{p}"),
            By::Band(BandRule::Spread) => "spread".into(),
            By::Look { choice, .. } => choice.name().into(),
        }
    }

    /// What it does to the bands of a cell, for people.
    pub fn explained(&self) -> &'static str {
        match self {
            By::Band(_) => "each band by itself: the bands of a cell may come from different dates",
            By::Look { .. } => "one look for all bands of a cell: a spectrum that was really seen",
        }
    }
}

/// The score of a scene as a program over its bands.
fn score_program(scene: &Scene, score: &str, recipe: &Recipe) -> Result<Program> {
    let day = scene.date.map_or(f64::NAN, |d| f64::from(d.day_of_year()));
    let numbers = vec![
        ("doy", day),
        ("sun_elevation", scene.sun.map_or(f64::NAN, |s| s.elevation.0)),
        ("cloud_cover", scene.cloud_cover.unwrap_or(f64::NAN)),
    ];
    Program::compile(score, &SceneNames { numbers, ..SceneNames::new(std::slice::from_ref(scene), recipe) })
}

/// The bands that a score looks at.
///
/// # Errors
/// Where a scene lacks one.
pub(super) fn score_roles(scenes: &[Scene], score: &str, recipe: &Recipe) -> Result<Vec<BandRole>> {
    let mut roles = vec![];
    for scene in scenes {
        let program = score_program(scene, score, recipe)?;
        roles.extend(program.inputs().iter().filter_map(|n| BandRole::from_name(n)));
    }
    Ok(roles)
}

/// The scenes of a period.
pub(super) struct Stack<'a> {
    pub scenes: &'a [Scene],
    /// Which of them, sorted by time.
    pub members: &'a [usize],
    /// The mask of each scene.
    pub masks: &'a [Sky],
    /// The clear looks of the members.
    pub clear: Vec<NodeId>,
}

/// The planes of one band, a scene each.
struct Planes {
    samples: Vec<Sample>,
    nodes: Vec<NodeId>,
    unit: Unit,
}

impl Stack<'_> {
    fn planes(&self, g: &mut Graph, role: BandRole, recipe: &Recipe, needed_by: &str) -> Result<Planes> {
        let (mut samples, mut nodes, mut unit) = (vec![], vec![], None);
        for i in self.members {
            let scene = &self.scenes[*i];
            scene.band(role).ok_or_else(|| missing(scene, role, needed_by))?;
            let SceneBand { node, sample, unit: found } =
                calibrated_band(g, scene, role, recipe.target, Some(self.masks[*i]), recipe.frame.resample)?;
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
            nodes.push(node);
        }
        Ok(Planes { samples, nodes, unit: unit.unwrap_or(Unit::Unknown) })
    }

    fn layer(&self, role: BandRole, name: String, node: NodeId, unit: Unit) -> PlannedLayer {
        let mut bands = self.members.iter().filter_map(|i| self.scenes[*i].band(role));
        PlannedLayer { name, node, unit, wavelength: bands.find_map(|b| b.wavelength), formula: None }
    }

    fn reduced(&self, g: &mut Graph, by: BandRule, planes: Planes, recipe: &Recipe) -> Result<NodeId> {
        let inputs: Vec<NodeId> = self.clear.iter().chain(&planes.nodes).copied().collect();
        g.add(Composite::new(by, planes.samples, planes.unit, recipe.at_least.max(1)), &inputs)
    }

    /// The plane of choices over all bands of the composite.
    fn choose(
        &self,
        g: &mut Graph,
        choice: Choice,
        score: Option<&str>,
        roles: &[BandRole],
        recipe: &Recipe,
    ) -> Result<NodeId> {
        let planes = roles.iter().map(|r| self.planes(g, *r, recipe, choice.name())).collect::<Result<Vec<_>>>()?;
        // kelvin and reflectance are not measured by one ruler
        let light = |p: &Planes| matches!(p.unit, Unit::Reflectance | Unit::Radiance);
        let measured: Vec<usize> = (0..planes.len()).filter(|i| light(&planes[*i])).collect();
        if choice == Choice::Medoid && measured.is_empty() {
            return Err(Error::Usage("a medoid needs bands of reflectance to measure distances by".into()));
        }
        let (mut inputs, mut samples) = (self.clear.clone(), vec![]);
        let mut planes: Vec<(std::vec::IntoIter<Sample>, Vec<NodeId>)> =
            planes.into_iter().map(|p| (p.samples.into_iter(), p.nodes)).collect();
        for scene in 0..self.members.len() {
            samples.push(planes.iter_mut().filter_map(|p| p.0.next()).collect());
            inputs.extend(planes.iter().map(|p| p.1[scene]));
        }
        for i in self.members.iter().filter(|_| choice == Choice::Best) {
            inputs.push(self.score(g, *i, score.unwrap_or_default(), recipe)?);
        }
        g.add(Choose { choice, samples, measured, at_least: recipe.at_least.max(1) }, &inputs)
    }

    /// The score of one scene.
    fn score(&self, g: &mut Graph, member: usize, score: &str, recipe: &Recipe) -> Result<NodeId> {
        let scene = &self.scenes[member];
        let program = score_program(scene, score, recipe)?;
        let mut nodes = vec![];
        for name in program.inputs() {
            let Some(role) = BandRole::from_name(name) else {
                return Err(Error::Usage(format!("a score is made of a scene's own bands, not of '{name}'")));
            };
            let sky = Some(self.masks[member]);
            let band = calibrated_band(g, scene, role, recipe.target, sky, recipe.frame.resample)?;
            nodes.push((name.clone(), values_of(g, band)?));
        }
        add_program(g, &program, Unit::One, &|n| nodes.iter().find(|(k, _)| k == n).map(|(_, node)| *node))
    }

    /// The composite's bands, in the order of `roles`, and what goes with them: spreads, the day of the look chosen.
    pub fn compose(
        &self,
        g: &mut Graph,
        roles: &[BandRole],
        recipe: &Recipe,
        needed_by: &dyn Fn(BandRole) -> String,
    ) -> Result<(Vec<PlannedLayer>, Vec<PlannedLayer>)> {
        let (mut bands, mut extras) = (vec![], vec![]);
        let choices = match &recipe.by {
            By::Band(_) => None,
            By::Look { choice, score } => Some(self.choose(g, *choice, score.as_deref(), roles, recipe)?),
        };
        for role in roles {
            let planes = self.planes(g, *role, recipe, &needed_by(*role))?;
            let unit = planes.unit;
            let node = match (&recipe.by, choices) {
                (By::Band(by), _) => self.reduced(g, *by, planes, recipe)?,
                (By::Look { .. }, choices) => {
                    let inputs: Vec<NodeId> = choices.into_iter().chain(planes.nodes).collect();
                    g.add(Chosen { samples: planes.samples, unit }, &inputs)?
                }
            };
            bands.push(self.layer(*role, role.name().into(), node, unit));
            if recipe.spread {
                let planes = self.planes(g, *role, recipe, "")?;
                let node = self.reduced(g, BandRule::Spread, planes, recipe)?;
                extras.push(self.layer(*role, format!("{role}_spread"), node, unit));
            }
        }
        if let Some(choices) = choices {
            let epoch = jiff::civil::date(1970, 1, 1);
            let day = |i: &usize| {
                let date = self.scenes[*i].date?;
                date.since(epoch).ok().map(|s| s.get_days() as f32)
            };
            let numbers = self.members.iter().map(|i| day(i).unwrap_or(f32::NAN)).collect();
            let node = g.add(OfChosen { numbers, unit: Unit::Day }, &[choices])?;
            extras.push(PlannedLayer {
                name: "look_day".into(),
                node,
                unit: Unit::Day,
                wavelength: None,
                formula: None,
            });
        }
        Ok((bands, extras))
    }
}
