//! Plots from GeoJSON, and fields with statistics back into it.
//!
//! Source: RFC 7946: coordinates are longitude and latitude. An old-style `crs` member is honoured.

use std::collections::BTreeMap;
use std::path::Path;

use geojson::{Feature, FeatureCollection, GeoJson, GeometryValue, Position};
use serde_json::Value as Json;
use telechroma_core::attribute::Value;
use telechroma_core::geo::{Crs, Projector};
use telechroma_core::plot::{Plot, Polygon, densify};

use super::{Features, ring};
use crate::error::{Error, Place, Result};

/// Plots with their attributes, as the file has them.
#[derive(Debug, Clone)]
pub struct PlotFile {
    /// Name of the file without folder and ending.
    pub stem: String,
    /// The coordinate system of `plots`.
    pub crs: Crs,
    /// The plots, in the file's order.
    pub plots: Vec<Plot>,
    /// Names of the attributes, in the order they are first seen.
    pub attributes: Vec<String>,
    /// Attributes of each plot.
    pub values: Vec<BTreeMap<String, Json>>,
    /// The attribute that is the id.
    pub id: String,
    /// Fingerprint of the file.
    pub digest: String,
    features: Vec<Feature>,
}

/// The most a plot file may have: it is held in memory.
const LARGEST: u64 = 1 << 31;

/// Reads plots. `id` names the attribute that is unique; without it, one of the usual names is looked for.
///
/// # Errors
/// Where the file is malformed, or its ids are missing or double.
pub fn read(path: &Path, id: Option<&str>) -> Result<PlotFile> {
    let place = || Place::file(path);
    let (bytes, json) = parsed(path)?;
    let collection = match json {
        GeoJson::FeatureCollection(c) => c,
        GeoJson::Feature(f) => FeatureCollection { bbox: None, features: vec![f], foreign_members: None },
        GeoJson::Geometry(_) => {
            return Err(Error::usage(place(), "holds a bare geometry; plots need an id, so a FeatureCollection"));
        }
    };
    let crs = crs_of(&collection, path)?;
    if collection.features.is_empty() {
        return Err(Error::usage(place(), "holds no plot"));
    }
    let mut attributes: Vec<String> = vec![];
    let mut values = vec![];
    for f in &collection.features {
        let properties = f.properties.clone().unwrap_or_default();
        for key in properties.keys().filter(|k| !attributes.contains(k)).cloned().collect::<Vec<_>>() {
            attributes.push(key);
        }
        values.push(properties.into_iter().collect::<BTreeMap<String, Json>>());
    }
    let id = id_attribute(id, &attributes, path)?;
    let ids = ids(&id, &values, path)?;
    let mut plots = vec![];
    for (n, (f, id)) in collection.features.iter().zip(ids).enumerate() {
        let parts = parts(f)
            .map_err(|what| Error::malformed(Place::part(place().file, format!("feature {} ({id})", n + 1)), what))?;
        plots.push(Plot { id, parts });
    }
    let stem = path.file_stem().map_or("plots".into(), |s| s.to_string_lossy().into_owned());
    let digest = crate::delivery::digest(&bytes, std::iter::empty());
    Ok(PlotFile { stem, crs, plots, attributes, values, id, digest, features: collection.features })
}

/// Polygons of a file with their attributes; features that are no polygons have none.
///
/// # Errors
/// Where the file is malformed.
pub(super) fn features(path: &Path) -> Result<Features> {
    let collection = match parsed(path)?.1 {
        GeoJson::FeatureCollection(c) => c,
        GeoJson::Feature(f) => FeatureCollection { bbox: None, features: vec![f], foreign_members: None },
        GeoJson::Geometry(g) => {
            FeatureCollection { bbox: None, features: vec![Feature::from(g)], foreign_members: None }
        }
    };
    let value = |v: Json| match v {
        Json::String(t) => Value::Text(t),
        Json::Number(n) => n.as_f64().map_or(Value::Missing, Value::Number),
        Json::Bool(b) => Value::Truth(b),
        _ => Value::Missing,
    };
    let mut rows = vec![];
    for (n, f) in collection.features.iter().enumerate() {
        let is_polygon = matches!(
            f.geometry.as_ref().map(|g| &g.value),
            Some(GeometryValue::Polygon { .. } | GeometryValue::MultiPolygon { .. })
        );
        let at = |what: String| {
            Error::malformed(Place::part(path.display().to_string(), format!("feature {}", n + 1)), what)
        };
        let polygons = if is_polygon { parts(f).map_err(at)? } else { vec![] };
        let attributes = f.properties.clone().unwrap_or_default().into_iter().map(|(k, v)| (k, value(v)));
        rows.push((attributes.collect(), polygons));
    }
    Ok(Features { crs: crs_of(&collection, path)?, rows })
}

fn parsed(path: &Path) -> Result<(Vec<u8>, GeoJson)> {
    let place = || Place::file(path);
    let bytes = crate::bytes::ByteRange::whole(path)?.read_all(LARGEST)?;
    let text = std::str::from_utf8(&bytes).map_err(|_| Error::malformed(place(), "is not UTF-8 text"))?;
    let json = text.parse().map_err(|e| Error::malformed(place(), format!("is not GeoJSON: {e}")))?;
    Ok((bytes, json))
}

/// Names an id is looked for under, if none is given.
const USUAL_IDS: &[&str] = &["id", "plot", "plot_id", "field", "field_id", "name"];

fn id_attribute(asked: Option<&str>, attributes: &[String], path: &Path) -> Result<String> {
    let list = if attributes.is_empty() { "none".into() } else { attributes.join(", ") };
    let has = |name: &str| attributes.iter().any(|a| a == name);
    match asked {
        Some(name) if has(name) => Ok(name.into()),
        Some(name) => {
            let near = telechroma_core::error::nearest(name, attributes)
                .map_or(String::new(), |n| format!(": did you mean '{n}'?"));
            Err(Error::usage(
                Place::file(path),
                format!("the plots have no attribute '{name}'{near} (they have {list})"),
            ))
        }
        None => match USUAL_IDS.iter().find(|n| has(n)) {
            Some(name) => Ok((*name).into()),
            None => Err(Error::usage(
                Place::file(path),
                format!("which attribute is the plots' id is not clear; they have {list}"),
            )),
        },
    }
}

fn ids(id: &str, values: &[BTreeMap<String, Json>], path: &Path) -> Result<Vec<String>> {
    let mut seen: BTreeMap<String, usize> = BTreeMap::new();
    let mut ids = vec![];
    for (n, v) in values.iter().enumerate() {
        let at = || Place::part(path.display().to_string(), format!("feature {}", n + 1));
        let text = match v.get(id) {
            Some(Json::String(s)) if !s.trim().is_empty() => s.clone(),
            Some(Json::Number(x)) => x.to_string(),
            _ => return Err(Error::malformed(at(), format!("the plot has no '{id}', which should be its id"))),
        };
        if let Some(first) = seen.insert(text.clone(), n) {
            return Err(Error::malformed(
                at(),
                format!("its {id} '{text}' is that of feature {} too: ids must be unique", first + 1),
            ));
        }
        ids.push(text);
    }
    Ok(ids)
}

fn crs_of(c: &FeatureCollection, path: &Path) -> Result<Crs> {
    let Some(member) = c.foreign_members.as_ref().and_then(|m| m.get("crs")).filter(|v| !v.is_null()) else {
        return Ok(Crs::LONGITUDE_LATITUDE);
    };
    let name = member["properties"]["name"].as_str().unwrap_or_default();
    if name.ends_with("CRS84") {
        return Ok(Crs::LONGITUDE_LATITUDE);
    }
    let code = name
        .to_uppercase()
        .contains("EPSG")
        .then(|| name.rsplit([':', '/']).next())
        .flatten()
        .and_then(|c| c.parse().ok());
    let here = Place::part(path.display().to_string(), "member crs");
    match code {
        Some(code) => Crs::from_epsg(code).map_err(|e| Error::malformed(here, e.to_string())),
        None => Err(Error::unsupported(here, format!("the coordinate system '{name}'"), &["EPSG codes", "CRS84"])),
    }
}

fn parts(f: &Feature) -> std::result::Result<Vec<Polygon>, String> {
    match f.geometry.as_ref().map(|g| &g.value) {
        Some(GeometryValue::Polygon { coordinates }) => Ok(vec![polygon(coordinates)?]),
        Some(GeometryValue::MultiPolygon { coordinates }) => coordinates.iter().map(|c| polygon(c)).collect(),
        Some(other) => Err(format!("is a {}, but plots are polygons", other.type_name())),
        None => Err("has no geometry".into()),
    }
}

fn polygon(rings: &[Vec<Position>]) -> std::result::Result<Polygon, String> {
    let ring = |r: &Vec<Position>| {
        let position = |p: &Position| match p.as_slice() {
            [x, y, ..] => (*x, *y),
            _ => (f64::NAN, f64::NAN),
        };
        ring(r.iter().map(position))
    };
    let mut rings = rings.iter();
    let outer = ring(rings.next().ok_or("is an empty polygon")?)?;
    Ok(Polygon { outer, holes: rings.map(ring).collect::<std::result::Result<_, _>>()? })
}

impl PlotFile {
    /// The plots in another coordinate system. Long edges get corners in between first.
    ///
    /// # Errors
    /// Where a position has no coordinates there.
    pub fn in_crs(&self, crs: Crs) -> Result<Vec<Plot>> {
        let projector = Projector::new(self.crs, crs)?;
        if projector.is_identity() {
            return Ok(self.plots.clone());
        }
        let mut out = vec![];
        for plot in &self.plots {
            let parts = plot.parts.iter().map(|p| densify(p, self.crs.is_geographic())).collect();
            let dense = Plot { id: plot.id.clone(), parts };
            let moved = dense.map(|x, y| projector.project(x, y)).map_err(|e| {
                Error::usage(Place::part(self.stem.clone(), format!("plot {}", plot.id)), e.to_string())
            })?;
            out.push(moved);
        }
        Ok(out)
    }

    /// The features with more properties, as GeoJSON text; the coordinate system stays the file's own.
    pub fn with_properties(&self, more: &[BTreeMap<String, Json>]) -> String {
        let mut features = vec![];
        for (f, more) in self.features.iter().zip(more) {
            let mut f = f.clone();
            let properties = f.properties.get_or_insert_default();
            properties.extend(more.iter().map(|(k, v)| (k.clone(), v.clone())));
            features.push(f);
        }
        let mut foreign = serde_json::Map::new();
        if self.crs != Crs::LONGITUDE_LATITUDE {
            let name = match self.crs.epsg() {
                Some(code) => format!("urn:ogc:def:crs:EPSG::{code}"),
                None => self.crs.to_string(),
            };
            foreign.insert("crs".into(), serde_json::json!({"type": "name", "properties": {"name": name}}));
        }
        let foreign_members = (!foreign.is_empty()).then_some(foreign);
        FeatureCollection { bbox: None, features, foreign_members }.to_string()
    }
}
