//! Bytes in and out for Telechroma: deliveries, rasters, plots, tables, pictures. It decides no science.

pub mod bytes;
pub mod delivery;
pub mod error;
pub mod figure;
pub mod publish;
pub mod raster;
pub mod table;
pub mod vector;

pub use error::{Error, Place, Result};
