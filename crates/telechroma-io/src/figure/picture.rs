//! The sink that gathers a picture: the mean of the known cells behind each dot, whatever the size of the scene.
//!
//! Sums are of whole numbers, so that the dots do not depend on how tiles cut them.

use std::collections::BTreeMap;
use std::sync::Arc;

use telechroma_core::graph::Inputs;
use telechroma_core::grid::{Grid, Window};
use telechroma_core::run::{Absorb, Part, Prepare};

/// Most dots across and down.
const MOST: (u32, u32) = (960, 640);
/// Values are summed in steps of 2⁻²⁰; larger ones than this are cut off, which no legend shows.
const STEPS: f64 = 1_048_576.0;
const LARGEST: f64 = 1e9;

/// A gathered picture.
#[derive(Debug, Clone)]
pub struct Picture {
    /// The grid of the cells.
    pub grid: Arc<Grid>,
    /// Cells across and down behind one dot.
    pub cells_a_dot: u32,
    /// Dots across.
    pub cols: u32,
    /// Dots down.
    pub rows: u32,
    /// Dots of each plane, row by row; NaN where nothing is known.
    pub planes: Vec<Vec<f32>>,
}

/// The workers' half.
#[derive(Debug, Clone, Copy)]
pub struct PictureEncoder {
    cells_a_dot: u32,
    cols: u32,
    rows: u32,
    grid: Window,
    planes: usize,
}

/// The caller's half.
#[derive(Debug)]
pub struct PictureFile {
    picture: Picture,
    encoder: PictureEncoder,
    /// Dots cut by a tile's edge, by plane and index.
    cut: BTreeMap<(usize, usize), Dot>,
}

#[derive(Debug, Clone, Copy, Default)]
struct Dot {
    sum: i64,
    known: u32,
    seen: u32,
}

impl Dot {
    fn value(self) -> f32 {
        if self.known == 0 { f32::NAN } else { (self.sum as f64 / STEPS / f64::from(self.known)) as f32 }
    }
}

/// Dots of one tile.
struct Dots {
    window: Window,
    dots: Vec<Dot>,
}

impl PictureEncoder {
    /// Both halves of a picture of so many planes.
    pub fn create(grid: &Arc<Grid>, planes: usize) -> (PictureEncoder, PictureFile) {
        let k = grid.cols.div_ceil(MOST.0).max(grid.rows.div_ceil(MOST.1)).max(1);
        let (cols, rows) = (grid.cols.div_ceil(k), grid.rows.div_ceil(k));
        let encoder = PictureEncoder { cells_a_dot: k, cols, rows, grid: grid.window(), planes };
        let blank = vec![f32::NAN; cols as usize * rows as usize];
        let picture = Picture { grid: grid.clone(), cells_a_dot: k, cols, rows, planes: vec![blank; planes] };
        (encoder, PictureFile { picture, encoder, cut: BTreeMap::new() })
    }

    /// Cells behind a dot.
    fn behind(&self, col: i64, row: i64) -> Option<Window> {
        let k = self.cells_a_dot;
        Window::new(col * i64::from(k), row * i64::from(k), k, k).intersect(&self.grid)
    }
}

impl Prepare for PictureEncoder {
    fn prepare(&self, _: usize, window: Window, planes: &Inputs) -> telechroma_core::Result<Part> {
        let k = i64::from(self.cells_a_dot);
        let (c0, r0) = (window.col / k, window.row / k);
        let (c1, r1) = ((window.end_col() - 1) / k + 1, (window.end_row() - 1) / k + 1);
        let over = Window::new(c0, r0, (c1 - c0) as u32, (r1 - r0) as u32);
        let mut dots = vec![Dot::default(); over.len()];
        for row in window.row..window.end_row() {
            let at = (row / k - r0) as usize * over.cols as usize;
            let line = &mut dots[at..at + over.cols as usize];
            let values = planes.get(0).map(|t| &t.values()[t.row_range(&window, row)]);
            for (i, col) in (window.col..window.end_col()).enumerate() {
                let dot = &mut line[(col / k - c0) as usize];
                dot.seen += 1;
                if let Some(v) = values.map(|v| f64::from(v[i])).filter(|v| v.is_finite()) {
                    dot.sum += (v.clamp(-LARGEST, LARGEST) * STEPS).round() as i64;
                    dot.known += 1;
                }
            }
        }
        Ok(Box::new(Dots { window: over, dots }))
    }

    fn holds(&self, tile: Window, in_flight: usize) -> u64 {
        let flying = tile.len() as u64 / u64::from(self.cells_a_dot).pow(2) * std::mem::size_of::<Dot>() as u64;
        self.planes as u64 * (4 * u64::from(self.cols) * u64::from(self.rows) + in_flight as u64 * flying)
    }
}

impl Absorb for PictureFile {
    fn absorb(&mut self, group: usize, part: Part) -> telechroma_core::Result<()> {
        let Ok(dots) = part.downcast::<Dots>() else { unreachable!("parts come back to the sink that made them") };
        let w = dots.window;
        for (row, line) in (w.row..w.end_row()).zip(dots.dots.chunks(w.cols as usize)) {
            for (col, dot) in (w.col..w.end_col()).zip(line) {
                let at = row as usize * self.picture.cols as usize + col as usize;
                let all = self.encoder.behind(col, row).map_or(0, |b| b.len() as u32);
                let mut whole = *dot;
                if dot.seen < all {
                    let before = self.cut.remove(&(group, at)).unwrap_or_default();
                    whole = Dot { sum: before.sum + dot.sum, known: before.known + dot.known, seen: before.seen + dot.seen };
                    if whole.seen < all {
                        self.cut.insert((group, at), whole);
                        continue;
                    }
                }
                self.picture.planes[group][at] = whole.value();
            }
        }
        Ok(())
    }
}

impl PictureFile {
    /// What was gathered.
    pub fn finish(self) -> Picture {
        self.picture
    }
}
