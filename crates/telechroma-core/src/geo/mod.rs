//! Places on the Earth: coordinate systems and the affine step from cells to coordinates.

mod affine;
mod area;
mod crs;
mod datum;
mod definition;
mod projector;
mod wkt;

pub use affine::Affine;
pub use area::area_between;
pub use crs::Crs;
pub use definition::Definition;
pub use projector::Projector;
