//! Feeding source planes to tiles: each storage block is decoded once, kept only while a later tile needs it.
//!
//! The number of tiles that will read each block is known before the run. A block read by one tile goes straight into
//! that tile; others are kept until their last reader has come, as long as the memory set aside for that lasts. Blocks
//! that can be read by parts are never kept.

use std::collections::HashMap;
use std::sync::atomic::{AtomicI64, AtomicU32, AtomicU64, Ordering};
use std::sync::{Arc, Mutex, PoisonError};

use crate::error::Result;
use crate::graph::Placed;
use crate::grid::Window;
use crate::tile::{Kind, Tile, block_window, blocks_of, blocks_under};

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
    /// What all tiles together read.
    wanted: Window,
    /// Readers still to come, by block.
    readers: Vec<AtomicU32>,
    kept: Mutex<HashMap<u32, Arc<Slot>>>,
    seen: Vec<AtomicU32>,
}

type Slot = Mutex<Option<Arc<Tile>>>;

fn lock<T>(m: &Mutex<T>) -> std::sync::MutexGuard<'_, T> {
    m.lock().unwrap_or_else(PoisonError::into_inner) // a panic is reported by the executor; the data are only a cache
}

impl Feed {
    pub(crate) fn new(placed: &Placed) -> Feed {
        let (across, down) = blocks_of(&placed.source.spec().grid, placed.source.block());
        let n = across as usize * down as usize;
        Feed {
            placed: placed.clone(),
            wanted: Window::new(0, 0, 0, 0),
            readers: (0..n).map(|_| AtomicU32::new(0)).collect(),
            kept: Mutex::default(),
            seen: (0..n.div_ceil(32)).map(|_| AtomicU32::new(0)).collect(),
        }
    }

    /// A tile will read this window.
    pub(crate) fn expect(&mut self, window: Window) {
        self.wanted = if self.wanted.is_empty() { window } else { self.wanted.union(&window) };
        for b in touched(&self.placed, window) {
            *self.readers[b as usize].get_mut() += 1;
        }
    }

    /// A tile that was to read this window does not need it.
    pub(crate) fn release(&self, window: Window, tally: &Tally) {
        for b in touched(&self.placed, window) {
            self.done_with(b, tally);
        }
    }

    /// Reads a window into a tile that has exactly that window. Cells outside the source are missing.
    pub(crate) fn read(&self, out: &mut Tile, tally: &Tally) -> Result<()> {
        let source = &self.placed.source;
        if !self.placed.extent().contains(&out.window) {
            source.spec().kind.fill_missing(out.window, out);
        }
        let alone =
            |b: u32| self.readers[b as usize].load(Ordering::Relaxed) == 1 && !lock(&self.kept).contains_key(&b);
        for b in touched(&self.placed, out.window) {
            if source.in_parts() || alone(b) {
                self.decode(b, out, tally)?;
            } else {
                let kept = self.kept_block(b, tally)?;
                if let Some(part) = kept.window.intersect(&out.window) {
                    out.copy_from(&kept, part);
                }
            }
            self.done_with(b, tally);
        }
        Ok(())
    }

    /// A block that other tiles want too: decoded by the first, awaited by the others.
    fn kept_block(&self, b: u32, tally: &Tally) -> Result<Arc<Tile>> {
        let slot = lock(&self.kept).entry(b).or_default().clone();
        let mut held = lock(&slot);
        if let Some(tile) = &*held {
            return Ok(tile.clone());
        }
        let Placed { source, col, row } = &self.placed;
        let whole = block_window(&source.spec().grid, source.block(), b).moved(*col, *row);
        // what lies beside an area is never asked for
        let window = whole.intersect(&self.wanted).unwrap_or(whole);
        let mut tile = Tile { window, cells: source.spec().kind.missing(window.len()) };
        self.decode(b, &mut tile, tally)?;
        let (tile, bytes) = (Arc::new(tile), window.len() as i64 * source.spec().kind.cell_bytes() as i64);
        if tally.room.fetch_sub(bytes, Ordering::Relaxed) >= bytes {
            *held = Some(tile.clone());
        } else {
            tally.room.fetch_add(bytes, Ordering::Relaxed);
        }
        Ok(tile)
    }

    fn decode(&self, b: u32, out: &mut Tile, tally: &Tally) -> Result<()> {
        let Placed { source, col, row } = &self.placed;
        let bit = 1 << (b % 32);
        let again = self.seen[b as usize / 32].fetch_or(bit, Ordering::Relaxed) & bit != 0;
        // another part of a block is no second decode of it
        if !(again && source.in_parts()) {
            tally.decoded.fetch_add(1, Ordering::Relaxed);
            tally.again.fetch_add(u64::from(again), Ordering::Relaxed);
        }
        // sources count cells from their own first
        out.window = out.window.moved(-col, -row);
        let read = source.read_block(b, out);
        out.window = out.window.moved(*col, *row);
        read
    }

    fn done_with(&self, b: u32, tally: &Tally) {
        if self.readers[b as usize].fetch_sub(1, Ordering::Relaxed) == 1
            && let Some(slot) = lock(&self.kept).remove(&b)
            && let Some(tile) = lock(&slot).take()
        {
            tally.room.fetch_add(tile.cells.bytes() as i64, Ordering::Relaxed);
        }
    }

    /// Number of blocks the source has.
    pub(crate) fn blocks(&self) -> u64 {
        self.readers.len() as u64
    }
}

/// Numbers of the blocks of a source that a window on the graph's grid touches.
pub(crate) fn touched(placed: &Placed, window: Window) -> impl Iterator<Item = u32> + use<> {
    let own = window.moved(-placed.col, -placed.row);
    blocks_under(&placed.source.spec().grid, placed.source.block(), own)
}

/// Bytes of a decoded block.
pub(crate) fn block_bytes(placed: &Placed) -> u64 {
    let (shape, kind): (_, Kind) = (placed.source.block(), placed.source.spec().kind);
    u64::from(shape.cols) * u64::from(shape.rows) * kind.cell_bytes()
}
