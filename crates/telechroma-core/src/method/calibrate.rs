//! Calibration of one scene's band to a target, by the delivery's own coefficients.

use std::str::FromStr;
use std::sync::Arc;

use super::clear::{Sky, placed};
use super::frame::{Frame, bring};
use crate::error::{Error, Result};
use crate::graph::{Graph, NodeId};
use crate::index::Program;
use crate::op::{BySunAngle, Calibrate, Calibrator, Compute, Facet, Relight, Resample, Sample, Terrain, limit};
use crate::physics::{
    ASSUMED_DARK, Calibration, DarkMethod, LOWEST_SUN, Line, TerrainMethod, reflectance_line, surface_line,
};
use crate::run::Note;
use crate::scene::{Band, BandRole, CALIBRATED, Coefficient, Content, Relief, Scene};
use crate::tile::{Kind, PlaneSource};
use crate::units::{Degrees, Nanometres, Unit};

/// What counts become.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub enum Target {
    /// Spectral radiance, thermal bands too.
    Radiance,
    /// Top-of-atmosphere reflectance; thermal bands brightness temperature.
    #[default]
    Toa,
    /// Surface reflectance: as delivered at Level 2, else a dark-object estimate; thermal bands as [`Target::Toa`].
    Surface(DarkMethod),
}

impl Target {
    /// Its name.
    pub fn name(self) -> &'static str {
        match self {
            Target::Radiance => "radiance",
            Target::Toa => "toa",
            Target::Surface(_) => "surface",
        }
    }

    /// What it is, for people.
    pub fn text(self) -> String {
        match self {
            Target::Surface(method) => format!("surface reflectance (dark-object estimate, {})", method.name()),
            other => other.name().into(),
        }
    }

    /// True for reflectance at the surface.
    pub fn is_surface(self) -> bool {
        matches!(self, Target::Surface(_))
    }

    /// The unit a band has after it.
    pub fn unit(self, role: BandRole) -> Unit {
        match (self, role.is_thermal()) {
            (Target::Radiance, _) => Unit::Radiance,
            (Target::Toa | Target::Surface(_), true) => Unit::Kelvin,
            (Target::Toa | Target::Surface(_), false) => Unit::Reflectance,
        }
    }
}

impl FromStr for Target {
    type Err = Error;

    fn from_str(text: &str) -> Result<Target> {
        match text {
            "radiance" => Ok(Target::Radiance),
            "toa" => Ok(Target::Toa),
            "surface" => Ok(Target::Surface(DarkMethod::default())),
            _ => Err(Error::unknown("calibration target", text, ["radiance", "toa", "surface"])),
        }
    }
}

/// What is known of the light on each cell, beyond where the sun stood over the middle of a scene.
#[derive(Debug, Clone, Default)]
pub struct Light {
    /// The sun's angle at each cell is used where the delivery holds it.
    pub per_cell: bool,
    /// Slopes are corrected so, by these heights in metres.
    pub terrain: Option<(TerrainMethod, Arc<dyn PlaneSource>)>,
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

/// Adds a band to a graph, brought to the run's grid. Where `sky` hides a whole tile nothing is decoded.
///
/// # Errors
/// Where the scene lacks the band or its coefficients, or the sun was down.
pub fn calibrated_band(
    g: &mut Graph,
    scene: &Scene,
    role: BandRole,
    target: Target,
    sky: Option<Sky>,
    resample: Option<Resample>,
) -> Result<SceneBand> {
    let band = scene.band(role).ok_or_else(|| missing(scene, role, ""))?;
    let (sample, unit) = match &band.content {
        Content::Values(unit) => (Sample::Values, pass_through(scene, band, *unit, target)?),
        Content::Counts(_) => {
            let fill = match band.source.spec().kind {
                Kind::Counts { fill } => fill,
                Kind::Values | Kind::Flags { .. } => None,
            };
            (Sample::Counts(Calibrator::new(calibration(scene, band, target)?, fill)), target.unit(band.role))
        }
    };
    let off = match (&band.content, target) {
        (Content::Values(_), Target::Surface(_)) if takes_dark(scene, band) => Some(surface(scene, band, target)?),
        (Content::Values(Unit::Reflectance), Target::Radiance) => {
            band.radiance_of_one.map(|gain| Line { gain, offset: 0.0 })
        }
        _ => None,
    };
    if let Some(special) = Special::of(scene, band, target, unit)? {
        return special.band(g, scene, band, (sample, off, unit), sky, resample);
    }
    if g.fits(&*band.source) {
        let node = g.source(band.source.clone(), sky.map(|s| s.run))?;
        let node = lowered(g, node, off, unit)?;
        return Ok(SceneBand { node, sample, unit });
    }
    let node = native(g, band, &sample, sky, unit)?;
    let node = lowered(g, node, off, unit)?;
    let node = bring(g, node, resample)?;
    Ok(SceneBand { node, sample: Sample::Values, unit })
}

/// A band's reflectance above the air (or its temperature, kelvin) on the run's grid, whatever the scene's light is
/// corrected for: what masks are made of.
pub(super) fn plain_values(g: &mut Graph, scene: &Scene, role: BandRole, sky: Option<Sky>) -> Result<NodeId> {
    let plain = Scene { relief: None, ..scene.clone() };
    let band = calibrated_band(g, &plain, role, Target::Toa, sky, None)?;
    let wants = Target::Toa.unit(role);
    if band.unit != wants && !role.is_product() {
        let what = format!("band '{role}' of scene {}", scene.id);
        return Err(Error::UnitMismatch { what, found: band.unit.label().into(), wants: wants.label().into() });
    }
    values_of(g, band)
}

/// A band as values.
pub(super) fn values_of(g: &mut Graph, band: SceneBand) -> Result<NodeId> {
    match band.sample {
        Sample::Values => Ok(band.node),
        Sample::Counts(by) => g.add(Calibrate { by, unit: band.unit }, &[band.node]),
    }
}

/// A band's values on its own grid.
fn native(g: &mut Graph, band: &Band, sample: &Sample, sky: Option<Sky>, unit: Unit) -> Result<NodeId> {
    let gate = sky.map(|s| s.native).filter(|s| *g.node(*s).spec().grid == *band.source.spec().grid);
    let node = g.native(band.source.clone(), gate)?;
    match sample {
        Sample::Counts(by) => g.add(Calibrate { by: by.again(), unit }, &[node]),
        Sample::Values => Ok(node),
    }
}

/// Values by a line.
fn lowered(g: &mut Graph, node: NodeId, line: Option<Line>, unit: Unit) -> Result<NodeId> {
    match line {
        None => Ok(node),
        Some(Line { gain, offset }) => g.add(Compute { program: Program::line("toa", gain, offset), unit }, &[node]),
    }
}

/// What a band needs cell by cell, beyond a line: the sun's angle there, the light on slopes.
struct Special<'a> {
    /// The sun's zenith angle, and the line that follows the division by its cosine.
    zenith: Option<(&'a Arc<dyn PlaneSource>, Option<Line>)>,
    relief: Option<(&'a Relief, f64)>,
}

impl Special<'_> {
    fn of<'a>(scene: &'a Scene, band: &Band, target: Target, unit: Unit) -> Result<Option<Special<'a>>> {
        if unit != Unit::Reflectance || target == Target::Radiance || !reflects(band) {
            return Ok(None);
        }
        let zenith = match (&scene.sun_zenith, &band.content) {
            (Some(angles), Content::Counts(_)) => {
                let line = target.is_surface().then(|| surface(scene, band, target)).transpose()?;
                Some((angles, line))
            }
            _ => None,
        };
        let relief = match &scene.relief {
            None => None,
            Some(r) if r.method == TerrainMethod::Cosine => Some((r, 0.0)),
            Some(r) => {
                let found = r.constants.iter().find(|c| c.0 == band.role).map(|c| c.1);
                let lacks =
                    || Error::Usage(format!("scene {}: '{}' was not looked at for slopes", scene.id, band.role));
                Some((r, found.ok_or_else(lacks)?))
            }
        };
        Ok((zenith.is_some() || relief.is_some()).then_some(Special { zenith, relief }))
    }

    fn band(
        &self,
        g: &mut Graph,
        scene: &Scene,
        band: &Band,
        (sample, off, unit): (Sample, Option<Line>, Unit),
        sky: Option<Sky>,
        resample: Option<Resample>,
    ) -> Result<SceneBand> {
        let sample = match (self.zenith, &sample) {
            (Some(_), Sample::Counts(by)) => {
                Sample::Counts(Calibrator::new(Calibration::Line(undivided(scene, band)?), by.fill()))
            }
            _ => sample,
        };
        let node = match (g.fits(&*band.source), &sample) {
            (true, Sample::Counts(by)) => {
                let node = g.source(band.source.clone(), sky.map(|s| s.run))?;
                g.add(Calibrate { by: by.again(), unit }, &[node])?
            }
            (true, Sample::Values) => g.source(band.source.clone(), sky.map(|s| s.run))?,
            (false, _) => {
                let node = native(g, band, &sample, sky, unit)?;
                bring(g, node, resample)?
            }
        };
        let mut node = lowered(g, node, off, unit)?;
        if let Some((angles, line)) = self.zenith {
            let angle = placed(g, angles)?;
            let angle = bring(g, angle, None)?;
            node = g.add(BySunAngle, &[node, angle])?;
            node = lowered(g, node, line, unit)?;
        }
        if let Some((relief, c)) = self.relief {
            let light = light_on_slopes(g, scene, &relief.elevation)?;
            let sun = scene.sunlight("slopes cannot be corrected")?;
            node = g.add(Relight { elevation: sun.elevation.0, c }, &[node, light])?;
        }
        Ok(SceneBand { node, sample: Sample::Values, unit })
    }
}

/// The cosine of the sun's angle on the slopes of the run's grid.
pub(super) fn light_on_slopes(g: &mut Graph, scene: &Scene, elevation: &Arc<dyn PlaneSource>) -> Result<NodeId> {
    let sun = scene.sunlight("slopes cannot be corrected")?;
    let facet = Facet::Light { elevation: sun.elevation.0, azimuth: sun.azimuth.0 + g.grid().true_north()? };
    facet_of(g, elevation, facet)
}

/// A facet of heights on the run's grid.
pub(super) fn facet_of(g: &mut Graph, elevation: &Arc<dyn PlaneSource>, facet: Facet) -> Result<NodeId> {
    let grid = g.grid().clone();
    let metres = grid.crs.and_then(|c| c.metres()).filter(|_| grid.is_metric());
    let metres = metres.ok_or_else(|| Error::Usage("slopes are computed on a grid in metres: name one".into()))?;
    let (w, h) = grid.transform.cell();
    let heights = placed(g, elevation)?;
    let heights = bring(g, heights, None)?;
    g.add(Terrain { facet, cell_m: (w * metres, h * metres) }, &[heights])
}

/// Counts to reflectance that is not yet divided by the sun's height.
fn undivided(scene: &Scene, band: &Band) -> Result<Line> {
    match &band.content {
        Content::Counts(c) => c.reflectance.clone().map_err(|key| Error::MissingCalibration {
            scene: scene.id.clone(),
            role: band.role.name().into(),
            target: "toa".into(),
            key,
        }),
        Content::Values(_) => Err(Error::Usage(format!("band '{}' of scene {} holds no counts", band.role, scene.id))),
    }
}

/// True for a band of the sun's light at the ground.
pub(super) fn reflects(band: &Band) -> bool {
    !band.role.is_thermal() && !band.role.is_product() && !matches!(band.role.name(), "cirrus" | "pan")
}

/// True for a band that a dark object is taken off: never a second time, never from what is surface reflectance already.
pub(crate) fn takes_dark(scene: &Scene, band: &Band) -> bool {
    let above_air = match band.content {
        Content::Counts(_) => true,
        Content::Values(unit) => {
            unit == Unit::Reflectance && (scene.level.starts_with("L1") || scene.level == CALIBRATED)
        }
    };
    reflects(band) && above_air
}

/// Reflectance above the air to reflectance at the surface.
fn surface(scene: &Scene, band: &Band, target: Target) -> Result<Line> {
    let Target::Surface(method) = target else { unreachable!("asked only for surface reflectance") };
    let lacks = |key: &str| Error::MissingCalibration {
        scene: scene.id.clone(),
        role: band.role.name().into(),
        target: target.name().into(),
        key: key.into(),
    };
    let dark = scene.dark.iter().find(|d| d.role == band.role).ok_or_else(|| lacks("dark object"))?;
    let sun = scene.sun.map(|s| s.elevation);
    if method == DarkMethod::Cost {
        let elevation = sun.ok_or_else(|| lacks("sun elevation"))?;
        if elevation.0 < LOWEST_SUN.0 {
            return Err(Error::Usage(format!(
                "scene {}: the sun stood {:.1}° high; cost over-corrects below {}°, use dos1",
                scene.id, elevation.0, LOWEST_SUN.0
            )));
        }
    }
    let centre = band.edges.map(|(a, b)| Nanometres((a.0 + b.0) / 2.0)).or(band.wavelength);
    // a dark object below the assumed reflectance takes nothing off: it is no haze
    Ok(surface_line(method, dark.reflectance.max(ASSUMED_DARK), centre, sun.unwrap_or(Degrees(90.0))))
}

/// Values that are calibrated already pass through; they are turned back into radiance only where the metadata tell how.
fn pass_through(scene: &Scene, band: &Band, unit: Unit, target: Target) -> Result<Unit> {
    match (target, unit) {
        (Target::Radiance, Unit::Reflectance) if band.radiance_of_one.is_some() => Ok(Unit::Radiance),
        (Target::Radiance, Unit::Reflectance | Unit::Kelvin) => Err(Error::UnitMismatch {
            what: format!("band '{}' of {}", band.role, scene.id),
            found: unit.label().into(),
            wants: "raw counts (for radiance)".into(),
        }),
        _ => Ok(unit),
    }
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
        (Target::Surface(_), false) if takes_dark(scene, band) => {
            let Calibration::Line(toa) = calibration(scene, band, Target::Toa)? else {
                unreachable!("bands of reflected light are calibrated by a line")
            };
            let to_surface = surface(scene, band, target)?;
            Ok(Calibration::Line(Line {
                gain: toa.gain * to_surface.gain,
                offset: toa.offset * to_surface.gain + to_surface.offset,
            }))
        }
        (Target::Toa | Target::Surface(_), true) => {
            let (k1, k2) = known(&c.thermal, lacks)?;
            Ok(Calibration::Brightness { radiance: known(&c.radiance, lacks)?, k1, k2 })
        }
        (Target::Toa | Target::Surface(_), false) => {
            let Line { gain, offset } = known(&c.reflectance, lacks)?;
            let elevation = scene.sun.ok_or_else(|| lacks("SUN_ELEVATION"))?.elevation;
            let night = || Error::NightScene { scene: scene.id.clone(), elevation: elevation.0 };
            reflectance_line(gain, offset, elevation).map(Calibration::Line).ok_or_else(night)
        }
    }
}

/// A band's role, its calibrated plane, and the plane's unit.
pub type CalibratedPlane = (BandRole, NodeId, Unit);

/// A graph of one scene's bands, calibrated, on the frame's grid.
///
/// # Errors
/// As [`calibrated_band`].
pub fn plan_calibrated(
    scene: &Scene,
    roles: &[BandRole],
    target: Target,
    frame: &Frame,
) -> Result<(Graph, Vec<CalibratedPlane>, Vec<Note>)> {
    let framed = frame.over(&[(format!("scene {}", scene.id), scene.grid.clone())])?;
    let mut g = Graph::new(framed.grid);
    let mut planes = vec![];
    for role in roles {
        let band = calibrated_band(&mut g, scene, *role, target, None, frame.resample)?;
        let unit = band.unit;
        let node = values_of(&mut g, band)?;
        planes.push((*role, limit(&mut g, node, framed.area.as_ref())?, unit));
    }
    Ok((g, planes, framed.notes))
}
