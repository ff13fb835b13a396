//! Shapes from and to well-known binary, as GeoPackage and GeoParquet hold them.
//!
//! Source: OGC 06-103r4.

use geo_traits::to_geo::ToGeoGeometry;
use geo_types::{Geometry, LineString, MultiLineString, MultiPoint, MultiPolygon, Point};
use telechroma_core::plot::{Polygon, Ring, Shape};

use super::raw::{Drawn, Found, lines, points, ring};

/// A shape; with NaN, or no positions, it is nothing.
pub(super) fn read(bytes: &[u8]) -> Found {
    let read = wkb::reader::read_wkb(bytes).map_err(|_| "its shape is damaged".to_string())?;
    let at = |p: &Point<f64>| (p.x(), p.y());
    match read.try_to_geometry() {
        Some(Geometry::Polygon(p)) if p.exterior().0.is_empty() => Ok(Shape::Nothing.into()),
        Some(Geometry::Polygon(p)) => polygons(&[p]),
        Some(Geometry::MultiPolygon(all)) if all.0.is_empty() => Ok(Shape::Nothing.into()),
        Some(Geometry::MultiPolygon(all)) => polygons(&all.0),
        Some(Geometry::Point(p)) => points(vec![at(&p)]),
        Some(Geometry::MultiPoint(all)) if !all.0.is_empty() => points(all.0.iter().map(at).collect()),
        Some(Geometry::LineString(l)) => lines(vec![along(&l)]),
        Some(Geometry::MultiLineString(all)) => lines(all.0.iter().map(along).collect()),
        Some(Geometry::GeometryCollection(_)) => Ok(Shape::Mixture.into()),
        _ => Ok(Shape::Nothing.into()),
    }
}

fn along(l: &LineString<f64>) -> Vec<(f64, f64)> {
    l.0.iter().map(|c| (c.x, c.y)).collect()
}

fn polygons(all: &[geo_types::Polygon<f64>]) -> Found {
    let mut unclosed = false;
    let mut of = |l: &LineString<f64>| {
        ring(along(l).into_iter()).map(|(r, closed)| {
            unclosed |= !closed;
            r
        })
    };
    let mut out = vec![];
    for p in all {
        let outer = of(p.exterior())?;
        out.push(Polygon { outer, holes: p.interiors().iter().map(&mut of).collect::<Result<_, String>>()? });
    }
    Ok(Drawn { shape: Shape::Polygons(out), unclosed })
}

/// A shape as bytes; none of what is no shape. Polygons and points are written as sets of them: a column has one type.
pub(super) fn write(shape: &Shape) -> Option<Vec<u8>> {
    let line = |r: &Ring| LineString::from(r.clone());
    let geometry = match shape {
        Shape::Polygons(all) if all.is_empty() => return None,
        Shape::Polygons(all) => {
            let one = |p: &Polygon| geo_types::Polygon::new(line(&p.outer), p.holes.iter().map(line).collect());
            Geometry::MultiPolygon(MultiPolygon(all.iter().map(one).collect()))
        }
        Shape::Points(all) => match all.as_slice() {
            [one] => Geometry::Point(Point::from(*one)),
            many => Geometry::MultiPoint(MultiPoint::from(many.to_vec())),
        },
        Shape::Lines(all) => Geometry::MultiLineString(MultiLineString(all.iter().map(line).collect())),
        Shape::Nothing | Shape::Mixture => return None,
    };
    let mut out = vec![];
    wkb::writer::write_geometry(&mut out, &geometry, &wkb::writer::WriteOptions::default()).ok()?;
    Some(out)
}
