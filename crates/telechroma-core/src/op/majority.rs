//! Specks out, pinholes shut: a cell has a flag if most of its neighbourhood has.

use crate::error::{Error, Result};
use crate::graph::{Inputs, Op, bits_row};
use crate::grid::Window;
use crate::mask::Reasons;
use crate::tile::{Kind, PlaneSpec, Tile};
use crate::units::Unit;

/// A cell has the reason if at least five of the nine cells round it have; other reasons stay. Fill takes no part.
#[derive(Debug)]
pub struct Majority {
    /// The reason.
    pub reason: Reasons,
}

impl Op for Majority {
    fn output(&self, inputs: &[&PlaneSpec]) -> Result<(Kind, Unit)> {
        match inputs {
            [one] if matches!(one.kind, Kind::Flags { .. }) => Ok((one.kind, Unit::Flags)),
            _ => Err(Error::Usage("only a mask can be tidied".into())),
        }
    }

    fn needs(&self, out: Window) -> Window {
        out.grown(1, 1)
    }

    fn compute(&self, inputs: &Inputs, out: &mut Tile) -> Result<()> {
        let (mask, window) = (inputs.tile(0), out.window);
        let need = self.needs(window);
        let bit = self.reason.bits();
        for row in window.row..window.end_row() {
            let rows = [row - 1, row, row + 1].map(|r| bits_row(mask, &need, r));
            let at = out.row_range(&window, row);
            for (i, o) in out.bits_mut()[at].iter_mut().enumerate() {
                let own = rows[1][i + 1];
                let n = rows.iter().flat_map(|r| &r[i..i + 3]).filter(|b| **b & bit != 0).count();
                *o = match (own & Reasons::FILL.bits() != 0, n >= 5) {
                    (true, _) => own,
                    (false, true) => own | bit,
                    (false, false) => own & !bit,
                };
            }
        }
        Ok(())
    }

    fn step(&self) -> &'static str {
        "tidy mask"
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::tile::Cells;

    #[test]
    fn a_speck_goes_a_pinhole_shuts_and_fill_stays() {
        let (cloud, fill) = (Reasons::CLOUD.bits(), Reasons::FILL.bits());
        let op = Majority { reason: Reasons::CLOUD };
        let out = Window::new(0, 0, 7, 3);
        let need = op.needs(out);
        let mut bits = vec![0u16; need.len()];
        for c in 0..3 {
            (0..3).filter(|r| (c, *r) != (1, 1)).for_each(|r| bits[need.index(c, r)] = cloud);
        }
        bits[need.index(5, 1)] = cloud | Reasons::WATER.bits();
        bits[need.index(2, 1)] = fill;
        let input = Tile { window: need, cells: Cells::Bits(bits) };
        let mut tile = Tile { window: out, cells: Cells::Bits(vec![0; out.len()]) };
        op.compute(&Inputs { tiles: vec![Some(&input)] }, &mut tile).unwrap();
        let at = |c: i64, r: i64| tile.bits()[out.index(c, r)];
        assert_eq!((at(1, 1), at(2, 1), at(5, 1), at(0, 0)), (cloud, fill, Reasons::WATER.bits(), 0));
    }
}
