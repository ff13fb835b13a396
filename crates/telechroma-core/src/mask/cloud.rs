//! Clouds by what a cell looks like: the spectral tests of Zhu & Woodcock 2012 (Remote Sensing of Environment 118),
//! reduced, and the cirrus test of Zhu et al. 2015. They work on top-of-atmosphere reflectance: the haze test needs the
//! light of the air.

/// What one cell looks like: reflectance above the air, 0 to 1.
#[derive(Debug, Clone, Copy, PartialEq, Default)]
#[allow(missing_docs)] // each is its band
pub struct Look {
    pub blue: f64,
    pub green: f64,
    pub red: f64,
    pub nir: f64,
    pub swir16: f64,
    pub swir22: f64,
    /// Brightness temperature, kelvin, where there is a thermal band.
    pub kelvin: Option<f64>,
    /// A visible band is saturated.
    pub saturated: bool,
}

/// Measures of a look.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Measures {
    /// Mean relative distance of the visible bands from their mean, summed; 0 is white, infinite where nothing is seen.
    pub whiteness: f64,
    /// Haze optimised: blue against red.
    pub hot: f64,
    /// Snow index.
    pub ndsi: f64,
    /// Vegetation index.
    pub ndvi: f64,
    /// Near infrared by short-wave infrared.
    pub nir_swir: f64,
}

/// 0 °C.
const FREEZING: f64 = 273.15;
/// Cirrus band reflectance of a cirrus cloud (Zhu et al. 2015).
pub const CIRRUS: f64 = 0.01;

fn normalised(a: f64, b: f64) -> f64 {
    if a + b == 0.0 { 0.0 } else { (a - b) / (a + b) }
}

impl Look {
    /// Its measures.
    pub fn measures(&self) -> Measures {
        let mean = (self.blue + self.green + self.red) / 3.0;
        let off = |v: f64| ((v - mean) / mean).abs();
        let whiteness = match (self.saturated, mean > 0.0) {
            (true, _) => 0.0,
            (false, true) => off(self.blue) + off(self.green) + off(self.red),
            (false, false) => f64::INFINITY,
        };
        Measures {
            whiteness,
            hot: self.blue - 0.5 * self.red - 0.08,
            ndsi: normalised(self.green, self.swir16),
            ndvi: normalised(self.nir, self.red),
            nir_swir: self.nir / self.swir16,
        }
    }

    /// Bright in the short-wave infrared, cold, neither snow nor green.
    pub fn is_basic(&self, m: &Measures) -> bool {
        let cold = self.kelvin.is_none_or(|t| t - FREEZING < 27.0);
        self.swir22 > 0.03 && cold && m.ndsi < 0.8 && m.ndvi < 0.8
    }

    /// May be cloud: basic, white, hazy, and neither rock nor sand.
    pub fn is_potential(&self, m: &Measures) -> bool {
        let hazy = m.hot > 0.0 || self.saturated;
        self.is_basic(m) && m.whiteness < 0.7 && hazy && m.nir_swir > 0.75
    }

    /// Open water.
    pub fn is_water(&self, m: &Measures) -> bool {
        (m.ndvi < 0.01 && self.nir < 0.11) || (m.ndvi < 0.1 && self.nir < 0.05)
    }

    /// Snow or ice.
    pub fn is_snow(&self, m: &Measures) -> bool {
        let cold = self.kelvin.is_none_or(|t| t - FREEZING < 3.8);
        m.ndsi > 0.15 && cold && self.nir > 0.11 && self.green > 0.1
    }
}

/// Rows of bands, side by side.
pub struct LookRows<'a> {
    /// Blue, green, red, nir, swir16, swir22.
    pub bands: [&'a [f32]; 6],
    /// Brightness temperature, kelvin.
    pub kelvin: Option<&'a [f32]>,
    /// Reflectance from which on blue, green and red are saturated.
    pub saturated: [f32; 3],
}

impl LookRows<'_> {
    /// A cell; none where a band is missing.
    pub fn at(&self, i: usize) -> Option<Look> {
        let [blue, green, red, nir, swir16, swir22] = self.bands.map(|b| b[i]);
        let kelvin = self.kelvin.map(|k| k[i]);
        if [blue, green, red, nir, swir16, swir22].iter().chain(&kelvin).any(|v| v.is_nan()) {
            return None;
        }
        let saturated = [blue, green, red].iter().zip(&self.saturated).any(|(v, most)| v >= most);
        let [blue, green, red, nir, swir16, swir22] = [blue, green, red, nir, swir16, swir22].map(f64::from);
        Some(Look { blue, green, red, nir, swir16, swir22, kelvin: kelvin.map(f64::from), saturated })
    }
}

impl Measures {
    /// How little a cell looks like land, 0 to 1: the part of the land probability that no temperature enters.
    pub fn variability(&self) -> f64 {
        1.0 - self.ndvi.abs().max(self.ndsi.abs()).max(self.whiteness)
    }
}

/// What must be known of a scene before a cell is judged.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct SceneLevels {
    /// The 17.5 and 82.5 percentiles of the temperature of clear land, kelvin; none without a thermal band.
    pub land: Option<(f64, f64)>,
    /// The 82.5 percentile of the temperature of clear water, kelvin; none without a thermal band or water.
    pub water: Option<f64>,
    /// Land probability from which a cell is cloud: the 82.5 percentile over clear land, and 0.2.
    pub threshold: f64,
}

/// Probability that a cell over land is cloud; above 1 where it is colder than any land.
pub fn land_probability(kelvin: f64, (low, high): (f64, f64), variability: f64) -> f64 {
    (high + 4.0 - kelvin) / (high - low + 8.0) * variability
}

/// Probability that a cell over water is cloud: cold, and bright in the short-wave infrared.
pub fn water_probability(kelvin: Option<f64>, clear_water: Option<f64>, swir16: f64) -> f64 {
    let cold = match (kelvin, clear_water) {
        (Some(t), Some(water)) => ((water - t) / 4.0).clamp(0.0, 1.0),
        _ => 1.0,
    };
    cold * swir16.min(0.11) / 0.11
}

impl SceneLevels {
    /// The land probability of a temperature and a variability; without known land the variability alone.
    pub fn land_probability_at(&self, kelvin: f64, variability: f64) -> f64 {
        self.land.map_or(variability, |land| land_probability(kelvin, land, variability))
    }

    /// True where a look is cloud.
    pub fn is_cloud(&self, look: &Look, m: &Measures) -> bool {
        let frozen = match (look.kelvin, self.land) {
            (Some(t), Some((low, _))) => t < low - 35.0,
            _ => false,
        };
        if look.is_water(m) {
            let probability = water_probability(look.kelvin, self.water, look.swir16);
            return frozen || (look.is_potential(m) && probability > 0.5);
        }
        let probability = match look.kelvin {
            Some(t) => self.land_probability_at(t, m.variability()),
            None => m.variability(),
        };
        // without a thermal band a probability is at most 1, and near 1 for anything grey
        let sure = look.kelvin.is_some() && probability > 0.99;
        frozen || sure || (look.is_potential(m) && probability > self.threshold)
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::worked;

    #[test]
    fn worked_tests_of_cells() {
        let all = worked::starting_with("cloud_tests_");
        assert!(all.len() >= 5);
        for e in all {
            let n = |k: &str| e.number(k);
            let look = Look {
                blue: n("blue"),
                green: n("green"),
                red: n("red"),
                nir: n("nir"),
                swir16: n("swir16"),
                swir22: n("swir22"),
                kelvin: Some(n("t_c") + FREEZING),
                saturated: false,
            };
            let m = look.measures();
            for (key, got) in [
                ("whiteness", m.whiteness),
                ("hot", m.hot),
                ("ndsi", m.ndsi),
                ("ndvi", m.ndvi),
                ("nir_swir", m.nir_swir),
            ] {
                e.check_one(got, e.expected(key));
            }
            for (key, got) in [
                ("basic", look.is_basic(&m)),
                ("water", look.is_water(&m)),
                ("snow", look.is_snow(&m)),
                ("potential_cloud", look.is_potential(&m)),
            ] {
                assert_eq!(e.value(&format!("/expected/{key}")).as_bool(), Some(got), "{} {key}", e.name());
            }
        }
    }

    #[test]
    fn worked_probabilities() {
        let e = worked::example("cloud_probability_land");
        let m = Measures {
            whiteness: e.number("whiteness"),
            hot: 0.0,
            ndsi: e.number("ndsi"),
            ndvi: e.number("ndvi"),
            nir_swir: 1.0,
        };
        let kelvin = |k: &str| e.number(k) + FREEZING;
        e.check(land_probability(kelvin("t_c"), (kelvin("t_low"), kelvin("t_high")), m.variability()));
        let e = worked::example("cloud_probability_water");
        let kelvin = |k: &str| Some(e.number(k) + FREEZING);
        e.check(water_probability(kelvin("t_c"), kelvin("t_water"), e.number("swir16")));
    }

    #[test]
    fn saturated_cells_are_white_and_hazy_and_dark_ones_are_not_white() {
        let bright = Look { blue: 0.6, green: 0.9, red: 1.6, nir: 0.7, swir16: 0.6, swir22: 0.5, ..Look::default() };
        assert!(!bright.is_potential(&bright.measures()));
        let saturated = Look { saturated: true, ..bright };
        assert!(saturated.is_potential(&saturated.measures()));
        assert!(Look::default().measures().whiteness.is_infinite());
    }
}
