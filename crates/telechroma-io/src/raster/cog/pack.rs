//! One tile to packed bytes.

use std::cell::RefCell;

use libdeflater::{CompressionLvl, Compressor};
use telechroma_core::tile::Cells;

use super::SIDE;
use crate::raster::deflate_runs;
use crate::raster::tiff::predictor;

thread_local! {
    static SCRATCH: RefCell<(Vec<u8>, Vec<u8>)> = const { RefCell::new((vec![], vec![])) };
}

/// Packs one whole tile: predictor, then Deflate.
pub(crate) fn pack(cells: &Cells) -> Vec<u8> {
    let side = SIDE as usize;
    SCRATCH.with_borrow_mut(|(bytes, planes)| match cells {
        Cells::Values(v) => {
            bytes.resize(4 * v.len(), 0);
            for (row, out) in v.chunks_exact(side).zip(bytes.chunks_exact_mut(4 * side)) {
                predictor::differ_floats(row, planes, out);
            }
            deflate_runs::encode(bytes)
        }
        Cells::Bits(v) => {
            bytes.resize(2 * v.len(), 0);
            for (row, out) in v.chunks_exact(side).zip(bytes.chunks_exact_mut(2 * side)) {
                predictor::differ_words(row, out);
            }
            // flags repeat over many rows: here a match search pays
            let mut packer = Compressor::new(CompressionLvl::default());
            let mut out = vec![0; packer.zlib_compress_bound(bytes.len())];
            match packer.zlib_compress(bytes, &mut out) {
                Ok(n) => {
                    out.truncate(n);
                    out
                }
                Err(_) => unreachable!("the buffer has the size that the packer asked for"),
            }
        }
    })
}
