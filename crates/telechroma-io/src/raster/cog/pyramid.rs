//! Overviews: each level has cells twice as large; the mean of the cells known, or one of the flags.

use telechroma_core::grid::Grid;
use telechroma_core::tile::{Cells, Kind};
use telechroma_core::wide;

use super::SIDE;
use super::spare::Spare;
use super::view::{Rows, View};

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

/// A block at half its resolution: means of values, unless they may be classes; one of four flags or classes.
pub(super) fn halve(block: &View, kind: Kind, means: bool, spare: &Spare) -> Cells {
    let (side, half) = (SIDE as usize, SIDE as usize / 2);
    match (block.rows(kind), spare.half()) {
        (Rows::Values(mut rows), room) => {
            let mut out = match room {
                Some(Cells::Values(out)) => out,
                _ => vec![0.0; half * half],
            };
            for (r, out) in (0..side).step_by(2).zip(out.chunks_exact_mut(half)) {
                let (upper, lower) = rows.two(r);
                match means {
                    true => wide::run(Means { upper, lower, out }),
                    false => wide::run(Firsts { row: upper, out }),
                }
            }
            Cells::Values(out)
        }
        (Rows::Bits(mut rows), room) => {
            let mut out = match room {
                Some(Cells::Bits(out)) => out,
                _ => vec![0; half * half],
            };
            for (r, out) in (0..side).step_by(2).zip(out.chunks_exact_mut(half)) {
                wide::run(Firsts { row: rows.row(r), out });
            }
            Cells::Bits(out)
        }
    }
}

/// Means of each four cells of two rows, of those known.
struct Means<'a> {
    upper: &'a [f32],
    lower: &'a [f32],
    out: &'a mut [f32],
}

impl wide::Loop for Means<'_> {
    #[inline(always)]
    fn run(self, _: impl wide::Instructions) {
        let pairs = self.upper.chunks_exact(2).zip(self.lower.chunks_exact(2));
        for (o, (a, b)) in self.out.iter_mut().zip(pairs) {
            let (mut sum, mut n) = (-0.0, 0.0);
            for v in [a[0], a[1], b[0], b[1]] {
                // adding -0 leaves every number what it is
                sum += if v.is_nan() { -0.0 } else { f64::from(v) };
                n += if v.is_nan() { 0.0 } else { 1.0 };
            }
            *o = if n == 0.0 { f32::NAN } else { (sum / n) as f32 };
        }
    }
}

/// Every other cell of a row.
struct Firsts<'a, T> {
    row: &'a [T],
    out: &'a mut [T],
}

impl<T: Copy> wide::Loop for Firsts<'_, T> {
    #[inline(always)]
    fn run(self, _: impl wide::Instructions) {
        for (o, two) in self.out.iter_mut().zip(self.row.chunks_exact(2)) {
            *o = two[0];
        }
    }
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;
    use telechroma_core::grid::Window;
    use telechroma_core::tile::Tile;

    use super::*;

    /// The mean of the known ones of four cells, as it is defined.
    fn mean(four: [f32; 4]) -> f32 {
        let known: Vec<f64> = four.iter().filter(|v| !v.is_nan()).map(|v| f64::from(*v)).collect();
        if known.is_empty() { f32::NAN } else { (known.iter().sum::<f64>() / known.len() as f64) as f32 }
    }

    proptest! {
        #![proptest_config(ProptestConfig::with_cases(24))]

        /// Halved by vectors to the same bits as cell by cell, out of whole blocks and narrow ones, in fresh and used room.
        #[test]
        fn halved_as_defined(
            cols in prop_oneof![Just(SIDE), 1u32..SIDE], rows in 1u32..9, means in any::<bool>(), used in any::<bool>(),
            some in proptest::collection::vec(
                prop_oneof![5 => -3.0f32..3.0, 2 => Just(f32::NAN), 1 => Just(-0.0f32), 1 => Just(0.0f32)], 1..97),
        ) {
            let (side, half) = (SIDE as usize, SIDE as usize / 2);
            let window = Window::new(0, 0, cols, rows);
            let cells: Vec<f32> = (0..window.len()).map(|i| some[(i * 31 + i / 7) % some.len()]).collect();
            let at = |c: usize, r: usize| {
                if c < cols as usize && r < rows as usize { cells[r * cols as usize + c] } else { f32::NAN }
            };
            let tile = Tile { window, cells: Cells::Values(cells.clone()) };
            let spare = Spare::default();
            if used {
                spare.give_half(Cells::Values(vec![77.0; half * half]));
            }
            let halved = halve(&View::Tile(Some(&tile), window), Kind::Values, means, &spare);
            let Cells::Values(got) = halved else { panic!("values") };
            for (i, got) in got.iter().enumerate() {
                let (c, r) = (2 * (i % half), 2 * (i / half));
                let want = match means {
                    true => mean([at(c, r), at(c + 1, r), at(c, r + 1), at(c + 1, r + 1)]),
                    false => at(c, r),
                };
                prop_assert!(got.to_bits() == want.to_bits() || got.is_nan() && want.is_nan(), "{} {}: {} {}", c, r, got, want);
            }
            prop_assert_eq!(got.len(), side * side / 4);
        }
    }
}
