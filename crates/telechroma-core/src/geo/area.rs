//! The area of a cell on the ellipsoid.

/// Half axes of WGS 84, metres.
const A: f64 = 6_378_137.0;
const B: f64 = 6_356_752.314_245_179;

/// Square metres between two latitudes over a width in longitude, all in degrees, on WGS 84:
/// `(Δλ/2)·b²·[sin φ/(1 − e²·sin²φ) + atanh(e·sin φ)/e]` between the latitudes.
///
/// Source: Snyder 1987, Map Projections (USGS Professional Paper 1395), authalic latitude.
pub fn area_between(south: f64, north: f64, width: f64) -> f64 {
    let e2 = 1.0 - (B / A).powi(2);
    let e = e2.sqrt();
    let up_to = |lat: f64| {
        let s = lat.to_radians().sin();
        s / (1.0 - e2 * s * s) + (e * s).atanh() / e
    };
    (width.to_radians() / 2.0 * B * B * (up_to(north) - up_to(south))).abs()
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::worked;

    #[test]
    fn worked_cell_and_the_whole_earth() {
        let e = worked::example("geographic_cell_area");
        e.check(area_between(e.number("lat_south"), e.number("lat_north"), e.number("width_deg")));
        // the ellipsoid's surface, 510,065,621.72 km²
        assert!((area_between(-90.0, 90.0, 360.0) / 1e6 - 510_065_621.72).abs() < 0.01);
    }
}
