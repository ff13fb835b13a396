//! Rasters in and out.

pub mod cog;
pub mod description;
mod deflate_runs;
pub mod tiff;
