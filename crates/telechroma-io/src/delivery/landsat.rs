//! Landsat deliveries, Level 1 and Level 2: one GeoTIFF a band and `_MTL` metadata.
//!
//! Sources: USGS LSDS-1822, 1336 and 1337, Collection 2 Level 1 Data Format Control Books; LSDS-1328 and 1619, Collection 2
//! Level 2 (L2SP); LSDS-809 and 750 for the group names of Collection 1.

use std::sync::Arc;

use jiff::civil::{Date, Time};
use jiff::tz::TimeZone;
use telechroma_core::mask::Reasons;
use telechroma_core::physics::{Line, earth_sun_distance, reflectance_of_radiance};
use telechroma_core::run::Note;
use telechroma_core::scene::{Band, Coefficient, Coefficients, Content, FlagPlane, Scene, Sun};
use telechroma_core::sensor::{self, BandDef, SensorDef};
use telechroma_core::tile::PlaneSource;
use telechroma_core::units::{Degrees, Nanometres, Unit};

use super::archive::Files;
use super::digest;
use super::files::flag_plane;
use super::mtl::Mtl;
use crate::bytes::ByteRange;
use crate::error::{Error, Place, Result};
use crate::raster::samples::{Coding, Reading};
use crate::raster::tiff::{Tiff, TiffPlane};

/// Groups that hold a key, by collection.
const CONTENTS: &[&str] = &["PRODUCT_CONTENTS", "PRODUCT_METADATA", "METADATA_FILE_INFO"];
const IMAGE: &[&str] = &["IMAGE_ATTRIBUTES", "PRODUCT_METADATA"];
const RESCALING: &[&str] = &["LEVEL1_RADIOMETRIC_RESCALING", "RADIOMETRIC_RESCALING"];
const LIMITS: &[&str] = &["LEVEL1_MIN_MAX_PIXEL_VALUE", "MIN_MAX_PIXEL_VALUE"];
const THERMAL: &[&str] = &["LEVEL1_THERMAL_CONSTANTS", "TIRS_THERMAL_CONSTANTS", "THERMAL_CONSTANTS"];
/// Level 2 repeats keys of Level 1 here, with other values.
const SURFACE_REFLECTANCE: &[&str] = &["LEVEL2_SURFACE_REFLECTANCE_PARAMETERS"];
const SURFACE_TEMPERATURE: &[&str] = &["LEVEL2_SURFACE_TEMPERATURE_PARAMETERS"];
/// The count that means no data, in every band.
const FILL: u16 = 0;

fn metadata_file(files: &Files) -> Option<&ByteRange> {
    files.ending("_MTL.json").or_else(|| files.ending("_MTL.txt"))
}

/// True where the files look like such a delivery.
pub(crate) fn is_one(files: &Files) -> bool {
    metadata_file(files).is_some()
}

/// Opens a delivery.
pub(crate) fn open(files: &Files, note: &mut dyn FnMut(Note)) -> Result<Scene> {
    let here = Place::file(&files.path);
    let Some(file) = metadata_file(files) else { return Err(Error::usage(here, "has no metadata file")) };
    let mtl = Mtl::read(file)?;
    let (platform, instrument) = (mtl.needed(IMAGE, "SPACECRAFT_ID")?, mtl.needed(IMAGE, "SENSOR_ID")?);
    let Some((sensor, platform)) = sensor::by_metadata(platform, instrument) else {
        return Err(Error::unsupported(
            here,
            format!("the sensor {instrument} on {platform}"),
            &["TM on LANDSAT_4 and LANDSAT_5", "ETM on LANDSAT_7", "OLI_TIRS on LANDSAT_8 and LANDSAT_9"],
        ));
    };
    let id = mtl.needed(CONTENTS, "LANDSAT_PRODUCT_ID")?.to_string();
    let level = match mtl.any(CONTENTS, "PROCESSING_LEVEL") {
        Some(level) => level.to_string(),
        None => mtl.needed(CONTENTS, "DATA_TYPE")?.to_string(), // Collection 1
    };
    if !level.starts_with("L1") && !level.starts_with("L2") {
        return Err(Error::unsupported(
            here,
            format!("processing level {level}"),
            &["L1TP", "L1GT", "L1GS", "L2SP", "L2SR"],
        ));
    }
    let (bands, absent) = bands(files, &mtl, sensor, (&level, &platform.id))?;
    for name in absent {
        note(Note::Metadata(format!("{id}: the metadata name {name}, but the delivery does not hold it")));
    }
    let mut from_radiance = false;
    for def in sensor.bands.iter().filter(|_| level.starts_with("L1")) {
        from_radiance |= irradiance(&mtl, def, &platform.id)?.is_some();
    }
    if from_radiance {
        note(Note::Metadata(format!(
            "{id}: its metadata state no coefficients of reflectance: it is computed from radiance and the sun's irradiance, which differs by up to a few per cent"
        )));
    }
    let Some(first) = bands.first() else {
        return Err(Error::malformed(here, "none of the bands that its metadata name is there"));
    };
    let grid = first.source.spec().grid.clone();
    let (date, acquired) = when(&mtl)?;
    Ok(Scene {
        flags: flags(files, &mtl, sensor, &here)?,
        grid,
        bands,
        sensor: sensor.id.clone(),
        platform: platform.name.clone(),
        level,
        acquired,
        date: Some(date),
        place: Some(format!("path {} row {}", mtl.needed(IMAGE, "WRS_PATH")?, mtl.needed(IMAGE, "WRS_ROW")?)),
        sun: sun(&mtl)?,
        cloud_cover: mtl.any_number(IMAGE, "CLOUD_COVER")?.filter(|c| *c >= 0.0), // -1: not computed
        dark: vec![],
        sun_zenith: sun_zenith(files, &mtl)?,
        relief: None,
        mask: None,
        digest: digest(&mtl.bytes, files.list()),
        id,
    })
}

fn when(mtl: &Mtl) -> Result<(Date, Option<jiff::Timestamp>)> {
    let text = mtl.needed(IMAGE, "DATE_ACQUIRED")?;
    let date: Date =
        text.parse().map_err(|_| mtl.wrong(IMAGE[0], "DATE_ACQUIRED", &format!("is '{text}', not a date")))?;
    let time = mtl.any(IMAGE, "SCENE_CENTER_TIME").and_then(|t| t.trim_end_matches('Z').parse::<Time>().ok());
    let acquired = time.and_then(|t| TimeZone::UTC.to_timestamp(date.to_datetime(t)).ok());
    Ok((date, acquired))
}

fn sun(mtl: &Mtl) -> Result<Option<Sun>> {
    let (elevation, azimuth) = (mtl.any_number(IMAGE, "SUN_ELEVATION")?, mtl.any_number(IMAGE, "SUN_AZIMUTH")?);
    Ok(elevation.map(|e| Sun { elevation: Degrees(e), azimuth: Degrees(azimuth.unwrap_or(f64::NAN)) }))
}

/// The sun's zenith angle of each cell, where the delivery holds it: hundredths of a degree.
fn sun_zenith(files: &Files, mtl: &Mtl) -> Result<Option<Arc<dyn PlaneSource>>> {
    let named = mtl.any(CONTENTS, "FILE_NAME_ANGLE_SOLAR_ZENITH_BAND_4").and_then(|name| files.get(name));
    let Some(bytes) = named.or_else(|| files.ending("_SZA.TIF")) else { return Ok(None) };
    let coding = Coding { scale: 0.01, offset: 0.0, fill: vec![0.0], valid: Some((1.0, 17_999.0)), unit: Unit::Degree };
    Ok(Some(Arc::new(TiffPlane::new(&Tiff::open(bytes.clone())?, 0, Reading::Coded(coding))?)))
}

/// The bands whose files are there, and the names of those that are not.
fn bands(
    files: &Files,
    mtl: &Mtl,
    sensor: &SensorDef,
    (level, platform): (&str, &str),
) -> Result<(Vec<Band>, Vec<String>)> {
    let (mut bands, mut absent) = (vec![], vec![]);
    for def in sensor.bands.iter().filter(|d| d.is_in(level)) {
        let Some(name) = mtl.any(CONTENTS, &format!("FILE_NAME_BAND_{}", def.key)) else { continue };
        match files.get(name) {
            Some(bytes) => bands.push(band(bytes, mtl, def, (level, platform))?),
            None => absent.push(name.to_string()),
        }
    }
    Ok((bands, absent))
}

fn band(bytes: &ByteRange, mtl: &Mtl, def: &BandDef, (level, platform): (&str, &str)) -> Result<Band> {
    let Some(role) = def.role() else { unreachable!("the sensor files are checked by a test") };
    let tiff = Tiff::open(bytes.clone())?;
    let (content, reading) = match level.starts_with("L2") {
        true => surface(mtl, def)?,
        false => (Content::Counts(coefficients(mtl, def, platform)?), Reading::Counts { fill: Some(FILL) }),
    };
    Ok(Band {
        role,
        name: def.name(),
        edges: def.edges(),
        wavelength: def.effective_nm.map(Nanometres),
        content,
        radiance_of_one: None,
        source: Arc::new(TiffPlane::new(&tiff, 0, reading)?),
    })
}

/// A band of Level 2: surface reflectance, or temperature.
fn surface(mtl: &Mtl, def: &BandDef) -> Result<(Content, Reading)> {
    let unit = def.unit();
    let (groups, quantity) = match unit {
        Unit::Kelvin => (SURFACE_TEMPERATURE, "TEMPERATURE"),
        _ => (SURFACE_REFLECTANCE, "REFLECTANCE"),
    };
    let needed =
        |key: String| mtl.any_number(groups, &key)?.map_or_else(|| mtl.needed(groups, &key).map(|_| f64::NAN), Ok);
    let scale = needed(format!("{quantity}_MULT_BAND_{}", def.key))?;
    let offset = needed(format!("{quantity}_ADD_BAND_{}", def.key))?;
    let coding = Coding { scale, offset, fill: vec![f64::from(FILL)], valid: None, unit };
    Ok((Content::Values(unit), Reading::Coded(coding)))
}

fn coefficients(mtl: &Mtl, def: &BandDef, platform: &str) -> Result<Coefficients> {
    let key = &def.key;
    let one =
        |groups: &[&str], name: String| -> Result<Coefficient<f64>> { Ok(mtl.any_number(groups, &name)?.ok_or(name)) };
    let line = |quantity: &str| -> Result<Coefficient<Line>> {
        let mult = one(RESCALING, format!("{quantity}_MULT_BAND_{key}"))?;
        let add = one(RESCALING, format!("{quantity}_ADD_BAND_{key}"))?;
        Ok(mult.and_then(|gain| add.map(|offset| Line { gain, offset })))
    };
    let k1 = one(THERMAL, format!("K1_CONSTANT_BAND_{key}"))?;
    let k2 = one(THERMAL, format!("K2_CONSTANT_BAND_{key}"))?;
    let radiance = line("RADIANCE")?;
    // older deliveries state radiance alone
    let reflectance = match (&radiance, irradiance(mtl, def, platform)?) {
        (Ok(radiance), Some(irradiance)) => Ok(reflectance_of_radiance(*radiance, irradiance, distance(mtl)?)),
        _ => line("REFLECTANCE")?,
    };
    Ok(Coefficients {
        radiance,
        reflectance,
        thermal: k1.and_then(|a| k2.map(|b| (a, b))),
        saturated: mtl.any_number(LIMITS, &format!("QUANTIZE_CAL_MAX_BAND_{key}"))?.map(|v| v as u16),
    })
}

/// The sun's irradiance of a band of Level 1 whose metadata state radiance alone.
fn irradiance(mtl: &Mtl, def: &BandDef, platform: &str) -> Result<Option<f64>> {
    let stated = |quantity: &str| mtl.any_number(RESCALING, &format!("{quantity}_MULT_BAND_{}", def.key));
    let alone = stated("REFLECTANCE")?.is_none() && stated("RADIANCE")?.is_some();
    Ok(def.irradiance.get(platform).copied().filter(|_| alone))
}

/// Distance of the sun, astronomical units.
fn distance(mtl: &Mtl) -> Result<f64> {
    match mtl.any_number(IMAGE, "EARTH_SUN_DISTANCE")? {
        Some(distance) => Ok(distance),
        None => Ok(earth_sun_distance(f64::from(when(mtl)?.0.day_of_year()))),
    }
}

fn flags(files: &Files, mtl: &Mtl, sensor: &SensorDef, here: &Place) -> Result<Vec<FlagPlane>> {
    let mut planes = vec![];
    let mut lacking = None;
    for def in &sensor.flags {
        let bytes = mtl.any(CONTENTS, &def.file_key).and_then(|name| files.get(name));
        let bytes = bytes.or_else(|| files.ending(&format!("_{}.TIF", def.key)));
        let Some(bytes) = bytes else {
            if def.required {
                lacking = Some(&def.key);
            }
            continue;
        };
        let tiff = Tiff::open(bytes.clone())?;
        planes.push(flag_plane(def, |reading| Ok(Arc::new(TiffPlane::new(&tiff, 0, reading)?)))?);
    }
    // another flag plane that marks fill will do, as that of Collection 1
    let marks_fill = planes.iter().any(|p| p.legend.iter().any(|(_, r)| *r == Reasons::FILL));
    match lacking.filter(|_| !marks_fill) {
        Some(key) => {
            Err(Error::malformed(here.clone(), format!("has no {key} file: clouds cannot be masked without it")))
        }
        None => Ok(planes),
    }
}
