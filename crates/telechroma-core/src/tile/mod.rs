//! Cells in memory: tiles, what a plane of cells is, and where planes come from.

use std::fmt::Debug;
use std::sync::Arc;

use crate::error::Result;
use crate::grid::{Grid, Window};
use crate::units::Unit;

/// The cells of one tile, row by row. Two kinds only, so that every op is written for few cases.
#[derive(Debug, Clone, PartialEq)]
pub enum Cells {
    /// Values; missing is NaN.
    Values(Vec<f32>),
    /// Sixteen bits: raw counts, or flags.
    Bits(Vec<u16>),
}

impl Cells {
    /// Bytes held.
    pub fn bytes(&self) -> u64 {
        match self {
            Cells::Values(v) => 4 * v.len() as u64,
            Cells::Bits(v) => 2 * v.len() as u64,
        }
    }
}

/// Cells and where they lie. The window may be larger than what a consumer needs.
#[derive(Debug, Clone, PartialEq)]
pub struct Tile {
    /// Where, in cells of the plane's grid.
    pub window: Window,
    /// The cells of the window, row-major.
    pub cells: Cells,
}

impl Tile {
    /// The values; the kind is part of a node's spec, so another kind here is a defect of an op.
    pub fn values(&self) -> &[f32] {
        match &self.cells {
            Cells::Values(v) => v,
            Cells::Bits(_) => unreachable!("specs are checked when the graph is built: a plane of values was promised"),
        }
    }

    /// The bits; see [`Tile::values`].
    pub fn bits(&self) -> &[u16] {
        match &self.cells {
            Cells::Bits(v) => v,
            Cells::Values(_) => unreachable!("specs are checked when the graph is built: a plane of bits was promised"),
        }
    }

    /// The values, to be written.
    pub fn values_mut(&mut self) -> &mut [f32] {
        match &mut self.cells {
            Cells::Values(v) => v,
            Cells::Bits(_) => unreachable!("an op is given the kind of tile that its spec names"),
        }
    }

    /// The bits, to be written.
    pub fn bits_mut(&mut self) -> &mut [u16] {
        match &mut self.cells {
            Cells::Bits(v) => v,
            Cells::Values(_) => unreachable!("an op is given the kind of tile that its spec names"),
        }
    }

    /// Takes over the cells of a part that both tiles have.
    pub fn copy_from(&mut self, from: &Tile, part: Window) {
        for row in part.row..part.end_row() {
            let (a, b) = (from.row_range(&part, row), self.row_range(&part, row));
            match (&from.cells, &mut self.cells) {
                (Cells::Values(f), Cells::Values(t)) => t[b].copy_from_slice(&f[a]),
                (Cells::Bits(f), Cells::Bits(t)) => t[b].copy_from_slice(&f[a]),
                _ => unreachable!("specs are checked when the graph is built: both are of one kind"),
            }
        }
    }

    /// Range of the cells of `window`'s row `row` (absolute), the window lying inside the tile.
    pub fn row_range(&self, window: &Window, row: i64) -> std::ops::Range<usize> {
        let at = self.window.index(window.col, row);
        at..at + window.cols as usize
    }
}

/// What the cells of a plane are.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Kind {
    /// f32 values, missing as NaN.
    Values,
    /// Raw 16-bit counts of a sensor; `fill` is the count that means missing.
    Counts {
        /// The count that means missing, if there is one.
        fill: Option<u16>,
    },
    /// Flag bits; `outside` are the bits of cells beyond the plane.
    Flags {
        /// Bits of cells where there is no plane.
        outside: u16,
    },
}

impl Kind {
    /// Bytes of one cell in memory.
    pub fn cell_bytes(self) -> u64 {
        match self {
            Kind::Values => 4,
            Kind::Counts { .. } | Kind::Flags { .. } => 2,
        }
    }

    /// So many cells of which nothing is known.
    pub fn missing(self, cells: usize) -> Cells {
        match self {
            Kind::Values => Cells::Values(vec![f32::NAN; cells]),
            Kind::Counts { .. } | Kind::Flags { .. } => Cells::Bits(vec![self.missing_bits(); cells]),
        }
    }

    /// Fills those cells of a tile that lie in `part` with what lies where there is no plane.
    pub fn fill_missing(self, part: Window, tile: &mut Tile) {
        for row in part.row..part.end_row() {
            let range = tile.row_range(&part, row);
            match &mut tile.cells {
                Cells::Values(v) => v[range].fill(f32::NAN),
                Cells::Bits(v) => v[range].fill(self.missing_bits()),
            }
        }
    }

    /// What stands in a plane of bits where there is no plane.
    pub fn missing_bits(self) -> u16 {
        match self {
            Kind::Values => 0,
            Kind::Counts { fill } => fill.unwrap_or(0),
            Kind::Flags { outside } => outside,
        }
    }
}

/// Everything about a plane but its cells.
#[derive(Debug, Clone, PartialEq)]
pub struct PlaneSpec {
    /// Where its cells lie.
    pub grid: Arc<Grid>,
    /// What its cells are.
    pub kind: Kind,
    /// What its numbers mean.
    pub unit: Unit,
}

/// The storage blocks of a source: what can be decoded by itself.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct BlockShape {
    /// Columns of a block.
    pub cols: u32,
    /// Rows of a block.
    pub rows: u32,
}

/// A plane that lies in a file (or is made by a test), read block by block.
pub trait PlaneSource: Debug + Send + Sync {
    /// What it holds. [`Kind::Counts`] without a fill count is allowed only if its grid is never left.
    fn spec(&self) -> &PlaneSpec;

    /// How it is stored.
    fn block(&self) -> BlockShape;

    /// Decodes block number `index` (row-major) into those cells of `out` that lie in it; the others are left as they
    /// are. The window of `out` counts from the plane's first cell, and lies where it likes.
    ///
    /// # Errors
    /// Whatever the storage says, with its place.
    fn read_block(&self, index: u32, out: &mut Tile) -> Result<()>;

    /// True where a part of a block costs little more than its own cells: such a block is read by parts, never kept.
    fn in_parts(&self) -> bool {
        false
    }

    /// Bytes that decoding a block takes beyond the block's own cells.
    fn decode_bytes(&self) -> u64 {
        0
    }

    /// A name for people: the file and band.
    fn name(&self) -> String;
}

/// The cells of block number `index` of a grid cut into `block`s, those at the last column and row cut off there.
pub fn block_window(grid: &Grid, block: BlockShape, index: u32) -> Window {
    let across = grid.cols.div_ceil(block.cols.max(1)).max(1);
    let (col, row) = (index % across * block.cols, index / across * block.rows);
    let (cols, rows) = (grid.cols.saturating_sub(col), grid.rows.saturating_sub(row));
    Window::new(i64::from(col), i64::from(row), block.cols.min(cols), block.rows.min(rows))
}

/// Blocks across and down of a grid cut into `block`s.
pub fn blocks_of(grid: &Grid, block: BlockShape) -> (u32, u32) {
    (grid.cols.div_ceil(block.cols.max(1)), grid.rows.div_ceil(block.rows.max(1)))
}

/// Numbers of the blocks that a window of the grid touches, row by row.
pub fn blocks_under(grid: &Grid, block: BlockShape, window: Window) -> impl Iterator<Item = u32> + use<> {
    let (across, _) = blocks_of(grid, block);
    let span =
        |from: i64, end: i64, size: u32| (from / i64::from(size)) as u32..((end - 1) / i64::from(size) + 1) as u32;
    let (cols, rows) = match window.intersect(&grid.window()) {
        Some(w) => (span(w.col, w.end_col(), block.cols), span(w.row, w.end_row(), block.rows)),
        None => (0..0, 0..0),
    };
    rows.flat_map(move |r| cols.clone().map(move |c| r * across + c))
}

/// The cells of a window of a source; those outside it are missing.
///
/// # Errors
/// Where a block cannot be read.
pub fn read_window(source: &dyn PlaneSource, window: Window) -> Result<Tile> {
    let spec = source.spec();
    let mut tile = Tile { window, cells: spec.kind.missing(window.len()) };
    blocks_under(&spec.grid, source.block(), window).try_for_each(|b| source.read_block(b, &mut tile))?;
    Ok(tile)
}
