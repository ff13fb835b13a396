//! Cells that hold something, as flags.

use crate::error::{Error, Result};
use crate::graph::{Inputs, Op};
use crate::mask::Reasons;
use crate::tile::{Cells, Kind, PlaneSpec, Tile};
use crate::units::Unit;

/// The reason where a plane is neither zero nor missing; missing, and fill of a mask, is not marked.
#[derive(Debug)]
pub struct Mark {
    /// The reason.
    pub reason: Reasons,
}

impl Op for Mark {
    fn output(&self, inputs: &[&PlaneSpec]) -> Result<(Kind, Unit)> {
        match inputs {
            [one] if !matches!(one.kind, Kind::Counts { .. }) => Ok((Kind::Flags { outside: 0 }, Unit::Flags)),
            _ => Err(Error::Usage("cells are marked by one plane of values or flags".into())),
        }
    }

    fn compute(&self, inputs: &Inputs, out: &mut Tile) -> Result<()> {
        let (source, window) = (inputs.tile(0), out.window);
        let bits = |set: bool| if set { self.reason.bits() } else { 0 };
        for row in window.row..window.end_row() {
            let (from, to) = (source.row_range(&window, row), out.row_range(&window, row));
            let cells = &mut out.bits_mut()[to];
            match &source.cells {
                Cells::Values(v) => {
                    cells.iter_mut().zip(&v[from]).for_each(|(o, v)| *o = bits(!v.is_nan() && *v != 0.0));
                }
                Cells::Bits(b) => {
                    let set = |b: u16| b & !Reasons::FILL.bits() != 0;
                    cells.iter_mut().zip(&b[from]).for_each(|(o, b)| *o = bits(set(*b)));
                }
            }
        }
        Ok(())
    }

    fn step(&self) -> &'static str {
        "mark"
    }
}

/// The number of the first of a list of reasons that a cell has, from 1; 0 where it has none of them; missing where it is
/// fill. For pictures: a cell is drawn in one colour.
#[derive(Debug)]
pub struct Leading {
    /// The reasons, the weightiest first.
    pub order: Vec<Reasons>,
}

impl Op for Leading {
    fn output(&self, inputs: &[&PlaneSpec]) -> Result<(Kind, Unit)> {
        match inputs {
            [one] if matches!(one.kind, Kind::Flags { .. }) => Ok((Kind::Values, Unit::Unknown)),
            _ => Err(Error::Usage("only a mask has reasons".into())),
        }
    }

    fn compute(&self, inputs: &Inputs, out: &mut Tile) -> Result<()> {
        let (source, window) = (inputs.tile(0), out.window);
        for row in window.row..window.end_row() {
            let (from, to) = (source.row_range(&window, row), out.row_range(&window, row));
            for (o, bits) in out.values_mut()[to].iter_mut().zip(&source.bits()[from]) {
                let first = self.order.iter().position(|r| bits & r.bits() != 0);
                let fill = bits & Reasons::FILL.bits() != 0;
                *o = if fill { f32::NAN } else { first.map_or(0.0, |i| (i + 1) as f32) };
            }
        }
        Ok(())
    }

    fn step(&self) -> &'static str {
        "leading reason"
    }
}
