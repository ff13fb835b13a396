//! A layer as one piece, held while plots are fitted to it.

use crate::error::{Error, Result};
use crate::graph::{Inputs, values_row};
use crate::grid::{Grid, Window};
use crate::run::{Absorb, Part, Prepare};

/// Values of a layer on a grid in map coordinates, row by row; NaN where missing.
#[derive(Debug, Clone)]
pub struct Field {
    /// The grid.
    pub grid: Grid,
    /// The values.
    pub values: Vec<f32>,
}

/// The half that workers share.
pub struct FieldReader {
    cells: u64,
}

/// Most cells that are held: 256 MB.
const MOST_CELLS: u64 = 1 << 26;

impl Field {
    /// An empty field, and the reader that fills it with one plane.
    ///
    /// # Errors
    /// Where the grid has more cells than are held at once.
    pub fn of(grid: &Grid) -> Result<(FieldReader, Field)> {
        if grid.cells() > MOST_CELLS {
            return Err(Error::Usage(format!(
                "the plots span {} x {} cells, more than are held at once ({MOST_CELLS}): a coarser grid will do",
                grid.cols, grid.rows
            )));
        }
        let values = vec![f32::NAN; grid.cells() as usize];
        Ok((FieldReader { cells: grid.cells() }, Field { grid: grid.clone(), values }))
    }
}

/// A window and its values; none where the plane has no data.
type Piece = (Window, Option<Vec<f32>>);

impl Prepare for FieldReader {
    fn prepare(&self, _: usize, window: Window, planes: &Inputs) -> Result<Part> {
        let rows = |tile| (window.row..window.end_row()).flat_map(|r| values_row(tile, &window, r)).copied().collect();
        let piece: Piece = (window, planes.get(0).map(rows));
        Ok(Box::new(piece))
    }

    fn holds(&self, tile: Window, in_flight: usize) -> u64 {
        4 * (self.cells + (tile.len() * in_flight) as u64)
    }
}

impl Absorb for Field {
    fn absorb(&mut self, _: usize, part: Part) -> Result<()> {
        let Ok(piece) = part.downcast::<Piece>() else {
            return Err(Error::Defect { tile: 0, text: "a part of another sink".into() });
        };
        let (window, Some(values)) = *piece else { return Ok(()) };
        let cols = self.grid.cols as usize;
        for (row, line) in (window.row..).zip(values.chunks_exact(window.cols as usize)) {
            let at = row as usize * cols + window.col as usize;
            self.values[at..at + line.len()].copy_from_slice(line);
        }
        Ok(())
    }
}
