//! The frame of a run: the grid its results lie on, and the area it is limited to.

use std::str::FromStr;
use std::sync::Arc;

use crate::area::{Area, Outline};
use crate::error::{Error, Result};
use crate::geo::{Affine, Crs};
use crate::graph::{Graph, NodeId};
use crate::grid::Grid;
use crate::op::{FlagResample, How, Resample, align};
use crate::run::Note;
use crate::tile::Kind;

/// What is asked of a run's grid and extent.
#[derive(Debug, Clone, Default, PartialEq)]
pub struct Frame {
    /// The grid; none: that of the inputs.
    pub grid: Option<GridRequest>,
    /// How values are brought to it; none: by what fits.
    pub resample: Option<Resample>,
    /// The area.
    pub area: Option<Outline>,
}

/// A grid asked for.
#[derive(Debug, Clone, PartialEq)]
pub enum GridRequest {
    /// Cells of a size; the coordinate system is that of the first input where none is named.
    Cells {
        /// Side of a cell, in units of the coordinate system.
        side: f64,
        /// Degrees, not metres.
        degrees: bool,
        /// The coordinate system.
        crs: Option<Crs>,
    },
    /// The grid of a raster.
    Like(Arc<Grid>),
}

impl FromStr for GridRequest {
    type Err = Error;

    fn from_str(text: &str) -> Result<GridRequest> {
        let wrong = || {
            Error::Usage(format!(
                "'{text}' is no grid: write a cell size, and a coordinate system if it is another, such as 10m@EPSG:32633 or 0.0001deg@EPSG:4326"
            ))
        };
        let (size, crs) = match text.split_once('@') {
            Some((size, crs)) => (size.trim(), Some(Crs::from_text(crs)?)),
            None => (text.trim(), None),
        };
        let (number, degrees) = match size.strip_suffix("deg") {
            Some(n) => (n.parse::<f64>().map_err(|_| wrong())?, true),
            None => (size.parse::<crate::units::Metres>().map_err(|_| wrong())?.0, false),
        };
        if !(number.is_finite() && number > 0.0) {
            return Err(wrong());
        }
        if let Some(crs) = crs.filter(|c| c.is_geographic() != degrees) {
            let unit = if degrees { "metres, not degrees" } else { "degrees, not metres" };
            return Err(Error::Usage(format!("the cells of {crs} are measured in {unit}: '{text}'")));
        }
        Ok(GridRequest::Cells { side: number, degrees, crs })
    }
}

/// A frame laid over inputs.
#[derive(Debug)]
pub struct Framed {
    /// The grid of the results.
    pub grid: Grid,
    /// The area's cells on it.
    pub area: Option<Arc<Area>>,
    /// What to know.
    pub notes: Vec<Note>,
}

/// An output cell this many times as large as a source cell is the mean of what it covers.
const COARSER: f64 = 2.25;
/// A grid of more cells (a continent at 5 m) is a slip.
const MOST_CELLS: f64 = 4e11;

impl Frame {
    /// Lays it over inputs, each with a name for people.
    ///
    /// # Errors
    /// Where the inputs' cells are off by parts of a cell and no grid is asked for, a coordinate system is not known, or
    /// the area does not meet the inputs.
    pub fn over(&self, inputs: &[(String, Arc<Grid>)]) -> Result<Framed> {
        let mut notes = vec![];
        let grid = self.whole(inputs, &mut notes)?;
        let mut systems: Vec<Crs> = inputs.iter().filter_map(|(_, g)| g.crs).filter(|c| Some(*c) != grid.crs).collect();
        systems.extend(self.area.iter().map(|a| a.crs).filter(|c| Some(*c) != grid.crs));
        if !systems.is_empty() {
            systems.extend(grid.crs);
        }
        let mut said: Vec<String> =
            systems.into_iter().filter_map(|c| Some(format!("{}: {}", c.name(), c.caveat()?))).collect();
        said.dedup();
        notes.extend(said.into_iter().map(Note::Coordinates));
        let Some(outline) = &self.area else { return Ok(Framed { grid, area: None, notes }) };
        let what = if inputs.len() == 1 { inputs[0].0.clone() } else { "the inputs' extent".into() };
        let area = outline.on(&grid, &what)?;
        let window = area.window;
        let area = Some(Arc::new(area.moved(window.col, window.row)));
        Ok(Framed { grid: grid.part(window), area, notes })
    }

    fn whole(&self, inputs: &[(String, Arc<Grid>)], notes: &mut Vec<Note>) -> Result<Grid> {
        let Some(((name, first), rest)) = inputs.split_first() else {
            return Err(Error::Usage("there is nothing to work on".into()));
        };
        let (side, crs) = match &self.grid {
            Some(GridRequest::Like(grid)) => return Ok((**grid).clone()),
            Some(GridRequest::Cells { side, degrees, crs }) => {
                let crs = crs.or(first.crs).ok_or_else(|| {
                    Error::Coordinates(format!("{name} has no coordinate system: name one for the grid"))
                })?;
                if crs.is_geographic() != *degrees {
                    return Err(Error::Usage(format!(
                        "cells of {crs} are not measured in {}",
                        if *degrees { "degrees" } else { "metres" }
                    )));
                }
                let side = if *degrees { *side } else { side / crs.metres().unwrap_or(1.0) };
                (side, crs)
            }
            None => {
                let (at, difference) = match first.union(rest.iter().map(|g| &*g.1)) {
                    Ok(union) => return Ok(union),
                    Err(e) => e,
                };
                let other = &rest[at];
                let shifted = other.1.crs == first.crs && same_cells(first, &other.1);
                if shifted || first.crs.is_none() || other.1.crs.is_none() {
                    return Err(Error::GridMismatch { first: name.clone(), second: other.0.clone(), difference });
                }
                notes.push(Note::Coordinates(format!(
                    "{name} and {} differ in grid ({difference}): all are brought to the cells of {name}",
                    other.0
                )));
                return cover(first, inputs);
            }
        };
        // cells that nest with the first input's lie on its lines, others on whole multiples of their size
        let (t, (w, h)) = (first.transform, first.transform.cell());
        let nest = |k: f64| k >= 0.999_999 && (k - k.round()).abs() < 1e-6;
        let own = first.crs == Some(crs)
            && t.b == 0.0
            && t.d == 0.0
            && (w / h - 1.0).abs() < 1e-9
            && (nest(side / w) || nest(w / side));
        let (x, y) = if own { (t.c, t.f) } else { (0.0, 0.0) };
        let anchored = Grid { crs: Some(crs), transform: Affine::north_up(x, y, side, side), cols: 0, rows: 0 };
        cover(&anchored, inputs)
    }
}

fn same_cells(a: &Grid, b: &Grid) -> bool {
    let (x, y) = (a.transform.cell(), b.transform.cell());
    (x.0 / y.0 - 1.0).abs() < 1e-6 && (x.1 / y.1 - 1.0).abs() < 1e-6
}

/// A grid on the cells of `cells` that holds all inputs.
fn cover(cells: &Grid, inputs: &[(String, Arc<Grid>)]) -> Result<Grid> {
    let Some(crs) = cells.crs else { unreachable!("asked only of grids with a coordinate system") };
    let mut b = [f64::INFINITY, f64::INFINITY, f64::NEG_INFINITY, f64::NEG_INFINITY];
    for (name, g) in inputs {
        let [w, s, e, n] = g.bounds_in(crs).map_err(|e| Error::Coordinates(format!("{name}: {e}")))?;
        for (x, y) in [(w, n), (e, n), (w, s), (e, s)] {
            let (c, r) = cells.transform.to_cells(x, y);
            b = [b[0].min(c), b[1].min(r), b[2].max(c), b[3].max(r)];
        }
    }
    // positions on a line between cells, but for rounding, lie on it
    let (w, n, e, s) = ((b[0] + 1e-4).floor(), (b[1] + 1e-4).floor(), (b[2] - 1e-4).ceil(), (b[3] - 1e-4).ceil());
    let (cols, rows) = (e - w, s - n);
    if !(cols >= 1.0 && rows >= 1.0 && cols < 4e9 && rows < 4e9 && cols * rows <= MOST_CELLS) {
        return Err(Error::Usage(format!(
            "the grid asked for would have {cols} x {rows} cells: choose larger ones, or limit the run to an area"
        )));
    }
    Ok(Grid { crs: Some(crs), transform: cells.transform.shifted(w, n), cols: (e - w) as u32, rows: (s - n) as u32 })
}

/// A plane brought to the run's grid by the rule asked for; without one values are repeated where that is exact, else
/// averaged where the cells become coarser, else interpolated. Flags are joined where the cells become coarser.
///
/// # Errors
/// Where its coordinate system is not known.
pub fn bring(g: &mut Graph, plane: NodeId, rule: Option<Resample>) -> Result<NodeId> {
    let spec = g.node(plane).spec().clone();
    if *spec.grid == **g.grid() {
        return Ok(plane);
    }
    let mapping = g.mapping(&spec.grid)?;
    let coarser = mapping.coarseness() >= COARSER;
    let how = match spec.kind {
        Kind::Flags { .. } if coarser => How::Flags(FlagResample::Any),
        Kind::Flags { .. } => How::Flags(FlagResample::Nearest),
        Kind::Values | Kind::Counts { .. } => How::Values(rule.unwrap_or(match (mapping.repeats(), coarser) {
            (true, _) => Resample::Nearest,
            (false, true) => Resample::Mean,
            (false, false) => Resample::Bilinear,
        })),
    };
    align(g, plane, how)
}

#[cfg(test)]
mod tests {
    use super::*;

    fn named(crs: Crs, x: f64, y: f64, cell: f64) -> (String, Arc<Grid>) {
        (
            "a".into(),
            Arc::new(Grid { crs: Some(crs), transform: Affine::north_up(x, y, cell, cell), cols: 100, rows: 80 }),
        )
    }

    #[test]
    fn grids_are_read_as_people_write_them() {
        let read = |t: &str| t.parse::<GridRequest>().map_err(|e| e.to_string());
        assert_eq!(read("10m"), Ok(GridRequest::Cells { side: 10.0, degrees: false, crs: None }));
        assert!(read("0.001deg@EPSG:4326").is_ok());
        assert!(read("10").unwrap_err().contains("10m@EPSG:32633"));
        assert!(read("10m@EPSG:4326").unwrap_err().contains("measured in degrees"));
    }

    #[test]
    fn other_zones_are_brought_to_the_first_and_part_shifts_are_refused() {
        let (a, b) = (Crs::utm(25, true).unwrap(), Crs::utm(26, true).unwrap());
        let first = named(a, 700_000.0, 4_400_000.0, 30.0);
        let framed = Frame::default().over(&[first.clone(), named(b, 190_000.0, 4_400_000.0, 30.0)]).unwrap();
        assert_eq!((framed.grid.crs, framed.notes.len()), (Some(a), 1));
        assert!(framed.grid.offset_of(&first.1).is_ok());
        let shifted = named(a, 700_015.0, 4_400_000.0, 30.0);
        assert!(
            Frame::default()
                .over(&[first.clone(), shifted.clone()])
                .unwrap_err()
                .to_string()
                .contains("15.00 m east-west")
        );
        let asked = Frame { grid: Some("20m".parse().unwrap()), ..Frame::default() };
        let g = asked.over(&[first, shifted]).unwrap().grid;
        assert_eq!((g.transform.c, g.transform.f, g.cols, g.rows), (700_000.0, 4_400_000.0, 151, 120));
        // cells that nest keep the lines of the inputs
        let odd = [named(a, 700_015.0, 4_400_015.0, 30.0)];
        let nested =
            |t: &str| Frame { grid: Some(t.parse().unwrap()), ..Frame::default() }.over(&odd).unwrap().grid.transform.c;
        assert_eq!((nested("60m"), nested("10m"), nested("20m")), (700_015.0, 700_015.0, 700_000.0));
    }
}
