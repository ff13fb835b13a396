//! Bands by what they see: the common names of the STAC `eo` extension.

use std::fmt;

/// A band by what it sees. Ordered by wavelength.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub struct BandRole(usize);

/// Name, the other role that may stand in for it, and the limits of its wavelengths in micrometres (STAC `eo` 1.1); 0 for
/// products.
const ROLES: &[(&str, Option<&str>, f64, f64)] = &[
    ("pan", None, 0.40, 1.00),
    ("coastal", None, 0.40, 0.45),
    ("blue", None, 0.45, 0.53),
    ("green", None, 0.51, 0.60),
    ("yellow", None, 0.58, 0.62),
    ("red", None, 0.62, 0.69),
    ("rededge", Some("rededge071"), 0.69, 0.79),
    ("rededge071", None, 0.69, 0.73),
    ("rededge075", None, 0.73, 0.76),
    ("rededge078", None, 0.76, 0.79),
    ("nir", Some("nir08"), 0.76, 1.00),
    ("nir08", None, 0.80, 0.90),
    ("nir09", None, 0.90, 1.00),
    ("cirrus", None, 1.35, 1.40),
    ("swir16", None, 1.55, 1.75),
    ("swir22", None, 2.08, 2.35),
    ("lwir", None, 10.5, 12.5),
    ("lwir11", Some("lwir"), 10.5, 11.5),
    ("lwir12", None, 11.5, 12.5),
    ("ndvi", None, 0.0, 0.0),
    ("evi", None, 0.0, 0.0),
    ("lst", None, 0.0, 0.0),
];

/// Wavelengths this far outside a role's limits, as a share, still pass: sensors differ.
const SLACK: f64 = 0.03;

impl BandRole {
    /// The role of a name.
    pub fn from_name(name: &str) -> Option<BandRole> {
        ROLES.iter().position(|r| r.0 == name).map(BandRole)
    }

    /// Its name.
    pub fn name(self) -> &'static str {
        ROLES[self.0].0
    }

    /// All roles.
    pub fn all() -> impl Iterator<Item = BandRole> {
        (0..ROLES.len()).map(BandRole)
    }

    /// The roles that meet a request for this one, best first; nothing else substitutes.
    pub fn met_by(self) -> impl Iterator<Item = BandRole> {
        std::iter::once(self).chain(ROLES[self.0].1.and_then(BandRole::from_name))
    }

    /// True for what is computed before it is delivered.
    pub fn is_product(self) -> bool {
        ROLES[self.0].3 == 0.0
    }

    /// Why a band of this wavelength in nanometres cannot be of this role; none where it can.
    pub fn contradicted_by(self, centre_nm: f64) -> Option<String> {
        let um = centre_nm / 1000.0;
        let fits =
            |r: &(&str, Option<&str>, f64, f64), slack: f64| um >= r.2 * (1.0 - slack) && um <= r.3 * (1.0 + slack);
        if self.is_product() || fits(&ROLES[self.0], SLACK) {
            return None;
        }
        let among = |slack: f64| ROLES.iter().skip(1).find(|r| fits(r, slack));
        let like = among(0.0).or(among(SLACK)).map_or(String::new(), |r| format!(", which is {}", r.0));
        Some(format!("{um:.3} µm was stated for it{like}"))
    }

    /// True for bands of emitted, not reflected, light.
    pub fn is_thermal(self) -> bool {
        self.name().starts_with("lwir")
    }
}

impl fmt::Display for BandRole {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(self.name())
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn substitutes_exist_and_are_the_published_three() {
        let pairs: Vec<String> = BandRole::all()
            .filter(|r| r.met_by().count() == 2)
            .map(|r| r.met_by().map(|m| m.name()).collect::<Vec<_>>().join("<"))
            .collect();
        assert_eq!(pairs, ["rededge<rededge071", "nir<nir08", "lwir11<lwir"]);
    }
}
