//! What an op is: four questions, no more.

use std::fmt::Debug;

use crate::error::Result;
use crate::grid::Window;
use crate::tile::{Kind, PlaneSpec, Tile};
use crate::units::Unit;

/// One plane of cells made window by window. Plain data: every parameter is a field, shown by `Debug`.
pub trait Op: Debug + Send + Sync {
    /// Kind and unit of the output.
    ///
    /// # Errors
    /// Where the inputs' kinds or units make no sense.
    fn output(&self, inputs: &[&PlaneSpec]) -> Result<(Kind, Unit)>;

    /// The window of its inputs that an output window needs; an empty one where it needs nothing of them.
    fn needs(&self, out: Window) -> Window {
        out
    }

    /// What absent inputs do. Law: absent gives what an input without any data would give.
    fn absence(&self) -> Absence {
        Absence::IfAny
    }

    /// Computes every cell of `out`.
    ///
    /// # Errors
    /// Only for what cannot be known before.
    fn compute(&self, inputs: &Inputs, out: &mut Tile) -> Result<()>;

    /// Makes the one input's own tile the output's, where it has the output's window and nothing else reads it; false
    /// where that cannot be done.
    fn in_place(&self, tile: &mut Tile) -> bool {
        let _ = tile;
        false
    }

    /// The step's name for people.
    fn step(&self) -> &'static str;
}

/// When an output is absent as a whole.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Absence {
    /// As soon as one input is.
    IfAny,
    /// Only if all inputs are.
    IfAll,
    /// Never: an absent input stands for cells without data, and the op has an answer for them.
    Never,
}

/// The tiles an op reads; an absent plane is `None`.
pub struct Inputs<'a> {
    pub(crate) tiles: Vec<Option<&'a Tile>>,
}

impl<'a> Inputs<'a> {
    /// These tiles, in the order of an op's inputs.
    pub fn new(tiles: Vec<Option<&'a Tile>>) -> Inputs<'a> {
        Inputs { tiles }
    }

    /// Input number `i`.
    pub fn get(&self, i: usize) -> Option<&'a Tile> {
        self.tiles[i]
    }

    /// Input number `i` of an op that is absent if any input is.
    pub fn tile(&self, i: usize) -> &'a Tile {
        match self.tiles[i] {
            Some(t) => t,
            None => unreachable!("ops that are absent if any input is are not asked otherwise"),
        }
    }

    /// How many inputs.
    pub fn len(&self) -> usize {
        self.tiles.len()
    }

    /// True where there is no input.
    pub fn is_empty(&self) -> bool {
        self.tiles.is_empty()
    }
}

/// The values of one row of a tile.
pub fn values_row<'t>(tile: &'t Tile, window: &Window, row: i64) -> &'t [f32] {
    &tile.values()[tile.row_range(window, row)]
}

/// The bits of one row of a tile.
pub fn bits_row<'t>(tile: &'t Tile, window: &Window, row: i64) -> &'t [u16] {
    &tile.bits()[tile.row_range(window, row)]
}
