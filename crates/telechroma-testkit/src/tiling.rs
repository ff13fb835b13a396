//! The law of the engine: results do not depend on how the grid is cut into tiles, nor on the number of threads.

use telechroma_core::graph::{Graph, NodeId};
use telechroma_core::tile::Cells;

use crate::memory::compute;

/// Values as their bits: NaN equals NaN, and nothing is rounded away.
pub fn bits(cells: &Cells) -> Vec<u32> {
    match cells {
        Cells::Values(v) => v.iter().map(|x| if x.is_nan() { u32::MAX } else { x.to_bits() }).collect(),
        Cells::Bits(v) => v.iter().map(|x| u32::from(*x)).collect(),
    }
}

/// Computes the planes of a graph with tiles of many sizes and several numbers of threads; all must agree bit by bit.
/// Returns the planes.
///
/// # Panics
/// Where two runs differ: with the plane, the cell, and the tiles.
pub fn check(make: impl Fn() -> (Graph, Vec<NodeId>)) -> Vec<Cells> {
    let run = |tile: (u32, u32), threads: usize| {
        let (graph, planes) = make();
        compute(graph, &planes, Some(tile), threads).unwrap_or_else(|e| panic!("tiles {tile:?}: {e}")).0
    };
    let grid = make().0.grid().window();
    let whole = run((grid.cols, grid.rows), 1);
    let tiles = [(1, 1), (3, 2), (7, 5), (8, 8), (16, grid.rows), (grid.cols, 3)];
    for (tile, threads) in tiles.into_iter().zip([1, 2, 5, 2, 1, 5]).chain([((64, 64), 2), ((grid.cols, grid.rows), 5)])
    {
        for (n, (got, want)) in run(tile, threads).iter().zip(&whole).enumerate() {
            let (got, want) = (bits(got), bits(want));
            if let Some(at) = got.iter().zip(&want).position(|(a, b)| a != b) {
                let (c, r) = (at as u32 % grid.cols, at as u32 / grid.cols);
                panic!(
                    "plane {n}, column {c}, row {r} differs with tiles {tile:?} on {threads} threads: {:x} {:x}",
                    got[at], want[at]
                );
            }
        }
    }
    whole
}

/// The law of absence: a source that covers a part of the grid gives what the same source padded with no data gives.
///
/// # Panics
/// Where it does not.
pub fn check_absence(make: impl Fn(bool) -> (Graph, Vec<NodeId>)) {
    let run = |padded: bool| {
        let (graph, planes) = make(padded);
        compute(graph, &planes, Some((4, 4)), 1).unwrap_or_else(|e| panic!("{e}")).0
    };
    for (n, (part, padded)) in run(false).iter().zip(&run(true)).enumerate() {
        assert_eq!(bits(part), bits(padded), "plane {n}: absent is not as without data");
    }
}
