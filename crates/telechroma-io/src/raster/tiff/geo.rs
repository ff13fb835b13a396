//! Where a GeoTIFF's cells lie: tie points and scale, the point or area convention, the coordinate system.

use telechroma_core::geo::{Affine, Crs};
use telechroma_core::grid::Grid;

use super::header::{GeoTags, Header};
use crate::bytes::ByteRange;
use crate::error::{Error, Result};

const MODEL_TYPE: u16 = 1024;
const RASTER_TYPE: u16 = 1025;
const GEOGRAPHIC_CODE: u16 = 2048;
const PROJECTED_CODE: u16 = 3072;
const PROJECTION_CODE: u16 = 3074;
const USER_DEFINED: u16 = 32767;

/// The value of a key that is held in the directory itself.
fn key(tags: &GeoTags, id: u16) -> Option<u16> {
    tags.keys.get(4..)?.chunks_exact(4).find(|k| k[0] == id && k[1] == 0).map(|k| k[3])
}

/// The grid, and what of the coordinate system could not be used.
pub(crate) fn grid_of(header: &Header, file: &ByteRange) -> Result<(Grid, Option<String>)> {
    let tags = &header.geo;
    let mut transform = transform_of(tags, file)?;
    if key(tags, RASTER_TYPE) == Some(2) {
        // the tie point is the centre of the first cell: the corner is half a cell up and left
        transform = transform.shifted(-0.5, -0.5);
    }
    let (crs, trouble) = match crs_of(tags) {
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

fn crs_of(tags: &GeoTags) -> std::result::Result<Option<Crs>, String> {
    let code = |c: u16| Crs::from_epsg(u32::from(c)).map(Some).map_err(|e| e.to_string());
    match (key(tags, MODEL_TYPE), key(tags, PROJECTED_CODE), key(tags, GEOGRAPHIC_CODE)) {
        (_, Some(USER_DEFINED), _) => match key(tags, PROJECTION_CODE) {
            // WGS 84 UTM zones by their projection code
            Some(p @ 16001..=16060) => Crs::utm(u32::from(p) - 16000, true).map(Some).map_err(|e| e.to_string()),
            Some(p @ 16101..=16160) => Crs::utm(u32::from(p) - 16100, false).map(Some).map_err(|e| e.to_string()),
            _ => Err("a user-defined projection".into()),
        },
        (Some(1) | None, Some(c), _) => code(c),
        (Some(2) | None, None, Some(c)) if c != USER_DEFINED => code(c),
        (Some(2), _, Some(c)) if c != USER_DEFINED => code(c),
        (None, None, None) => Ok(None),
        (model, _, _) => {
            Err(format!("a coordinate system of model type {}", model.map_or("none".into(), |m| m.to_string())))
        }
    }
}
