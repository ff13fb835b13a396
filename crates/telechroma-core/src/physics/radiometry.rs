//! From counts to radiance, reflectance and brightness temperature.
//!
//! Source: Landsat 8-9 Collection 2 Level 1 Data Format Control Book (USGS LSDS-1822), sections on conversion to
//! radiance, top-of-atmosphere reflectance and brightness temperature; the coefficients are the metadata's own.

use super::temperature::brightness_temperature;
use crate::units::Degrees;

/// A straight line from counts to a quantity: `gain · count + offset`.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Line {
    /// Multiplier per count.
    pub gain: f64,
    /// The quantity at count zero.
    pub offset: f64,
}

impl Line {
    /// The quantity of a count, in double precision.
    pub fn at(self, count: f64) -> f64 {
        self.gain * count + self.offset
    }
}

/// Top-of-atmosphere reflectance corrected for the sun's height: `ρ = (M·DN + A) / sin(elevation)`.
///
/// None where the sun is not above the horizon. The Earth–Sun distance is already inside the metadata's M and A.
pub fn reflectance_line(mult: f64, add: f64, sun_elevation: Degrees) -> Option<Line> {
    let sine = sun_elevation.radians().sin();
    (sun_elevation.0 > 0.0 && sine > 0.0).then(|| Line { gain: mult / sine, offset: add / sine })
}

/// How a band's counts become a quantity.
#[derive(Debug, Clone, Copy, PartialEq)]
pub enum Calibration {
    /// A straight line: radiance or reflectance.
    Line(Line),
    /// A line to radiance, then the temperature of a black body of that radiance, kelvin.
    Brightness {
        /// Counts to radiance, W m⁻² sr⁻¹ µm⁻¹.
        radiance: Line,
        /// First thermal constant, same unit as radiance.
        k1: f64,
        /// Second thermal constant, kelvin.
        k2: f64,
    },
}

impl Calibration {
    /// The quantity of a count; NaN where there is none (radiance at or below zero for a temperature).
    pub fn at(&self, count: f64) -> f64 {
        match self {
            Calibration::Line(line) => line.at(count),
            Calibration::Brightness { radiance, k1, k2 } => brightness_temperature(radiance.at(count), *k1, *k2),
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::worked;

    #[test]
    fn worked_radiance_and_reflectance() {
        let e = worked::example("oli_red_radiance");
        let line = Line { gain: e.number("mult"), offset: e.number("add") };
        e.check(line.at(e.number("dn")));
        let e = worked::example("oli_toa_reflectance");
        let line = reflectance_line(e.number("mult"), e.number("add"), Degrees(e.number("sun_elevation_deg"))).unwrap();
        e.check(line.at(e.number("dn")));
    }

    #[test]
    fn worked_brightness_temperatures() {
        for name in [
            "tm5_b6_brightness_temperature",
            "etm_b6_low_gain_bt",
            "etm_b6_high_gain_bt",
            "l8_b10_brightness_temperature",
            "l8_b11_brightness_temperature",
            "l9_b10_brightness_temperature",
            "l9_b11_brightness_temperature",
        ] {
            let e = worked::example(name);
            let radiance = Line { gain: e.number("radiance_mult"), offset: e.number("radiance_add") };
            let c = Calibration::Brightness { radiance, k1: e.number("k1"), k2: e.number("k2") };
            e.check(c.at(e.number("dn")));
        }
    }

    #[test]
    fn no_reflectance_at_night() {
        assert_eq!(reflectance_line(2e-5, -0.1, Degrees(0.0)), None);
        assert_eq!(reflectance_line(2e-5, -0.1, Degrees(-12.0)), None);
    }
}
