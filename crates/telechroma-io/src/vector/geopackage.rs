//! Polygons from a GeoPackage, which is an SQLite file.
//!
//! Source: OGC GeoPackage 1.3 (12-128r17).

use std::collections::BTreeMap;
use std::path::Path;

use geo_traits::to_geo::ToGeoGeometry;
use geo_types::Geometry;
use rusqlite::types::ValueRef;
use rusqlite::{Connection, OpenFlags};
use telechroma_core::attribute::Value;
use telechroma_core::geo::Crs;
use telechroma_core::plot::Polygon;

use super::{Features, ring};
use crate::error::{Error, Place, Result};

/// A layer: table, column of the shapes, number of the coordinate system.
type Layer = (String, String, i64);

pub(super) fn features(path: &Path, layer: Option<&str>) -> Result<Features> {
    let place = || Place::file(path);
    let wrong = |e: rusqlite::Error| Error::malformed(place(), format!("is no GeoPackage, or a damaged one: {e}"));
    let flags = OpenFlags::SQLITE_OPEN_READ_ONLY | OpenFlags::SQLITE_OPEN_NO_MUTEX;
    let db = Connection::open_with_flags(path, flags).map_err(wrong)?;
    let (table, column, srs) = choose(&db, path, layer).map_err(|e| match e {
        Choice::Sql(e) => wrong(e),
        Choice::Ours(e) => e,
    })?;
    let crs = crs(&db, srs)
        .map_err(wrong)?
        .map_err(|e| Error::malformed(Place::part(place().file, format!("layer {table}")), e))?;
    let quoted = table.replace('"', "\"\"");
    let mut query = db.prepare(&format!("SELECT * FROM \"{quoted}\"")).map_err(wrong)?;
    let names = columns(&db, &table).map_err(wrong)?;
    if names.len() != query.column_count() {
        return Err(Error::malformed(place(), format!("its layer {table} is damaged")));
    }
    let mut found = query.query([]).map_err(wrong)?;
    let mut rows = vec![];
    while let Some(row) = found.next().map_err(wrong)? {
        let (mut attributes, mut polygons) = (BTreeMap::new(), vec![]);
        for (i, name) in names.iter().enumerate() {
            let value = row.get_ref(i).map_err(wrong)?;
            if *name == column {
                if let ValueRef::Blob(blob) = value {
                    let at = Place::part(place().file, format!("layer {table}, row {}", rows.len() + 1));
                    polygons = shape(blob).map_err(|what| Error::malformed(at, what))?;
                }
                continue;
            }
            attributes.insert(
                name.clone(),
                match value {
                    ValueRef::Integer(n) => Value::Number(n as f64),
                    ValueRef::Real(n) => Value::Number(n),
                    ValueRef::Text(t) => Value::Text(String::from_utf8_lossy(t).into_owned()),
                    ValueRef::Null | ValueRef::Blob(_) => Value::Missing,
                },
            );
        }
        rows.push((attributes, polygons));
    }
    Ok(Features { crs, rows })
}

/// Names of a table's columns; asked as text, as the library's own names must be sound UTF-8.
fn columns(db: &Connection, table: &str) -> rusqlite::Result<Vec<String>> {
    let mut query = db.prepare("SELECT name FROM pragma_table_info(?1) ORDER BY cid")?;
    let mut found = query.query([table])?;
    let mut names = vec![];
    while let Some(row) = found.next()? {
        names.push(match row.get_ref(0)? {
            ValueRef::Text(t) => String::from_utf8_lossy(t).into_owned(),
            _ => String::new(),
        });
    }
    Ok(names)
}

enum Choice {
    Sql(rusqlite::Error),
    Ours(Error),
}

fn choose(db: &Connection, path: &Path, wanted: Option<&str>) -> std::result::Result<Layer, Choice> {
    let text = "SELECT table_name, column_name, srs_id FROM gpkg_geometry_columns ORDER BY table_name";
    let mut query = db.prepare(text).map_err(Choice::Sql)?;
    let layers = query.query_map([], |r| Ok((r.get(0)?, r.get(1)?, r.get(2)?))).map_err(Choice::Sql)?;
    let layers: Vec<Layer> = layers.collect::<rusqlite::Result<_>>().map_err(Choice::Sql)?;
    let names: Vec<&str> = layers.iter().map(|l| l.0.as_str()).collect();
    let usage = |what: String| Choice::Ours(Error::usage(Place::file(path), what));
    match (wanted, layers.as_slice()) {
        (_, []) => Err(usage("holds no layer of shapes".into())),
        (None, [one]) => Ok(one.clone()),
        (None, _) => Err(usage(format!("has several layers, name one: {}", names.join(", ")))),
        (Some(w), all) => match all.iter().find(|l| l.0 == w) {
            Some(l) => Ok(l.clone()),
            None => Err(usage(telechroma_core::Error::unknown("layer", w, names).to_string())),
        },
    }
}

/// The coordinate system of a number in the file's own list.
fn crs(db: &Connection, srs: i64) -> rusqlite::Result<std::result::Result<Crs, String>> {
    let text = "SELECT organization, organization_coordsys_id, definition FROM gpkg_spatial_ref_sys WHERE srs_id = ?1";
    let row: (String, i64, String) = db.query_row(text, [srs], |r| Ok((r.get(0)?, r.get(1)?, r.get(2)?)))?;
    let by_code = || {
        row.0
            .eq_ignore_ascii_case("epsg")
            .then(|| u32::try_from(row.1).ok())
            .flatten()
            .and_then(|c| Crs::from_epsg(c).ok())
    };
    Ok(match by_code() {
        Some(crs) => Ok(crs),
        None if row.1 == 0 || row.1 == -1 => Err("states no coordinate system".into()),
        None => Crs::from_wkt(&row.2).map_err(|e| e.to_string()),
    })
}

/// The polygons of a shape: a header of its own, then well-known binary.
fn shape(blob: &[u8]) -> std::result::Result<Vec<Polygon>, String> {
    let damaged = || "its shape is damaged".to_string();
    if blob.len() < 8 || blob[..2] != *b"GP" {
        return Err(damaged());
    }
    let flags = blob[3];
    let envelope = match flags >> 1 & 7 {
        0 => 0,
        1 => 32,
        2 | 3 => 48,
        4 => 64,
        _ => return Err(damaged()),
    };
    if flags & 0b1_0000 != 0 {
        return Ok(vec![]); // empty
    }
    let bytes = blob.get(8 + envelope..).ok_or_else(damaged)?;
    let read = wkb::reader::read_wkb(bytes).map_err(|_| damaged())?;
    Ok(match read.try_to_geometry() {
        Some(Geometry::Polygon(p)) => vec![polygon(&p)?],
        Some(Geometry::MultiPolygon(all)) => all.0.iter().map(polygon).collect::<std::result::Result<_, String>>()?,
        _ => vec![],
    })
}

fn polygon(p: &geo_types::Polygon<f64>) -> std::result::Result<Polygon, String> {
    let of = |l: &geo_types::LineString<f64>| ring(l.0.iter().map(|c| (c.x, c.y)));
    Ok(Polygon {
        outer: of(p.exterior())?,
        holes: p.interiors().iter().map(of).collect::<std::result::Result<_, String>>()?,
    })
}
