//! Where the sun stands over the estate in the middle of a summer's morning.

use crate::LATITUDE;

/// Elevation and azimuth, degrees, and the distance in astronomical units, on a day of the year.
pub(crate) fn position(day: f64) -> (f64, f64, f64) {
    let declination = 23.45f64.to_radians() * (std::f64::consts::TAU * (284.0 + day) / 365.0).sin();
    let (latitude, hour) = (LATITUDE.to_radians(), -24f64.to_radians());
    let elevation = (latitude.sin() * declination.sin() + latitude.cos() * declination.cos() * hour.cos()).asin();
    let azimuth = ((declination.sin() - elevation.sin() * latitude.sin()) / (elevation.cos() * latitude.cos())).acos();
    let distance = 1.0 - 0.01672 * (0.9856 * (day - 4.0)).to_radians().cos();
    (elevation.to_degrees(), azimuth.to_degrees(), distance)
}
