//! A file `RASTER.toml` beside a raster, which says what the raster itself does not: its layout if it has no header, its
//! sensor, its bands' names, its day.

use std::path::{Path, PathBuf};

use jiff::civil::Date;
use serde::{Deserialize, Serialize};
use telechroma_core::geo::{Affine, Crs};
use telechroma_core::grid::Grid;
use telechroma_core::units::Unit;

use crate::error::{Error, Place, Result};
use crate::raster::raw::{ORDERS, RawLayout};
use crate::raster::samples::{Coding, Reading, SampleFormat};

/// What lies beside a raster.
#[derive(Debug, Clone, Default, PartialEq, Deserialize, Serialize)]
#[serde(deny_unknown_fields)]
pub struct Sidecar {
    /// Id or file of the sensor that describes its bands.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub sensor: Option<String>,
    /// Names of its bands, in order.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub names: Vec<String>,
    /// The day it stands for.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub date: Option<String>,
    /// Coordinate system: an EPSG code, parameters or well-known text.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub crs: Option<String>,
    /// x and y of the outer corner of its first cell.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub corner: Option<[f64; 2]>,
    /// Width and height of a cell.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub cell: Option<[f64; 2]>,
    /// The stored number that means missing.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub missing: Option<f64>,
    /// Value of a step of the stored numbers, of all bands.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub scale: Option<f64>,
    /// Value of a stored zero.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub offset: Option<f64>,
    /// The values' unit, such as "reflectance" or "K".
    #[serde(skip_serializing_if = "Option::is_none")]
    pub unit: Option<String>,
    /// The layout of a headerless raster.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub raw: Option<RawDef>,
}

/// The layout of a headerless raster, as written.
#[derive(Debug, Clone, PartialEq, Deserialize, Serialize)]
#[serde(deny_unknown_fields)]
pub struct RawDef {
    /// Rows.
    pub rows: u32,
    /// Columns.
    pub cols: u32,
    /// Bands.
    pub bands: u32,
    /// Type of a sample, such as `uint16`.
    #[serde(rename = "type")]
    pub format: String,
    /// `band-sequential`, `line-interleaved` or `pixel-interleaved`.
    pub order: String,
    /// `little` or `big`.
    pub byte_order: String,
    /// Bytes before the first sample.
    #[serde(default)]
    pub skip: u64,
}

/// Where the file beside a raster lies.
pub fn beside(raster: &Path) -> PathBuf {
    let mut name = raster.as_os_str().to_os_string();
    name.push(".toml");
    name.into()
}

impl Sidecar {
    /// Reads the file beside a raster, if there is one.
    ///
    /// # Errors
    /// Where it cannot be read.
    pub fn of(raster: &Path) -> Result<Option<Sidecar>> {
        let path = beside(raster);
        let text = match std::fs::read_to_string(&path) {
            Ok(text) => text,
            Err(e) if e.kind() == std::io::ErrorKind::NotFound => return Ok(None),
            Err(e) => return Err(Error::io(&path, e)),
        };
        toml::from_str(&text).map(Some).map_err(|e| Error::malformed(Place::file(&path), e.to_string()))
    }

    /// The layout, checked.
    ///
    /// # Errors
    /// Where a name in it is not known, or there is none.
    pub fn layout(&self, place: &Place) -> Result<RawLayout> {
        let wrong = |what: String| Error::malformed(Place::part(place.file.clone(), "the file beside it"), what);
        let raw = self.raw.as_ref().ok_or_else(|| wrong("has no table [raw]".into()))?;
        let format = SampleFormat::from_name(&raw.format).ok_or_else(|| {
            let known: Vec<&str> = SampleFormat::all().map(SampleFormat::name).collect();
            wrong(format!("the type '{}' is not known; known: {}", raw.format, known.join(", ")))
        })?;
        let order = ORDERS.iter().find(|o| o.0 == raw.order).ok_or_else(|| {
            let known: Vec<&str> = ORDERS.iter().map(|o| o.0).collect();
            wrong(format!("the order '{}' is not known; known: {}", raw.order, known.join(", ")))
        })?;
        let big_endian = match raw.byte_order.as_str() {
            "little" => false,
            "big" => true,
            other => return Err(wrong(format!("the byte order '{other}' is not known; known: little, big"))),
        };
        if raw.rows == 0 || raw.cols == 0 || raw.bands == 0 || raw.rows > 1 << 30 || raw.cols > 1 << 24 {
            return Err(wrong(format!(
                "{} rows, {} columns and {} bands make no raster",
                raw.rows, raw.cols, raw.bands
            )));
        }
        Ok(RawLayout {
            cols: raw.cols,
            rows: raw.rows,
            bands: raw.bands,
            format,
            order: order.1,
            big_endian,
            skip: raw.skip,
        })
    }

    /// The grid of a headerless raster; cells as coordinates where none are stated.
    ///
    /// # Errors
    /// Where the layout or the coordinate system is wrong.
    pub fn grid(&self, place: &Place) -> Result<Grid> {
        let layout = self.layout(place)?;
        let wrong = |what: String| Error::malformed(Place::part(place.file.clone(), "the file beside it"), what);
        let crs = self.crs.as_deref().map(Crs::from_text).transpose().map_err(|e| wrong(e.to_string()))?;
        let transform = match (self.corner, self.cell) {
            (Some([x, y]), Some([w, h])) if w > 0.0 && h > 0.0 && x.is_finite() && y.is_finite() => {
                Affine::north_up(x, y, w, h)
            }
            (None, None) => Affine { a: 1.0, b: 0.0, c: 0.0, d: 0.0, e: 1.0, f: 0.0 },
            _ => return Err(wrong("corner and cell belong together, and a cell has a size".into())),
        };
        Ok(Grid { crs, transform, cols: layout.cols, rows: layout.rows })
    }

    /// How its stored numbers become values, and their unit.
    ///
    /// # Errors
    /// Where scale, offset or unit make no sense.
    pub fn reading(&self, place: &Place) -> Result<Reading> {
        let wrong = |what: String| Error::malformed(Place::part(place.file.clone(), "the file beside it"), what);
        let unit = self.unit.as_deref().map_or(Unit::Unknown, Unit::from_label);
        if let Some(text) = self.unit.as_deref().filter(|t| unit.label() != *t) {
            return Err(wrong(format!("the unit '{text}' is not known")));
        }
        let (scale, offset) = (self.scale.unwrap_or(1.0), self.offset.unwrap_or(0.0));
        if !(scale.is_finite() && scale != 0.0 && offset.is_finite()) {
            return Err(wrong("its scale and offset make no value".into()));
        }
        if self.missing.is_none() && (scale, offset) == (1.0, 0.0) {
            return Ok(Reading::Values(unit));
        }
        Ok(Reading::Coded(Coding { scale, offset, fill: self.missing.into_iter().collect(), valid: None, unit }))
    }

    /// The day it states.
    ///
    /// # Errors
    /// Where that is none.
    pub fn date(&self, place: &Place) -> Result<Option<Date>> {
        let wrong = |t: &str| {
            Error::malformed(
                Place::part(place.file.clone(), "the file beside it"),
                format!("'{t}' is not a day such as 2031-06-14"),
            )
        };
        self.date.as_deref().map(|t| t.parse().map_err(|_| wrong(t))).transpose()
    }

    /// As TOML.
    pub fn to_text(&self) -> String {
        toml::to_string(self).unwrap_or_default()
    }
}
