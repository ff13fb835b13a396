//! What the light on slopes does to each band of a scene, and rasters of slopes.

use std::sync::Arc;

use super::calibrate::{Target, calibrated_band, facet_of, light_on_slopes, reflects, values_of};
use super::clear::{MaskOptions, clear_sky};
use super::frame::Frame;
use crate::error::{Error, Result};
use crate::graph::{Graph, Inputs, NodeId, bits_row, values_row};
use crate::grid::Window;
use crate::op::{Facet, limit};
use crate::run::{Absorb, Budget, Note, Observer, Part, Plan, Prepare, Sink, run};
use crate::scene::{BandRole, Scene};
use crate::tile::PlaneSource;
use crate::units::Unit;

/// So large a constant leaves a band as it is.
const AS_IT_IS: f64 = 1e12;
/// Light and reflectance are summed in whole steps, so that sums do not depend on how a scene was cut into tiles.
const STEPS: f64 = 100_000.0;

/// Sums of light x and reflectance y over cells.
#[derive(Debug, Clone, Copy, Default)]
struct Sums {
    n: i128,
    x: i128,
    y: i128,
    xx: i128,
    xy: i128,
}

impl Sums {
    fn add(&mut self, light: f32, value: f32) {
        let (x, y) = ((f64::from(light) * STEPS).round() as i128, (f64::from(value) * STEPS).round() as i128);
        (self.n, self.x, self.y) = (self.n + 1, self.x + x, self.y + y);
        (self.xx, self.xy) = (self.xx + x * x, self.xy + x * y);
    }

    /// The constant c of the line `y = m·x + b` that fits best: `b / m`; none where values do not rise with the light.
    fn constant(&self) -> Option<f64> {
        let m = (self.n * self.xy - self.x * self.y) as f64 / (self.n * self.xx - self.x * self.x) as f64;
        let b = (self.y as f64 - m * self.x as f64) / self.n as f64 / STEPS;
        (m > 0.0 && m.is_finite()).then(|| (b / m).max(0.0))
    }
}

struct Fitter;

struct Fits(Vec<Sums>);

impl Prepare for Fitter {
    fn prepare(&self, _: usize, window: Window, planes: &Inputs) -> Result<Part> {
        let mut sums = vec![Sums::default(); planes.len() - 2];
        let (Some(light), Some(sky)) = (planes.get(0), planes.get(1)) else { return Ok(Box::new(Fits(sums))) };
        for row in window.row..window.end_row() {
            let (light, sky) = (values_row(light, &window, row), bits_row(sky, &window, row));
            for (sums, band) in sums.iter_mut().zip(2..) {
                let Some(band) = planes.get(band) else { continue };
                let cells = values_row(band, &window, row).iter().zip(light).zip(sky);
                let lit = |((v, l), s): &((&f32, &f32), &u16)| **s == 0 && v.is_finite() && **l > 0.0;
                cells.filter(lit).for_each(|((v, l), _)| sums.add(*l, *v));
            }
        }
        Ok(Box::new(Fits(sums)))
    }

    fn holds(&self, _: Window, _: usize) -> u64 {
        0
    }
}

impl Absorb for Fits {
    fn absorb(&mut self, _: usize, part: Part) -> Result<()> {
        let Ok(part) = part.downcast::<Fits>() else { unreachable!("parts come back to the sink that made them") };
        for (a, b) in self.0.iter_mut().zip(&part.0) {
            *a = Sums { n: a.n + b.n, x: a.x + b.x, y: a.y + b.y, xx: a.xx + b.xx, xy: a.xy + b.xy };
        }
        Ok(())
    }
}

/// Bands with their constant c.
pub type Constants = Vec<(BandRole, f64)>;

/// A facet's name, plane and unit.
pub type Facets = (&'static str, NodeId, Unit);

/// The constant c of each of a scene's bands of reflected light, over its clear cells, and what is odd.
///
/// # Errors
/// Where the sun's place is not known, the grid is not in metres, or no cell of the scene has a height.
pub fn terrain_constants(
    scene: &Scene,
    elevation: &Arc<dyn PlaneSource>,
    roles: &[BandRole],
    target: Target,
    budget: Budget,
    observer: &dyn Observer,
) -> Result<(Constants, Vec<Note>)> {
    let level = Scene { relief: None, ..scene.clone() };
    let mut g = Graph::new((*scene.grid).clone());
    let options = MaskOptions { unmasked: true, ..MaskOptions::default() };
    let mut planes = vec![light_on_slopes(&mut g, scene, elevation)?, clear_sky(&mut g, scene, &options)?.run];
    let mut bands: Vec<BandRole> =
        roles.iter().filter_map(|r| scene.band(*r)).filter(|b| reflects(b)).map(|b| b.role).collect();
    bands.sort();
    bands.dedup();
    for role in &bands {
        let band = calibrated_band(&mut g, &level, *role, target, None, None)?;
        planes.push(values_of(&mut g, band)?);
    }
    let mut fits = Fits(vec![Sums::default(); bands.len()]);
    let sinks = vec![Sink { groups: vec![planes], prepare: &Fitter, absorb: &mut fits }];
    let plan = Plan::new(g, &sinks, budget)?;
    run(&plan, sinks, observer)?;
    if fits.0.iter().all(|s| s.n == 0) && !bands.is_empty() {
        return Err(Error::Usage(format!(
            "{} tells the height of no clear cell of scene {}",
            elevation.name(),
            scene.id
        )));
    }
    let (mut found, mut notes) = (vec![], vec![]);
    for (role, sums) in bands.into_iter().zip(fits.0) {
        // a band that does not follow the light is left nearly as it is
        found.push((role, sums.constant().unwrap_or(AS_IT_IS)));
        if sums.constant().is_none() {
            let text = format!("scene {}: '{role}' does not rise with the light on slopes: left as it is", scene.id);
            notes.push(Note::Layer(text));
        }
    }
    Ok((found, notes))
}

/// A graph of slope and aspect of heights, on the frame's grid.
///
/// # Errors
/// Where the grid is not in metres.
pub fn plan_slopes(
    name: &str,
    elevation: &Arc<dyn PlaneSource>,
    frame: &Frame,
) -> Result<(Graph, Vec<Facets>, Vec<Note>)> {
    let framed = frame.over(&[(name.to_string(), elevation.spec().grid.clone())])?;
    let mut g = Graph::new(framed.grid);
    let mut planes = vec![];
    for (name, facet) in [("slope", Facet::Slope), ("aspect", Facet::Aspect)] {
        let node = facet_of(&mut g, elevation, facet)?;
        planes.push((name, limit(&mut g, node, framed.area.as_ref())?, Unit::Degree));
    }
    Ok((g, planes, framed.notes))
}
