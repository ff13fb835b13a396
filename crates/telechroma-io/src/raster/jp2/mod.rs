//! Reading JPEG 2000: one code tile at a time, so that windows, threads and little memory are possible.
//!
//! The codec decodes whole images only. A code tile is therefore cut out as an image of its own: the main header with the
//! image's size set to the tile's, the tile's parts, and an end mark. Sources: ISO/IEC 15444-1, annexes A and I.

mod codestream;
mod plane;

pub use codestream::Jp2;
pub use plane::Jp2Plane;
