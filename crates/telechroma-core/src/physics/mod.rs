//! Scalar formulas with their sources: sun, radiometry, temperature.

mod dark;
mod radiometry;
mod temperature;
mod terrain;

pub use dark::{ASSUMED_DARK, DarkMethod, LOWEST_SUN, surface_line, wanted_cells};
pub use radiometry::{
    Calibration, Line, earth_sun_distance, radiance_of_one, reflectance_line, reflectance_of_radiance,
};
pub use temperature::{LST_C2, brightness_temperature, planck};
pub use terrain::{TerrainMethod, gradient, illumination, slope_aspect, terrain_factor};
