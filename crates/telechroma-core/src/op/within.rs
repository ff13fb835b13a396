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
    let missing = g.node(plane).spec().kind.missing_bits();
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

#[cfg(test)]
mod tests {
    use crate::area::{Edge, Outline};
    use crate::geo::{Affine, Crs};
    use crate::grid::Grid;

    use super::*;

    #[test]
    fn cells_outside_are_missing_however_it_is_done() {
        let crs = Crs::utm(25, true).unwrap();
        let transform = Affine::north_up(500_000.0, 4_400_000.0, 10.0, 10.0);
        let grid = Grid { crs: Some(crs), transform, cols: 20, rows: 10 };
        let boxes =
            [[500_020.0, 4_399_930.0, 500_060.0, 4_399_990.0], [500_090.0, 4_399_950.0, 500_130.0, 4_399_970.0]];
        let polygons = boxes.iter().flat_map(|b| Outline::of_box(crs, *b).polygons).collect();
        let outline = Outline { name: "test".into(), crs, polygons, edge: Edge::Centre };
        let op = Within { area: Arc::new(outline.on(&grid, "the run").unwrap()), missing: 9 };
        let inside = |col: i64, row: i64| {
            (2..6).contains(&col) && (1..7).contains(&row) || (9..13).contains(&col) && (3..5).contains(&row)
        };
        for window in [Window::new(0, 0, 20, 10), Window::new(3, 2, 8, 3), Window::new(14, 0, 6, 10)] {
            let at = |i: usize| {
                (window.col + (i % window.cols as usize) as i64, window.row + (i / window.cols as usize) as i64)
            };
            let mut tile = Tile { window, cells: Cells::Bits((100..).take(window.len()).collect()) };
            let want = (0..window.len()).map(|i| if inside(at(i).0, at(i).1) { 100 + i as u16 } else { 9 }).collect();
            let mut copied = Tile { window, cells: Cells::Bits(vec![1; window.len()]) };
            op.compute(&Inputs::new(vec![Some(&tile)]), &mut copied).unwrap();
            assert_eq!(copied.cells, Cells::Bits(want), "{window:?}");
            assert!(op.in_place(&mut tile) && tile == copied, "{window:?}");
        }
    }
}
