//! Temperatures from thermal radiance.

/// Second radiation constant `h·c/k`, metre kelvin (CODATA 2018).
pub const LST_C2: f64 = 0.014_387_768_8;

/// Temperature of a black body of a radiance: `T = K2 / ln(K1/L + 1)`, kelvin; NaN where `L ≤ 0` or missing.
///
/// Source: USGS LSDS-1822, conversion to top-of-atmosphere brightness temperature.
pub fn brightness_temperature(radiance: f64, k1: f64, k2: f64) -> f64 {
    if radiance > 0.0 { k2 / (k1 / radiance + 1.0).ln() } else { f64::NAN }
}

/// K1 (W m⁻² sr⁻¹ µm⁻¹) and K2 (K) of a narrow band by Planck's law: `K1 = 2hc²/λ⁵`, `K2 = hc/(kλ)`.
///
/// Within 0.2 % of the constants that agencies fit to whole bands.
pub fn planck(wavelength_um: f64) -> (f64, f64) {
    const C1: f64 = 1.191_042_972e8; // W µm⁴ m⁻² sr⁻¹, CODATA 2018
    (C1 / wavelength_um.powi(5), LST_C2 * 1e6 / wavelength_um)
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::worked;

    #[test]
    fn worked_non_positive_radiance_is_missing() {
        let e = worked::example("bt_non_positive_radiance");
        for (radiance, expected) in e.numbers("radiance").iter().zip(e.expected_numbers()) {
            e.check_one(brightness_temperature(*radiance, e.number("k1"), e.number("k2")), expected);
        }
    }
}
