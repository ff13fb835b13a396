//! The sink that writes one raster: tiles packed by workers, laid out by the caller.

use std::collections::BTreeMap;
use std::path::Path;
use std::sync::Arc;

use telechroma_core::graph::Inputs;
use telechroma_core::grid::{Grid, Window};
use telechroma_core::run::{Absorb, Part, Prepare};
use telechroma_core::tile::{BlockShape, Cells, Kind, Tile, block_window};

use super::blocks::{Blocks, Key};
use super::pyramid::{Level, halve, levels};
use super::spare::Spare;
use super::view::{Quarters, View};
use super::{SIDE, pack::pack};
use crate::error::Result;
use crate::raster::samples::SampleFormat;

/// What a raster to be written is.
#[derive(Debug, Clone)]
pub struct CogOptions {
    /// Where its cells lie.
    pub grid: Arc<Grid>,
    /// Values, or flags with the bits of cells where there is nothing.
    pub kind: Kind,
    /// Number of bands; one group of the sink each.
    pub bands: u32,
    /// JSON for the ImageDescription.
    pub description: String,
    /// How values are stored.
    pub packing: Packing,
    /// Blocks are packed by Deflate.
    pub packed: bool,
}

/// How values are stored.
#[derive(Debug, Clone, Copy, PartialEq)]
pub enum Packing {
    /// 32-bit floating point, missing as NaN.
    Float,
    /// Whole numbers: `stored = (value - offset) / scale`, rounded half to even; what is out of range takes the nearest
    /// number there is.
    Coded {
        /// 8 or 16 bits.
        format: SampleFormat,
        /// Value of a step.
        scale: f64,
        /// Value of zero.
        offset: f64,
        /// What stands for missing; none: the raster has no missing cell.
        missing: Option<i32>,
    },
}

/// The workers' half.
pub struct CogEncoder {
    options: CogOptions,
    levels: Vec<Level>,
    spare: Spare,
}

/// The caller's half.
pub struct CogFile {
    options: CogOptions,
    levels: Vec<Level>,
    spare: Spare,
    blocks: Blocks,
    lost: u64,
    /// Blocks of full resolution (band, number) not yet whole, with the number of cells still missing.
    open: BTreeMap<(u32, u32), (Tile, usize)>,
    /// Blocks of the first overview not yet whole.
    quarters: BTreeMap<Key, Quarters>,
    /// Blocks of the coarser levels, whose quarters wait in the spool: quarter and offset. They wait long, and their
    /// number grows with the raster; the memory does not.
    waiting: BTreeMap<Key, Vec<(usize, u64)>>,
}

/// Levels whose open tiles are held in memory: full resolution and the first overview.
const HELD: usize = 2;

enum Piece {
    /// A whole tile, packed, with its half.
    Packed { tile: u32, bytes: Vec<u8>, lost: u64, half: Option<Cells> },
    /// Some cells of a tile.
    Cells { tile: u32, part: Tile },
}

impl CogOptions {
    /// One band of a kind on a grid, values as 32-bit floating point, packed.
    pub fn new(grid: Arc<Grid>, kind: Kind, description: String) -> CogOptions {
        CogOptions { grid, kind, bands: 1, description, packing: Packing::Float, packed: true }
    }

    /// Whole numbers stored as they are may be classes, of which there is no mean.
    fn means(&self) -> bool {
        !matches!(self.packing, Packing::Coded { scale: 1.0, offset: 0.0, .. })
    }

    /// A window of cells of which nothing is known.
    fn blank(&self, window: Window) -> Tile {
        Tile { window, cells: self.kind.missing(window.len()) }
    }

    /// The cells of a block that the raster has.
    fn there(&self, tile: u32) -> Window {
        block_window(&self.grid, BlockShape { cols: SIDE, rows: SIDE }, tile)
    }

    fn half(&self, block: &View, spare: &Spare) -> Cells {
        halve(block, self.kind, self.means(), spare)
    }
}

impl CogEncoder {
    /// Both halves of a raster that will lie at `path`; nothing is written before the first tile comes.
    pub fn create(path: &Path, options: CogOptions) -> (CogEncoder, CogFile) {
        let (levels, spare) = (levels(&options.grid), Spare::default());
        let file = CogFile {
            options: options.clone(),
            levels: levels.clone(),
            spare: spare.clone(),
            blocks: Blocks::new(path),
            lost: 0,
            open: BTreeMap::new(),
            quarters: BTreeMap::new(),
            waiting: BTreeMap::new(),
        };
        (CogEncoder { options, levels, spare }, file)
    }
}

impl Prepare for CogEncoder {
    fn prepare(&self, _: usize, window: Window, planes: &Inputs) -> telechroma_core::Result<Part> {
        let side = i64::from(SIDE);
        let across = self.options.grid.cols.div_ceil(SIDE);
        let mut pieces = vec![];
        for r in window.row / side..(window.end_row() - 1) / side + 1 {
            for c in window.col / side..(window.end_col() - 1) / side + 1 {
                let tile = r as u32 * across + c as u32;
                let there = self.options.there(tile);
                let Some(part) = there.intersect(&window) else { continue };
                pieces.push(if part == there {
                    let block = View::Tile(planes.get(0), part);
                    let half = (self.levels.len() > 1).then(|| self.options.half(&block, &self.spare));
                    let (bytes, lost) = pack(&block, &self.options, &self.spare);
                    Piece::Packed { tile, bytes, lost, half }
                } else {
                    let mut some = self.options.blank(part);
                    planes.get(0).iter().for_each(|t| some.copy_from(t, part));
                    Piece::Cells { tile, part: some }
                });
            }
        }
        Ok(Box::new(pieces))
    }

    fn holds(&self, tile: Window, in_flight: usize) -> u64 {
        let (cell, bands) = (self.options.kind.cell_bytes(), u64::from(self.options.bands));
        let one = u64::from(SIDE * SIDE) * cell;
        // packed noisy tiles take three quarters of their size, and each brings its half
        let plain = if self.options.packed { 0 } else { tile.len() as u64 * cell / 4 };
        let flying = in_flight as u64 * bands * (tile.len() as u64 * cell + plain);
        let wide = tile.cols < SIDE
            || tile.rows < SIDE
            || !tile.cols.is_multiple_of(SIDE) && u64::from(tile.cols) == u64::from(self.options.grid.cols);
        let open: u64 = self
            .levels
            .iter()
            .take(HELD)
            .enumerate()
            .map(|(i, l)| match (i, wide) {
                (0, false) => 0,
                (0, true) => u64::from(tile.cols.div_ceil(SIDE)).max(2),
                (_, false) => 1,
                (_, true) => u64::from(l.across().min(tile.cols.div_ceil(SIDE)).max(1)),
            })
            .sum();
        flying + open * bands * one
    }
}

impl CogFile {
    fn put(&mut self, level: usize, band: u32, tile: u32, bytes: Vec<u8>) -> Result<()> {
        self.blocks.put(&self.options, &self.levels, (level, band, tile), &bytes)?;
        if !self.options.packed {
            self.spare.give_bytes(bytes); // packed bytes have the room they take, and no more
        }
        Ok(())
    }

    /// A halved block is a quarter of one of the level above; a block that is whole with it is packed and halved in turn.
    fn rise(&mut self, level: usize, band: u32, tile: u32, half: Cells) -> Result<()> {
        let (finer, coarser) = (self.levels[level], self.levels[level + 1]);
        let (c, r) = (tile % finer.across(), tile / finer.across());
        let parent = r / 2 * coarser.across() + c / 2;
        let (key, quarter) = ((level + 1, band, parent), (r % 2 * 2 + c % 2) as usize);
        let children = coarser.children(finer, parent) as usize;
        if level + 1 >= HELD {
            return self.wait(key, quarter, children, half);
        }
        let mut quarters = self.quarters.remove(&key).unwrap_or_default();
        quarters[quarter] = Some(half);
        match quarters.iter().flatten().count() == children {
            true => self.quartered(key, quarters),
            false => {
                self.quarters.insert(key, quarters);
                Ok(())
            }
        }
    }

    /// As [`CogFile::rise`], with the quarters waiting in the spool.
    fn wait(&mut self, key: Key, quarter: usize, children: usize, half: Cells) -> Result<()> {
        let before = self.waiting.get(&key).map_or(0, Vec::len);
        if before + 1 < children {
            let at = self.blocks.spooled(bytes_of(&half))?;
            self.spare.give_half(half);
            self.waiting.entry(key).or_default().push((quarter, at));
            return Ok(());
        }
        let mut quarters = Quarters::default();
        for (quarter, at) in self.waiting.remove(&key).unwrap_or_default() {
            let mut other = self.spare.half().unwrap_or_else(|| half.clone());
            self.blocks.read_back(at, bytes_of_mut(&mut other))?;
            quarters[quarter] = Some(other);
        }
        quarters[quarter] = Some(half);
        self.quartered(key, quarters)
    }

    /// A block whose quarters are all there.
    fn quartered(&mut self, key: Key, quarters: Quarters) -> Result<()> {
        self.whole(key, &View::Quarters(&quarters))?;
        quarters.into_iter().flatten().for_each(|half| self.spare.give_half(half));
        Ok(())
    }

    fn whole(&mut self, (level, band, tile): Key, block: &View) -> Result<()> {
        let (bytes, lost) = pack(block, &self.options, &self.spare);
        self.put(level, band, tile, bytes)?;
        if level == 0 {
            self.lost += lost;
        }
        if level + 1 < self.levels.len() {
            self.rise(level, band, tile, self.options.half(block, &self.spare))?;
        }
        Ok(())
    }

    fn piece(&mut self, band: u32, piece: Piece) -> Result<()> {
        match piece {
            Piece::Packed { tile, bytes, lost, half } => {
                self.lost += lost;
                self.put(0, band, tile, bytes)?;
                half.map_or(Ok(()), |h| self.rise(0, band, tile, h))
            }
            Piece::Cells { tile, part } => {
                let there = self.options.there(tile);
                let blank = || (self.options.blank(there), there.len());
                let (mut open, missing) = self.open.remove(&(band, tile)).unwrap_or_else(blank);
                open.copy_from(&part, part.window);
                match missing - part.window.len() {
                    0 => self.whole((0, band, tile), &View::Tile(Some(&open), there)),
                    missing => {
                        self.open.insert((band, tile), (open, missing));
                        Ok(())
                    }
                }
            }
        }
    }

    /// Values that the raster's numbers cannot hold: those out of range are stored as the nearest it holds, those that
    /// are the number for missing are missing now.
    pub fn lost(&self) -> u64 {
        self.lost
    }

    /// Completes the file, with so many threads.
    ///
    /// # Errors
    /// Where writing fails.
    pub fn finish(self, threads: usize) -> Result<()> {
        self.blocks.finish(&self.options, &self.levels, threads)
    }
}

fn bytes_of(cells: &Cells) -> &[u8] {
    match cells {
        Cells::Values(v) => bytemuck::cast_slice(v),
        Cells::Bits(v) => bytemuck::cast_slice(v),
    }
}

fn bytes_of_mut(cells: &mut Cells) -> &mut [u8] {
    match cells {
        Cells::Values(v) => bytemuck::cast_slice_mut(v),
        Cells::Bits(v) => bytemuck::cast_slice_mut(v),
    }
}

impl Absorb for CogFile {
    fn absorb(&mut self, group: usize, part: Part) -> telechroma_core::Result<()> {
        let Ok(pieces) = part.downcast::<Vec<Piece>>() else {
            unreachable!("parts come back to the sink that made them")
        };
        for p in *pieces {
            self.piece(group as u32, p)?;
        }
        Ok(())
    }
}
