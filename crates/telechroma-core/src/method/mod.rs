//! Methods: from scenes to graphs. The only code that knows the order of steps.

mod calibrate;
mod clear;
mod period;
mod season;

pub use calibrate::{CalibratedPlane, Target, calibrated_band, calibration, plan_calibrated};
pub use clear::{MaskOptions, clear_sky, plan_mask};
pub use period::Every;
pub use season::{
    BandChoice, LayerRequest, PlannedLayer, PlannedPeriod, PlannedSeason, Recipe, plan_layers, plan_season,
};
