//! A made-up estate with known truth, written as public delivery layouts.
//!
//! *Tarn Hollow* belongs to nobody and lies nowhere: its grid is in the middle of an ocean and its path and row do not
//! exist. Everything follows from a seed, so the same seed gives the same bytes. Nothing here uses the crates whose
//! results it is meant to check: it has its own sun, its own radiometry and its own TIFF writer.

pub mod deliveries;
pub mod land;
mod mtl;
mod noise;
pub mod part;
pub mod plots;
pub mod relief;
pub mod scene;
mod sky;
mod sun;
pub mod tiff;
pub mod trial;
mod write;

pub use part::Part;
pub use scene::{Acquisition, Air, Cover, Truth};
pub use write::{delivery_of, write_estate};

/// Columns of the estate's grid.
pub const COLS: usize = 700;
/// Rows of the estate's grid.
pub const ROWS: usize = 600;
/// Cell size, metres.
pub const CELL: f64 = 30.0;
/// Outer corner of the first cell, easting and northing in UTM zone 25 north.
pub const CORNER: (f64, f64) = (489_585.0, 4_409_415.0);
/// UTM zone; the code is EPSG:326zz.
pub const ZONE: u16 = 25;
/// Latitude for the sun, degrees.
pub(crate) const LATITUDE: f64 = 39.8;

/// The estate.
#[derive(Debug, Clone)]
pub struct Estate {
    /// Everything follows from it.
    pub seed: u64,
    /// What is where.
    pub land: land::Land,
}

impl Estate {
    /// The estate of a seed.
    pub fn new(seed: u64) -> Estate {
        Estate { seed, land: land::Land::new(seed) }
    }
}
