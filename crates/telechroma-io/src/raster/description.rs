//! What our rasters say of themselves, as JSON in the file's ImageDescription.

use serde::{Deserialize, Serialize};
use telechroma_core::units::Unit;

/// What a raster is.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum Kind {
    /// One scene's bands, calibrated.
    Calibrated,
    /// One scene's mask.
    Mask,
    /// A period's bands.
    Composite,
    /// A layer computed from bands.
    Layer,
    /// Bands of several inputs on one grid.
    Assembled,
    /// Numbers of classes.
    Classes,
}

/// A raster's description.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct Description {
    /// "telechroma" and its version.
    pub tool: String,
    /// What the raster is.
    pub kind: Kind,
    /// The period it stands for.
    #[serde(skip_serializing_if = "Option::is_none", default)]
    pub period: Option<String>,
    /// The scene it is of.
    #[serde(skip_serializing_if = "Option::is_none", default)]
    pub scene: Option<SceneInfo>,
    /// Its bands, in order.
    pub bands: Vec<BandInfo>,
    /// The bits of a mask.
    #[serde(skip_serializing_if = "Vec::is_empty", default)]
    pub legend: Vec<BitInfo>,
    /// The classes that numbers stand for.
    #[serde(skip_serializing_if = "Vec::is_empty", default)]
    pub classes: Vec<ClassInfo>,
    /// What it was made of.
    pub inputs: Vec<InputInfo>,
    /// What was done, in order.
    pub steps: Vec<String>,
}

/// The scene a raster is of.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct SceneInfo {
    /// Its id.
    pub id: String,
    /// Platform.
    pub platform: String,
    /// Day of acquisition, ISO.
    #[serde(skip_serializing_if = "Option::is_none", default)]
    pub date: Option<String>,
}

/// One band.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct BandInfo {
    /// A band role's name, an index, or a count.
    pub name: String,
    /// The unit's label.
    pub unit: String,
    /// Effective wavelength, nanometres.
    #[serde(skip_serializing_if = "Option::is_none", default)]
    pub wavelength_nm: Option<f64>,
    /// The formula it was computed by.
    #[serde(skip_serializing_if = "Option::is_none", default)]
    pub formula: Option<String>,
    /// Value of a step of stored whole numbers.
    #[serde(skip_serializing_if = "Option::is_none", default)]
    pub scale: Option<f64>,
    /// Value of a stored zero.
    #[serde(skip_serializing_if = "Option::is_none", default)]
    pub offset: Option<f64>,
}

impl BandInfo {
    /// A band of values as they are.
    pub fn new(name: impl Into<String>, unit: Unit) -> BandInfo {
        let unit = unit.label().into();
        BandInfo { name: name.into(), unit, wavelength_nm: None, formula: None, scale: None, offset: None }
    }
}

/// One bit of a mask.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct BitInfo {
    /// The bit's value.
    pub value: u16,
    /// The reason.
    pub reason: String,
}

/// One class.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct ClassInfo {
    /// The number that stands for it.
    pub value: u16,
    /// Its name.
    pub name: String,
    /// Its colour, `#rrggbb`.
    pub colour: String,
    /// Least value; none: no limit.
    #[serde(skip_serializing_if = "Option::is_none", default)]
    pub from: Option<f64>,
    /// The end of its values; none: no limit.
    #[serde(skip_serializing_if = "Option::is_none", default)]
    pub to: Option<f64>,
}

/// One input.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct InputInfo {
    /// The scene's id or the file's name.
    pub id: String,
    /// Its fingerprint.
    pub digest: String,
}

/// The tool's name and version as outputs carry it.
pub fn tool() -> String {
    format!("telechroma {}", env!("CARGO_PKG_VERSION"))
}

impl Description {
    /// Reads one back; none where the text is something else.
    pub fn from_text(text: &str) -> Option<Description> {
        serde_json::from_str(text).ok().filter(|d: &Description| d.tool.starts_with("telechroma "))
    }
}
