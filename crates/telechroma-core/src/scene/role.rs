//! Bands by what they see: the common names of the STAC `eo` extension.

use std::fmt;

/// A band by what it sees. Ordered by wavelength.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub struct BandRole(usize);

/// Name, and the other role that may stand in for it.
const ROLES: &[(&str, Option<&str>)] = &[
    ("pan", None),
    ("coastal", None),
    ("blue", None),
    ("green", None),
    ("yellow", None),
    ("red", None),
    ("rededge", Some("rededge071")),
    ("rededge071", None),
    ("rededge075", None),
    ("rededge078", None),
    ("nir", Some("nir08")),
    ("nir08", None),
    ("nir09", None),
    ("cirrus", None),
    ("swir16", None),
    ("swir22", None),
    ("lwir", None),
    ("lwir11", Some("lwir")),
    ("lwir12", None),
];

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
