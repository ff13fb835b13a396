//! Values where a mask is clear, missing elsewhere.

use crate::error::{Error, Result};
use crate::graph::{Inputs, Op, bits_row, values_row};
use crate::tile::{Kind, PlaneSpec, Tile};
use crate::units::Unit;

/// Inputs: values, mask.
#[derive(Debug)]
pub struct Hide;

impl Op for Hide {
    fn output(&self, inputs: &[&PlaneSpec]) -> Result<(Kind, Unit)> {
        match inputs {
            [v, m] if v.kind == Kind::Values && matches!(m.kind, Kind::Flags { .. }) => Ok((Kind::Values, v.unit)),
            _ => Err(Error::Usage("hiding takes a plane of values and a mask".into())),
        }
    }

    fn compute(&self, inputs: &Inputs, out: &mut Tile) -> Result<()> {
        let window = out.window;
        for row in window.row..window.end_row() {
            let at = out.row_range(&window, row);
            let (values, mask) = (values_row(inputs.tile(0), &window, row), bits_row(inputs.tile(1), &window, row));
            for ((o, v), m) in out.values_mut()[at].iter_mut().zip(values).zip(mask) {
                *o = if *m == 0 { *v } else { f32::NAN };
            }
        }
        Ok(())
    }

    fn step(&self) -> &'static str {
        "hide clouds"
    }
}
