//! Flags of a delivery to our own reasons why a cell is dropped.

use crate::error::{Error, Result};
use crate::graph::{Absence, Inputs, Op, bits_row};
use crate::mask::Reasons;
use crate::tile::{Kind, PlaneSpec, Tile};
use crate::units::Unit;
use crate::wide;

/// Cells whose flags have a bit of `bits` are dropped for `reason`.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct FlagRule {
    /// Number of the input plane whose flags are looked at.
    pub plane: usize,
    /// Any of these bits.
    pub bits: u16,
    /// Why.
    pub reason: Reasons,
}

/// A clear-sky layer of one scene: zero is clear, else the reasons' bits. Outside the scene is fill.
#[derive(Debug)]
pub struct Mask {
    /// The rules; overlapping reasons are all kept.
    pub rules: Vec<FlagRule>,
}

/// One rule on one row.
struct MarkRow<'a> {
    flags: &'a [u16],
    bits: u16,
    reason: u16,
    cells: &'a mut [u16],
}

impl wide::Loop for MarkRow<'_> {
    #[inline(always)]
    fn run(self) {
        for (o, f) in self.cells.iter_mut().zip(self.flags) {
            *o |= if f & self.bits != 0 { self.reason } else { 0 };
        }
    }
}

impl Op for Mask {
    fn output(&self, inputs: &[&PlaneSpec]) -> Result<(Kind, Unit)> {
        match inputs.iter().find(|i| !matches!(i.kind, Kind::Flags { .. })) {
            Some(other) => Err(Error::UnitMismatch {
                what: "the plane to mask by".into(),
                found: other.unit.label().into(),
                wants: Unit::Flags.label().into(),
            }),
            None => Ok((Kind::Flags { outside: Reasons::FILL.bits() }, Unit::Flags)),
        }
    }

    fn absence(&self) -> Absence {
        Absence::IfAll
    }

    fn compute(&self, inputs: &Inputs, out: &mut Tile) -> Result<()> {
        let window = out.window;
        for row in window.row..window.end_row() {
            let at = out.row_range(&window, row);
            let cells = &mut out.bits_mut()[at];
            cells.fill(0);
            for rule in &self.rules {
                let Some(flags) = inputs.get(rule.plane) else { continue };
                let (bits, reason) = (rule.bits, rule.reason.bits());
                wide::run(MarkRow { flags: bits_row(flags, &window, row), bits, reason, cells });
            }
        }
        Ok(())
    }

    fn step(&self) -> &'static str {
        "mask"
    }
}
