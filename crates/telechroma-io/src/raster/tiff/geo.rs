//! Where a GeoTIFF's cells lie: tie points and scale, the point or area convention, the coordinate system.

use telechroma_core::geo::Affine;
use telechroma_core::grid::Grid;

use super::header::{GeoTags, Header};
use crate::bytes::ByteRange;
use crate::error::{Error, Result};

/// The grid, and what of the coordinate system could not be used.
pub(crate) fn grid_of(header: &Header, file: &ByteRange) -> Result<(Grid, Option<String>)> {
    let tags = &header.geo;
    let transform = placed(tags, file)?;
    let (crs, trouble) = match tags.keys.crs() {
        Ok(crs) => (crs, None),
        Err(trouble) => (None, Some(trouble)),
    };
    Ok((Grid { crs, transform, cols: header.cols, rows: header.rows }, trouble))
}

/// The transform from the corner of the first cell.
fn placed(tags: &GeoTags, file: &ByteRange) -> Result<Affine> {
    let transform = transform_of(tags, file)?;
    // tie points may tell the centre of the first cell: the corner is half a cell up and left
    Ok(if tags.keys.is_point() { transform.shifted(-0.5, -0.5) } else { transform })
}

fn transform_of(tags: &GeoTags, file: &ByteRange) -> Result<Affine> {
    let wrong = |what: &str| Error::malformed(file.place("georeferencing"), what);
    let t = match (tags.transformation.as_slice(), tags.scale.as_slice(), tags.ties.as_slice()) {
        ([a, b, _, c, d, e, _, f, ..], _, _) => Affine { a: *a, b: *b, c: *c, d: *d, e: *e, f: *f },
        (_, [sx, sy, ..], [i, j, _, x, y, ..]) => {
            Affine { a: *sx, b: 0.0, c: x - i * sx, d: 0.0, e: -sy, f: y + j * sy }
        }
        (_, [], []) => Affine { a: 1.0, b: 0.0, c: 0.0, d: 0.0, e: 1.0, f: 0.0 }, // cells as coordinates
        _ => return Err(wrong("tie points without a cell size are not enough to place the cells")),
    };
    let det = t.determinant();
    let numbers = [t.a, t.b, t.c, t.d, t.e, t.f];
    if !numbers.iter().all(|v| v.is_finite()) || det == 0.0 || !det.is_finite() {
        return Err(wrong("the cell size is zero or not a number"));
    }
    Ok(t)
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::raster::geokeys::GeoKeys;

    #[test]
    fn worked_corners_of_both_conventions() {
        let text = include_str!("../../../../telechroma-core/tests/worked_examples.json");
        let all: Vec<serde_json::Value> = serde_json::from_str(text).unwrap();
        let e = all.iter().find(|e| e["name"] == "point_raster_outer_corner").unwrap();
        let numbers =
            |v: &serde_json::Value| v.as_array().unwrap().iter().filter_map(|v| v.as_f64()).collect::<Vec<_>>();
        let (tie, scale) = (numbers(&e["inputs"]["tie"]), e["inputs"]["scale"].as_f64().unwrap());
        let corner = |raster_type: u16| {
            let directory = vec![1, 1, 0, 1, 1025, 0, 1, raster_type];
            let keys = GeoKeys { directory, doubles: vec![], text: String::new() };
            let ties = vec![tie[0], tie[1], 0.0, tie[2], tie[3], 0.0];
            let tags = GeoTags { scale: vec![scale, scale, 0.0], ties, transformation: vec![], keys };
            let file = tempfile::NamedTempFile::new().unwrap();
            let t = placed(&tags, &ByteRange::whole(file.path()).unwrap()).unwrap();
            vec![t.c, t.f]
        };
        assert_eq!(corner(e["inputs"]["raster_type"].as_u64().unwrap() as u16), numbers(&e["expected"]));
        assert_eq!(corner(1), tie[2..]);
    }
}
