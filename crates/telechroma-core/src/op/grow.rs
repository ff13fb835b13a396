//! Dropped cells grow by a true Euclidean disc, exactly, in time that does not depend on the radius.
//!
//! Per column the distance to the nearest flagged cell gives, per row, an interval that is covered; a running sum over
//! interval ends marks the union. Cells whose centre is at most `r` away are reached (with 1e-9 relative slack).

use crate::error::{Error, Result};
use crate::graph::{Inputs, Op, bits_row};
use crate::grid::Window;
use crate::mask::Reasons;
use crate::tile::{Kind, PlaneSpec, Tile};
use crate::units::Unit;

/// Grows the cells that carry one of `seeds` by `radius`; reached clear cells get [`Reasons::GROWN`].
#[derive(Debug)]
pub struct Grow {
    /// Which reasons grow; fill must not be among them, or the scene would shrink.
    pub seeds: Reasons,
    /// Radius, metres.
    pub radius_m: f64,
    /// Cell width and height, metres.
    pub cell_m: (f64, f64),
}

impl Grow {
    /// Columns and rows that the disc reaches.
    pub fn reach(&self) -> (u32, u32) {
        (self.half_width(0), (self.radius_m / self.cell_m.1 * (1.0 + 1e-9)) as u32)
    }

    /// Columns reached on each side, `rows` rows away from a seed.
    fn half_width(&self, rows: u32) -> u32 {
        let rest = self.radius_m.powi(2) * (1.0 + 1e-9) - (f64::from(rows) * self.cell_m.1).powi(2);
        if rest < 0.0 { 0 } else { (rest.sqrt() / self.cell_m.0) as u32 }
    }
}

impl Op for Grow {
    fn output(&self, inputs: &[&PlaneSpec]) -> Result<(Kind, Unit)> {
        match inputs {
            [one] if matches!(one.kind, Kind::Flags { .. }) => Ok((one.kind, Unit::Flags)),
            _ => Err(Error::Usage("only a mask can grow".into())),
        }
    }

    fn needs(&self, out: Window) -> Window {
        let (cols, rows) = self.reach();
        out.grown(cols, rows)
    }

    fn compute(&self, inputs: &Inputs, out: &mut Tile) -> Result<()> {
        let (mask, window) = (inputs.tile(0), out.window);
        let need = self.needs(window);
        let (reach_cols, reach_rows) = self.reach();
        let half: Vec<i64> = (0..=reach_rows).map(|r| i64::from(self.half_width(r))).collect();
        let cols = need.cols as usize;
        let far = reach_rows + 1;
        // rows from each cell up to the nearest seed above or in it, then the same downwards; only a band is held
        let seeds = self.seeds.bits();
        let mut below = vec![far; cols * need.rows as usize];
        for r in (0..need.rows as usize).rev() {
            let flags = bits_row(mask, &need, need.row + r as i64);
            let (here, next) = below[r * cols..].split_at_mut(cols);
            for c in 0..cols {
                let under = next.get(c).map_or(far, |d| (d + 1).min(far));
                here[c] = if flags[c] & seeds != 0 { 0 } else { under };
            }
        }
        let mut above = vec![far; cols];
        let mut ends = vec![0i32; window.cols as usize + 1];
        for r in 0..need.rows as usize {
            let row = need.row + r as i64;
            for (a, b) in above.iter_mut().zip(&below[r * cols..(r + 1) * cols]) {
                *a = if *b == 0 { 0 } else { (*a + 1).min(far) };
            }
            if row < window.row || row >= window.end_row() {
                continue;
            }
            ends.fill(0);
            for c in 0..cols {
                let d = above[c].min(below[r * cols + c]);
                if d <= reach_rows {
                    let (at, h) = (c as i64 - i64::from(reach_cols), half[d as usize]);
                    let (first, end) = ((at - h).max(0), (at + h + 1).min(i64::from(window.cols)));
                    if first < end {
                        ends[first as usize] += 1;
                        ends[end as usize] -= 1;
                    }
                }
            }
            let at = out.row_range(&window, row);
            let mut open = 0;
            let flags = bits_row(mask, &window, row);
            for ((o, f), e) in out.bits_mut()[at].iter_mut().zip(flags).zip(&ends) {
                open += e;
                *o = if open > 0 && *f == 0 { Reasons::GROWN.bits() } else { *f };
            }
        }
        Ok(())
    }

    fn step(&self) -> &'static str {
        "grow mask"
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    fn grow(seeds: &[(i64, i64)], radius: f64, cell: (f64, f64), n: u32) -> Vec<u16> {
        let op = Grow { seeds: Reasons::CLOUD, radius_m: radius, cell_m: cell };
        let out = Window::new(0, 0, n, n);
        let need = op.needs(out);
        let mut bits = vec![0u16; need.len()];
        for (c, r) in seeds {
            bits[need.index(*c, *r)] = Reasons::CLOUD.bits();
        }
        let input = Tile { window: need, cells: crate::tile::Cells::Bits(bits) };
        let mut tile = Tile { window: out, cells: crate::tile::Cells::Bits(vec![0; out.len()]) };
        op.compute(&Inputs { tiles: vec![Some(&input)] }, &mut tile).unwrap();
        tile.bits().to_vec()
    }

    #[test]
    fn the_disc_has_gauss_circle_counts() {
        for (k, cells) in [(1.0, 5), (2.0, 13), (3.0, 29), (4.0, 49), (5.0, 81)] {
            let grown = grow(&[(8, 8)], 30.0 * k, (30.0, 30.0), 17);
            assert_eq!(grown.iter().filter(|b| **b != 0).count(), cells);
        }
    }

    proptest! {
        #[test]
        fn exactly_the_cells_within_reach(
            seeds in proptest::collection::vec((0i64..20, 0i64..20), 1..6), radius in 0.0..130.0f64, tall in 5.0..40.0f64,
        ) {
            let grown = grow(&seeds, radius, (15.0, tall), 20);
            for r in 0..20i64 {
                for c in 0..20i64 {
                    let near = seeds.iter().any(|(x, y)| {
                        let (dx, dy) = ((c - x) as f64 * 15.0, (r - y) as f64 * tall);
                        dx * dx + dy * dy <= radius * radius * (1.0 + 1e-9)
                    });
                    prop_assert_eq!(grown[(r * 20 + c) as usize] != 0, near);
                }
            }
        }
    }
}
