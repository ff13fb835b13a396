//! Rasters in and out.

pub mod cog;
mod deflate_runs;
pub mod description;
pub(crate) mod geokeys;
pub mod jp2;
pub mod raw;
pub mod samples;
pub mod tiff;

/// The widest block that is read by parts: a row is read whole, and that of a wider block holds the cells of many tiles.
pub(crate) const WIDEST_IN_PARTS: u32 = 1024;
