//! Places on the Earth: coordinate systems and the affine step from cells to coordinates.

mod affine;
mod crs;

pub use affine::Affine;
pub use crs::{Crs, Projector};
