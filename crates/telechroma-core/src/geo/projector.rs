//! Coordinates of one system to those of another; the projection maths are proj4rs's.

use proj4rs::Proj;
use proj4rs::transform::transform;

use super::crs::Crs;
use crate::error::{Error, Result};

/// Turns coordinates of one system into those of another.
pub struct Projector {
    pair: Option<(Proj, Proj)>,
    names: (Crs, Crs),
}

/// A place that comes back farther off than this, in degrees or metres, lies outside what the projection can show.
const COMES_BACK: (f64, f64) = (1e-6, 0.1);

impl Projector {
    /// From one system to another; the same system passes coordinates through untouched.
    ///
    /// # Errors
    /// [`Error::Coordinates`] where a system cannot be computed with.
    pub fn new(from: Crs, to: Crs) -> Result<Projector> {
        let pair = if from == to { None } else { Some((from.projection()?, to.projection()?)) };
        Ok(Projector { pair, names: (from, to) })
    }

    /// One place; degrees where a system is geographic.
    ///
    /// # Errors
    /// [`Error::Coordinates`] where the place has no coordinates there.
    pub fn project(&self, x: f64, y: f64) -> Result<(f64, f64)> {
        let Some((from, _)) = &self.pair else { return Ok((x, y)) };
        if from.is_latlong() && (x.abs() > 360.0 || y.abs() > 90.0) {
            return Err(Error::Coordinates(format!(
                "({x}, {y}) is no longitude and latitude in degrees (the coordinates may be in another system, or swapped)"
            )));
        }
        self.place(x, y).ok_or_else(|| {
            Error::Coordinates(format!("({x}, {y}) in {} has no place in {}", self.names.0, self.names.1))
        })
    }

    /// One place, or none where it has no coordinates there. Projections answer for places far outside their use too:
    /// an answer that does not lead back is none.
    pub fn place(&self, x: f64, y: f64) -> Option<(f64, f64)> {
        let Some((from, to)) = &self.pair else { return Some((x, y)) };
        let there = step(from, to, x, y)?;
        if !is_usual(to, there) || !is_usual(from, (x, y)) {
            return None;
        }
        let (bx, by) = step(to, from, there.0, there.1)?;
        let (dx, dy, most) = match from.is_latlong() {
            true => ((bx - x + 540.0).rem_euclid(360.0) - 180.0, by - y, COMES_BACK.0),
            false => (bx - x, by - y, COMES_BACK.1 / from.to_meter()),
        };
        (dx.abs() < most && dy.abs() < most).then_some(there)
    }

    /// True where nothing is changed.
    pub fn is_identity(&self) -> bool {
        self.pair.is_none()
    }
}

/// A transverse Mercator shows the half of the globe round its meridian, not the other half beyond the poles.
fn is_usual(p: &Proj, (x, y): (f64, f64)) -> bool {
    if !matches!(p.projname(), "tmerc" | "utm" | "etmerc") {
        return true;
    }
    let (a, _) = p.ellipse_parameters();
    let reach = |v: f64, origin: f64, most: f64| (v * p.to_meter() - origin).abs() <= most * a;
    reach(x, p.false_easting(), TMERC_REACH.0) && reach(y, p.false_northing(), TMERC_REACH.1)
}

/// Greatest easting (sixty degrees off the meridian on the equator) and northing (the pole, from an origin in the other
/// hemisphere's middle) of a transverse Mercator, in radii of the Earth.
const TMERC_REACH: (f64, f64) = (1.32, 2.4);

fn step(from: &Proj, to: &Proj, x: f64, y: f64) -> Option<(f64, f64)> {
    let mut p = if from.is_latlong() { (x.to_radians(), y.to_radians(), 0.0) } else { (x, y, 0.0) };
    transform(from, to, &mut p).ok()?;
    let (x, y) = if to.is_latlong() { (p.0.to_degrees(), p.1.to_degrees()) } else { (p.0, p.1) };
    (x.is_finite() && y.is_finite()).then_some((x, y))
}
