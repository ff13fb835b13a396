//! Sensors: one data file per family, read into a catalogue.

use std::collections::BTreeMap;
use std::sync::OnceLock;

use serde::Deserialize;

use crate::error::{Error, Result};
use crate::index::{Names, Program};
use crate::mask::{REASONS, Reasons};
use crate::scene::BandRole;
use crate::units::{Nanometres, Unit};

/// A sensor family, or somebody's own product.
#[derive(Debug, Clone, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct SensorDef {
    /// Id, as `sensors show` takes it.
    pub id: String,
    /// In words.
    pub name: String,
    /// Format documents and papers.
    pub source: String,
    /// How its deliveries are laid out.
    #[serde(default)]
    pub layout: Layout,
    /// What its values are: "TOA reflectance", "surface reflectance", a product's name. For layouts that do not say.
    #[serde(default)]
    pub level: String,
    /// How the day of acquisition stands in file names: `%Y`, `%m`, `%d`, `%j` (day of the year) and plain characters.
    pub date: Option<String>,
    /// Platforms that carry it.
    #[serde(default)]
    pub platforms: Vec<PlatformDef>,
    /// Bands.
    pub bands: Vec<BandDef>,
    /// Flag planes.
    #[serde(default)]
    pub flags: Vec<FlagDef>,
}

/// How the deliveries of a sensor are laid out.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum Layout {
    /// Metadata `_MTL` and a GeoTIFF a band.
    Landsat,
    /// `MTD_MSI…xml` and a JPEG 2000 image a band.
    Sentinel2,
    /// Files named by patterns, or the bands of one file.
    #[default]
    Files,
}

/// A platform.
#[derive(Debug, Clone, Deserialize)]
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
#[derive(Debug, Clone, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct BandDef {
    /// What metadata keys and file names call it.
    pub key: String,
    /// What it sees.
    pub role: String,
    /// Shortest wavelength, nanometres.
    pub from_nm: Option<f64>,
    /// Longest wavelength, nanometres.
    pub to_nm: Option<f64>,
    /// Effective wavelength for temperatures, nanometres.
    pub effective_nm: Option<f64>,
    /// Cell size as delivered, metres.
    pub cell_m: Option<f64>,
    /// The processing level that has it, by the start of its name; all where none is stated.
    pub level: Option<String>,
    /// The end of its file's name, `*` for any characters; the file is the delivery's only one where there is none.
    pub file: Option<String>,
    /// Number of the band in its file, from 1.
    pub band: Option<u32>,
    /// Value of a step: `value = scale · number + offset`.
    #[serde(default = "one")]
    pub scale: f64,
    /// Value of zero.
    #[serde(default)]
    pub offset: f64,
    /// Numbers that mean missing.
    #[serde(default)]
    pub fill: Vec<f64>,
    /// Least and greatest valid number.
    pub valid: Option<[f64; 2]>,
    /// The values' unit: "reflectance", "K", "1" …
    pub unit: Option<String>,
    /// Mean irradiance by the sun above the air at one astronomical unit, W m⁻² µm⁻¹, by platform: for metadata that
    /// state radiance alone.
    #[serde(default)]
    pub irradiance: BTreeMap<String, f64>,
}

fn one() -> f64 {
    1.0
}

/// A flag plane.
#[derive(Debug, Clone, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct FlagDef {
    /// What file names call it.
    pub key: String,
    /// The metadata key that names its file.
    #[serde(default)]
    pub file_key: String,
    /// The bits of cells outside the scene.
    #[serde(default)]
    pub outside: u16,
    /// True where a scene without it cannot be used.
    #[serde(default)]
    pub required: bool,
    /// Bits and their reasons.
    #[serde(default)]
    pub bits: Vec<FlagBit>,
    /// Pairs of bits that hold a confidence from 0 to 3, for planes of single bits.
    #[serde(default)]
    pub confidence: Vec<FlagConfidence>,
    /// Values and their reasons.
    #[serde(default)]
    pub classes: Vec<FlagClass>,
    /// Cells that are kept, such as `flag < 100`; all others are dropped for `reason`.
    pub keep: Option<String>,
    /// Cells that are dropped for `reason`, such as `flag >= 100`; all others are kept.
    pub drop: Option<String>,
    /// The reason of `keep` and `drop`; default: cloud.
    pub reason: Option<String>,
    /// As [`BandDef::file`].
    pub file: Option<String>,
    /// As [`BandDef::band`].
    pub band: Option<u32>,
}

/// A bit, or bits that must all be set, of a flag plane.
#[derive(Debug, Clone, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct FlagBit {
    /// Number of the bit.
    #[serde(default)]
    pub bit: Option<u8>,
    /// Numbers of bits that are all set.
    #[serde(default)]
    pub all: Vec<u8>,
    /// The reason they stand for.
    pub reason: String,
}

/// Two bits of a flag plane that hold a confidence: 0 none, 1 low, 2 medium, 3 high.
#[derive(Debug, Clone, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct FlagConfidence {
    /// Number of the lower bit.
    pub bit: u8,
    /// What it is about.
    pub reason: String,
}

/// A value of a flag plane.
#[derive(Debug, Clone, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct FlagClass {
    /// The value.
    pub value: i32,
    /// The reason it stands for.
    pub reason: String,
}

impl BandDef {
    /// The role; [`SensorDef::parse`] makes sure there is one.
    pub fn role(&self) -> Option<BandRole> {
        BandRole::from_name(&self.role)
    }

    /// True where deliveries of a processing level hold it.
    pub fn is_in(&self, level: &str) -> bool {
        self.level.as_deref().is_none_or(|l| level.starts_with(l))
    }

    /// Its name for people: bands that are numbered are called B1, B2 ….
    pub fn name(&self) -> String {
        if self.key.starts_with(|c: char| c.is_ascii_digit()) { format!("B{}", self.key) } else { self.key.clone() }
    }

    /// Shortest and longest wavelength, where both are known.
    pub fn edges(&self) -> Option<(Nanometres, Nanometres)> {
        self.from_nm.zip(self.to_nm).map(|(a, b)| (Nanometres(a), Nanometres(b)))
    }

    /// The unit of its values: what is said, else by what it sees.
    pub fn unit(&self) -> Unit {
        match (self.unit.as_deref(), self.role()) {
            (Some(label), _) => Unit::from_label(label),
            (None, Some(role)) if role.is_thermal() => Unit::Kelvin,
            (None, Some(role)) if role.is_product() => Unit::One,
            (None, _) => Unit::Reflectance,
        }
    }
}

/// The least stored value that a flag table knows; the greatest is 65,535.
pub const LEAST_FLAG: i32 = -32_768;

/// The name that stands for the stored number in the rule of a flag band.
struct FlagName;

impl Names for FlagName {
    fn band(&self, name: &str) -> Option<Unit> {
        (name == "flag").then_some(Unit::Unknown)
    }

    fn formula(&self, _: &str) -> Option<String> {
        None
    }

    fn wavelength_um(&self, _: &str) -> Option<f64> {
        None
    }

    fn all(&self) -> Vec<String> {
        vec!["flag".into()]
    }
}

/// The rules of a flag plane, ready to be asked.
struct FlagRules {
    bits: Vec<(u16, u16)>,
    classes: Vec<(i32, u16)>,
    keep: Option<Program>,
    drop: Option<Program>,
    ruled: u16,
}

impl FlagRules {
    fn reasons(&self, v: i32) -> u16 {
        let holds = |p: &Program| p.at(&[f64::from(v)]) == 1.0;
        let set = |mask: u16| mask != 0 && v >= 0 && v as u16 & mask == mask;
        let by_bits = self.bits.iter().filter(|b| set(b.0)).fold(0, |r, b| r | b.1);
        let by_class = self.classes.iter().filter(|c| c.0 == v).fold(0, |r, c| r | c.1);
        let kept = self.keep.as_ref().is_none_or(holds) && !self.drop.as_ref().is_some_and(holds);
        by_bits | by_class | if kept { 0 } else { self.ruled }
    }
}

impl FlagDef {
    /// Bits as masks with their reasons, where each stands for itself.
    pub fn legend(&self) -> Vec<(u16, Reasons)> {
        let one = |b: &FlagBit| Some((1 << b.bit?, Reasons::from_names(&[&b.reason]).ok()?));
        self.bits.iter().filter_map(one).collect()
    }

    /// Lower bits of confidences with what they are about.
    pub fn confidences(&self) -> Vec<(u8, Reasons)> {
        let one = |c: &FlagConfidence| Some((c.bit, Reasons::from_names(&[&c.reason]).ok()?));
        if self.is_bits() { self.confidence.iter().filter_map(one).collect() } else { vec![] }
    }

    /// True where its meaning is that of single bits.
    pub fn is_bits(&self) -> bool {
        !self.bits.is_empty()
            && self.bits.iter().all(|b| b.bit.is_some())
            && self.classes.is_empty()
            && self.keep.is_none()
            && self.drop.is_none()
    }

    /// Its rules, compiled.
    fn rules(&self) -> Result<FlagRules> {
        let reason = |name: &str| Reasons::from_names(&[name]).map(Reasons::bits);
        let rule = |text: &Option<String>| text.as_deref().map(|t| Program::compile(t, &FlagName)).transpose();
        let mut bits = vec![];
        for b in &self.bits {
            let mask = b.bit.iter().chain(&b.all).fold(0u16, |m, n| m | 1 << (n & 15));
            bits.push((mask, reason(&b.reason)?));
        }
        let classes = self.classes.iter().map(|c| Ok((c.value, reason(&c.reason)?))).collect::<Result<_>>()?;
        let ruled = reason(self.reason.as_deref().unwrap_or("cloud"))?;
        Ok(FlagRules { bits, classes, keep: rule(&self.keep)?, drop: rule(&self.drop)?, ruled })
    }

    /// The reasons each stored value from [`LEAST_FLAG`] to 65,535 stands for.
    ///
    /// # Errors
    /// [`Error::UnknownName`] for a reason, [`Error::Formula`] for a rule that cannot be used.
    pub fn table(&self) -> Result<Vec<u16>> {
        let rules = self.rules()?;
        Ok((LEAST_FLAG..=65_535).map(|v| rules.reasons(v)).collect())
    }

    /// The reasons its table can give, each as its own bit.
    ///
    /// # Errors
    /// As [`FlagDef::table`].
    pub fn table_legend(&self) -> Result<Vec<(u16, Reasons)>> {
        let found = self.table()?.into_iter().fold(0, |a, b| a | b);
        Ok(REASONS.iter().filter(|d| found & d.reason.bits() != 0).map(|d| (d.reason.bits(), d.reason)).collect())
    }
}

impl SensorDef {
    /// Reads a sensor file and checks it.
    ///
    /// # Errors
    /// In words: what is wrong, with its line where it can be told.
    pub fn parse(text: &str) -> std::result::Result<SensorDef, String> {
        let def: SensorDef = toml::from_str(text).map_err(|e| e.to_string())?;
        for b in &def.bands {
            if b.role().is_none() {
                return Err(format!(
                    "band {}: {}",
                    b.key,
                    Error::unknown("band", &b.role, BandRole::all().map(|r| r.name()))
                ));
            }
            if let Some((from, to)) = b.edges().filter(|(a, z)| a.0 >= z.0) {
                return Err(format!("band {}: it would see from {} to {} nm", b.key, from.0, to.0));
            }
            if !(b.scale.is_finite() && b.scale != 0.0 && b.offset.is_finite()) {
                return Err(format!("band {}: its scale and offset make no value", b.key));
            }
            if b.unit.as_deref().is_some_and(|u| Unit::from_label(u).label() != u) {
                return Err(format!(
                    "band {}: the unit '{}' is not known",
                    b.key,
                    b.unit.as_deref().unwrap_or_default()
                ));
            }
            if b.band == Some(0) {
                return Err(format!("band {}: bands of a file are counted from 1", b.key));
            }
        }
        for f in &def.flags {
            for c in &f.confidence {
                Reasons::from_names(&[&c.reason]).map_err(|e| format!("flags {}: {e}", f.key))?;
                if c.bit > 14 || !f.is_bits() {
                    return Err(format!("flags {}: a confidence takes two of 16 bits, beside single bits", f.key));
                }
            }
            f.rules().map_err(|e| format!("flags {}: {e}", f.key))?;
            if f.keep.is_some() && f.drop.is_some() {
                return Err(format!("flags {}: say either what is kept or what is dropped", f.key));
            }
        }
        match def.bands.is_empty() {
            true => Err("names no band".into()),
            false => Ok(def),
        }
    }

    /// Bands whose role contradicts the wavelengths stated for them, in words.
    pub fn contradictions(&self) -> Vec<String> {
        let wrong = |b: &BandDef| {
            let (role, (from, to)) = (b.role()?, b.edges()?);
            role.contradicted_by((from.0 + to.0) / 2.0).map(|why| format!("band {} is called {role}, but {why}", b.key))
        };
        self.bands.iter().filter_map(wrong).collect()
    }
}

/// The data files.
const FILES: &[&str] = &[
    include_str!("landsat_oli_tirs.toml"),
    include_str!("landsat_etm.toml"),
    include_str!("landsat_tm.toml"),
    include_str!("sentinel_2.toml"),
    include_str!("drone_5band.toml"),
    include_str!("drone_5band_camera.toml"),
    include_str!("vegetation_16day.toml"),
    include_str!("composite_8bit.toml"),
];

/// All sensors built in.
pub fn sensors() -> &'static [SensorDef] {
    static ALL: OnceLock<Vec<SensorDef>> = OnceLock::new();
    ALL.get_or_init(|| FILES.iter().filter_map(|f| SensorDef::parse(f).ok()).collect())
}

/// The data file of a sensor that is built in.
///
/// # Errors
/// [`Error::UnknownName`] with the nearest id.
pub fn file_of(id: &str) -> Result<&'static str> {
    let at = find(id)?;
    let place = sensors().iter().position(|s| std::ptr::eq(s, at)).unwrap_or(0);
    Ok(FILES[place])
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
        for f in FILES {
            let s = SensorDef::parse(f).unwrap();
            assert_eq!(s.contradictions(), Vec::<String>::new(), "{}", s.id);
            for b in &s.bands {
                let (from, to) = (b.from_nm.unwrap_or(0.0), b.to_nm.unwrap_or(f64::INFINITY));
                assert!(b.effective_nm.is_none_or(|e| e > from && e < to), "{} {}", s.id, b.key);
            }
        }
        assert_eq!(sensors().len(), FILES.len());
    }

    #[test]
    fn rules_say_which_side_is_kept() {
        let flags = |more: &str| {
            let text =
                format!("id='x'\nname='x'\nsource='x'\n[[bands]]\nkey='1'\nrole='red'\n[[flags]]\nkey='f'\n{more}");
            SensorDef::parse(&text).map(|s| s.flags[0].clone())
        };
        let at = |f: &FlagDef, v: i32| f.table().unwrap()[(v - LEAST_FLAG) as usize];
        let (cloud, shadow) = (Reasons::CLOUD.bits(), Reasons::SHADOW.bits());
        let keep = flags("keep = 'flag < 100'").unwrap();
        assert_eq!((at(&keep, 99), at(&keep, 100), at(&keep, -1)), (0, cloud, 0));
        let drop = flags("drop = 'flag in (3, 4)'\nreason = 'shadow'").unwrap();
        assert_eq!((at(&drop, 3), at(&drop, 5)), (shadow, 0));
        let both = flags("bits = [{ all = [7, 8], reason = 'shadow' }, { bit = 4, reason = 'cloud' }]").unwrap();
        assert_eq!((at(&both, 1 << 7), at(&both, 3 << 7), at(&both, 3 << 7 | 16)), (0, shadow, shadow | cloud));
        assert!(flags("keep = 'flg < 100'").unwrap_err().contains("flg"));
        assert!(flags("keep = 'flag < 1'\ndrop = 'flag > 1'").unwrap_err().contains("either"));
    }

    #[test]
    fn a_role_against_its_wavelength_is_said() {
        let text = "id='x'\nname='x'\nsource='x'\n[[bands]]\nkey='4'\nrole='red'\nfrom_nm=776\nto_nm=904\n";
        let said = SensorDef::parse(text).unwrap().contradictions();
        assert!(said[0].contains("band 4 is called red, but") && said[0].contains("nir"), "{said:?}");
        assert!(SensorDef::parse(&text.replace("red", "rde")).unwrap_err().contains("did you mean 'red'"));
    }

    #[test]
    fn platforms_are_found_as_metadata_spell_them() {
        let (s, p) = by_metadata("LANDSAT_9", "OLI_TIRS").unwrap();
        assert_eq!((s.id.as_str(), p.name.as_str()), ("landsat-oli-tirs", "Landsat 9"));
        assert_eq!(by_metadata("LANDSAT_7", "ETM").unwrap().0.id, "landsat-etm");
        assert!(by_metadata("LANDSAT_6", "ETM").is_none());
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
