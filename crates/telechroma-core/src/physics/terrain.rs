//! Slopes, and the light of the sun on them.

use crate::error::{Error, Result};

/// Rise of the ground towards east and north, from the heights of a cell and its eight neighbours, row by row from the
/// north-west (Horn 1981, Proceedings of the IEEE 69). `width` and `height` of a cell in the unit of the heights.
pub fn gradient(z: [f64; 9], width: f64, height: f64) -> (f64, f64) {
    let [nw, n, ne, w, _, e, sw, s, se] = z;
    let east = (ne + 2.0 * e + se) - (nw + 2.0 * w + sw);
    let north = (nw + 2.0 * n + ne) - (sw + 2.0 * s + se);
    (east / (8.0 * width), north / (8.0 * height))
}

/// Slope, and the direction in which it falls, clockwise from north: degrees. Level ground falls nowhere: NaN.
pub fn slope_aspect((east, north): (f64, f64)) -> (f64, f64) {
    let slope = east.hypot(north).atan().to_degrees();
    let aspect = if slope == 0.0 { f64::NAN } else { (-east).atan2(-north).to_degrees().rem_euclid(360.0) };
    (slope, aspect)
}

/// Cosine of the angle between the sun and the upright of a slope; angles in degrees, azimuth clockwise from north.
pub fn illumination((east, north): (f64, f64), sun_elevation: f64, sun_azimuth: f64) -> f64 {
    let (sin_el, cos_el) = sun_elevation.to_radians().sin_cos();
    let (sin_az, cos_az) = sun_azimuth.to_radians().sin_cos();
    (sin_el - cos_el * (east * sin_az + north * cos_az)) / (1.0 + east * east + north * north).sqrt()
}

/// How light on slopes is made that on level ground.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum TerrainMethod {
    /// By the cosine of the sun's angle alone: too much where light comes from the whole sky (Teillet et al. 1982).
    Cosine,
    /// With the constant c of each band, from how its values follow the light (Teillet et al. 1982, Canadian Journal of
    /// Remote Sensing 8).
    C,
}

impl TerrainMethod {
    /// Its name.
    pub fn name(self) -> &'static str {
        match self {
            TerrainMethod::Cosine => "cosine",
            TerrainMethod::C => "c",
        }
    }
}

impl std::str::FromStr for TerrainMethod {
    type Err = Error;

    fn from_str(text: &str) -> Result<TerrainMethod> {
        let all = [TerrainMethod::Cosine, TerrainMethod::C];
        let found = all.into_iter().find(|m| m.name() == text);
        found.ok_or_else(|| Error::unknown("terrain correction", text, all.map(TerrainMethod::name)))
    }
}

/// The factor that makes a slope's reflectance that of level ground: `(sin e + c) / (cos i + c)`; NaN on slopes that the
/// sun does not reach. `c` is 0 for the cosine correction.
pub fn terrain_factor(illumination: f64, sun_elevation: f64, c: f64) -> f64 {
    if illumination <= 0.0 || illumination + c <= 0.0 {
        return f64::NAN;
    }
    (sun_elevation.to_radians().sin() + c) / (illumination + c)
}

#[cfg(test)]
mod tests {
    use super::*;

    /// A plane that rises by `east` and `north` a unit.
    fn plane(east: f64, north: f64) -> [f64; 9] {
        std::array::from_fn(|i| ((i % 3) as f64 - 1.0) * 30.0 * east - ((i / 3) as f64 - 1.0) * 20.0 * north)
    }

    #[test]
    fn a_plane_has_its_own_gradient_and_falls_away_from_its_rise() {
        for (east, north, slope, aspect) in
            [(1.0, 0.0, 45.0, 270.0), (0.0, -0.5, 26.565_051_177, 0.0), (-0.3, 0.3, 22.989_768, 135.0)]
        {
            let g = gradient(plane(east, north), 30.0, 20.0);
            assert!((g.0 - east).abs() < 1e-12 && (g.1 - north).abs() < 1e-12);
            let (s, a) = slope_aspect(g);
            assert!((s - slope).abs() < 1e-4 && (a - aspect).abs() < 1e-9, "{s} {a}");
        }
        assert!(slope_aspect((0.0, 0.0)).1.is_nan());
    }

    #[test]
    fn light_is_that_of_the_usual_formula() {
        // cos i = cos s sin e + sin s cos e cos(azimuth - aspect)
        for (slope, aspect, elevation, azimuth) in [(20.0f64, 140.0f64, 42.0f64, 150.0f64), (35.0, 300.0, 25.0, 160.0)]
        {
            let tan = slope.to_radians().tan();
            let g = (-tan * aspect.to_radians().sin(), -tan * aspect.to_radians().cos());
            let (s, e, d) = (slope.to_radians(), elevation.to_radians(), (azimuth - aspect).to_radians());
            let want = s.cos() * e.sin() + s.sin() * e.cos() * d.cos();
            assert!((illumination(g, elevation, azimuth) - want).abs() < 1e-12);
        }
        assert!((illumination((0.0, 0.0), 30.0, 77.0) - 0.5).abs() < 1e-12);
    }

    #[test]
    fn level_ground_stays_and_shade_is_missing() {
        assert_eq!(terrain_factor(30f64.to_radians().sin(), 30.0, 0.4), 1.0);
        assert!(terrain_factor(-0.1, 30.0, 0.4).is_nan() && terrain_factor(0.0, 30.0, 0.0).is_nan());
        assert!(terrain_factor(0.2, 30.0, 0.0) > terrain_factor(0.2, 30.0, 0.4));
    }
}
