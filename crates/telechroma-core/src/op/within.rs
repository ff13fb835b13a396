//! A plane limited to an area: the last step before the outputs, so that what is computed inside never changes.
//!
//! It asks only for the window that the area's cells in a tile take: blocks under no cell of it are never decoded.

use std::sync::Arc;

use crate::area::Area;
use crate::error::Result;
use crate::graph::{Absence, Graph, Inputs, NodeId, Op};
use crate::grid::Window;
use crate::tile::{Cells, Kind, PlaneSpec, Tile};
use crate::units::Unit;

/// A plane of the run's grid limited to an area; all of it where there is none.
///
/// # Errors
/// Where the plane lies on another grid.
pub fn limit(g: &mut Graph, plane: NodeId, area: Option<&Arc<Area>>) -> Result<NodeId> {
    let Some(area) = area else { return Ok(plane) };
    let missing = match g.node(plane).spec().kind {
        Kind::Flags { outside } => outside,
        Kind::Counts { fill } => fill.unwrap_or(0),
        Kind::Values => 0,
    };
    g.add(Within { area: area.clone(), missing }, &[plane])
}

/// Cells outside the area are missing.
#[derive(Debug)]
pub struct Within {
    /// The area, on the graph's grid.
    pub area: Arc<Area>,
    /// What stands for missing in a plane of bits.
    pub missing: u16,
}

impl Within {
    /// Cells of a row between two spans of the area.
    fn outside(&self, row: i64, from: i64, to: i64, out: &mut Tile) {
        if from < to {
            let range = out.row_range(&Window::new(from, row, (to - from) as u32, 1), row);
            match &mut out.cells {
                Cells::Values(v) => v[range].fill(f32::NAN),
                Cells::Bits(b) => b[range].fill(self.missing),
            }
        }
    }
}

impl Op for Within {
    fn output(&self, inputs: &[&PlaneSpec]) -> Result<(Kind, Unit)> {
        let [one] = inputs else { unreachable!("one plane is limited at a time") };
        Ok((one.kind, one.unit))
    }

    fn needs(&self, out: Window) -> Window {
        self.area.within(out).unwrap_or(Window::new(out.col, out.row, 0, 0))
    }

    fn absence(&self) -> Absence {
        Absence::IfAny
    }

    fn compute(&self, inputs: &Inputs, out: &mut Tile) -> Result<()> {
        let (source, window) = (inputs.tile(0), out.window);
        for row in window.row..window.end_row() {
            for (from, to) in self.area.row(row) {
                let (from, to) = ((*from).max(window.col), (*to).min(window.end_col()));
                if from < to {
                    out.copy_from(source, Window::new(from, row, (to - from) as u32, 1));
                }
            }
        }
        self.in_place(out);
        Ok(())
    }

    fn in_place(&self, tile: &mut Tile) -> bool {
        let window = tile.window;
        for row in window.row..window.end_row() {
            let mut done = window.col;
            for (from, to) in self.area.row(row) {
                let (from, to) = ((*from).max(window.col), (*to).min(window.end_col()));
                if from < to {
                    self.outside(row, done, from, tile);
                    done = to;
                }
            }
            self.outside(row, done, window.end_col(), tile);
        }
        true
    }

    fn step(&self) -> &'static str {
        "limit to the area"
    }
}
