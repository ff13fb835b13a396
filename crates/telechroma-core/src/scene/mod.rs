//! Scenes: one acquisition as the core sees it, wherever its bytes lie.

mod role;

use std::sync::Arc;

use jiff::Timestamp;
use jiff::civil::Date;

pub use role::BandRole;

use crate::error::Error;
use crate::grid::Grid;
use crate::mask::Reasons;
use crate::physics::{Line, TerrainMethod};
use crate::tile::PlaneSource;
use crate::units::{Degrees, Nanometres, Unit};

/// A coefficient of the metadata, or the name of the key that is missing there.
pub type Coefficient<T> = Result<T, String>;

/// How a band's counts may be calibrated, from the delivery's own metadata.
#[derive(Debug, Clone, PartialEq)]
pub struct Coefficients {
    /// Counts to radiance, W m⁻² sr⁻¹ µm⁻¹.
    pub radiance: Coefficient<Line>,
    /// Counts to reflectance, before the division by the sine of the sun's elevation.
    pub reflectance: Coefficient<Line>,
    /// Thermal constants K1 and K2.
    pub thermal: Coefficient<(f64, f64)>,
    /// The count from which on the detector was saturated.
    pub saturated: Option<u16>,
}

/// What a band's plane holds.
#[derive(Debug, Clone, PartialEq)]
pub enum Content {
    /// Raw counts.
    Counts(Coefficients),
    /// Values, already in this unit.
    Values(Unit),
}

/// One band of a scene.
#[derive(Debug, Clone)]
pub struct Band {
    /// What it sees.
    pub role: BandRole,
    /// Its name in the delivery, such as B4.
    pub name: String,
    /// Shortest and longest wavelength.
    pub edges: Option<(Nanometres, Nanometres)>,
    /// Effective wavelength, for temperatures.
    pub wavelength: Option<Nanometres>,
    /// What its numbers are.
    pub content: Content,
    /// Radiance of a reflectance of one under the scene's sun, W m⁻² sr⁻¹ µm⁻¹, where a band comes as reflectance and the
    /// metadata tell.
    pub radiance_of_one: Option<f64>,
    /// The plane.
    pub source: Arc<dyn PlaneSource>,
}

/// A plane of flags with what its bits mean.
#[derive(Debug, Clone)]
pub struct FlagPlane {
    /// Its name in the delivery.
    pub name: String,
    /// Bits and the reason each stands for.
    pub legend: Vec<(u16, Reasons)>,
    /// Pairs of bits that hold a confidence, 0 (none) to 3 (high): number of the lower bit, and what it is about.
    pub confidence: Vec<(u8, Reasons)>,
    /// The plane.
    pub source: Arc<dyn PlaneSource>,
    /// Its numbers as delivered, for conditions on them; none for what was found here.
    pub raw: Option<Arc<dyn PlaneSource>>,
}

/// The darkest object of a band, over the whole scene.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct DarkObject {
    /// The band.
    pub role: BandRole,
    /// Its count, where the band holds counts.
    pub count: Option<u16>,
    /// Its top-of-atmosphere reflectance.
    pub reflectance: f64,
    /// Cells as dark as it or darker.
    pub cells: u64,
}

/// The relief of the ground.
#[derive(Debug, Clone)]
pub struct Relief {
    /// How light on slopes is made that on level ground.
    pub method: TerrainMethod,
    /// Heights, metres.
    pub elevation: Arc<dyn PlaneSource>,
    /// The constant c of each band, once it was looked for.
    pub constants: Vec<(BandRole, f64)>,
}

/// Where the sun stood.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Sun {
    /// Above the horizon.
    pub elevation: Degrees,
    /// Clockwise from north, towards the sun.
    pub azimuth: Degrees,
}

/// One acquisition.
#[derive(Debug, Clone)]
pub struct Scene {
    /// The delivery's id, unique.
    pub id: String,
    /// Id of the sensor's data file; empty for plain rasters.
    pub sensor: String,
    /// Platform, for people.
    pub platform: String,
    /// Processing level.
    pub level: String,
    /// When it was acquired (UTC), to the second where known.
    pub acquired: Option<Timestamp>,
    /// The day it was acquired (UTC).
    pub date: Option<Date>,
    /// Path and row, or tile.
    pub place: Option<String>,
    /// Where the sun stood.
    pub sun: Option<Sun>,
    /// Share of cloud by the metadata, %.
    pub cloud_cover: Option<f64>,
    /// The grid of its bands.
    pub grid: Arc<Grid>,
    /// Its bands.
    pub bands: Vec<Band>,
    /// Its flags; empty where it has none.
    pub flags: Vec<FlagPlane>,
    /// The dark objects of its bands, once they were looked for.
    pub dark: Vec<DarkObject>,
    /// The sun's zenith angle at each cell, degrees, to be used instead of the one at the scene's middle.
    pub sun_zenith: Option<Arc<dyn PlaneSource>>,
    /// The ground's relief, where reflectance is to be made that of level ground.
    pub relief: Option<Relief>,
    /// A mask made earlier, in our own reasons.
    pub mask: Option<Arc<dyn PlaneSource>>,
    /// Fingerprint of the delivery.
    pub digest: String,
}

/// The level of a raster of bands that were calibrated earlier, above the air.
pub const CALIBRATED: &str = "calibrated";
/// The same at the surface.
pub const AT_SURFACE: &str = "calibrated to surface";

impl Scene {
    /// True where its reflectance is that of the ground: no light of the air is left in it.
    pub fn is_at_surface(&self) -> bool {
        self.level.starts_with("L2") || self.level == AT_SURFACE
    }

    /// Where the sun stood, for what needs its height and its direction.
    ///
    /// # Errors
    /// Where one of them is not known, or the sun was down; `so` says what cannot be done.
    pub fn sunlight(&self, so: &str) -> Result<Sun, Error> {
        let lacks = |what: &str| Error::Usage(format!("scene {}: {what}, so {so}", self.id));
        let sun = self.sun.ok_or_else(|| lacks("its metadata do not say where the sun stood"))?;
        match (sun.azimuth.0.is_finite(), sun.elevation.0 > 0.0) {
            (false, _) => Err(lacks("its metadata do not say from which direction the sun shone")),
            (true, false) => Err(lacks("the sun was down")),
            (true, true) => Ok(sun),
        }
    }

    /// The band that meets a role: itself, or what may stand in for it.
    pub fn band(&self, role: BandRole) -> Option<&Band> {
        role.met_by().find_map(|r| self.bands.iter().find(|b| b.role == r))
    }

    /// Names of all roles it has.
    pub fn roles(&self) -> Vec<String> {
        self.bands.iter().map(|b| b.role.name().to_string()).collect()
    }
}

/// A raster of named layers made earlier: a composite, indices.
#[derive(Debug, Clone)]
pub struct LayerSet {
    /// Name for people: the file's.
    pub name: String,
    /// The period it stands for.
    pub period: String,
    /// Its grid.
    pub grid: Arc<Grid>,
    /// Its layers.
    pub layers: Vec<Layer>,
    /// Names of the classes that its numbers stand for.
    pub classes: Vec<(u16, String)>,
    /// Fingerprint of the file.
    pub digest: String,
}

/// One named layer.
#[derive(Debug, Clone)]
pub struct Layer {
    /// A band role's name, an index, or whatever the file says.
    pub name: String,
    /// Its unit.
    pub unit: Unit,
    /// Effective wavelength where it is a band.
    pub wavelength: Option<Nanometres>,
    /// The plane.
    pub source: Arc<dyn PlaneSource>,
}
