//! A delivery as large as real ones: a scene of the made-up estate, repeated.

use std::path::Path;

use telechroma_core::graph::Graph;
use telechroma_core::units::Unit;
use telechroma_io::bytes::ByteRange;
use telechroma_io::raster::samples::Reading;
use telechroma_io::raster::tiff::{Tiff, TiffPlane};
use telechroma_world::tiff::{Options, Samples, encode};
use telechroma_world::{Estate, delivery_of};

use crate::accuracy::{text, values};

/// Columns and rows.
const SIDE: usize = 8_000;

/// Writes it below a folder.
///
/// # Errors
/// Where a file cannot be written.
pub fn write(folder: &Path) -> Result<String, String> {
    let estate = Estate::new(2031);
    let acquisition = estate.acquisitions().into_iter().nth(5).ok_or("no such acquisition")?;
    let files = delivery_of(&estate, &acquisition);
    std::fs::create_dir_all(folder).map_err(text)?;
    for (name, bytes) in files.into_iter().filter(|f| !f.0.ends_with("_B8.TIF")) {
        let path = folder.join(&name);
        std::fs::write(&path, &bytes).map_err(text)?;
        if !name.ends_with(".TIF") {
            continue;
        }
        let tiff = Tiff::open(ByteRange::whole(&path).map_err(text)?).map_err(text)?;
        let mut g = Graph::new((*tiff.grid).clone());
        let plane = TiffPlane::new(&tiff, 0, Reading::Values(Unit::Counts)).map_err(text)?;
        let plane = g.source(std::sync::Arc::new(plane), None).map_err(text)?;
        let cells = values(g, &[plane])?.remove(0);
        let (cols, rows) = (tiff.grid.cols as usize, tiff.grid.rows as usize);
        let cell = |i: usize| cells[i / SIDE % rows * cols + i % SIDE % cols] as u16;
        let o = Options { cols: SIDE, rows: SIDE, tile: Some((256, 256)), predictor: 2, ..Options::default() };
        let large = encode(&Samples::U16((0..SIDE * SIDE).map(cell).collect()), &o);
        std::fs::write(&path, large).map_err(text)?;
    }
    Ok(format!("{} written: {SIDE} x {SIDE} cells", folder.display()))
}
