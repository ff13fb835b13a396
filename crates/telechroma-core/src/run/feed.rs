//! Feeding source planes to tiles: each storage block is decoded once, kept only while a later tile needs it.
//!
//! The number of tiles that will read each block is known before the run. A block read by one tile goes straight into
//! that tile; others are kept until their last reader has come, as long as the memory set aside for that lasts.

use std::collections::HashMap;
use std::sync::atomic::{AtomicI64, AtomicU32, AtomicU64, Ordering};
use std::sync::{Arc, Mutex, PoisonError};

use super::pool::Pool;
use crate::error::Result;
use crate::graph::Placed;
use crate::grid::Window;
use crate::tile::{Cells, Kind, Tile, blocks_of};

/// Counts that all sources share.
#[derive(Debug, Default)]
pub(crate) struct Tally {
    /// Block decodes.
    pub decoded: AtomicU64,
    /// Of these, decodes of a block that had been decoded before.
    pub again: AtomicU64,
    /// Bytes that kept blocks may still take.
    pub room: AtomicI64,
}

/// One source plane during a run.
pub(crate) struct Feed {
    placed: Placed,
    across: u32,
    /// Readers still to come, by block.
    readers: Vec<AtomicU32>,
    kept: Mutex<HashMap<u32, Arc<Slot>>>,
    seen: Vec<AtomicU32>,
}

type Slot = Mutex<Option<Arc<Cells>>>;

fn lock<T>(m: &Mutex<T>) -> std::sync::MutexGuard<'_, T> {
    m.lock().unwrap_or_else(PoisonError::into_inner) // a panic is reported by the executor; the data are only a cache
}

impl Feed {
    pub(crate) fn new(placed: &Placed) -> Feed {
        let (across, down) = blocks_of(&placed.source.spec().grid, placed.source.block());
        let n = across as usize * down as usize;
        Feed {
            placed: placed.clone(),
            across,
            readers: (0..n).map(|_| AtomicU32::new(0)).collect(),
            kept: Mutex::default(),
            seen: (0..n.div_ceil(32)).map(|_| AtomicU32::new(0)).collect(),
        }
    }

    /// A tile will read this window.
    pub(crate) fn expect(&self, window: Window) {
        for b in touched(&self.placed, self.across, window) {
            self.readers[b as usize].fetch_add(1, Ordering::Relaxed);
        }
    }

    /// A tile that was to read this window does not need it.
    pub(crate) fn release(&self, window: Window, tally: &Tally) {
        for b in touched(&self.placed, self.across, window) {
            self.done_with(b, tally);
        }
    }

    /// Reads a window into a tile that has exactly that window. Cells outside the source are missing.
    pub(crate) fn read(&self, out: &mut Tile, pool: &mut Pool, tally: &Tally) -> Result<()> {
        let source = &self.placed.source;
        let (kind, shape) = (source.spec().kind, source.block());
        let window = out.window;
        let whole = touched(&self.placed, self.across, window);
        if !self.placed.extent().contains(&window) {
            kind.fill_missing(&mut out.cells);
        }
        for b in whole {
            let at = block_window(&self.placed, self.across, b);
            let single = self.readers[b as usize].load(Ordering::Relaxed) == 1 && !lock(&self.kept).contains_key(&b);
            if single && at == window {
                self.decode(b, &mut out.cells, tally)?;
            } else if single {
                let mut cells = pool.cells(kind, shape.cols as usize * shape.rows as usize);
                self.decode(b, &mut cells, tally)?;
                copy(&cells, at, self.placed.extent(), out);
                pool.give_back(cells);
            } else {
                let cells = self.kept_block(b, tally)?;
                copy(&cells, at, self.placed.extent(), out);
            }
            self.done_with(b, tally);
        }
        Ok(())
    }

    /// A block that other tiles want too: decoded by the first, awaited by the others.
    fn kept_block(&self, b: u32, tally: &Tally) -> Result<Arc<Cells>> {
        let slot = lock(&self.kept).entry(b).or_default().clone();
        let mut held = lock(&slot);
        if let Some(cells) = &*held {
            return Ok(cells.clone());
        }
        let source = &self.placed.source;
        let (kind, shape) = (source.spec().kind, source.block());
        let n = shape.cols as usize * shape.rows as usize;
        let mut cells = Pool::default().cells(kind, n);
        self.decode(b, &mut cells, tally)?;
        let (cells, bytes) = (Arc::new(cells), n as i64 * kind.cell_bytes() as i64);
        if tally.room.fetch_sub(bytes, Ordering::Relaxed) >= bytes {
            *held = Some(cells.clone());
        } else {
            tally.room.fetch_add(bytes, Ordering::Relaxed);
        }
        Ok(cells)
    }

    fn decode(&self, b: u32, cells: &mut Cells, tally: &Tally) -> Result<()> {
        tally.decoded.fetch_add(1, Ordering::Relaxed);
        let bit = 1 << (b % 32);
        if self.seen[b as usize / 32].fetch_or(bit, Ordering::Relaxed) & bit != 0 {
            tally.again.fetch_add(1, Ordering::Relaxed);
        }
        self.placed.source.read_block(b, cells)
    }

    fn done_with(&self, b: u32, tally: &Tally) {
        if self.readers[b as usize].fetch_sub(1, Ordering::Relaxed) == 1
            && let Some(slot) = lock(&self.kept).remove(&b)
            && let Some(cells) = lock(&slot).take()
        {
            tally.room.fetch_add(cells.bytes() as i64, Ordering::Relaxed);
        }
    }

    /// Number of blocks the source has.
    pub(crate) fn blocks(&self) -> u64 {
        self.readers.len() as u64
    }
}

/// Numbers of the blocks of a source that a window on the graph's grid touches.
pub(crate) fn touched(placed: &Placed, across: u32, window: Window) -> impl Iterator<Item = u32> + use<> {
    let shape = placed.source.block();
    let inside = placed.extent().intersect(&window).map(|w| w.moved(-placed.col, -placed.row));
    let span =
        |first: i64, end: i64, size: u32| (first / i64::from(size)) as u32..((end - 1) / i64::from(size) + 1) as u32;
    let (cols, rows) = match inside {
        Some(w) => (span(w.col, w.end_col(), shape.cols), span(w.row, w.end_row(), shape.rows)),
        None => (0..0, 0..0),
    };
    rows.flat_map(move |r| cols.clone().map(move |c| r * across + c))
}

/// Where a block lies on the graph's grid, whole, even beyond the source's edge.
fn block_window(placed: &Placed, across: u32, b: u32) -> Window {
    let shape = placed.source.block();
    let (c, r) = (i64::from(b % across) * i64::from(shape.cols), i64::from(b / across) * i64::from(shape.rows));
    Window::new(c, r, shape.cols, shape.rows).moved(placed.col, placed.row)
}

fn copy(block: &Cells, at: Window, extent: Window, out: &mut Tile) {
    let Some(part) = at.intersect(&extent).and_then(|w| w.intersect(&out.window)) else { return };
    for row in part.row..part.end_row() {
        let from = at.index(part.col, row);
        let to = out.row_range(&part, row);
        match (block, &mut out.cells) {
            (Cells::Values(b), Cells::Values(o)) => o[to].copy_from_slice(&b[from..from + part.cols as usize]),
            (Cells::Bits(b), Cells::Bits(o)) => o[to].copy_from_slice(&b[from..from + part.cols as usize]),
            _ => unreachable!("both were made for the source's kind"),
        }
    }
}

/// Bytes of a decoded block.
pub(crate) fn block_bytes(placed: &Placed) -> u64 {
    let (shape, kind): (_, Kind) = (placed.source.block(), placed.source.spec().kind);
    u64::from(shape.cols) * u64::from(shape.rows) * kind.cell_bytes()
}
