//! Calibration of one scene's band to a target, by the delivery's own coefficients.

use std::str::FromStr;

use crate::error::{Error, Result};
use crate::graph::{Graph, NodeId};
use crate::op::{Calibrate, Calibrator, Sample};
use crate::physics::{Calibration, Line, reflectance_line};
use crate::scene::{Band, BandRole, Coefficient, Content, Scene};
use crate::tile::Kind;
use crate::units::Unit;

/// What counts become.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub enum Target {
    /// Spectral radiance, thermal bands too.
    Radiance,
    /// Top-of-atmosphere reflectance; thermal bands brightness temperature.
    #[default]
    Toa,
}

impl Target {
    /// Its name.
    pub fn name(self) -> &'static str {
        match self {
            Target::Radiance => "radiance",
            Target::Toa => "toa",
        }
    }

    /// The unit a band has after it.
    pub fn unit(self, role: BandRole) -> Unit {
        match (self, role.is_thermal()) {
            (Target::Radiance, _) => Unit::Radiance,
            (Target::Toa, true) => Unit::Kelvin,
            (Target::Toa, false) => Unit::Reflectance,
        }
    }
}

impl FromStr for Target {
    type Err = Error;

    fn from_str(text: &str) -> Result<Target> {
        match text {
            "radiance" => Ok(Target::Radiance),
            "toa" => Ok(Target::Toa),
            _ => Err(Error::unknown("calibration target", text, ["radiance", "toa"])),
        }
    }
}

/// A scene's band in a graph: the plane, and how it is read.
pub struct SceneBand {
    /// The plane: raw counts, or values.
    pub node: NodeId,
    /// How a composite reads it.
    pub sample: Sample,
    /// The unit after calibration.
    pub unit: Unit,
}

/// Error for a band that is not there.
pub(crate) fn missing(scene: &Scene, role: BandRole, for_what: &str) -> Error {
    let for_what = if for_what.is_empty() { String::new() } else { format!(" (needed by {for_what})") };
    Error::MissingBand { scene: format!("scene {}", scene.id), role: role.name().into(), for_what, have: scene.roles() }
}

/// Adds a band to a graph. Where `unless` hides a whole tile nothing is decoded.
///
/// # Errors
/// Where the scene lacks the band or its coefficients, or the sun was down.
pub fn calibrated_band(
    g: &mut Graph,
    scene: &Scene,
    role: BandRole,
    target: Target,
    unless: Option<NodeId>,
) -> Result<SceneBand> {
    let band = scene.band(role).ok_or_else(|| missing(scene, role, ""))?;
    let (sample, unit) = match &band.content {
        Content::Values(unit) => (Sample::Values, *unit),
        Content::Counts(_) => {
            let fill = match band.source.spec().kind {
                Kind::Counts { fill } => fill,
                Kind::Values | Kind::Flags { .. } => None,
            };
            (Sample::Counts(Calibrator::new(calibration(scene, band, target)?, fill)), target.unit(band.role))
        }
    };
    let node = g.source(band.source.clone(), unless)?;
    Ok(SceneBand { node, sample, unit })
}

/// How a band's counts become the target.
///
/// # Errors
/// Where the band holds no counts or lacks coefficients, or the sun was down.
pub fn calibration(scene: &Scene, band: &Band, target: Target) -> Result<Calibration> {
    let Content::Counts(c) = &band.content else {
        return Err(Error::Usage(format!("band '{}' of scene {} holds no counts to calibrate", band.role, scene.id)));
    };
    let lacks = |key: &str| Error::MissingCalibration {
        scene: scene.id.clone(),
        role: band.role.name().into(),
        target: target.name().into(),
        key: key.into(),
    };
    fn known<T: Clone>(c: &Coefficient<T>, lacks: impl Fn(&str) -> Error) -> Result<T> {
        c.clone().map_err(|key| lacks(&key))
    }
    match (target, band.role.is_thermal()) {
        (Target::Radiance, _) => Ok(Calibration::Line(known(&c.radiance, lacks)?)),
        (Target::Toa, true) => {
            let (k1, k2) = known(&c.thermal, lacks)?;
            Ok(Calibration::Brightness { radiance: known(&c.radiance, lacks)?, k1, k2 })
        }
        (Target::Toa, false) => {
            let Line { gain, offset } = known(&c.reflectance, lacks)?;
            let elevation = scene.sun.ok_or_else(|| lacks("SUN_ELEVATION"))?.elevation;
            let night = || Error::NightScene { scene: scene.id.clone(), elevation: elevation.0 };
            reflectance_line(gain, offset, elevation).map(Calibration::Line).ok_or_else(night)
        }
    }
}

/// A band's role, its calibrated plane, and the plane's unit.
pub type CalibratedPlane = (BandRole, NodeId, Unit);

/// A graph of one scene's bands, calibrated.
///
/// # Errors
/// As [`calibrated_band`].
pub fn plan_calibrated(scene: &Scene, roles: &[BandRole], target: Target) -> Result<(Graph, Vec<CalibratedPlane>)> {
    let mut g = Graph::new((*scene.grid).clone());
    let mut planes = vec![];
    for role in roles {
        let band = calibrated_band(&mut g, scene, *role, target, None)?;
        let node = match band.sample {
            Sample::Values => band.node,
            Sample::Counts(by) => g.add(Calibrate { by, unit: band.unit }, &[band.node])?,
        };
        planes.push((*role, node, band.unit));
    }
    Ok((g, planes))
}
