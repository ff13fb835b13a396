//! The cells of a block, wherever they lie: a part of a tile, or four quarters, filled up to the block's width and height.

use telechroma_core::grid::Window;
use telechroma_core::tile::{Cells, Kind, Tile};

use super::SIDE;

/// Halves of the four blocks below a block, row by row; those beyond the raster's edge are none.
pub(super) type Quarters = [Option<Cells>; 4];

/// A block's cells.
pub(super) enum View<'a> {
    /// The cells of a tile in a part of it that begins where the block begins; all blank where there is no tile.
    Tile(Option<&'a Tile>, Window),
    /// Quarters.
    Quarters(&'a Quarters),
}

/// Rows of a block by the kind of its cells.
pub(super) enum Rows<'a> {
    Values(RowsOf<'a, f32>),
    Bits(RowsOf<'a, u16>),
}

impl<'a> View<'a> {
    /// The rows.
    pub(super) fn rows(&self, kind: Kind) -> Rows<'a> {
        match kind {
            Kind::Values => Rows::Values(self.of_cells(f32::NAN, |cells| match cells {
                Cells::Values(v) => v,
                Cells::Bits(_) => unreachable!("the raster was made for the plane's kind"),
            })),
            Kind::Counts { .. } | Kind::Flags { .. } => {
                Rows::Bits(self.of_cells(kind.missing_bits(), |cells| match cells {
                    Cells::Bits(v) => v,
                    Cells::Values(_) => unreachable!("the raster was made for the plane's kind"),
                }))
            }
        }
    }

    fn of_cells<T: Copy>(&self, blank: T, slice: impl Fn(&'a Cells) -> &'a [T]) -> RowsOf<'a, T> {
        let half = SIDE as usize / 2;
        let mut pieces = [Piece { cells: &[][..], first: 0, stride: 0, cols: 0, rows: 0 }; 4];
        match self {
            View::Tile(tile, part) => {
                if let Some(t) = tile {
                    pieces[0] = Piece {
                        cells: slice(&t.cells),
                        first: t.window.index(part.col, part.row),
                        stride: t.window.cols as usize,
                        cols: part.cols as usize,
                        rows: part.rows as usize,
                    };
                }
            }
            View::Quarters(quarters) => {
                for (piece, cells) in pieces.iter_mut().zip(*quarters) {
                    if let Some(cells) = cells {
                        *piece = Piece { cells: slice(cells), first: 0, stride: half, cols: half, rows: half };
                    }
                }
            }
        }
        let quartered = matches!(self, View::Quarters(_));
        RowsOf { pieces, quartered, blank, filled: [vec![blank; SIDE as usize], vec![blank; SIDE as usize]] }
    }
}

/// A rectangle of cells.
#[derive(Clone, Copy)]
struct Piece<'a, T> {
    cells: &'a [T],
    /// Number of the first cell, and cells from one row to the next.
    first: usize,
    stride: usize,
    cols: usize,
    rows: usize,
}

impl<'a, T> Piece<'a, T> {
    /// A row; none where it has none.
    fn row(&self, row: usize) -> &'a [T] {
        match row < self.rows {
            true => &self.cells[self.first + row * self.stride..][..self.cols],
            false => &[],
        }
    }
}

/// Rows of a block, each as wide as the block.
pub(super) struct RowsOf<'a, T> {
    /// The quarters, or the first alone.
    pieces: [Piece<'a, T>; 4],
    quartered: bool,
    blank: T,
    /// Room for an even and an odd row that must be put together.
    filled: [Vec<T>; 2],
}

impl<T: Copy> RowsOf<'_, T> {
    fn fill(&mut self, row: usize) {
        let (side, half) = (SIDE as usize, SIDE as usize / 2);
        let (left, right) = match self.quartered {
            true => {
                let at = row / half * 2;
                (self.pieces[at].row(row % half), self.pieces[at + 1].row(row % half))
            }
            false => (self.pieces[0].row(row), &[][..]),
        };
        if left.len() == side {
            return;
        }
        let room = &mut self.filled[row % 2];
        let end = if right.is_empty() { side } else { half };
        room[..left.len()].copy_from_slice(left);
        room[left.len()..end].fill(self.blank);
        room[end..].copy_from_slice(right);
    }

    fn filled(&self, row: usize) -> &[T] {
        match self.pieces[0].row(row) {
            whole if whole.len() == SIDE as usize => whole,
            _ => &self.filled[row % 2],
        }
    }

    /// A row.
    pub(super) fn row(&mut self, row: usize) -> &[T] {
        self.fill(row);
        self.filled(row)
    }

    /// A row and the one below it; the first is even.
    pub(super) fn two(&mut self, row: usize) -> (&[T], &[T]) {
        self.fill(row);
        self.fill(row + 1);
        (self.filled(row), self.filled(row + 1))
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn rows(view: &View) -> Vec<Vec<u16>> {
        let Rows::Bits(mut rows) = view.rows(Kind::Flags { outside: 7 }) else { unreachable!() };
        let single: Vec<Vec<u16>> = (0..SIDE as usize).map(|r| rows.row(r).to_vec()).collect();
        for r in (0..SIDE as usize).step_by(2) {
            assert_eq!(rows.two(r), (&single[r][..], &single[r + 1][..]));
        }
        single
    }

    #[test]
    fn what_is_not_there_is_blank() {
        let window = Window::new(510, 3, 5, 4);
        let tile = Tile { window, cells: Cells::Bits((100..120).collect()) };
        let all = rows(&View::Tile(Some(&tile), Window::new(512, 4, 2, 3)));
        assert_eq!(&all[0][..3], &[107, 108, 7]);
        assert_eq!(&all[2][..3], &[117, 118, 7]);
        assert!(all[3..].iter().flatten().chain(&all[0][2..]).all(|v| *v == 7));
        assert!(rows(&View::Tile(None, window)).iter().flatten().all(|v| *v == 7));
    }

    #[test]
    fn quarters_lie_row_by_row() {
        let half = SIDE as usize / 2;
        let quarter = |v: u16| Some(Cells::Bits(vec![v; half * half]));
        let all = rows(&View::Quarters(&[quarter(1), quarter(2), None, quarter(4)]));
        for (r, row) in all.iter().enumerate() {
            let (left, right) = if r < half { (1, 2) } else { (7, 4) };
            assert!(row[..half].iter().all(|v| *v == left) && row[half..].iter().all(|v| *v == right));
        }
    }
}
