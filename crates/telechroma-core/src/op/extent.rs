//! A plane of flags without a file: nothing is flagged inside a source's extent, all is fill outside.

use std::sync::Arc;

use crate::error::Result;
use crate::mask::Reasons;
use crate::tile::{BlockShape, Kind, PlaneSource, PlaneSpec, Tile, block_window};
use crate::units::Unit;

/// Stands in for the flags of a scene that has none.
#[derive(Debug)]
pub struct Extent {
    spec: PlaneSpec,
}

impl Extent {
    /// The extent of a source.
    pub fn of(source: &Arc<dyn PlaneSource>) -> Extent {
        let kind = Kind::Flags { outside: Reasons::FILL.bits() };
        Extent { spec: PlaneSpec { grid: source.spec().grid.clone(), kind, unit: Unit::Flags } }
    }
}

impl PlaneSource for Extent {
    fn spec(&self) -> &PlaneSpec {
        &self.spec
    }

    fn block(&self) -> BlockShape {
        BlockShape { cols: 512, rows: 512 }
    }

    fn read_block(&self, index: u32, out: &mut Tile) -> Result<()> {
        if let Some(part) = block_window(&self.spec.grid, self.block(), index).intersect(&out.window) {
            for row in part.row..part.end_row() {
                let range = out.row_range(&part, row);
                out.bits_mut()[range].fill(0);
            }
        }
        Ok(())
    }

    fn in_parts(&self) -> bool {
        true
    }

    fn name(&self) -> String {
        "the scene's extent".into()
    }
}
