//! Overviews: each level has cells twice as large; the mean of the cells known, or one of the flags.

use telechroma_core::grid::Grid;
use telechroma_core::tile::Cells;

use super::SIDE;

/// Columns and rows of a level; level 0 is full resolution.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) struct Level {
    pub cols: u32,
    pub rows: u32,
}

impl Level {
    pub(crate) fn across(self) -> u32 {
        self.cols.div_ceil(SIDE)
    }

    pub(crate) fn tiles(self) -> u32 {
        self.across() * self.rows.div_ceil(SIDE)
    }

    /// Tiles of the level below (finer) that make up tile `index`.
    pub(crate) fn children(self, finer: Level, index: u32) -> u32 {
        let (c, r) = (index % self.across(), index / self.across());
        let n = |at: u32, size: u32| (size.div_ceil(SIDE) - 2 * at).min(2);
        n(c, finer.cols) * n(r, finer.rows)
    }
}

/// All levels, until one tile holds everything.
pub(crate) fn levels(grid: &Grid) -> Vec<Level> {
    let mut all = vec![Level { cols: grid.cols, rows: grid.rows }];
    while let Some(l) = all.last()
        && l.cols.max(l.rows) > SIDE
    {
        all.push(Level { cols: l.cols.div_ceil(2), rows: l.rows.div_ceil(2) });
    }
    all
}

/// A tile at half its resolution: means of values, unless they may be classes; one of four flags or classes.
pub(crate) fn halve(cells: &Cells, means: bool) -> Cells {
    let (side, half) = (SIDE as usize, SIDE as usize / 2);
    match cells {
        Cells::Values(v) if !means => {
            let row = |r: usize| (0..half).map(move |c| v[2 * r * side + 2 * c]);
            Cells::Values((0..half).flat_map(row).collect())
        }
        Cells::Values(v) => {
            let mut out = vec![f32::NAN; half * half];
            for (r, o) in out.chunks_exact_mut(half).enumerate() {
                let (a, b) = v[2 * r * side..(2 * r + 2) * side].split_at(side);
                for (c, o) in o.iter_mut().enumerate() {
                    let four = [a[2 * c], a[2 * c + 1], b[2 * c], b[2 * c + 1]];
                    let sum: f64 = four.iter().filter(|x| !x.is_nan()).map(|x| f64::from(*x)).sum();
                    let n = four.iter().filter(|x| !x.is_nan()).count();
                    *o = if n == 0 { f32::NAN } else { (sum / n as f64) as f32 };
                }
            }
            Cells::Values(out)
        }
        Cells::Bits(v) => {
            let row = |r: usize| (0..half).map(move |c| v[2 * r * side + 2 * c]);
            Cells::Bits((0..half).flat_map(row).collect())
        }
    }
}

/// Lays a halved tile into its quarter (0–3, row-major) of the coarser tile.
pub(crate) fn lay(quarter: &Cells, at: u32, whole: &mut Cells) {
    let (side, half) = (SIDE as usize, SIDE as usize / 2);
    let start = (at / 2) as usize * half * side + (at % 2) as usize * half;
    fn rows<T: Copy>(from: &[T], to: &mut [T], start: usize, side: usize, half: usize) {
        for (r, row) in from.chunks_exact(half).enumerate() {
            to[start + r * side..][..half].copy_from_slice(row);
        }
    }
    match (quarter, whole) {
        (Cells::Values(q), Cells::Values(w)) => rows(q, w, start, side, half),
        (Cells::Bits(q), Cells::Bits(w)) => rows(q, w, start, side, half),
        _ => unreachable!("both are of the raster's kind"),
    }
}
