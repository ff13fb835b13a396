//! Where a GeoTIFF's cells lie: tie points and scale, the point or area convention, the coordinate system.

use telechroma_core::geo::Affine;
use telechroma_core::grid::Grid;

use super::header::{GeoTags, Header};
use crate::bytes::ByteRange;
use crate::error::{Error, Result};

/// The grid, and what of the coordinate system could not be used.
pub(crate) fn grid_of(header: &Header, file: &ByteRange) -> Result<(Grid, Option<String>)> {
    let tags = &header.geo;
    let mut transform = transform_of(tags, file)?;
    if tags.keys.is_point() {
        // the tie point is the centre of the first cell: the corner is half a cell up and left
        transform = transform.shifted(-0.5, -0.5);
    }
    let (crs, trouble) = match tags.keys.crs() {
        Ok(crs) => (crs, None),
        Err(trouble) => (None, Some(trouble)),
    };
    Ok((Grid { crs, transform, cols: header.cols, rows: header.rows }, trouble))
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
