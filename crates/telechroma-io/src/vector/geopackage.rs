//! GeoPackage, which is an SQLite file.
//!
//! Source: OGC GeoPackage 1.3 (12-128r17); the spatial index and its triggers follow annex F.3.

use std::path::Path;

use rusqlite::types::{ToSqlOutput, Value as Sql, ValueRef};
use rusqlite::{Connection, OpenFlags};
use telechroma_core::attribute::Value;
use telechroma_core::feature::{Features, Field, FieldKind};
use telechroma_core::geo::Crs;
use telechroma_core::plot::Shape;

use super::raw::{Found, Raw, stated};
use super::{Source, wkb};
use crate::error::{Error, Place, Result};

/// A layer: table, column of the shapes, number of the coordinate system.
type Layer = (String, String, i64);

pub(super) fn read(source: &Source) -> Result<Raw> {
    let path = &source.path;
    let place = || Place::file(path);
    let wrong = |e: rusqlite::Error| Error::malformed(place(), format!("is no GeoPackage, or a damaged one: {e}"));
    let flags = OpenFlags::SQLITE_OPEN_READ_ONLY | OpenFlags::SQLITE_OPEN_NO_MUTEX;
    let db = Connection::open_with_flags(path, flags).map_err(wrong)?;
    let (table, column, srs) = choose(&db, path, source.layer.as_deref()).map_err(|e| match e {
        Choice::Sql(e) => wrong(e),
        Choice::Ours(e) => e,
    })?;
    let own = crs(&db, srs)
        .map_err(wrong)?
        .map_err(|e| Error::malformed(Place::part(place().file, format!("layer {table}")), e))?;
    let crs = stated(source, own, "states no coordinate system")?;
    let quoted = quote(&table);
    let mut query = db.prepare(&format!("SELECT * FROM {quoted}")).map_err(wrong)?;
    let columns = columns(&db, &table).map_err(wrong)?;
    if columns.len() != query.column_count() {
        return Err(Error::malformed(place(), format!("its layer {table} is damaged")));
    }
    let fields: Vec<Field> = columns.iter().filter(|f| f.name != column).cloned().collect();
    let mut found = query.query([]).map_err(wrong)?;
    let mut rows = vec![];
    while let Some(row) = found.next().map_err(wrong)? {
        let (mut values, mut shape): (Vec<Value>, Found) = (vec![], Ok(Shape::Nothing.into()));
        for (i, field) in columns.iter().enumerate() {
            let cell = row.get_ref(i).map_err(wrong)?;
            match (field.name == column, cell) {
                (true, ValueRef::Blob(blob)) => shape = from_blob(blob),
                (true, _) => {}
                (false, cell) => values.push(value(cell, field.kind)),
            }
        }
        rows.push((values, shape));
    }
    Ok(Raw { crs, fields, rows })
}

fn value(cell: ValueRef, kind: FieldKind) -> Value {
    match cell {
        ValueRef::Integer(n) if kind == FieldKind::Truth => Value::Truth(n != 0),
        ValueRef::Integer(n) if kind == FieldKind::Number => Value::Number(n as f64),
        ValueRef::Integer(n) => Value::Whole(n),
        ValueRef::Real(n) => Value::Number(n),
        ValueRef::Text(t) => Value::Text(String::from_utf8_lossy(t).into_owned()),
        ValueRef::Null | ValueRef::Blob(_) => Value::Missing,
    }
}

fn quote(name: &str) -> String {
    format!("\"{}\"", name.replace('"', "\"\""))
}

/// A table's columns; asked as text, as the library's own names must be sound UTF-8.
fn columns(db: &Connection, table: &str) -> rusqlite::Result<Vec<Field>> {
    let mut query = db.prepare("SELECT name, type FROM pragma_table_info(?1) ORDER BY cid")?;
    let mut found = query.query([table])?;
    let mut all = vec![];
    while let Some(row) = found.next()? {
        let text = |i: usize| -> rusqlite::Result<String> {
            Ok(match row.get_ref(i)? {
                ValueRef::Text(t) => String::from_utf8_lossy(t).into_owned(),
                _ => String::new(),
            })
        };
        all.push(Field { name: text(0)?, kind: kind(&text(1)?) });
    }
    Ok(all)
}

/// The kind of a declared type.
fn kind(declared: &str) -> FieldKind {
    match declared.to_ascii_uppercase().split('(').next().unwrap_or_default() {
        "BOOLEAN" => FieldKind::Truth,
        "TINYINT" | "SMALLINT" | "MEDIUMINT" | "INT" | "INTEGER" => FieldKind::Whole,
        "FLOAT" | "DOUBLE" | "REAL" => FieldKind::Number,
        "DATE" => FieldKind::Date,
        "DATETIME" => FieldKind::Instant,
        _ => FieldKind::Text,
    }
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

/// The coordinate system of a number in the file's own list; none where the list says that it is not known.
fn crs(db: &Connection, srs: i64) -> rusqlite::Result<std::result::Result<Option<Crs>, String>> {
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
        Some(crs) => Ok(Some(crs)),
        None if row.1 == 0 || row.1 == -1 => Ok(None),
        None => Crs::from_wkt(&row.2).map(Some).map_err(|e| e.to_string()),
    })
}

/// A shape: a header of its own, then well-known binary.
fn from_blob(blob: &[u8]) -> Found {
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
        return Ok(Shape::Nothing.into()); // empty
    }
    wkb::read(blob.get(8 + envelope..).ok_or_else(damaged)?)
}

fn to_blob(shape: &Shape, srs: i32) -> Option<Vec<u8>> {
    let (bytes, [w, s, e, n]) = (wkb::write(shape)?, shape.bounds()?);
    let mut blob = b"GP\0\x03".to_vec(); // version 1, little-endian, with an envelope of x and y
    blob.extend(srs.to_le_bytes());
    [w, e, s, n].iter().for_each(|v| blob.extend(v.to_le_bytes()));
    blob.extend(bytes);
    Some(blob)
}

/// Moment of the last change in the file's own list: that of the run would make equal results differ.
fn last_change() -> String {
    let seconds = std::env::var("SOURCE_DATE_EPOCH").ok().and_then(|t| t.parse().ok()).unwrap_or(0);
    jiff::Timestamp::from_second(seconds).map_or("1970-01-01T00:00:00.000Z".into(), |t| format!("{t:.3}"))
}

/// Number of a coordinate system without a code in the file's own list.
const OWN: i32 = 100_000;

const TABLES: &str = "
PRAGMA application_id = 0x47504B47;
PRAGMA user_version = 10300;
CREATE TABLE gpkg_spatial_ref_sys (srs_name TEXT NOT NULL, srs_id INTEGER NOT NULL PRIMARY KEY, organization TEXT NOT NULL,
  organization_coordsys_id INTEGER NOT NULL, definition TEXT NOT NULL, description TEXT);
CREATE TABLE gpkg_contents (table_name TEXT NOT NULL PRIMARY KEY, data_type TEXT NOT NULL, identifier TEXT UNIQUE,
  description TEXT DEFAULT '', last_change DATETIME NOT NULL DEFAULT (strftime('%Y-%m-%dT%H:%M:%fZ','now')), min_x DOUBLE,
  min_y DOUBLE, max_x DOUBLE, max_y DOUBLE, srs_id INTEGER,
  CONSTRAINT fk_gc_r_srs_id FOREIGN KEY (srs_id) REFERENCES gpkg_spatial_ref_sys(srs_id));
CREATE TABLE gpkg_geometry_columns (table_name TEXT NOT NULL, column_name TEXT NOT NULL, geometry_type_name TEXT NOT NULL,
  srs_id INTEGER NOT NULL, z TINYINT NOT NULL, m TINYINT NOT NULL,
  CONSTRAINT pk_geom_cols PRIMARY KEY (table_name, column_name), CONSTRAINT uk_gc_table_name UNIQUE (table_name),
  CONSTRAINT fk_gc_tn FOREIGN KEY (table_name) REFERENCES gpkg_contents(table_name),
  CONSTRAINT fk_gc_srs FOREIGN KEY (srs_id) REFERENCES gpkg_spatial_ref_sys (srs_id));
CREATE TABLE gpkg_extensions (table_name TEXT, column_name TEXT, extension_name TEXT NOT NULL, definition TEXT NOT NULL,
  scope TEXT NOT NULL, CONSTRAINT ge_tce UNIQUE (table_name, column_name, extension_name));
INSERT INTO gpkg_spatial_ref_sys VALUES ('undefined cartesian', -1, 'NONE', -1, 'undefined', NULL),
  ('undefined geographic', 0, 'NONE', 0, 'undefined', NULL);
";

/// The index of a layer's shapes: kept up to date by these when other programs change the layer.
fn triggers(t: &str, c: &str, i: &str) -> String {
    let name = |what: &str| quote(&format!("rtree_{t}_{c}_{what}"));
    let (table, column, id, index) = (quote(t), quote(c), quote(i), quote(&format!("rtree_{t}_{c}")));
    let of = |row: &str| {
        format!(
            "{row}.{id}, ST_MinX({row}.{column}), ST_MaxX({row}.{column}), ST_MinY({row}.{column}), ST_MaxY({row}.{column})"
        )
    };
    let (new, full) = (of("NEW"), |row: &str| format!("({row}.{column} NOTNULL AND NOT ST_IsEmpty({row}.{column}))"));
    let none = format!("(NEW.{column} ISNULL OR ST_IsEmpty(NEW.{column}))");
    format!(
        "CREATE TRIGGER {} AFTER INSERT ON {table} WHEN {} BEGIN INSERT OR REPLACE INTO {index} VALUES ({new}); END;
         CREATE TRIGGER {} AFTER UPDATE OF {column} ON {table} WHEN OLD.{id} = NEW.{id} AND {} BEGIN
           INSERT OR REPLACE INTO {index} VALUES ({new}); END;
         CREATE TRIGGER {} AFTER UPDATE OF {column} ON {table} WHEN OLD.{id} = NEW.{id} AND {none} BEGIN
           DELETE FROM {index} WHERE id = OLD.{id}; END;
         CREATE TRIGGER {} AFTER UPDATE ON {table} WHEN OLD.{id} != NEW.{id} AND {} BEGIN
           DELETE FROM {index} WHERE id = OLD.{id}; INSERT OR REPLACE INTO {index} VALUES ({new}); END;
         CREATE TRIGGER {} AFTER UPDATE ON {table} WHEN OLD.{id} != NEW.{id} AND {none} BEGIN
           DELETE FROM {index} WHERE id IN (OLD.{id}, NEW.{id}); END;
         CREATE TRIGGER {} AFTER DELETE ON {table} WHEN OLD.{column} NOT NULL BEGIN
           DELETE FROM {index} WHERE id = OLD.{id}; END;",
        name("insert"),
        full("NEW"),
        name("update1"),
        full("NEW"),
        name("update2"),
        name("update3"),
        full("NEW"),
        name("update4"),
        name("delete"),
    )
}

/// A name that none of the columns has.
fn free(wanted: &str, fields: &[Field]) -> String {
    let taken = |n: &str| fields.iter().any(|f| f.name.eq_ignore_ascii_case(n));
    std::iter::once(wanted.to_string())
        .chain((1..).map(|i| format!("{wanted}_{i}")))
        .find(|n| !taken(n))
        .unwrap_or_default()
}

pub(super) fn write(path: &Path, features: &Features) -> Result<Vec<String>> {
    let failed = |e: rusqlite::Error| Error::malformed(Place::file(path), format!("cannot be written: {e}"));
    if path.exists() {
        std::fs::remove_file(path).map_err(|e| Error::io(path, e))?;
    }
    let layer = path.file_stem().map_or("plots".into(), |s| s.to_string_lossy().into_owned());
    let mut db = Connection::open(path).map_err(failed)?;
    // the file has its name only when it is complete: it needs no journal of its own
    db.execute_batch("PRAGMA journal_mode = OFF; PRAGMA synchronous = OFF;").map_err(failed)?;
    fill(&mut db, &layer, features).map_err(failed)?;
    db.close().map_err(|(_, e)| failed(e))?;
    Ok(vec![])
}

fn fill(db: &mut Connection, layer: &str, features: &Features) -> rusqlite::Result<()> {
    let tx = db.transaction()?;
    tx.execute_batch(TABLES)?;
    let system = "INSERT OR IGNORE INTO gpkg_spatial_ref_sys VALUES (?1, ?2, ?3, ?4, ?5, NULL)";
    let mut srs = OWN;
    for crs in [Crs::LONGITUDE_LATITUDE, features.crs] {
        let (number, organization) = match crs.epsg() {
            Some(code) => (code as i32, "EPSG"),
            None => (OWN, "NONE"),
        };
        tx.execute(system, rusqlite::params![crs.name(), number, organization, number, crs.to_wkt()])?;
        srs = number;
    }
    let bounds = features.bounds().map(|b| b.map(Some)).unwrap_or_default();
    tx.execute(
        "INSERT INTO gpkg_contents VALUES (?1, 'features', ?1, '', ?2, ?3, ?4, ?5, ?6, ?7)",
        rusqlite::params![layer, last_change(), bounds[0], bounds[1], bounds[2], bounds[3], srs],
    )?;
    let column = free("geom", &features.fields);
    let of = |pick: fn(&Shape) -> bool| features.rows.iter().all(|r| pick(&r.shape) || r.shape == Shape::Nothing);
    let geometry = match () {
        () if of(|s| matches!(s, Shape::Polygons(_))) => "MULTIPOLYGON",
        () if of(|s| matches!(s, Shape::Points(p) if p.len() == 1)) => "POINT",
        () => "GEOMETRY",
    };
    tx.execute(
        "INSERT INTO gpkg_geometry_columns VALUES (?1, ?2, ?3, ?4, 0, 0)",
        rusqlite::params![layer, column, geometry, srs],
    )?;
    // a column of whole numbers of that name that came out of such a file is its key again
    let key = features.column("fid").filter(|i| features.fields[*i].kind == FieldKind::Whole && distinct(features, *i));
    let id = if key.is_some() { "fid".to_string() } else { free("fid", &features.fields) };
    let declared = |f: &Field| {
        let kind = match f.kind {
            FieldKind::Truth => "BOOLEAN",
            FieldKind::Whole => "INTEGER",
            FieldKind::Number => "REAL",
            FieldKind::Text => "TEXT",
            FieldKind::Date => "DATE",
            FieldKind::Instant => "DATETIME",
        };
        format!(", {} {kind}", quote(&f.name))
    };
    let others: Vec<usize> = (0..features.fields.len()).filter(|i| Some(*i) != key).collect();
    let table = quote(layer);
    let columns: String = others.iter().map(|i| declared(&features.fields[*i])).collect();
    tx.execute_batch(&format!(
        "CREATE TABLE {table} ({} INTEGER PRIMARY KEY AUTOINCREMENT NOT NULL, {} {geometry}{columns});
         CREATE VIRTUAL TABLE {} USING rtree(id, minx, maxx, miny, maxy);",
        quote(&id),
        quote(&column),
        quote(&format!("rtree_{layer}_{column}"))
    ))?;
    let marks: String =
        (0..others.len() + 2).map(|i| format!("{}?{}", if i == 0 { "" } else { ", " }, i + 1)).collect();
    {
        let mut insert = tx.prepare(&format!("INSERT INTO {table} VALUES ({marks})"))?;
        let index = quote(&format!("rtree_{layer}_{column}"));
        let mut place = tx.prepare(&format!("INSERT INTO {index} VALUES (?1, ?2, ?3, ?4, ?5)"))?;
        for (n, row) in features.rows.iter().enumerate() {
            let number = match key.map(|k| &row.values[k]) {
                Some(Value::Whole(v)) => *v,
                _ => n as i64 + 1,
            };
            let blob = to_blob(&row.shape, srs);
            let mut cells: Vec<ToSqlOutput> = vec![number.into(), ToSqlOutput::Owned(Sql::from(blob.clone()))];
            cells.extend(others.iter().map(|i| sql(&row.values[*i])));
            insert.execute(rusqlite::params_from_iter(cells))?;
            if let (Some(_), Some([w, s, e, n])) = (blob, row.shape.bounds()) {
                place.execute(rusqlite::params![number, w, e, s, n])?;
            }
        }
    }
    tx.execute(
        "INSERT INTO gpkg_extensions VALUES (?1, ?2, 'gpkg_rtree_index', 'http://www.geopackage.org/spec120/#extension_rtree', 'write-only')",
        [layer, &column],
    )?;
    tx.execute_batch(&triggers(layer, &column, &id))?;
    tx.commit()
}

fn distinct(features: &Features, column: usize) -> bool {
    let mut seen = std::collections::HashSet::new();
    features.rows.iter().all(|r| matches!(r.values[column], Value::Whole(v) if seen.insert(v)))
}

fn sql(v: &Value) -> ToSqlOutput<'_> {
    match v {
        Value::Missing => ToSqlOutput::Owned(Sql::Null),
        Value::Text(t) => ToSqlOutput::Borrowed(ValueRef::Text(t.as_bytes())),
        Value::Number(n) => (*n).into(),
        Value::Whole(n) => (*n).into(),
        Value::Truth(b) => i64::from(*b).into(),
    }
}
