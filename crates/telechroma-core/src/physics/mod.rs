//! Scalar formulas with their sources: sun, radiometry, temperature.

mod radiometry;
mod temperature;

pub use radiometry::{Calibration, Line, reflectance_line};
pub use temperature::{LST_C2, brightness_temperature};
