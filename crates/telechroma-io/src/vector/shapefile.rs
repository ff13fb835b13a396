//! Shapefile: `.shp` with its `.shx`, `.dbf`, `.prj` and `.cpg`.
//!
//! Source: Shapefile Technical Description (white paper, July 1998). The encoding of texts is what `.cpg` or the table's
//! own mark says; texts are written as UTF-8.

use std::path::Path;

use shapefile::dbase::{FieldName, FieldType, FieldValue, Record, TableWriterBuilder};
use shapefile::{Multipoint, Point, PolygonRing, Shape as Drawing};
use telechroma_core::attribute::Value;
use telechroma_core::feature::{Features, Field, FieldKind};
use telechroma_core::geo::Crs;
use telechroma_core::plot::{Ring, Shape};

use super::Source;
use super::raw::{Drawn, Found, Raw, lines, nested, points, ring, stated};
use crate::error::{Error, Place, Result};

pub(super) fn read(source: &Source) -> Result<Raw> {
    let path = &source.path;
    let place = || Place::file(path);
    let crs = stated(source, prj(path)?, "has no file .prj beside it")?;
    let table = table(path)?;
    let columns: Vec<(String, FieldType)> =
        table.fields().iter().map(|f| (f.name().to_string(), f.field_type())).collect();
    let wrong = |e: shapefile::Error| Error::malformed(place(), format!("cannot be read: {e}"));
    let mut reader = shapefile::Reader::new(shapefile::ShapeReader::from_path(path).map_err(wrong)?, table);
    let mut rows = vec![];
    for found in reader.iter_shapes_and_records() {
        let (shape, record) = found.map_err(wrong)?;
        let values = columns.iter().map(|(name, _)| record.get(name).map_or(Value::Missing, value)).collect();
        rows.push((values, drawn(&shape)));
    }
    // the table has no type for whole numbers: a column of nothing else is one
    let names = columns.iter().map(|c| c.0.clone()).collect();
    let mut raw = Raw::guessed(crs, names, rows);
    for (field, (_, kind)) in raw.fields.iter_mut().zip(&columns) {
        field.kind = match (kind, field.kind) {
            (FieldType::Date, _) => FieldKind::Date,
            (FieldType::DateTime, _) => FieldKind::Instant,
            (FieldType::Logical, _) => FieldKind::Truth,
            (FieldType::Numeric | FieldType::Float | FieldType::Double, FieldKind::Text) => FieldKind::Number,
            (_, guessed) => guessed,
        };
    }
    Ok(raw)
}

type Table = shapefile::dbase::Reader<std::io::BufReader<std::fs::File>>;

/// The table, its texts in the encoding that `.cpg` names, if there is one.
fn table(path: &Path) -> Result<Table> {
    let dbf = ["dbf", "DBF", "Dbf"].iter().map(|e| path.with_extension(e)).find(|p| p.exists());
    let dbf = dbf.ok_or_else(|| Error::malformed(Place::file(path), "has no file .dbf beside it"))?;
    let mut builder = shapefile::dbase::ReaderBuilder::new();
    let cpg = ["cpg", "CPG", "Cpg"].iter().map(|e| path.with_extension(e)).find(|p| p.exists());
    if let Some(cpg) = cpg {
        let text = std::fs::read(&cpg).map_err(|e| Error::io(&cpg, e))?;
        let name =
            String::from_utf8_lossy(&text[..text.len().min(64)]).trim().trim_start_matches('\u{feff}').to_string();
        let encoding = shapefile::dbase::encoding::DynEncoding::from_name(&name)
            .ok_or_else(|| Error::unsupported(Place::file(&cpg), format!("the encoding '{name}'"), &[]))?;
        builder = builder.with_encoding(encoding);
    }
    builder.open(&dbf).map_err(|e| Error::malformed(Place::file(&dbf), format!("cannot be read: {e}")))
}

/// What the file `.prj` says, if there is one.
fn prj(path: &Path) -> Result<Option<Crs>> {
    let Some(prj) = ["prj", "PRJ", "Prj"].iter().map(|e| path.with_extension(e)).find(|p| p.exists()) else {
        return Ok(None);
    };
    let text = std::fs::read(&prj).map_err(|e| Error::io(&prj, e))?;
    let crs = Crs::from_wkt(&String::from_utf8_lossy(&text));
    crs.map(Some).map_err(|e| Error::malformed(Place::file(&prj), e.to_string()))
}

fn drawn(shape: &Drawing) -> Found {
    match shape {
        Drawing::Polygon(p) => polygons(p.rings(), |q: &Point| (q.x, q.y)),
        Drawing::PolygonM(p) => polygons(p.rings(), |q| (q.x, q.y)),
        Drawing::PolygonZ(p) => polygons(p.rings(), |q| (q.x, q.y)),
        Drawing::Point(p) => points(vec![(p.x, p.y)]),
        Drawing::PointM(p) => points(vec![(p.x, p.y)]),
        Drawing::PointZ(p) => points(vec![(p.x, p.y)]),
        Drawing::Multipoint(all) => points(all.points().iter().map(|p| (p.x, p.y)).collect()),
        Drawing::MultipointM(all) => points(all.points().iter().map(|p| (p.x, p.y)).collect()),
        Drawing::MultipointZ(all) => points(all.points().iter().map(|p| (p.x, p.y)).collect()),
        Drawing::Polyline(l) => lines(l.parts().iter().map(|p| p.iter().map(|q| (q.x, q.y)).collect()).collect()),
        Drawing::PolylineM(l) => lines(l.parts().iter().map(|p| p.iter().map(|q| (q.x, q.y)).collect()).collect()),
        Drawing::PolylineZ(l) => lines(l.parts().iter().map(|p| p.iter().map(|q| (q.x, q.y)).collect()).collect()),
        Drawing::NullShape | Drawing::Multipatch(_) => Ok(Shape::Nothing.into()),
    }
}

/// Which ring is a hole is told by the way it runs, and often told wrong: where it lies decides.
fn polygons<P>(rings: &[PolygonRing<P>], position: impl Fn(&P) -> (f64, f64)) -> Found {
    let (mut all, mut unclosed) = (vec![], false);
    for r in rings {
        let (ring, closed) = ring(r.points().iter().map(&position))?;
        unclosed |= !closed;
        all.push(ring);
    }
    Ok(Drawn { shape: Shape::Polygons(nested(all)), unclosed })
}

fn value(v: &FieldValue) -> Value {
    let number = |n: f64| match n.fract() == 0.0 && n.abs() < LARGEST_WHOLE {
        true => Value::Whole(n as i64),
        false => Value::Number(n),
    };
    match v {
        FieldValue::Character(Some(t)) if !t.trim().is_empty() => Value::Text(t.trim().to_string()),
        FieldValue::Memo(t) => Value::Text(t.clone()),
        FieldValue::Numeric(Some(n)) | FieldValue::Currency(n) | FieldValue::Double(n) => number(*n),
        FieldValue::Float(Some(n)) => number(f64::from(*n)),
        FieldValue::Integer(n) => Value::Whole(i64::from(*n)),
        FieldValue::Logical(Some(b)) => Value::Truth(*b),
        FieldValue::Date(Some(d)) => Value::Text(format!("{:04}-{:02}-{:02}", d.year(), d.month(), d.day())),
        _ => Value::Missing,
    }
}

/// Whole numbers below this are exact in the table's floating point.
const LARGEST_WHOLE: f64 = (1u64 << 53) as f64;
/// Most bytes of a column's name, and of a text.
const LONGEST: (usize, usize) = (10, 254);

pub(super) fn write(path: &Path, features: &Features) -> Result<Vec<String>> {
    let wrong = |what: String| Error::usage(Place::file(path), what);
    let failed = |e: shapefile::Error| Error::malformed(Place::file(path), format!("cannot be written: {e}"));
    let names = short_names(&features.fields);
    let mut builder = TableWriterBuilder::with_encoding(shapefile::dbase::encoding::Unicode);
    let mut digits = vec![];
    for (i, (field, name)) in features.fields.iter().zip(&names).enumerate() {
        let width = Width::of(features, i).map_err(wrong)?;
        let name = FieldName::try_from(name.as_str()).map_err(|e| wrong(e.to_string()))?;
        builder = match field.kind {
            FieldKind::Truth => builder.add_logical_field(name),
            FieldKind::Whole => builder.add_numeric_field(name, 18, 0),
            FieldKind::Number => builder.add_numeric_field(name, 24, width.decimals),
            FieldKind::Date => builder.add_date_field(name),
            FieldKind::Text | FieldKind::Instant => builder.add_character_field(name, width.bytes),
        };
        digits.push(width);
    }
    let mut writer = shapefile::Writer::from_path(path, builder).map_err(failed)?;
    for (n, row) in features.rows.iter().enumerate() {
        let mut record = Record::default();
        for ((field, name), v) in features.fields.iter().zip(&names).zip(&row.values) {
            record.insert(name.clone(), cell(v, field.kind));
        }
        match &row.shape {
            Shape::Polygons(all) if !all.is_empty() => {
                let points =
                    |r: &Ring| -> Vec<Point> { r.iter().chain(r.first()).map(|(x, y)| Point::new(*x, *y)).collect() };
                let rings = all.iter().flat_map(|p| {
                    std::iter::once(PolygonRing::Outer(points(&p.outer)))
                        .chain(p.holes.iter().map(|h| PolygonRing::Inner(points(h))))
                });
                writer.write_shape_and_record(&shapefile::Polygon::with_rings(rings.collect()), &record)
            }
            Shape::Points(all)
                if features.rows.iter().all(|r| matches!(&r.shape, Shape::Points(p) if p.len() == 1)) =>
            {
                writer.write_shape_and_record(&Point::new(all[0].0, all[0].1), &record)
            }
            Shape::Points(all) => {
                let points = all.iter().map(|(x, y)| Point::new(*x, *y)).collect();
                writer.write_shape_and_record(&Multipoint::new(points), &record)
            }
            Shape::Lines(all) => {
                let parts = all.iter().map(|l| l.iter().map(|(x, y)| Point::new(*x, *y)).collect()).collect();
                writer.write_shape_and_record(&shapefile::Polyline::with_parts(parts), &record)
            }
            Shape::Polygons(_) | Shape::Nothing | Shape::Mixture => {
                return Err(wrong(format!(
                    "feature {} has no shape, which a Shapefile cannot hold; write .gpkg",
                    n + 1
                )));
            }
        }
        .map_err(|e| match e {
            shapefile::Error::MismatchShapeType { .. } => {
                wrong("points, lines and polygons cannot be in one Shapefile; write .gpkg".into())
            }
            other => failed(other),
        })?;
    }
    drop(writer);
    let beside = |ending: &str, text: String| {
        let p = path.with_extension(ending);
        std::fs::write(&p, text).map_err(|e| Error::io(&p, e))
    };
    beside("prj", features.crs.to_wkt())?;
    beside("cpg", "UTF-8".into())?;
    today(&path.with_extension("dbf"))?;
    let renamed = features.fields.iter().zip(&names).filter(|(f, n)| f.name != **n);
    Ok(renamed
        .map(|(f, n)| format!("the column {} is called {n} in the Shapefile, whose names are short", f.name))
        .collect())
}

/// Takes the day of writing out of the table's head, where it would make equal results differ.
fn today(path: &Path) -> Result<()> {
    use std::io::{Seek, SeekFrom, Write};
    let mut file = std::fs::OpenOptions::new().write(true).open(path).map_err(|e| Error::io(path, e))?;
    file.seek(SeekFrom::Start(1)).and_then(|_| file.write_all(&[100, 1, 1])).map_err(|e| Error::io(path, e))
}

/// How wide a column is.
struct Width {
    bytes: u8,
    decimals: u8,
}

impl Width {
    /// Of the values of a column.
    fn of(features: &Features, column: usize) -> std::result::Result<Width, String> {
        let name = &features.fields[column].name;
        let (mut bytes, mut most) = (1, 0f64);
        for row in &features.rows {
            match &row.values[column] {
                Value::Text(t) if t.len() > LONGEST.1 => {
                    return Err(format!("the column {name} has texts of more than {} bytes; write .gpkg", LONGEST.1));
                }
                Value::Text(t) => bytes = bytes.max(t.len()),
                Value::Whole(v) if v.unsigned_abs() as f64 >= LARGEST_WHOLE => {
                    return Err(format!("the column {name} holds {v}, too large for a Shapefile; write .gpkg"));
                }
                Value::Number(v) => most = most.max(v.abs()),
                _ => {}
            }
        }
        // sixteen digits that matter, as far as they fit
        let before = if most < 1.0 { 1 } else { most.log10() as i32 + 1 };
        if before > 22 {
            return Err(format!("the column {name} holds {most:e}, too large for a Shapefile; write .gpkg"));
        }
        Ok(Width { bytes: bytes as u8, decimals: (16 - before).clamp(0, 15) as u8 })
    }
}

fn cell(v: &Value, kind: FieldKind) -> FieldValue {
    let day = |t: &str| {
        let d: jiff::civil::Date = t.parse().ok()?;
        shapefile::dbase::Date::new(d.day() as u32, d.month() as u32, d.year() as u32).ok()
    };
    match (kind, v) {
        (FieldKind::Truth, Value::Truth(b)) => FieldValue::Logical(Some(*b)),
        (FieldKind::Truth, _) => FieldValue::Logical(None),
        (FieldKind::Whole | FieldKind::Number, v) => FieldValue::Numeric(v.number()),
        (FieldKind::Date, Value::Text(t)) => FieldValue::Date(day(t)),
        (FieldKind::Date, _) => FieldValue::Date(None),
        (FieldKind::Text | FieldKind::Instant, Value::Missing) => FieldValue::Character(None),
        (FieldKind::Text | FieldKind::Instant, v) => FieldValue::Character(Some(v.to_string())),
    }
}

/// Names of ten bytes at most, all different.
fn short_names(fields: &[Field]) -> Vec<String> {
    let cut = |t: &str, most: usize| -> String {
        let mut end = t.len().min(most);
        while !t.is_char_boundary(end) {
            end -= 1;
        }
        t[..end].to_string()
    };
    let mut names: Vec<String> = vec![];
    for f in fields {
        let taken = |n: &str| names.iter().any(|o| o.eq_ignore_ascii_case(n));
        let mut name = cut(&f.name, LONGEST.0);
        for i in 1.. {
            if !taken(&name) {
                break;
            }
            let end = i.to_string();
            name = cut(&f.name, LONGEST.0 - end.len()) + &end;
        }
        names.push(name);
    }
    names
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn long_names_are_cut_and_stay_different() {
        let field = |n: &str| Field { name: n.into(), kind: FieldKind::Number };
        let names = short_names(&[
            field("ndvi_mean_share"),
            field("ndvi_mean_sd"),
            field("ndvi_mean_s"),
            field("größe_der_fläche"),
        ]);
        assert_eq!(names, ["ndvi_mean_", "ndvi_mean1", "ndvi_mean2", "größe_de"]);
    }
}
