//! Bands whose cells contradict their names: red edge brighter than near infrared over green cells, red brighter than near
//! infrared everywhere.
//!
//! Green leaves reflect little red, more red edge and most near infrared (Horler et al. 1983): a file whose bands stand in
//! another order than was thought shows in any field.

use std::sync::Arc;

use crate::error::Result;
use crate::scene::BandRole;
use crate::tile::{Kind, PlaneSource, Tile, block_window, blocks_of, read_window};

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
        let window = block_window(grid, red.block(), block);
        let (r, n) = (read_window(&**red, window)?, read_window(&**nir, window)?);
        let e = edge.map(|e| read_window(&**e, window)).transpose()?;
        let (r, n, e) = (r.values(), n.values(), e.as_ref().map(Tile::values));
        for i in 0..window.len() {
            let (r, n) = (f64::from(r[i]), f64::from(n[i]));
            let e = e.map(|e| f64::from(e[i]));
            if r > 0.0 && n > 0.0 && e.is_none_or(|e| e > 0.0) {
                f(r, n, e);
            }
        }
    }
    Ok(())
}
