//! Rasters in and out.

pub mod cog;
mod deflate_runs;
pub mod description;
pub mod tiff;
