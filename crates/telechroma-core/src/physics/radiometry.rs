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

/// Distance of the Earth from the sun on a day of the year, 1 for the first of January; astronomical units, within 0.001.
///
/// For metadata that do not state it: the Earth's ellipse to the first order of its eccentricity, nearest on 4 January.
pub fn earth_sun_distance(day_of_year: f64) -> f64 {
    1.0 - 0.01672 * (0.9856 * (day_of_year - 4.0)).to_radians().cos()
}

/// Reflectance, not yet divided by the sine of the sun's elevation, of counts whose radiance is known:
/// `ρ·sin(elevation) = π·L·d² / ESUN`.
///
/// For metadata without reflectance coefficients, whose values differ from this by up to a few per cent because of the
/// solar spectrum taken. `irradiance` is the band's mean solar irradiance above the air at one astronomical unit,
/// W m⁻² µm⁻¹. Source: Chander, Markham & Helder (2009), Remote Sensing of Environment 113, 893–903.
pub fn reflectance_of_radiance(radiance: Line, irradiance: f64, distance: f64) -> Line {
    let one = std::f64::consts::PI * distance * distance / irradiance;
    Line { gain: radiance.gain * one, offset: radiance.offset * one }
}

/// Radiance of a reflectance of one, W m⁻² sr⁻¹ µm⁻¹: `cos(zenith)·ESUN·U/π`, where U is 1/d².
///
/// Source: ESA S2-PDGS-TAS-DI-PSD, Sentinel-2 Products Specification Document, Reflectance_Conversion.
pub fn radiance_of_one(irradiance: f64, u: f64, sun_elevation: Degrees) -> f64 {
    sun_elevation.radians().sin() * irradiance * u / std::f64::consts::PI
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
    fn worked_distance_and_solar_irradiance() {
        let e = worked::example("earth_sun_distance_doy195");
        e.check(earth_sun_distance(e.number("doy")));
        let e = worked::example("tm_red_toa_from_radiance");
        let radiance = Line { gain: 1.0, offset: 0.0 };
        let line = reflectance_of_radiance(radiance, e.number("esun"), e.number("earth_sun_distance"));
        let line = reflectance_line(line.gain, line.offset, Degrees(e.number("sun_elevation_deg"))).unwrap();
        e.check(line.at(e.number("radiance")));
        let e = worked::example("msi_reflectance_to_radiance");
        let elevation = Degrees(90.0 - e.number("sun_zenith_deg"));
        e.check(e.number("reflectance") * radiance_of_one(e.number("esun"), e.number("u"), elevation));
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
