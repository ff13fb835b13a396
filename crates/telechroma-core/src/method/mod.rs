//! Methods: from scenes to graphs. The only code that knows the order of steps.

mod assemble;
mod breaks;
mod calibrate;
mod clear;
mod dark;
mod frame;
mod layers;
mod levels;
mod measure;
mod names;
mod outliers;
mod period;
mod season;
mod shadow;
mod sky;
mod stack;
mod suspect;
mod terrain;

pub use assemble::{Assembled, Piece, plan_assembled};
pub use breaks::{Breaks, Planned, find_breaks};
pub use calibrate::{CalibratedPlane, Light, Target, calibrated_band, calibration, plan_calibrated};
pub use clear::{Confidence, Find, MaskOptions, Sky, clear_sky, plan_mask, plan_masked};
pub use dark::{dark_objects, dark_troubles};
pub use frame::{Frame, Framed, GridRequest, bring};
pub use layers::plan_layers;
pub use measure::{MEASURES, MeasureDef, find_measure};
pub use outliers::find_outliers;
pub use period::{Every, days_of, window};
pub use season::{
    Aliased, BandChoice, LayerRequest, PlannedLayer, PlannedPeriod, PlannedSeason, Recipe, needed_roles, plan_season,
};
pub use sky::{FoundSky, find_sky};
pub use stack::By;
pub use suspect::{Suspects, suspicious};
pub use terrain::{Constants, Facets, plan_slopes, terrain_constants};
