//! Planes of flags held in memory: for each row the spans of cells that have a flag.
//!
//! What is looked for in a whole scene before its cells are computed (clouds, shadows, outliers) is kept so: a scene of
//! 8,000 × 8,000 cells takes a few megabytes.

use std::fmt;
use std::sync::Arc;

use crate::error::Result;
use crate::graph::{Inputs, NodeId};
use crate::grid::{Grid, Window};
use crate::run::{Absorb, Part, Prepare, Sink};
use crate::tile::{BlockShape, Kind, PlaneSource, PlaneSpec, Tile, block_window};
use crate::units::Unit;

/// Cells of a row, side by side, with the same flags.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Span {
    /// First column.
    pub col: u32,
    /// Column behind the last.
    pub end: u32,
    /// Their flags; never zero.
    pub bits: u16,
}

/// The spans of every row of a grid.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct Spans {
    /// By row: sorted, apart.
    pub rows: Vec<Vec<Span>>,
}

impl Spans {
    /// None on any of so many rows.
    pub fn new(rows: u32) -> Spans {
        Spans { rows: vec![vec![]; rows as usize] }
    }

    /// Sorts rows that were filled in any order and joins what lies side by side.
    fn tidy(&mut self) {
        for row in &mut self.rows {
            row.sort_unstable_by_key(|s| s.col);
            row.dedup_by(|later, first| {
                let joined = later.col == first.end && later.bits == first.bits;
                if joined {
                    first.end = later.end;
                }
                joined
            });
            row.shrink_to_fit();
        }
    }

    /// Adds the flags of other spans to those of these.
    pub fn lay(&mut self, over: &Spans, cols: u32) {
        let mut bits = vec![0u16; cols as usize];
        for (row, more) in self.rows.iter_mut().zip(&over.rows).filter(|(_, more)| !more.is_empty()) {
            bits.fill(0);
            for s in row.iter().chain(more) {
                bits[s.col as usize..s.end as usize].iter_mut().for_each(|b| *b |= s.bits);
            }
            *row = spans_of(&bits, 0);
        }
    }

    /// Cells with any of some flags.
    pub fn cells(&self, bits: u16) -> u64 {
        let with = self.rows.iter().flatten().filter(|s| s.bits & bits != 0);
        with.map(|s| u64::from(s.end - s.col)).sum()
    }
}

/// The spans of a row of cells that have a flag.
fn spans_of(bits: &[u16], col: u32) -> Vec<Span> {
    let mut found: Vec<Span> = vec![];
    for (at, bits) in (col..).zip(bits).filter(|(_, b)| **b != 0) {
        match found.last_mut() {
            Some(last) if last.end == at && last.bits == *bits => last.end += 1,
            _ => found.push(Span { col: at, end: at + 1, bits: *bits }),
        }
    }
    found
}

/// Takes planes of flags of a run into memory.
pub struct Holder {
    grid: Window,
}

/// What was taken, plane by plane.
pub struct Holding(Vec<Spans>);

impl Holder {
    /// Of so many planes on a grid.
    pub fn new(planes: usize, grid: &Grid) -> (Holder, Holding) {
        (Holder { grid: grid.window() }, Holding(vec![Spans::new(grid.rows); planes]))
    }

    /// The sink.
    pub fn sink<'a>(&'a self, holding: &'a mut Holding, planes: &[NodeId]) -> Sink<'a> {
        Sink { groups: planes.iter().map(|p| vec![*p]).collect(), prepare: self, absorb: holding }
    }
}

/// Rows with their spans.
type Rows = Vec<(usize, Vec<Span>)>;

impl Prepare for Holder {
    fn prepare(&self, _: usize, window: Window, planes: &Inputs) -> Result<Part> {
        let mut rows: Rows = vec![];
        if let Some(tile) = planes.get(0) {
            for row in window.row..window.end_row() {
                let spans = spans_of(&tile.bits()[tile.row_range(&window, row)], (window.col - self.grid.col) as u32);
                if !spans.is_empty() {
                    rows.push(((row - self.grid.row) as usize, spans));
                }
            }
        }
        Ok(Box::new(rows))
    }

    fn holds(&self, tile: Window, in_flight: usize) -> u64 {
        // a tenth of the cells changes its flags, at most, in what is looked for
        tile.len() as u64 * in_flight as u64 * std::mem::size_of::<Span>() as u64 / 10
    }
}

impl Absorb for Holding {
    fn absorb(&mut self, group: usize, part: Part) -> Result<()> {
        let Ok(rows) = part.downcast::<Rows>() else { unreachable!("parts come back to the sink that made them") };
        for (row, spans) in *rows {
            self.0[group].rows[row].extend(spans);
        }
        Ok(())
    }
}

impl Holding {
    /// The spans, plane by plane.
    pub fn finish(mut self) -> Vec<Spans> {
        self.0.iter_mut().for_each(Spans::tidy);
        self.0
    }
}

/// A plane of flags in memory.
pub struct Held {
    name: String,
    spec: PlaneSpec,
    spans: Spans,
    digest: u64,
}

/// Side of the blocks it is read in.
const SIDE: u32 = 512;

impl Held {
    /// Flags on a grid; cells beyond it carry `outside`.
    pub fn new(name: String, grid: Arc<Grid>, outside: u16, spans: Spans) -> Held {
        let fold = |h: u64, v: u64| (h ^ v).wrapping_mul(0x0000_0100_0000_01b3).rotate_left(23);
        let marks = spans.rows.iter().zip(0u64..).flat_map(|(row, r)| {
            row.iter().flat_map(move |s| [r, u64::from(s.col) << 32 | u64::from(s.end), u64::from(s.bits)])
        });
        let digest = marks.fold(0xcbf2_9ce4_8422_2325, fold);
        Held { name, spec: PlaneSpec { grid, kind: Kind::Flags { outside }, unit: Unit::Flags }, spans, digest }
    }
}

impl fmt::Debug for Held {
    /// Tells planes apart without writing every span.
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "Held {} {:?} {:016x}", self.name, self.spec.grid, self.digest)
    }
}

impl PlaneSource for Held {
    fn spec(&self) -> &PlaneSpec {
        &self.spec
    }

    fn block(&self) -> BlockShape {
        BlockShape { cols: SIDE, rows: SIDE }
    }

    fn read_block(&self, index: u32, out: &mut Tile) -> Result<()> {
        let Some(part) = block_window(&self.spec.grid, self.block(), index).intersect(&out.window) else {
            return Ok(());
        };
        let (first, end) = (part.col as u32, part.end_col() as u32);
        for r in part.row..part.end_row() {
            let range = out.row_range(&part, r);
            let cells = &mut out.bits_mut()[range];
            cells.fill(0);
            let row = &self.spans.rows[r as usize];
            let from = row.partition_point(|s| s.end <= first);
            for s in row[from..].iter().take_while(|s| s.col < end) {
                let (a, b) = (s.col.max(first) - first, s.end.min(end) - first);
                cells[a as usize..b as usize].fill(s.bits);
            }
        }
        Ok(())
    }

    fn in_parts(&self) -> bool {
        true
    }

    fn name(&self) -> String {
        self.name.clone()
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::geo::Affine;
    use crate::tile::Cells;
    use proptest::prelude::*;

    proptest! {
        /// Rows that come in pieces read back as they were.
        #[test]
        fn what_is_held_reads_back(bits in proptest::collection::vec(0u16..4, 1300), cut in 1usize..1299) {
            let grid = Grid { crs: None, transform: Affine::north_up(0.0, 0.0, 1.0, 1.0), cols: 1300, rows: 1 };
            let mut spans = Spans::new(1);
            spans.rows[0].extend(spans_of(&bits[cut..], cut as u32));
            spans.rows[0].extend(spans_of(&bits[..cut], 0));
            spans.tidy();
            let mut twice = spans.clone();
            twice.lay(&spans, 1300);
            prop_assert_eq!(&twice, &spans);
            prop_assert_eq!(spans.cells(1), bits.iter().filter(|b| **b & 1 != 0).count() as u64);
            let held = Held::new("test".into(), Arc::new(grid), 0, spans);
            let mut back = Tile { window: held.spec.grid.window(), cells: Cells::Bits(vec![9; 1300]) };
            (0..3).for_each(|block| held.read_block(block, &mut back).unwrap());
            prop_assert_eq!(back.bits(), &bits[..]);
        }
    }
}
