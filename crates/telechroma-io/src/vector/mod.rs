//! Plots and areas in: polygons with attributes, from GeoJSON, Shapefile and GeoPackage.

pub mod geojson;
mod geopackage;
mod shapefile;

use std::collections::BTreeMap;
use std::path::Path;

use telechroma_core::area::{Edge, Outline};
use telechroma_core::attribute::{Condition, Value};
use telechroma_core::geo::Crs;
use telechroma_core::plot::Polygon;

use crate::error::{Error, Place, Result};

/// Polygons with their attributes, as a file has them.
#[derive(Debug, Clone)]
pub struct Features {
    /// The coordinate system.
    pub crs: Crs,
    /// Attributes and polygons of each; points and lines have no polygon.
    pub rows: Vec<(BTreeMap<String, Value>, Vec<Polygon>)>,
}

/// The endings that can be read, for messages.
const KNOWN: &[&str] = &["GeoJSON (.geojson, .json)", "Shapefile (.shp)", "GeoPackage (.gpkg)"];

/// Reads a file of polygons; `layer` names one of several.
///
/// # Errors
/// Where it cannot be read, or which layer is meant is not clear.
pub fn read(path: &Path, layer: Option<&str>) -> Result<Features> {
    if !path.exists() {
        return Err(Error::usage(Place::file(path), "does not exist"));
    }
    let ending = path.extension().map_or(String::new(), |e| e.to_string_lossy().to_lowercase());
    let one_layer = |what: &str| match layer {
        Some(layer) => Err(Error::usage(Place::file(path), format!("is {what}, which has no layer '{layer}'"))),
        None => Ok(()),
    };
    match ending.as_str() {
        "geojson" | "json" => one_layer("GeoJSON").and_then(|()| geojson::features(path)),
        "shp" => one_layer("a Shapefile").and_then(|()| shapefile::features(path)),
        "gpkg" => geopackage::features(path, layer),
        _ => Err(Error::unsupported(Place::file(path), format!("a file of polygons of the kind '{ending}'"), KNOWN)),
    }
}

/// The area that the polygons of a file make, those that meet a condition.
///
/// # Errors
/// As [`read`]; where the condition asks for an attribute that is not there, or no polygon is left.
pub fn area(path: &Path, layer: Option<&str>, only: Option<&Condition>, edge: Edge) -> Result<Outline> {
    let found = read(path, layer)?;
    let place = || Place::file(path);
    if let Some(condition) = only {
        let mut known: Vec<&String> = found.rows.iter().flat_map(|r| r.0.keys()).collect();
        known.sort_unstable();
        known.dedup();
        if let Some(name) = condition.names().into_iter().find(|n| !known.iter().any(|k| k == n)) {
            let unknown = telechroma_core::Error::unknown("attribute", name, known);
            return Err(Error::usage(place(), unknown.to_string()));
        }
    }
    let total = found.rows.len();
    let meets = |row: &BTreeMap<String, Value>| only.is_none_or(|c| c.holds(row));
    let polygons: Vec<Polygon> = found.rows.into_iter().filter(|(row, _)| meets(row)).flat_map(|r| r.1).collect();
    if polygons.is_empty() {
        let what = match only {
            Some(_) => format!("none of its {total} features meets the condition and is a polygon"),
            None => "holds no polygon".into(),
        };
        return Err(Error::usage(place(), what));
    }
    let name = path.file_name().map_or(String::new(), |n| n.to_string_lossy().into_owned());
    Ok(Outline { name, crs: found.crs, polygons, edge })
}

/// A ring without its closing position.
///
/// # Errors
/// In words, where it is no ring.
fn ring(positions: impl Iterator<Item = (f64, f64)>) -> std::result::Result<Vec<(f64, f64)>, String> {
    let mut out: Vec<(f64, f64)> = vec![];
    for (x, y) in positions {
        if !(x.is_finite() && y.is_finite()) {
            return Err("has a position that is not two numbers".into());
        }
        out.push((x, y));
    }
    if out.len() > 1 && out.first() == out.last() {
        out.pop();
    }
    if out.len() < 3 { Err("has a ring of fewer than three corners".into()) } else { Ok(out) }
}
