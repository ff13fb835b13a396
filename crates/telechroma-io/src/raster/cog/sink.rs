//! The sink that writes one raster: tiles packed by workers, laid out by the caller.

use std::collections::BTreeMap;
use std::path::Path;
use std::sync::Arc;

use telechroma_core::graph::Inputs;
use telechroma_core::grid::{Grid, Window};
use telechroma_core::run::{Absorb, Part, Prepare};
use telechroma_core::tile::{Cells, Kind, Tile};

use super::blocks::{Blocks, Key};
use super::pyramid::{Level, halve, lay, levels};
use super::spare::Spare;
use super::view::View;
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
    /// Tiles not yet whole, with the cells or quarters still missing.
    open: BTreeMap<Key, (Cells, u64)>,
    /// Tiles of the coarser levels, whose quarters wait in the spool: quarter and offset. They wait long, and their
    /// number grows with the raster; the memory does not.
    waiting: BTreeMap<Key, Vec<(u32, u64)>>,
}

/// Levels whose open tiles are held in memory: full resolution and the first overview.
const HELD: usize = 2;

enum Piece {
    /// A whole tile, packed, with its half.
    Packed { tile: u32, bytes: Vec<u8>, half: Option<Cells> },
    /// Some cells of a tile.
    Cells { tile: u32, window: Window, cells: Cells },
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

    fn blank(&self) -> Cells {
        let n = (SIDE * SIDE) as usize;
        let mut cells = match self.kind {
            Kind::Values => Cells::Values(vec![0.0; n]),
            Kind::Counts { .. } | Kind::Flags { .. } => Cells::Bits(vec![0; n]),
        };
        self.kind.fill_missing(&mut cells);
        cells
    }

    fn tile_window(&self, tile: u32) -> Window {
        let across = self.grid.cols.div_ceil(SIDE);
        let (c, r) = (tile % across * SIDE, tile / across * SIDE);
        Window::new(i64::from(c), i64::from(r), SIDE, SIDE)
    }
}

/// Copies the cells of `part`, which lies in both windows.
fn copy(from: &Tile, part: Window, to: &mut Cells, to_window: Window) {
    for row in part.row..part.end_row() {
        let source = from.row_range(&part, row);
        let at = to_window.index(part.col, row);
        match (&from.cells, &mut *to) {
            (Cells::Values(f), Cells::Values(t)) => t[at..at + source.len()].copy_from_slice(&f[source]),
            (Cells::Bits(f), Cells::Bits(t)) => t[at..at + source.len()].copy_from_slice(&f[source]),
            _ => unreachable!("the raster was made for the plane's kind"),
        }
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
            open: BTreeMap::new(),
            waiting: BTreeMap::new(),
        };
        (CogEncoder { options, levels, spare }, file)
    }
}

impl Prepare for CogEncoder {
    fn prepare(&self, _: usize, window: Window, planes: &Inputs) -> telechroma_core::Result<Part> {
        let grid = self.options.grid.window();
        let side = i64::from(SIDE);
        let across = self.options.grid.cols.div_ceil(SIDE);
        let mut pieces = vec![];
        for r in window.row / side..(window.end_row() - 1) / side + 1 {
            for c in window.col / side..(window.end_col() - 1) / side + 1 {
                let tile = r as u32 * across + c as u32;
                let whole = self.options.tile_window(tile);
                let (Some(there), Some(part)) = (whole.intersect(&grid), whole.intersect(&window)) else { continue };
                if part == there {
                    let block = View::of(planes.get(0), part, self.options.kind);
                    let half = (self.levels.len() > 1).then(|| halve(&block, self.options.means(), &self.spare));
                    pieces.push(Piece::Packed { tile, bytes: pack(&block, &self.options, &self.spare), half });
                } else {
                    let mut cells = match self.options.blank() {
                        Cells::Values(mut v) => {
                            v.truncate(part.len());
                            v.resize(part.len(), f32::NAN);
                            Cells::Values(v)
                        }
                        Cells::Bits(mut v) => {
                            let blank = v.first().copied().unwrap_or(0);
                            v.truncate(part.len());
                            v.resize(part.len(), blank);
                            Cells::Bits(v)
                        }
                    };
                    planes.get(0).iter().for_each(|t| copy(t, part, &mut cells, part));
                    pieces.push(Piece::Cells { tile, window: part, cells });
                }
            }
        }
        Ok(Box::new(pieces))
    }

    fn holds(&self, tile: Window, in_flight: usize) -> u64 {
        let (cell, bands) = (self.options.kind.cell_bytes(), u64::from(self.options.bands));
        let one = u64::from(SIDE * SIDE) * cell;
        // packed noisy tiles take three quarters of their size, and each brings its half
        let flying = in_flight as u64 * bands * tile.len() as u64 * cell;
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

    /// A halved tile goes into the level above; a tile that is whole with it is packed and halved in turn.
    fn rise(&mut self, level: usize, band: u32, tile: u32, half: Cells) -> Result<()> {
        let (finer, coarser) = (self.levels[level], self.levels[level + 1]);
        let (c, r) = (tile % finer.across(), tile / finer.across());
        let parent = r / 2 * coarser.across() + c / 2;
        let (key, quarter) = ((level + 1, band, parent), r % 2 * 2 + c % 2);
        let children = coarser.children(finer, parent);
        if level + 1 >= HELD {
            return self.wait(key, quarter, children, half);
        }
        let (mut cells, missing) =
            self.open.remove(&key).unwrap_or_else(|| (self.options.blank(), u64::from(children)));
        lay(&half, quarter, &mut cells);
        self.spare.give_half(half);
        match missing {
            1 => self.whole(level + 1, band, parent, &cells),
            _ => {
                self.open.insert(key, (cells, missing - 1));
                Ok(())
            }
        }
    }

    /// As [`CogFile::rise`], with the quarters waiting in the spool.
    fn wait(&mut self, key: Key, quarter: u32, children: u32, half: Cells) -> Result<()> {
        let before = self.waiting.get(&key).map_or(0, Vec::len);
        if before + 1 < children as usize {
            let at = self.blocks.spooled(bytes_of(&half))?;
            self.spare.give_half(half);
            self.waiting.entry(key).or_default().push((quarter, at));
            return Ok(());
        }
        let mut cells = self.options.blank();
        lay(&half, quarter, &mut cells);
        let mut other = half; // room for the others, one after the other
        for (quarter, at) in self.waiting.remove(&key).unwrap_or_default() {
            self.blocks.read_back(at, bytes_of_mut(&mut other))?;
            lay(&other, quarter, &mut cells);
        }
        self.spare.give_half(other);
        self.whole(key.0, key.1, key.2, &cells)
    }

    fn whole(&mut self, level: usize, band: u32, tile: u32, cells: &Cells) -> Result<()> {
        let block = View::whole(cells, self.options.kind);
        self.put(level, band, tile, pack(&block, &self.options, &self.spare))?;
        if level + 1 < self.levels.len() {
            self.rise(level, band, tile, halve(&block, self.options.means(), &self.spare))?;
        }
        Ok(())
    }

    fn piece(&mut self, band: u32, piece: Piece) -> Result<()> {
        match piece {
            Piece::Packed { tile, bytes, half } => {
                self.put(0, band, tile, bytes)?;
                half.map_or(Ok(()), |h| self.rise(0, band, tile, h))
            }
            Piece::Cells { tile, window, cells } => {
                let whole = self.options.tile_window(tile);
                let there = whole.intersect(&self.options.grid.window()).map_or(0, |w| w.len() as u64);
                let (mut open, missing) =
                    self.open.remove(&(0, band, tile)).unwrap_or_else(|| (self.options.blank(), there));
                copy(&Tile { window, cells }, window, &mut open, whole);
                match missing - window.len() as u64 {
                    0 => self.whole(0, band, tile, &open),
                    missing => {
                        self.open.insert((0, band, tile), (open, missing));
                        Ok(())
                    }
                }
            }
        }
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
