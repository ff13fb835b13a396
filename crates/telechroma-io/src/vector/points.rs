//! Points from a table: CSV with a column each for x (longitude) and y (latitude).

use std::path::Path;

use telechroma_core::attribute::Value;
use telechroma_core::feature::{Features, value};
use telechroma_core::geo::Crs;
use telechroma_core::plot::Shape;

use super::Source;
use super::raw::{Raw, points};
use crate::error::{Error, Place, Result};
use crate::table::csv;

/// Columns that are longitude and latitude by their names, in small letters.
const DEGREES: &[(&str, &str)] = &[("longitude", "latitude"), ("lon", "lat"), ("long", "lat")];

pub(super) fn read(source: &Source) -> Result<Raw> {
    let path = &source.path;
    let (header, table) = csv::read(path)?;
    let (x, y, crs) = columns(source, &header)?;
    let mut rows = vec![];
    for (n, row) in table.into_iter().enumerate() {
        let number = |i: usize| match value(&row[i]) {
            Value::Missing => Ok(None),
            v => v.number().map(Some).ok_or_else(|| {
                let comma = if row[i].contains(',') { "; numbers have a point, not a comma" } else { "" };
                Error::malformed(
                    Place::part(path.display().to_string(), format!("line {}", n + 2)),
                    format!("'{}' in column '{}' is no number{comma}", row[i], header[i]),
                )
            }),
        };
        let found = match (number(x)?, number(y)?) {
            (Some(x), Some(y)) => points(vec![(x, y)]),
            _ => Ok(Shape::Nothing.into()),
        };
        rows.push((row.iter().map(|t| value(t)).collect(), found));
    }
    Ok(Raw::guessed(crs, header, rows))
}

fn columns(source: &Source, header: &[String]) -> Result<(usize, usize, Crs)> {
    let place = || Place::file(&source.path);
    let at = |name: &str| header.iter().position(|h| h == name);
    let list = || header.join(", ");
    let lower: Vec<String> = header.iter().map(|h| h.trim().to_lowercase()).collect();
    let known = DEGREES
        .iter()
        .find_map(|(x, y)| Some((lower.iter().position(|h| h == x)?, lower.iter().position(|h| h == y)?)));
    let (x, y) = match (&source.xy, known) {
        (Some((x, y)), _) => {
            let find = |n: &str| {
                at(n).ok_or_else(|| {
                    Error::usage(place(), telechroma_core::Error::unknown("column", n, header).to_string())
                })
            };
            (find(x)?, find(y)?)
        }
        (None, Some(both)) => both,
        (None, None) => {
            return Err(Error::usage(
                place(),
                format!("which columns hold the points' coordinates is not clear; it has {}", list()),
            ));
        }
    };
    match source.crs {
        Some(crs) => Ok((x, y, crs)),
        None if known == Some((x, y)) => Ok((x, y, Crs::LONGITUDE_LATITUDE)),
        None => Err(Error::usage(
            place(),
            format!("holds coordinates in '{}' and '{}', but not in which system", header[x], header[y]),
        )),
    }
}

/// Points as a table, with columns x and y behind the others; polygons have no place in a table.
pub(super) fn write(path: &Path, features: &Features) -> Result<Vec<String>> {
    let names = if features.crs.is_geographic() { ["longitude", "latitude"] } else { ["x", "y"] };
    let mut header: Vec<String> = features.fields.iter().map(|f| f.name.clone()).collect();
    header.extend(names.map(String::from));
    let mut rows = vec![];
    for (n, row) in features.rows.iter().enumerate() {
        let Shape::Points(all) = &row.shape else {
            return Err(Error::usage(
                Place::part(path.display().to_string(), format!("feature {}", n + 1)),
                "is no point: a table holds points only; write polygons as .gpkg, .geojson, .shp or .parquet",
            ));
        };
        for (x, y) in all {
            let mut texts: Vec<String> = row.values.iter().map(ToString::to_string).collect();
            texts.extend([x.to_string(), y.to_string()]);
            rows.push(texts);
        }
    }
    csv::write(path, &header, &rows)?;
    Ok(vec![])
}
