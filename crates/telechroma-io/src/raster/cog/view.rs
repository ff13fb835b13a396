//! The cells of a block, wherever they lie: rows of a tile, filled up to the block's width and height.

use telechroma_core::grid::Window;
use telechroma_core::tile::{Cells, Kind, Tile};

use super::SIDE;

/// A block's cells.
pub(super) struct View<'a> {
    cells: Option<&'a Cells>,
    /// Number of the first cell, and cells from one row to the next.
    first: usize,
    stride: usize,
    /// Columns and rows there are; beyond them the block is blank.
    cols: usize,
    rows: usize,
    kind: Kind,
}

impl<'a> View<'a> {
    /// All cells of a block.
    pub(super) fn whole(cells: &'a Cells, kind: Kind) -> View<'a> {
        let side = SIDE as usize;
        View { cells: Some(cells), first: 0, stride: side, cols: side, rows: side, kind }
    }

    /// The cells of a tile in `part`, which begins where the block begins; all blank where there is no tile.
    pub(super) fn of(tile: Option<&'a Tile>, part: Window, kind: Kind) -> View<'a> {
        match tile {
            Some(t) => View {
                cells: Some(&t.cells),
                first: t.window.index(part.col, part.row),
                stride: t.window.cols as usize,
                cols: part.cols as usize,
                rows: part.rows as usize,
                kind,
            },
            None => View { cells: None, first: 0, stride: 0, cols: 0, rows: 0, kind },
        }
    }

    /// The rows of values, or of bits.
    pub(super) fn rows(&self) -> Rows<'a> {
        match (self.cells, self.kind) {
            (Some(Cells::Values(v)), _) => Rows::Values(self.of_cells(v, f32::NAN)),
            (Some(Cells::Bits(v)), _) => Rows::Bits(self.of_cells(v, self.kind.missing_bits())),
            (None, Kind::Values) => Rows::Values(self.of_cells(&[], f32::NAN)),
            (None, _) => Rows::Bits(self.of_cells(&[], self.kind.missing_bits())),
        }
    }

    fn of_cells<T: Copy>(&self, cells: &'a [T], blank: T) -> RowsOf<'a, T> {
        let side = SIDE as usize;
        let narrow = self.cols < side || self.rows < side;
        let filled = if narrow { vec![blank; side] } else { vec![] };
        RowsOf {
            cells,
            first: self.first,
            stride: self.stride,
            cols: self.cols,
            rows: self.rows,
            blank,
            filled: [filled.clone(), filled],
        }
    }
}

/// Rows of a block by the kind of its cells.
pub(super) enum Rows<'a> {
    Values(RowsOf<'a, f32>),
    Bits(RowsOf<'a, u16>),
}

/// Rows of a block, each as wide as the block.
pub(super) struct RowsOf<'a, T> {
    cells: &'a [T],
    first: usize,
    stride: usize,
    cols: usize,
    rows: usize,
    blank: T,
    /// Room for an even and an odd row that must be filled up.
    filled: [Vec<T>; 2],
}

impl<T: Copy> RowsOf<'_, T> {
    fn there(&self, row: usize) -> &[T] {
        match row < self.rows {
            true => &self.cells[self.first + row * self.stride..][..self.cols],
            false => &[],
        }
    }

    fn fill(&mut self, row: usize) {
        let mut room = std::mem::take(&mut self.filled[row % 2]);
        let there = self.there(row);
        if there.len() < SIDE as usize {
            room[..there.len()].copy_from_slice(there);
            room[there.len()..].fill(self.blank);
        }
        self.filled[row % 2] = room;
    }

    fn row_as_filled(&self, row: usize) -> &[T] {
        let there = self.there(row);
        if there.len() < SIDE as usize { &self.filled[row % 2] } else { there }
    }

    /// A row.
    pub(super) fn row(&mut self, row: usize) -> &[T] {
        self.fill(row);
        self.row_as_filled(row)
    }

    /// A row and the one below it; the first is even.
    pub(super) fn two(&mut self, row: usize) -> (&[T], &[T]) {
        self.fill(row);
        self.fill(row + 1);
        (self.row_as_filled(row), self.row_as_filled(row + 1))
    }
}
