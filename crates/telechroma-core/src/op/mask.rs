//! Flags of a delivery to our own reasons why a cell is dropped.

use crate::error::{Error, Result};
use crate::graph::{Absence, Inputs, Op, bits_row};
use crate::mask::{REASONS, Reasons};
use crate::tile::{Kind, PlaneSpec, Tile};
use crate::units::Unit;
use crate::wide;

/// Cells whose flags meet a test are dropped for `reason`.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct FlagRule {
    /// Number of the input plane whose flags are looked at.
    pub plane: usize,
    /// Which flags.
    pub test: FlagTest,
    /// Why.
    pub reason: Reasons,
}

/// What a rule looks for.
#[derive(Debug, Clone, Copy, PartialEq)]
pub enum FlagTest {
    /// Any of these bits.
    Any(u16),
    /// Two bits from `shift` on that hold at least this confidence, 1 (low) to 3 (high).
    Confidence {
        /// Number of the lower bit.
        shift: u8,
        /// The confidence.
        least: u16,
    },
}

impl FlagRule {
    /// A plane of reasons passed on as it is.
    pub fn passing(plane: usize) -> impl Iterator<Item = FlagRule> {
        let all = REASONS.iter().map(|d| d.reason);
        all.map(move |reason| FlagRule { plane, test: FlagTest::Any(reason.bits()), reason })
    }
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
    test: FlagTest,
    reason: u16,
    cells: &'a mut [u16],
}

impl wide::Loop for MarkRow<'_> {
    #[inline(always)]
    fn run(self, _: impl wide::Instructions) {
        let reason = self.reason;
        let cells = self.cells.iter_mut().zip(self.flags);
        match self.test {
            FlagTest::Any(bits) => cells.for_each(|(o, f)| *o |= if f & bits != 0 { reason } else { 0 }),
            FlagTest::Confidence { shift, least } => {
                let shift = u32::from(shift & 15);
                cells.for_each(|(o, f)| *o |= if (f >> shift) & 3 >= least { reason } else { 0 });
            }
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
                let (test, reason) = (rule.test, rule.reason.bits());
                wide::run(MarkRow { flags: bits_row(flags, &window, row), test, reason, cells });
            }
        }
        Ok(())
    }

    fn step(&self) -> &'static str {
        "mask"
    }
}
