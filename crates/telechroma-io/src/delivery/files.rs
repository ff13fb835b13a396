//! Deliveries that a sensor file describes: single-band files named by patterns, or the bands of one file.

use std::path::Path;
use std::sync::Arc;

use jiff::civil::Date;
use telechroma_core::grid::Grid;
use telechroma_core::scene::{Band, Content, FlagPlane, Scene};
use telechroma_core::sensor::{FlagDef, SensorDef};
use telechroma_core::tile::PlaneSource;
use telechroma_core::units::{Nanometres, Unit};

use super::archive::Files;
use super::digest;
use super::sidecar::Sidecar;
use crate::bytes::ByteRange;
use crate::error::{Error, Place, Result};
use crate::raster::raw::RawPlane;
use crate::raster::samples::{Classes, Coding, Reading};
use crate::raster::tiff::{Tiff, TiffPlane};

/// A flag plane by its rule: `make` opens the source for a reading.
///
/// # Errors
/// Where its rule cannot be used, or `make` fails.
pub(crate) fn flag_plane(def: &FlagDef, make: impl Fn(Reading) -> Result<Arc<dyn PlaneSource>>) -> Result<FlagPlane> {
    let (reading, legend) = match def.is_bits() {
        true => (Reading::Flags { outside: def.outside }, def.legend()),
        false => {
            let table = def.table()?;
            let rule = format!("{:?} {:?} {:?} {:?} {:?}", def.bits, def.classes, def.keep, def.drop, def.reason);
            let classes = Classes::new(rule, def.outside, |v| table[(v - Classes::LEAST) as usize]);
            (Reading::Classes(Arc::new(classes)), def.table_legend()?)
        }
    };
    let raw = Some(make(Reading::Values(Unit::Flags))?);
    Ok(FlagPlane { name: def.key.clone(), legend, confidence: def.confidences(), source: make(reading)?, raw })
}

/// True where a name meets a pattern in which `*` stands for any characters; capitals do not matter.
pub(crate) fn matches(pattern: &str, name: &str) -> bool {
    let (pattern, name) = (pattern.to_lowercase(), name.to_lowercase());
    let parts: Vec<&str> = pattern.split('*').collect();
    let Some((first, rest)) = parts.split_first() else { return false };
    let Some(mut left) = name.strip_prefix(first) else { return false };
    let Some((last, middle)) = rest.split_last() else { return left.is_empty() };
    for part in middle {
        match left.find(part) {
            Some(at) => left = &left[at + part.len()..],
            None => return false,
        }
    }
    left.len() >= last.len() && left.ends_with(last)
}

/// The day in a name, by a pattern of `%Y`, `%m`, `%d`, `%j` and plain characters, wherever in the name it stands.
pub(crate) fn date_in(name: &str, pattern: &str) -> Option<Date> {
    let name: Vec<char> = name.chars().collect();
    (0..name.len()).find_map(|start| date_at(&name[start..], pattern))
}

fn date_at(text: &[char], pattern: &str) -> Option<Date> {
    let (mut year, mut month, mut day, mut of_year) = (None, 1, 1, None);
    let mut at = 0;
    let digits = |at: &mut usize, n: usize| {
        let part: String = text.get(*at..*at + n)?.iter().collect();
        *at += n;
        part.chars().all(|c| c.is_ascii_digit()).then(|| part.parse::<i16>().ok())?
    };
    let mut signs = pattern.chars();
    while let Some(c) = signs.next() {
        match (c, if c == '%' { signs.next() } else { None }) {
            ('%', Some('Y')) => year = Some(digits(&mut at, 4)?),
            ('%', Some('m')) => month = digits(&mut at, 2)?,
            ('%', Some('d')) => day = digits(&mut at, 2)?,
            ('%', Some('j')) => of_year = Some(digits(&mut at, 3)?),
            (plain, _) => {
                if text.get(at) != Some(&plain) {
                    return None;
                }
                at += 1;
            }
        }
    }
    match of_year {
        Some(n) => {
            let first = Date::new(year?, 1, 1).ok()?;
            (n >= 1 && n <= first.days_in_year())
                .then(|| first.saturating_add(jiff::Span::new().days(i64::from(n) - 1)))
        }
        None => Date::new(year?, month as i8, day as i8).ok(),
    }
}

/// One file with bands: a GeoTIFF, or a headerless raster with its layout beside it.
enum Bands {
    Tiff(Arc<Tiff>),
    Raw(ByteRange, Box<Sidecar>, Arc<Grid>),
}

impl Bands {
    fn open(bytes: &ByteRange, sidecar: Option<&Sidecar>) -> Result<Bands> {
        match sidecar.filter(|s| s.raw.is_some()) {
            Some(s) => Ok(Bands::Raw(bytes.clone(), Box::new(s.clone()), Arc::new(s.grid(&bytes.place(""))?))),
            None => Ok(Bands::Tiff(Tiff::open(bytes.clone())?)),
        }
    }

    fn count(&self) -> Result<u32> {
        match self {
            Bands::Tiff(t) => Ok(t.header.samples),
            Bands::Raw(b, s, _) => Ok(s.layout(&b.place(""))?.bands),
        }
    }

    fn plane(&self, band: u32, reading: Reading) -> Result<Arc<dyn PlaneSource>> {
        Ok(match self {
            Bands::Tiff(t) => Arc::new(TiffPlane::new(t, band, reading)?),
            Bands::Raw(b, s, grid) => {
                Arc::new(RawPlane::new(b.clone(), s.layout(&b.place(""))?, grid.clone(), band, reading)?)
            }
        })
    }
}

/// What a delivery is made of.
pub(crate) enum Parts<'a> {
    /// Files of a folder or an archive.
    Many(&'a Files),
    /// One file, and what lies beside it.
    One(ByteRange, Option<&'a Sidecar>),
}

/// True where a folder's or archive's files are those of a sensor: all of its bands with a file pattern, or some.
pub(crate) fn is_one(files: &Files, def: &SensorDef) -> bool {
    def.bands.iter().any(|b| b.file.as_deref().is_some_and(|p| files.named(|n| matches(p, n)).is_some()))
}

/// Opens a delivery of a sensor.
pub(crate) fn open(path: &Path, parts: &Parts, def: &SensorDef) -> Result<Scene> {
    let here = || Place::file(path);
    let find = |pattern: &Option<String>| -> Result<Option<(ByteRange, Option<&Sidecar>)>> {
        Ok(match (parts, pattern) {
            (Parts::Many(files), Some(p)) => files.named(|n| matches(p, n)).map(|b| (b.clone(), None)),
            (Parts::Many(files), None) => {
                let mut rasters = files.list().filter(|(n, _)| matches("*.tif", n) || matches("*.tiff", n));
                match (rasters.next(), rasters.next()) {
                    (Some((name, _)), None) => files.get(name).map(|b| (b.clone(), None)),
                    _ => {
                        return Err(Error::usage(
                            here(),
                            format!("should hold one GeoTIFF: sensor {} names no file for its bands", def.id),
                        ));
                    }
                }
            }
            (Parts::One(bytes, sidecar), None) => Some((bytes.clone(), *sidecar)),
            (Parts::One(bytes, sidecar), Some(p)) => matches(p, &bytes.file_name()).then(|| (bytes.clone(), *sidecar)),
        })
    };
    let mut bands = vec![];
    for b in &def.bands {
        let Some((bytes, sidecar)) = find(&b.file)? else { continue };
        let Some(role) = b.role() else { unreachable!("sensor files are checked when they are read") };
        let file = Bands::open(&bytes, sidecar)?;
        let number = b.band.unwrap_or(1);
        if b.file.is_none() && number > file.count()? {
            return Err(Error::usage(
                bytes.place(""),
                format!("has {} bands, but sensor {} has its {role} in band {number}", file.count()?, def.id),
            ));
        }
        let unit = b.unit();
        let coding = Coding {
            scale: b.scale,
            offset: b.offset,
            fill: b.fill.clone(),
            valid: b.valid.map(|[a, z]| (a, z)),
            unit,
        };
        bands.push(Band {
            role,
            name: b.name(),
            edges: b.edges(),
            wavelength: b.effective_nm.map(Nanometres),
            content: Content::Values(unit),
            radiance_of_one: None,
            source: file.plane(number - 1, Reading::Coded(coding))?,
        });
    }
    let Some(first) = bands.first() else {
        return Err(Error::usage(here(), format!("holds no file of a band of sensor {}", def.id)));
    };
    let grid = first.source.spec().grid.clone();
    let mut flags = vec![];
    for f in &def.flags {
        if let Some((bytes, sidecar)) = find(&f.file)? {
            let file = Bands::open(&bytes, sidecar)?;
            flags.push(flag_plane(f, |reading| file.plane(f.band.unwrap_or(1) - 1, reading))?);
        }
    }
    let id = path.file_name().map_or(String::new(), |n| n.to_string_lossy().into_owned());
    let id = [".tar.gz", ".tgz", ".tar", ".zip", ".tiff", ".tif"]
        .iter()
        .find_map(|e| id.to_lowercase().ends_with(e).then(|| id[..id.len() - e.len()].to_string()))
        .unwrap_or(id);
    let named = def.date.as_deref().and_then(|p| match parts {
        Parts::Many(files) => date_in(&id, p).or_else(|| files.list().find_map(|(n, _)| date_in(n, p))),
        Parts::One(..) => date_in(&id, p),
    });
    let stated = match parts {
        Parts::One(_, Some(sidecar)) => sidecar.date(&here())?,
        _ => None,
    };
    let size = |b: &ByteRange| (b.name(), b.len());
    let list: Vec<(String, u64)> = match parts {
        Parts::Many(files) => files.list().map(|(n, l)| (n.to_string(), l)).collect(),
        Parts::One(bytes, _) => vec![size(bytes)],
    };
    Ok(Scene {
        digest: digest(def.id.as_bytes(), list.iter().map(|(n, l)| (n.as_str(), *l))),
        id,
        sensor: def.id.clone(),
        platform: def.name.clone(),
        level: def.level.clone(),
        acquired: None,
        date: stated.or(named),
        place: None,
        sun: None,
        cloud_cover: None,
        grid,
        bands,
        flags,
        dark: vec![],
        sun_zenith: None,
        relief: None,
        mask: None,
    })
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn patterns_and_days_in_names() {
        assert!(
            matches("*_NDVI.tif", "MOD13Q1.A2031193_ndvi.TIF")
                && matches("a*b*c", "aXbYc")
                && matches("a.tif", "A.TIF")
        );
        assert!(!matches("*_NDVI.tif", "x_EVI.tif") && !matches("a*b*c", "acb") && !matches("ab*ba", "aba"));
        let day = |n: &str, p: &str| date_in(n, p).map(|d| d.to_string());
        assert_eq!(day("flight_20310614_mosaic", "%Y%m%d").as_deref(), Some("2031-06-14"));
        assert_eq!(day("MOD13Q1.A2031193.h10v05", "A%Y%j").as_deref(), Some("2031-07-12"));
        assert_eq!(day("x_20319999", "%Y%m%d"), None);
        assert_eq!(day("14-06-2031", "%d-%m-%Y").as_deref(), Some("2031-06-14"));
    }
}
