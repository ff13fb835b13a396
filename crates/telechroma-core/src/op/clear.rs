//! Which scenes see a cell clearly: the masks of up to sixteen scenes as one plane, a bit a scene.
//!
//! A composite reads this one plane for each band instead of a mask for each scene and band.

use crate::error::{Error, Result};
use crate::graph::{Absence, Inputs, Op, bits_row};
use crate::tile::{Kind, PlaneSpec, Tile};
use crate::units::Unit;
use crate::wide;

/// Bit `i` is set where mask `i` is clear (zero). Outside every scene no bit is.
#[derive(Debug)]
pub struct Clear;

impl Clear {
    /// Scenes that one plane holds.
    pub const SCENES: usize = 16;
}

/// One scene's bit on one row.
struct ClearRow<'a> {
    mask: &'a [u16],
    bit: u16,
    cells: &'a mut [u16],
}

impl wide::Loop for ClearRow<'_> {
    #[inline(always)]
    fn run(self, _: impl wide::Instructions) {
        for (o, m) in self.cells.iter_mut().zip(self.mask) {
            *o |= if *m == 0 { self.bit } else { 0 };
        }
    }
}

impl Op for Clear {
    fn output(&self, inputs: &[&PlaneSpec]) -> Result<(Kind, Unit)> {
        match inputs.len() <= Clear::SCENES && inputs.iter().all(|i| matches!(i.kind, Kind::Flags { .. })) {
            true => Ok((Kind::Flags { outside: 0 }, Unit::Flags)),
            false => Err(Error::Usage("clear looks are gathered from the masks of at most 16 scenes".into())),
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
            for (i, mask) in (0..inputs.len()).filter_map(|i| Some((i, inputs.get(i)?))) {
                wide::run(ClearRow { mask: bits_row(mask, &window, row), bit: 1 << i, cells });
            }
        }
        Ok(())
    }

    fn step(&self) -> &'static str {
        "gather clear looks"
    }
}
