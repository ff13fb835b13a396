//! How many scenes saw a cell clearly.

use crate::error::{Error, Result};
use crate::graph::{Absence, Inputs, Op, bits_row};
use crate::tile::{Kind, PlaneSpec, Tile};
use crate::units::Unit;

/// Counts the masks that are clear in a cell. Zero is a count, not missing.
#[derive(Debug)]
pub struct Looks;

impl Op for Looks {
    fn output(&self, inputs: &[&PlaneSpec]) -> Result<(Kind, Unit)> {
        match inputs.iter().all(|i| matches!(i.kind, Kind::Flags { .. })) {
            true => Ok((Kind::Values, Unit::Looks)),
            false => Err(Error::Usage("looks are counted from masks".into())),
        }
    }

    fn absence(&self) -> Absence {
        Absence::Never
    }

    fn compute(&self, inputs: &Inputs, out: &mut Tile) -> Result<()> {
        let window = out.window;
        let mut looks = vec![0u16; window.cols as usize];
        for row in window.row..window.end_row() {
            looks.fill(0);
            for mask in (0..inputs.len()).filter_map(|i| inputs.get(i)) {
                for (n, m) in looks.iter_mut().zip(bits_row(mask, &window, row)) {
                    *n += u16::from(*m == 0);
                }
            }
            let at = out.row_range(&window, row);
            for (o, n) in out.values_mut()[at].iter_mut().zip(&looks) {
                *o = f32::from(*n);
            }
        }
        Ok(())
    }

    fn step(&self) -> &'static str {
        "count looks"
    }
}
