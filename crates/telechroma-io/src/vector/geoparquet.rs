//! GeoParquet: shapes as well-known binary in one column.
//!
//! Source: GeoParquet 1.1.0 (OGC 24-013). Written without an index of its own.

use std::fs::File;
use std::path::Path;

use parquet::file::reader::{FileReader, SerializedFileReader};
use serde_json::{Value as Json, json};
use telechroma_core::attribute::Value;
use telechroma_core::feature::{Features, Field, FieldKind};
use telechroma_core::geo::Crs;
use telechroma_core::plot::Shape;

use super::raw::{Found, Raw, stated};
use super::{Source, wkb};
use crate::error::{Error, Place, Result};
use crate::table::parquet::{Cells, Column, write as write_columns};

pub(super) fn read(source: &Source) -> Result<Raw> {
    // the library panics at some damaged files
    std::panic::catch_unwind(|| rows(source))
        .unwrap_or_else(|_| Err(Error::malformed(Place::file(&source.path), "is a damaged Parquet file")))
}

fn rows(source: &Source) -> Result<Raw> {
    let path = &source.path;
    let malformed = |what: String| Error::malformed(Place::file(path), what);
    let wrong = |e: parquet::errors::ParquetError| malformed(format!("is no Parquet file, or a damaged one: {e}"));
    let file = File::open(path).map_err(|e| Error::io(path, e))?;
    let reader = SerializedFileReader::new(file).map_err(wrong)?;
    let meta = reader.metadata().file_metadata();
    let text = meta.key_value_metadata().and_then(|all| all.iter().find(|kv| kv.key == "geo")?.value.clone());
    let Some(text) = text else {
        return Err(malformed("has no shapes: its metadata lack 'geo'".into()));
    };
    let geo: Json =
        serde_json::from_str(&text).map_err(|e| malformed(format!("its metadata 'geo' are damaged: {e}")))?;
    let column = geo["primary_column"].as_str().unwrap_or("geometry").to_string();
    let described = &geo["columns"][&column];
    let encoding = described["encoding"].as_str().unwrap_or_default();
    if encoding != "WKB" {
        return Err(Error::unsupported(
            Place::file(path),
            format!("the encoding '{encoding}' of its shapes"),
            &["WKB"],
        ));
    }
    let crs = stated(source, crs_of(described).map_err(malformed)?, "states no coordinate system")?;
    let schema = meta.schema_descr().root_schema().clone();
    let fields: Vec<Field> = schema
        .get_fields()
        .iter()
        .filter(|f| f.name() != column && f.is_primitive())
        .map(|f| Field { name: f.name().to_string(), kind: kind(f) })
        .collect();
    let mut rows = vec![];
    for row in reader.get_row_iter(None).map_err(wrong)? {
        let (mut values, mut shape): (Vec<Value>, Found) = (vec![], Ok(Shape::Nothing.into()));
        for (name, cell) in row.map_err(wrong)?.into_columns() {
            use parquet::record::Field as Cell;
            match (name == column, cell) {
                (true, Cell::Bytes(b)) => shape = wkb::read(b.data()),
                (true, _) => {}
                (false, cell) if fields.iter().any(|f| f.name == name) => values.push(value(cell)),
                (false, _) => {}
            }
        }
        rows.push((values, shape));
    }
    Ok(Raw { crs, fields, rows })
}

fn kind(t: &parquet::schema::types::Type) -> FieldKind {
    use parquet::basic::{ConvertedType, LogicalType, Type};
    let (logical, converted) = (t.get_basic_info().logical_type_ref(), t.get_basic_info().converted_type());
    match (logical, converted, t.get_physical_type()) {
        (Some(LogicalType::Date), _, _) | (_, ConvertedType::DATE, _) => FieldKind::Date,
        (Some(LogicalType::Timestamp { .. }), _, _)
        | (_, ConvertedType::TIMESTAMP_MILLIS | ConvertedType::TIMESTAMP_MICROS, _)
        | (_, _, Type::INT96) => FieldKind::Instant,
        (_, ConvertedType::DECIMAL, _) | (_, _, Type::FLOAT | Type::DOUBLE) => FieldKind::Number,
        (_, _, Type::BOOLEAN) => FieldKind::Truth,
        (_, _, Type::INT32 | Type::INT64) => FieldKind::Whole,
        (_, _, Type::BYTE_ARRAY | Type::FIXED_LEN_BYTE_ARRAY) => FieldKind::Text,
    }
}

fn value(cell: parquet::record::Field) -> Value {
    use parquet::record::Field as Cell;
    let number = |n: f64| if n.is_finite() { Value::Number(n) } else { Value::Missing };
    let moment =
        |t: std::result::Result<jiff::Timestamp, jiff::Error>| t.map_or(Value::Missing, |t| Value::Text(t.to_string()));
    match cell {
        Cell::Bool(b) => Value::Truth(b),
        Cell::Byte(n) => Value::Whole(n.into()),
        Cell::Short(n) => Value::Whole(n.into()),
        Cell::Int(n) => Value::Whole(n.into()),
        Cell::Long(n) => Value::Whole(n),
        Cell::UByte(n) => Value::Whole(n.into()),
        Cell::UShort(n) => Value::Whole(n.into()),
        Cell::UInt(n) => Value::Whole(n.into()),
        Cell::ULong(n) => i64::try_from(n).map_or(Value::Number(n as f64), Value::Whole),
        Cell::Float(n) => number(n.into()),
        Cell::Double(n) => number(n),
        Cell::Str(t) => Value::Text(t),
        Cell::Bytes(b) => Value::Text(String::from_utf8_lossy(b.data()).into_owned()),
        Cell::Date(days) => {
            let day = jiff::civil::date(1970, 1, 1).checked_add(jiff::Span::new().days(i64::from(days)));
            day.map_or(Value::Missing, |d| Value::Text(d.to_string()))
        }
        Cell::TimestampMillis(n) => moment(jiff::Timestamp::from_millisecond(n)),
        Cell::TimestampMicros(n) => moment(jiff::Timestamp::from_microsecond(n)),
        Cell::Decimal(d) => number(decimal(&d)),
        _ => Value::Missing,
    }
}

fn decimal(d: &parquet::data_type::Decimal) -> f64 {
    let whole = d.data().iter().enumerate().fold(0i128, |n, (i, b)| match i {
        0 => i128::from(*b as i8),
        _ => n << 8 | i128::from(*b),
    });
    whole as f64 / 10f64.powi(d.scale())
}

/// The coordinate system of a column: longitude and latitude where it says nothing, none where it says `null`.
fn crs_of(column: &Json) -> std::result::Result<Option<Crs>, String> {
    let Some(crs) = column.get("crs") else { return Ok(Some(Crs::LONGITUDE_LATITUDE)) };
    if crs.is_null() {
        return Ok(None);
    }
    let (authority, code) = (crs["id"]["authority"].as_str().unwrap_or_default(), &crs["id"]["code"]);
    match (authority, code.as_u64().or_else(|| code.as_str()?.parse().ok())) {
        ("OGC", _) if code == "CRS84" => Ok(Some(Crs::LONGITUDE_LATITUDE)),
        ("EPSG", Some(code)) => Crs::from_epsg(code as u32).map(Some).map_err(|e| e.to_string()),
        _ => Err(format!("its coordinate system {} has no EPSG code", crs["name"])),
    }
}

/// The system as PROJJSON where it is that of a UTM zone; shapes in other systems are written in degrees.
fn projjson(crs: Crs) -> Option<Json> {
    let (zone, north) = crs.utm_zone()?;
    let axis = |name: &str, short: &str, towards: &str, unit: &str| json!({"name": name, "abbreviation": short, "direction": towards, "unit": unit});
    let of = |name: &str, value: f64, unit: &str, code: u32| json!({"name": name, "value": value, "unit": unit, "id": {"authority": "EPSG", "code": code}});
    let base = json!({
        "type": "GeographicCRS", "name": "WGS 84",
        "datum": {"type": "GeodeticReferenceFrame", "name": "World Geodetic System 1984",
            "ellipsoid": {"name": "WGS 84", "semi_major_axis": 6_378_137, "inverse_flattening": 298.257_223_563}},
        "coordinate_system": {"subtype": "ellipsoidal",
            "axis": [axis("Geodetic latitude", "Lat", "north", "degree"), axis("Geodetic longitude", "Lon", "east", "degree")]},
        "id": {"authority": "EPSG", "code": 4326},
    });
    Some(json!({
        "$schema": "https://proj.org/schemas/v0.7/projjson.schema.json", "type": "ProjectedCRS", "name": crs.name(), "base_crs": base,
        "conversion": {"name": format!("UTM zone {zone}{}", if north { 'N' } else { 'S' }),
            "method": {"name": "Transverse Mercator", "id": {"authority": "EPSG", "code": 9807}},
            "parameters": [
                of("Latitude of natural origin", 0.0, "degree", 8801),
                of("Longitude of natural origin", f64::from(zone) * 6.0 - 183.0, "degree", 8802),
                of("Scale factor at natural origin", 0.9996, "unity", 8805),
                of("False easting", 500_000.0, "metre", 8806),
                of("False northing", if north { 0.0 } else { 10_000_000.0 }, "metre", 8807),
            ]},
        "coordinate_system": {"subtype": "Cartesian", "axis": [axis("Easting", "E", "east", "metre"), axis("Northing", "N", "north", "metre")]},
        "id": {"authority": "EPSG", "code": crs.epsg()?},
    }))
}

pub(super) fn write(path: &Path, features: &Features) -> Result<Vec<String>> {
    let crs = projjson(features.crs);
    let moved = if crs.is_none() { Some(features.in_crs(Crs::LONGITUDE_LATITUDE)?) } else { None };
    let features = moved.as_ref().unwrap_or(features);
    let mut name = "geometry".to_string();
    while features.column(&name).is_some() {
        name.push('_');
    }
    let types: std::collections::BTreeSet<&str> = features
        .rows
        .iter()
        .filter_map(|r| match &r.shape {
            Shape::Polygons(_) => Some("MultiPolygon"),
            Shape::Points(p) if p.len() == 1 => Some("Point"),
            Shape::Points(_) => Some("MultiPoint"),
            Shape::Lines(_) => Some("MultiLineString"),
            Shape::Nothing | Shape::Mixture => None,
        })
        .collect();
    let mut column = json!({"encoding": "WKB", "geometry_types": types});
    if let Some(crs) = crs {
        column["crs"] = crs;
    }
    if let Some(b) = features.bounds() {
        column["bbox"] = json!(b);
    }
    let geo = json!({"version": "1.1.0", "primary_column": name, "columns": {&name: column}});
    let mut columns: Vec<Column> = features
        .fields
        .iter()
        .enumerate()
        .map(|(i, f)| {
            let values = features.rows.iter().map(|r| r.values[i].clone()).collect();
            Column { name: f.name.clone(), cells: Cells::Values(f.kind, values) }
        })
        .collect();
    columns.push(Column { name, cells: Cells::Bytes(features.rows.iter().map(|r| wkb::write(&r.shape)).collect()) });
    write_columns(path, columns, &[("geo", geo.to_string())])?;
    Ok(vec![])
}
