//! Buffers of one worker, used again instead of asked for anew.

use crate::grid::Window;
use crate::tile::{Cells, Kind, Tile};

/// Room left between buffers: planes a power of two apart would all fall into the same few lines of the cache, and a
/// composite reads two dozen of them side by side.
const APART: usize = 32 * 17;

/// Buffers waiting for their next use. Their cells are whatever was last in them.
#[derive(Default)]
pub(crate) struct Pool {
    values: Vec<Vec<f32>>,
    bits: Vec<Vec<u16>>,
}

impl Pool {
    pub(crate) fn tile(&mut self, kind: Kind, window: Window) -> Tile {
        Tile { window, cells: self.cells(kind, window.len()) }
    }

    pub(crate) fn cells(&mut self, kind: Kind, len: usize) -> Cells {
        match kind {
            Kind::Values => {
                let mut v = self.values.pop().unwrap_or_else(|| vec![0.0; len]);
                v.resize(len, 0.0);
                Cells::Values(v)
            }
            Kind::Counts { .. } | Kind::Flags { .. } => {
                let mut v = self.bits.pop().unwrap_or_else(|| Vec::with_capacity(len + APART));
                v.resize(len, 0);
                Cells::Bits(v)
            }
        }
    }

    pub(crate) fn give_back(&mut self, cells: Cells) {
        match cells {
            Cells::Values(v) => self.values.push(v),
            Cells::Bits(v) => self.bits.push(v),
        }
    }
}
