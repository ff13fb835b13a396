//! Sensors: one data file per family, read into a catalogue.

use std::sync::OnceLock;

use serde::Deserialize;

use crate::error::{Error, Result};
use crate::mask::Reasons;
use crate::scene::BandRole;
use crate::units::Nanometres;

/// A sensor family.
#[derive(Debug, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct SensorDef {
    /// Id, as `sensors show` takes it.
    pub id: String,
    /// In words.
    pub name: String,
    /// Format documents and papers.
    pub source: String,
    /// Platforms that carry it.
    pub platforms: Vec<PlatformDef>,
    /// Bands.
    pub bands: Vec<BandDef>,
    /// Flag planes.
    #[serde(default)]
    pub flags: Vec<FlagDef>,
}

/// A platform.
#[derive(Debug, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct PlatformDef {
    /// As the metadata spell it.
    pub id: String,
    /// For people.
    pub name: String,
    /// The sensor as the metadata spell it, one of these.
    pub sensors: Vec<String>,
}

/// A band.
#[derive(Debug, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct BandDef {
    /// What metadata keys and file names call it.
    pub key: String,
    /// What it sees.
    pub role: String,
    /// Shortest wavelength, nanometres.
    pub from_nm: f64,
    /// Longest wavelength, nanometres.
    pub to_nm: f64,
    /// Effective wavelength for temperatures, nanometres.
    pub effective_nm: Option<f64>,
    /// Cell size as delivered, metres.
    pub cell_m: f64,
}

/// A flag plane.
#[derive(Debug, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct FlagDef {
    /// What file names call it.
    pub key: String,
    /// The metadata key that names its file.
    pub file_key: String,
    /// The bits of cells outside the scene.
    pub outside: u16,
    /// True where a scene without it cannot be used.
    pub required: bool,
    /// Bits and their reasons.
    pub bits: Vec<FlagBit>,
}

/// One bit of a flag plane.
#[derive(Debug, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct FlagBit {
    /// Number of the bit.
    pub bit: u8,
    /// The reason it stands for.
    pub reason: String,
}

impl BandDef {
    /// The role; the catalogue's test makes sure there is one.
    pub fn role(&self) -> Option<BandRole> {
        BandRole::from_name(&self.role)
    }

    /// Shortest and longest wavelength.
    pub fn edges(&self) -> (Nanometres, Nanometres) {
        (Nanometres(self.from_nm), Nanometres(self.to_nm))
    }
}

impl FlagDef {
    /// Bits as masks with their reasons.
    pub fn legend(&self) -> Vec<(u16, Reasons)> {
        self.bits.iter().filter_map(|b| Some((1 << b.bit, Reasons::from_names(&[&b.reason]).ok()?))).collect()
    }
}

/// The data files.
const FILES: &[&str] = &[include_str!("landsat_oli_tirs.toml")];

/// All sensors built in.
pub fn sensors() -> &'static [SensorDef] {
    static ALL: OnceLock<Vec<SensorDef>> = OnceLock::new();
    ALL.get_or_init(|| FILES.iter().filter_map(|f| toml::from_str(f).ok()).collect())
}

/// A sensor by id.
///
/// # Errors
/// [`Error::UnknownName`] with the nearest id.
pub fn find(id: &str) -> Result<&'static SensorDef> {
    sensors().iter().find(|s| s.id == id).ok_or_else(|| Error::unknown("sensor", id, sensors().iter().map(|s| &s.id)))
}

/// A sensor and platform by the names in the metadata.
pub fn by_metadata(platform: &str, sensor: &str) -> Option<(&'static SensorDef, &'static PlatformDef)> {
    sensors().iter().find_map(|s| {
        let p = s.platforms.iter().find(|p| p.id == platform && p.sensors.iter().any(|n| n == sensor))?;
        Some((s, p))
    })
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn every_data_file_is_sound() {
        assert_eq!(sensors().len(), FILES.len(), "a data file does not parse");
        for s in sensors() {
            for b in &s.bands {
                assert!(b.role().is_some(), "{}: unknown role {}", s.id, b.role);
                assert!(
                    b.from_nm < b.to_nm && b.effective_nm.is_none_or(|e| e > b.from_nm && e < b.to_nm),
                    "{} {}",
                    s.id,
                    b.key
                );
            }
            for f in &s.flags {
                assert_eq!(f.legend().len(), f.bits.len(), "{} {}: a reason is unknown", s.id, f.key);
            }
        }
    }

    #[test]
    fn platforms_are_found_as_metadata_spell_them() {
        let (s, p) = by_metadata("LANDSAT_9", "OLI_TIRS").unwrap();
        assert_eq!((s.id.as_str(), p.name.as_str()), ("landsat-oli-tirs", "Landsat 9"));
        assert!(by_metadata("LANDSAT_7", "ETM").is_none());
    }

    /// Worked legend of the quality plane: value, reasons.
    #[test]
    fn worked_quality_bits() {
        let e = crate::worked::example("qa_pixel_clear_sky");
        let legend = find("landsat-oli-tirs").unwrap().flags[0].legend();
        let drop = Reasons::default_drop();
        let clear = e.value("/expected").as_array().unwrap();
        for (qa, clear) in e.numbers("qa").iter().zip(clear) {
            let dropped = legend.iter().any(|(bits, r)| drop.has(*r) && (*qa as u16) & bits != 0);
            assert_eq!(!dropped, clear.as_bool().unwrap(), "{qa}");
        }
    }
}
