//! Polygons from a Shapefile: `.shp` with its `.dbf` and `.prj`.
//!
//! Source: Shapefile Technical Description (white paper, July 1998).

use std::collections::BTreeMap;
use std::path::Path;

use shapefile::dbase::FieldValue;
use shapefile::{Point, PolygonRing, Shape};
use telechroma_core::attribute::Value;
use telechroma_core::geo::Crs;
use telechroma_core::plot::Polygon;

use super::{Features, ring};
use crate::error::{Error, Place, Result};

pub(super) fn features(path: &Path) -> Result<Features> {
    let place = || Place::file(path);
    let crs = crs(path)?;
    let wrong = |e: shapefile::Error| match e {
        shapefile::Error::MissingDbf => Error::malformed(place(), "has no file .dbf beside it"),
        other => Error::malformed(place(), format!("cannot be read: {other}")),
    };
    let mut reader = shapefile::Reader::from_path(path).map_err(wrong)?;
    let mut rows = vec![];
    for (n, found) in reader.iter_shapes_and_records().enumerate() {
        let (shape, record) = found.map_err(wrong)?;
        let at = |what: String| Error::malformed(Place::part(place().file, format!("shape {}", n + 1)), what);
        let polygons = match &shape {
            Shape::Polygon(p) => polygons(p.rings(), |q: &Point| (q.x, q.y)).map_err(at)?,
            Shape::PolygonM(p) => polygons(p.rings(), |q| (q.x, q.y)).map_err(at)?,
            Shape::PolygonZ(p) => polygons(p.rings(), |q| (q.x, q.y)).map_err(at)?,
            _ => vec![],
        };
        let attributes: BTreeMap<String, Value> = record.into_iter().map(|(name, v)| (name, value(v))).collect();
        rows.push((attributes, polygons));
    }
    Ok(Features { crs, rows })
}

fn crs(path: &Path) -> Result<Crs> {
    let prj = ["prj", "PRJ", "Prj"].iter().map(|e| path.with_extension(e)).find(|p| p.exists());
    let Some(prj) = prj else {
        return Err(Error::usage(Place::file(path), "has no file .prj beside it: its coordinate system is not known"));
    };
    let text = std::fs::read(&prj).map_err(|e| Error::io(&prj, e))?;
    Crs::from_wkt(&String::from_utf8_lossy(&text)).map_err(|e| Error::malformed(Place::file(&prj), e.to_string()))
}

/// Outer rings with the holes that follow them; a hole before any outer ring belongs to none.
fn polygons<P>(
    rings: &[PolygonRing<P>],
    position: impl Fn(&P) -> (f64, f64),
) -> std::result::Result<Vec<Polygon>, String> {
    let mut out: Vec<Polygon> = vec![];
    for r in rings {
        match r {
            PolygonRing::Outer(p) => out.push(Polygon { outer: ring(p.iter().map(&position))?, holes: vec![] }),
            PolygonRing::Inner(p) => match out.last_mut() {
                Some(last) => last.holes.push(ring(p.iter().map(&position))?),
                None => return Err("begins with a hole".into()),
            },
        }
    }
    Ok(out)
}

fn value(v: FieldValue) -> Value {
    match v {
        FieldValue::Character(Some(t)) => Value::Text(t.trim().to_string()),
        FieldValue::Memo(t) => Value::Text(t),
        FieldValue::Numeric(Some(n)) | FieldValue::Currency(n) | FieldValue::Double(n) => Value::Number(n),
        FieldValue::Float(Some(n)) => Value::Number(f64::from(n)),
        FieldValue::Integer(n) => Value::Number(f64::from(n)),
        FieldValue::Logical(Some(b)) => Value::Truth(b),
        FieldValue::Date(Some(d)) => Value::Text(format!("{:04}-{:02}-{:02}", d.year(), d.month(), d.day())),
        _ => Value::Missing,
    }
}
