//! Writing Cloud Optimized GeoTIFF: tiles, overviews, Deflate with predictor, the header before all data.
//!
//! Tiles are packed by the workers as soon as they are computed and spooled to a scratch file in any order; when all are
//! there the final file is laid out: header, smallest overview first, full resolution last, each in one canonical
//! order, so that the bytes depend on the cells alone. Tiles that are not packed have one size and so known places: they
//! are written there at once. Source: OGC Cloud Optimized GeoTIFF 1.0 (21-026).

mod blocks;
mod header;
mod pack;
mod pyramid;
mod sink;
mod spare;
mod view;

pub use sink::{CogEncoder, CogFile, CogOptions, Packing};

/// Side of the tiles written.
pub const SIDE: u32 = 512;
