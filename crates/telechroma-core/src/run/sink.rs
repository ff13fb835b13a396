//! Where computed planes go: two halves, one shared by the workers, one owned by the caller.

use std::any::Any;

use crate::error::Result;
use crate::graph::{Inputs, NodeId};
use crate::grid::Window;

/// What the workers' half hands to the caller's half.
pub type Part = Box<dyn Any + Send>;

/// The half that workers share: encodes, sums.
pub trait Prepare: Send + Sync {
    /// The part of a tile this sink wants; none where it wants nothing, and then nothing is decoded for it.
    fn wants(&self, tile: Window) -> Option<Window> {
        Some(tile)
    }

    /// Works on group number `group` as soon as its planes are computed. `None` in `planes` is a plane without data.
    ///
    /// # Errors
    /// Whatever the sink meets.
    fn prepare(&self, group: usize, window: Window, planes: &Inputs) -> Result<Part>;

    /// Bytes this sink may hold at a time beyond the tiles of the graph, for a tile of this many cells and a number
    /// of tiles in flight.
    fn holds(&self, tile: Window, in_flight: usize) -> u64;
}

/// The half that the calling thread owns: writes, adds. Called in tile order, then in group order.
pub trait Absorb {
    /// Takes one part.
    ///
    /// # Errors
    /// Whatever the sink meets; the run stops.
    fn absorb(&mut self, group: usize, part: Part) -> Result<()>;
}

/// A sink in a run: which planes it takes, in groups that are handed over together.
pub struct Sink<'a> {
    /// Planes; each group is prepared as soon as its last plane is there.
    pub groups: Vec<Vec<NodeId>>,
    /// The workers' half.
    pub prepare: &'a dyn Prepare,
    /// The caller's half.
    pub absorb: &'a mut dyn Absorb,
}
