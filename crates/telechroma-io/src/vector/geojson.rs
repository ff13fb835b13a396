//! GeoJSON.
//!
//! Source: RFC 7946: coordinates are longitude and latitude of WGS 84, and are written so. An old-style `crs` member is
//! honoured in what is read.

use std::path::Path;

use geojson::{Feature as JsonFeature, FeatureCollection, GeoJson, Geometry, GeometryValue, Position};
use serde_json::Value as Json;
use telechroma_core::attribute::Value;
use telechroma_core::feature::Features;
use telechroma_core::geo::Crs;
use telechroma_core::plot::{Polygon, Ring, Shape};

use super::raw::{Drawn, Found, Raw, lines, points, ring, stated};
use super::{LARGEST, Source};
use crate::error::{Error, Place, Result};

pub(super) fn read(source: &Source) -> Result<Raw> {
    let path = &source.path;
    let collection = match parsed(path)? {
        GeoJson::FeatureCollection(c) => c,
        GeoJson::Feature(f) => FeatureCollection { bbox: None, features: vec![f], foreign_members: None },
        GeoJson::Geometry(g) => {
            FeatureCollection { bbox: None, features: vec![JsonFeature::from(g)], foreign_members: None }
        }
    };
    let crs = stated(source, Some(crs_of(&collection, path)?), "")?;
    let mut names: Vec<String> = vec![];
    let mut known = std::collections::HashMap::new();
    for key in collection.features.iter().filter_map(|f| f.properties.as_ref()).flat_map(|p| p.keys()) {
        known.entry(key.clone()).or_insert_with(|| {
            names.push(key.clone());
            names.len() - 1
        });
    }
    let row = |f: JsonFeature| {
        let found = shape(f.geometry.as_ref());
        let mut values = vec![Value::Missing; names.len()];
        for (key, v) in f.properties.unwrap_or_default() {
            values[known[&key]] = value(v);
        }
        (values, found)
    };
    let rows = collection.features.into_iter().map(row).collect();
    Ok(Raw::guessed(crs, names, rows))
}

fn parsed(path: &Path) -> Result<GeoJson> {
    let place = || Place::file(path);
    let bytes = crate::bytes::ByteRange::whole(path)?.read_all(LARGEST)?;
    let text = std::str::from_utf8(&bytes).map_err(|_| Error::malformed(place(), "is not UTF-8 text"))?;
    text.parse().map_err(|e| Error::malformed(place(), format!("is not GeoJSON: {e}")))
}

fn value(v: Json) -> Value {
    match v {
        Json::Null => Value::Missing,
        Json::String(t) => Value::Text(t),
        Json::Bool(b) => Value::Truth(b),
        Json::Number(n) => match n.as_i64() {
            Some(whole) => Value::Whole(whole),
            None => n.as_f64().map_or(Value::Missing, Value::Number),
        },
        // lists and objects have no column type: their text is kept
        other => Value::Text(other.to_string()),
    }
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

fn shape(geometry: Option<&Geometry>) -> Found {
    let Some(geometry) = geometry else { return Ok(Shape::Nothing.into()) };
    match &geometry.value {
        GeometryValue::Polygon { coordinates } => polygons(std::slice::from_ref(coordinates)),
        GeometryValue::MultiPolygon { coordinates } => polygons(coordinates),
        GeometryValue::Point { coordinates } => points(vec![position(coordinates)]),
        GeometryValue::MultiPoint { coordinates } => points(coordinates.iter().map(position).collect()),
        GeometryValue::LineString { coordinates } => lines(vec![coordinates.iter().map(position).collect()]),
        GeometryValue::MultiLineString { coordinates } => {
            lines(coordinates.iter().map(|l| l.iter().map(position).collect()).collect())
        }
        GeometryValue::GeometryCollection { .. } => Ok(Shape::Mixture.into()),
    }
}

fn position(p: &Position) -> (f64, f64) {
    match p.as_slice() {
        [x, y, ..] => (*x, *y),
        _ => (f64::NAN, f64::NAN),
    }
}

fn polygons(all: &[Vec<Vec<Position>>]) -> Found {
    let (mut out, mut unclosed) = (vec![], false);
    for rings in all {
        let mut one = |r: &Vec<Position>| {
            ring(r.iter().map(position)).map(|(r, closed)| {
                unclosed |= !closed;
                r
            })
        };
        let mut rings = rings.iter();
        let outer = one(rings.next().ok_or("is an empty polygon")?)?;
        out.push(Polygon { outer, holes: rings.map(one).collect::<std::result::Result<_, _>>()? });
    }
    Ok(Drawn { shape: Shape::Polygons(out), unclosed })
}

pub(super) fn write(path: &Path, features: &Features) -> Result<Vec<String>> {
    let features = features.in_crs(Crs::LONGITUDE_LATITUDE)?;
    let one = |row: &telechroma_core::feature::Feature| JsonFeature {
        bbox: None,
        id: None,
        geometry: geometry(&row.shape).map(Geometry::new),
        properties: Some(features.fields.iter().map(|f| f.name.clone()).zip(row.values.iter().map(json)).collect()),
        foreign_members: None,
    };
    // one feature a line: readable, and small differences stay small
    let mut text = String::from("{\"type\":\"FeatureCollection\",\"features\":[\n");
    for (i, row) in features.rows.iter().enumerate() {
        text += if i == 0 { "" } else { ",\n" };
        text += &one(row).to_string();
    }
    text += "\n]}\n";
    std::fs::write(path, text).map_err(|e| Error::io(path, e))?;
    Ok(vec![])
}

/// A value as JSON.
pub(crate) fn json(v: &Value) -> Json {
    match v {
        Value::Missing => Json::Null,
        Value::Text(t) => Json::from(t.as_str()),
        Value::Number(n) => serde_json::Number::from_f64(*n).map_or(Json::Null, Json::Number),
        Value::Whole(n) => Json::from(*n),
        Value::Truth(b) => Json::from(*b),
    }
}

fn geometry(shape: &Shape) -> Option<GeometryValue> {
    let position = |p: &(f64, f64)| Position::from([p.0, p.1]);
    // outlines run counter-clockwise and holes clockwise, closed
    let ring = |r: &Ring, wanted: f64| {
        let area: f64 = r.iter().zip(r.iter().cycle().skip(1)).map(|(a, b)| a.0 * b.1 - b.0 * a.1).sum();
        let mut all: Vec<Position> = r.iter().map(position).collect();
        if area * wanted < 0.0 {
            all.reverse();
        }
        all.extend(all.first().cloned());
        all
    };
    let polygon = |p: &Polygon| -> Vec<Vec<Position>> {
        std::iter::once(ring(&p.outer, 1.0)).chain(p.holes.iter().map(|h| ring(h, -1.0))).collect()
    };
    match shape {
        Shape::Polygons(all) => Some(match all.as_slice() {
            [] => return None,
            [one] => GeometryValue::new_polygon(polygon(one)),
            many => GeometryValue::new_multi_polygon(many.iter().map(polygon)),
        }),
        Shape::Points(all) => Some(match all.as_slice() {
            [one] => GeometryValue::new_point(position(one)),
            many => GeometryValue::new_multi_point(many.iter().map(position)),
        }),
        Shape::Lines(all) => {
            let line = |l: &Vec<(f64, f64)>| -> Vec<Position> { l.iter().map(position).collect() };
            Some(match all.as_slice() {
                [one] => GeometryValue::new_line_string(line(one)),
                many => GeometryValue::new_multi_line_string(many.iter().map(line)),
            })
        }
        Shape::Nothing | Shape::Mixture => None,
    }
}
