//! How many scenes saw a cell clearly.

use crate::error::{Error, Result};
use crate::graph::{Absence, Inputs, Op, bits_row};
use crate::tile::{Kind, PlaneSpec, Tile};
use crate::units::Unit;

/// Counts the bits of planes made by [`super::Clear`]. Zero is a count, not missing.
#[derive(Debug)]
pub struct Looks;

impl Op for Looks {
    fn output(&self, inputs: &[&PlaneSpec]) -> Result<(Kind, Unit)> {
        match inputs.iter().all(|i| matches!(i.kind, Kind::Flags { .. })) {
            true => Ok((Kind::Values, Unit::Looks)),
            false => Err(Error::Usage("looks are counted from planes of clear looks".into())),
        }
    }

    fn absence(&self) -> Absence {
        Absence::Never
    }

    fn compute(&self, inputs: &Inputs, out: &mut Tile) -> Result<()> {
        let window = out.window;
        for row in window.row..window.end_row() {
            let at = out.row_range(&window, row);
            let cells = &mut out.values_mut()[at];
            cells.fill(0.0);
            for clear in (0..inputs.len()).filter_map(|i| inputs.get(i)) {
                for (o, bits) in cells.iter_mut().zip(bits_row(clear, &window, row)) {
                    *o += bits.count_ones() as f32;
                }
            }
        }
        Ok(())
    }

    fn step(&self) -> &'static str {
        "count looks"
    }
}
