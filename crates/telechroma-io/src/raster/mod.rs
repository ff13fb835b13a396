//! Rasters in and out.

pub mod cog;
mod deflate_runs;
pub mod description;
pub(crate) mod geokeys;
pub mod jp2;
pub mod raw;
pub mod samples;
pub mod tiff;
