//! Bands whose cells contradict their names: red edge brighter than near infrared over green cells, red brighter than near
//! infrared everywhere.
//!
//! Green leaves reflect little red, more red edge and most near infrared (Horler et al. 1983): a file whose bands stand in
//! another order than was thought shows in any field.

use std::sync::Arc;

use crate::error::Result;
use crate::grid::Window;
use crate::scene::BandRole;
use crate::tile::{Cells, Kind, PlaneSource, blocks_of};

/// The bands to be looked at.
pub type Suspects = Vec<(BandRole, Arc<dyn PlaneSource>)>;

/// Blocks looked at, at most, spread over the raster.
const BLOCKS: u32 = 16;
/// NDVI from which on a cell is green.
const GREEN: f64 = 0.4;
/// Fewer green cells than this prove nothing.
const ENOUGH: u64 = 200;
/// Share of green cells that may go against the rule.
const MOST_AGAINST: f64 = 0.5;
/// What looks like red is brighter than any leaf's red here.
const BRIGHT_RED: f64 = 0.2;

/// What contradicts the bands' names, in words; empty where nothing does.
///
/// # Errors
/// Where a block cannot be read.
pub fn suspicious(bands: &Suspects) -> Result<Vec<String>> {
    let find = |names: &[&str]| {
        let one = |n: &&str| bands.iter().find(|(r, s)| r.name() == *n && s.spec().kind == Kind::Values);
        names.iter().find_map(one)
    };
    let (Some(red), Some(nir)) = (find(&["red"]), find(&["nir", "nir08"])) else { return Ok(vec![]) };
    let edge = find(&["rededge", "rededge071"]).filter(|e| e.1.spec().grid == red.1.spec().grid);
    if red.1.spec().grid != nir.1.spec().grid {
        return Ok(vec![]);
    }
    let (mut green, mut against, mut swapped, mut right) = (0u64, 0u64, 0u64, 0u64);
    each_cell(&red.1, &nir.1, edge.map(|e| &e.1), |r, n, e| {
        let ndvi = |n: f64| (n - r) / (n + r);
        if let Some(e) = e
            && ndvi(n).max(ndvi(e)) > GREEN
        {
            green += 1;
            against += u64::from(e > n);
        }
        swapped += u64::from(ndvi(n) < -GREEN && r > BRIGHT_RED);
        right += u64::from(ndvi(n) > GREEN);
    })?;
    let mut said = vec![];
    let percent = |a: u64, b: u64| 100.0 * a as f64 / b as f64;
    if let Some(e) = edge
        && green >= ENOUGH
        && against as f64 > MOST_AGAINST * green as f64
    {
        said.push(format!(
            "over green cells the band called {} is brighter than the one called {} in {:.0} % of {green}: {} looks like nir, {} like red edge",
            e.0, nir.0, percent(against, green), e.0, nir.0
        ));
    }
    if swapped >= ENOUGH && swapped > 4 * right {
        said.push(format!(
            "over {swapped} cells the band called red is far brighter than the one called {}, as near infrared is over leaves: the two look swapped",
            nir.0
        ));
    }
    Ok(said)
}

type Source = Arc<dyn PlaneSource>;

/// Calls `f(red, nir, rededge)` for the known cells of some blocks.
fn each_cell(
    red: &Source,
    nir: &Source,
    edge: Option<&Source>,
    mut f: impl FnMut(f64, f64, Option<f64>),
) -> Result<()> {
    let grid = &red.spec().grid;
    let (across, down) = blocks_of(grid, red.block());
    let total = across * down;
    for k in 0..total.min(BLOCKS) {
        let block = (u64::from(k) * u64::from(total) / u64::from(total.min(BLOCKS))) as u32;
        let shape = red.block();
        let (col, row) =
            (i64::from(block % across) * i64::from(shape.cols), i64::from(block / across) * i64::from(shape.rows));
        let Some(window) = Window::new(col, row, shape.cols, shape.rows).intersect(&grid.window()) else { continue };
        let r = read(red, window)?;
        let n = read(nir, window)?;
        let e = edge.map(|e| read(e, window)).transpose()?;
        for i in 0..window.len() {
            let (r, n) = (f64::from(r[i]), f64::from(n[i]));
            let e = e.as_ref().map(|e| f64::from(e[i]));
            if r > 0.0 && n > 0.0 && e.is_none_or(|e| e > 0.0) {
                f(r, n, e);
            }
        }
    }
    Ok(())
}

/// The values of a window, whatever the source's blocks.
///
/// # Errors
/// Where a block cannot be read.
pub(crate) fn read(source: &Source, window: Window) -> Result<Vec<f32>> {
    let shape = source.block();
    let (across, _) = blocks_of(&source.spec().grid, shape);
    let mut out = vec![f32::NAN; window.len()];
    let mut cells = Cells::Values(vec![f32::NAN; shape.cols as usize * shape.rows as usize]);
    let span = |from: i64, to: i64, size: u32| from / i64::from(size)..(to - 1) / i64::from(size) + 1;
    for r in span(window.row, window.end_row(), shape.rows) {
        for c in span(window.col, window.end_col(), shape.cols) {
            source.read_block(r as u32 * across + c as u32, &mut cells)?;
            let Cells::Values(values) = &cells else { unreachable!("asked only of planes of values") };
            let at = Window::new(c * i64::from(shape.cols), r * i64::from(shape.rows), shape.cols, shape.rows);
            let Some(part) = at.intersect(&window) else { continue };
            for row in part.row..part.end_row() {
                let (from, to) = (at.index(part.col, row), window.index(part.col, row));
                out[to..to + part.cols as usize].copy_from_slice(&values[from..from + part.cols as usize]);
            }
        }
    }
    Ok(out)
}
