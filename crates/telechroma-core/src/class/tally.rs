//! The area of each class: cells counted while tiles pass, times the area of a cell.

use super::Classes;
use crate::error::{Error, Result};
use crate::graph::{Inputs, values_row};
use crate::grid::{Grid, Window};
use crate::run::{Absorb, Part, Prepare};

/// The half that workers share.
pub struct Tallying {
    classes: Classes,
}

/// Cells by row and class; the last column counts what is in no class, and what is missing.
pub struct Tally {
    rows: Vec<Vec<u64>>,
    columns: usize,
}

/// Cells and area of each class.
#[derive(Debug, Clone, PartialEq)]
pub struct Areas {
    /// By class: cells and hectares.
    pub classes: Vec<(u64, f64)>,
    /// Values in no class.
    pub outside: (u64, f64),
    /// Cells without a value.
    pub missing: (u64, f64),
}

impl Tallying {
    /// For one plane of values on a grid.
    pub fn new(classes: Classes, grid: &Grid) -> (Tallying, Tally) {
        let columns = classes.list().len() + 2;
        (Tallying { classes }, Tally { rows: vec![vec![0; columns]; grid.rows as usize], columns })
    }
}

/// First row, and the counts of each row.
type Counted = (i64, Vec<Vec<u64>>);

impl Prepare for Tallying {
    fn prepare(&self, _: usize, window: Window, planes: &Inputs) -> Result<Part> {
        let classes = self.classes.list().len();
        let mut rows = vec![vec![0u64; classes + 2]; window.rows as usize];
        for (row, counts) in (window.row..).zip(&mut rows) {
            let Some(tile) = planes.get(0) else {
                counts[classes + 1] = u64::from(window.cols);
                continue;
            };
            for v in values_row(tile, &window, row) {
                let at = match self.classes.of(f64::from(*v)) {
                    Some(class) => class,
                    None if v.is_nan() => classes + 1,
                    None => classes,
                };
                counts[at] += 1;
            }
        }
        let counted: Counted = (window.row, rows);
        Ok(Box::new(counted))
    }

    fn holds(&self, tile: Window, in_flight: usize) -> u64 {
        8 * (self.classes.list().len() as u64 + 2) * u64::from(tile.rows) * (in_flight as u64 + 1)
    }
}

impl Absorb for Tally {
    fn absorb(&mut self, _: usize, part: Part) -> Result<()> {
        let Ok(counted) = part.downcast::<Counted>() else {
            return Err(Error::Defect { tile: 0, text: "a part of another sink".into() });
        };
        let (first, rows) = *counted;
        for (have, more) in self.rows.iter_mut().skip(first.max(0) as usize).zip(rows) {
            have.iter_mut().zip(more).for_each(|(a, b)| *a += b);
        }
        Ok(())
    }
}

impl Tally {
    /// Cells and hectares.
    ///
    /// # Errors
    /// Where the grid's cells have no area in metres.
    pub fn finish(self, grid: &Grid) -> Result<Areas> {
        let mut sums = vec![(0u64, 0f64); self.columns];
        let each = (0..grid.rows).map(|r| grid.cell_area(r)).collect::<Result<Vec<f64>>>()?;
        let same = each.iter().all(|a| *a == each[0]);
        for (counts, area) in self.rows.iter().zip(&each) {
            for (sum, n) in sums.iter_mut().zip(counts) {
                sum.0 += n;
                sum.1 += *n as f64 * area / 1e4;
            }
        }
        if same {
            // one product rounds once
            sums.iter_mut().for_each(|s| s.1 = s.0 as f64 * each.first().copied().unwrap_or(0.0) / 1e4);
        }
        let missing = sums.pop().unwrap_or_default();
        let outside = sums.pop().unwrap_or_default();
        Ok(Areas { classes: sums, outside, missing })
    }
}
