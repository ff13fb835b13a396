//! A compiled formula over planes.

use crate::error::{Error, Result};
use crate::graph::{Inputs, Op, values_row};
use crate::index::{Program, Work};
use crate::tile::{Kind, PlaneSpec, Tile};
use crate::units::Unit;

/// Inputs in the order of [`Program::inputs`].
#[derive(Debug)]
pub struct Compute {
    /// The formula.
    pub program: Program,
    /// Unit of the result.
    pub unit: Unit,
}

impl Op for Compute {
    fn output(&self, inputs: &[&PlaneSpec]) -> Result<(Kind, Unit)> {
        match inputs.iter().all(|i| i.kind == Kind::Values) {
            true => Ok((Kind::Values, self.unit)),
            false => Err(Error::Usage("formulas are computed from calibrated values".into())),
        }
    }

    fn compute(&self, inputs: &Inputs, out: &mut Tile) -> Result<()> {
        let (window, mut work) = (out.window, Work::default());
        for row in window.row..window.end_row() {
            let rows: Vec<&[f32]> = (0..inputs.len()).map(|i| values_row(inputs.tile(i), &window, row)).collect();
            let at = out.row_range(&window, row);
            self.program.run(&rows, &mut out.values_mut()[at], &mut work);
        }
        Ok(())
    }

    fn step(&self) -> &'static str {
        "formulas"
    }
}
