//! Reading GeoTIFF: header, geographic keys, blocks.
//!
//! Sources: Adobe TIFF 6.0 and its technical notes 1–3; the BigTIFF proposal; OGC GeoTIFF 1.1 (19-008r4).

mod block;
mod geo;
mod header;
mod plane;
pub mod predictor;

pub use header::Header;
pub use plane::TiffPlane;

use std::sync::Arc;

use telechroma_core::grid::Grid;

use crate::bytes::ByteRange;
use crate::error::Result;

/// An opened GeoTIFF: everything but its cells.
#[derive(Debug)]
pub struct Tiff {
    /// Where its bytes are.
    pub bytes: ByteRange,
    /// The first image's header.
    pub header: Header,
    /// Where its cells lie.
    pub grid: Arc<Grid>,
    /// What could not be used of the file's coordinate system, if anything.
    pub crs_trouble: Option<String>,
}

impl Tiff {
    /// Reads the header.
    ///
    /// # Errors
    /// Where the file is malformed or of a kind that cannot be read.
    pub fn open(bytes: ByteRange) -> Result<Arc<Tiff>> {
        let header = Header::read(&bytes)?;
        let (grid, crs_trouble) = geo::grid_of(&header, &bytes)?;
        Ok(Arc::new(Tiff { bytes, header, grid: Arc::new(grid), crs_trouble }))
    }
}
