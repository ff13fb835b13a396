//! The sink that gathers a picture: the mean of the known cells behind each dot, whatever the size of the scene; of
//! classes, which have no mean, the cell in its middle.
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
    classes: bool,
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

/// Dots of one tile: those that lie in it whole, and those that its edge cuts.
struct Dots {
    window: Window,
    whole: Vec<f32>,
    cut: Vec<(usize, Dot)>,
}

impl PictureEncoder {
    /// Both halves of a picture of so many planes.
    pub fn create(grid: &Arc<Grid>, planes: usize) -> (PictureEncoder, PictureFile) {
        let k = grid.cols.div_ceil(MOST.0).max(grid.rows.div_ceil(MOST.1)).max(1);
        let (cols, rows) = (grid.cols.div_ceil(k), grid.rows.div_ceil(k));
        let encoder = PictureEncoder { cells_a_dot: k, cols, rows, grid: grid.window(), planes, classes: false };
        let blank = vec![f32::NAN; cols as usize * rows as usize];
        let picture = Picture { grid: grid.clone(), cells_a_dot: k, cols, rows, planes: vec![blank; planes] };
        (encoder, PictureFile { picture, encoder, cut: BTreeMap::new() })
    }

    /// Both halves of a picture of one plane of classes.
    pub fn of_classes(grid: &Arc<Grid>) -> (PictureEncoder, PictureFile) {
        let (encoder, file) = PictureEncoder::create(grid, 1);
        let encoder = PictureEncoder { classes: true, ..encoder };
        (encoder, PictureFile { encoder, ..file })
    }

    /// True for a cell that a dot takes its value from.
    fn counts(&self, col: i64, row: i64) -> bool {
        let k = i64::from(self.cells_a_dot);
        // dots at the far edges may have no middle
        let middle = |at: i64, end: i64| at % k == (k / 2).min(end - 1 - at / k * k);
        !self.classes || (middle(col, self.grid.end_col()) && middle(row, self.grid.end_row()))
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
        let mut dots = Dots { window: over, whole: vec![f32::NAN; over.len()], cut: vec![] };
        let mut line = vec![Dot::default(); over.cols as usize];
        for r in over.row..over.end_row() {
            line.fill(Dot::default());
            let behind = Window::new(c0 * k, r * k, over.cols * self.cells_a_dot, self.cells_a_dot);
            let Some(part) = behind.intersect(&window) else { continue };
            for row in part.row..part.end_row() {
                let values = planes.get(0).map(|t| &t.values()[t.row_range(&part, row)]);
                for (i, col) in (part.col..part.end_col()).enumerate() {
                    let dot = &mut line[(col / k - c0) as usize];
                    dot.seen += 1;
                    let value = values.map(|v| f64::from(v[i])).filter(|v| v.is_finite());
                    if let Some(v) = value.filter(|_| self.counts(col, row)) {
                        dot.sum += (v.clamp(-LARGEST, LARGEST) * STEPS) as i64;
                        dot.known += 1;
                    }
                }
            }
            for (c, dot) in (over.col..).zip(&line) {
                let at = over.index(c, r);
                match self.behind(c, r) {
                    Some(all) if u64::from(dot.seen) == all.len() as u64 => dots.whole[at] = dot.value(),
                    _ => dots.cut.push((at, *dot)),
                }
            }
        }
        Ok(Box::new(dots))
    }

    fn holds(&self, tile: Window, in_flight: usize) -> u64 {
        let flying = 5 * tile.len() as u64 / u64::from(self.cells_a_dot).pow(2);
        self.planes as u64 * (4 * u64::from(self.cols) * u64::from(self.rows) + in_flight as u64 * flying)
    }
}

impl Absorb for PictureFile {
    fn absorb(&mut self, group: usize, part: Part) -> telechroma_core::Result<()> {
        let Ok(dots) = part.downcast::<Dots>() else { unreachable!("parts come back to the sink that made them") };
        let (w, across) = (dots.window, self.picture.cols as usize);
        let plane = &mut self.picture.planes[group];
        for (row, line) in (w.row..w.end_row()).zip(dots.whole.chunks(w.cols as usize)) {
            let at = row as usize * across + w.col as usize;
            for (dot, v) in plane[at..at + line.len()].iter_mut().zip(line) {
                *dot = if v.is_nan() { *dot } else { *v };
            }
        }
        for (i, dot) in dots.cut {
            let (row, col) = (w.row + (i / w.cols as usize) as i64, w.col + (i % w.cols as usize) as i64);
            let at = row as usize * across + col as usize;
            let sum = self.cut.entry((group, at)).or_default();
            *sum = Dot { sum: sum.sum + dot.sum, known: sum.known + dot.known, seen: sum.seen + dot.seen };
            if self.encoder.behind(col, row).is_some_and(|b| sum.seen as usize == b.len()) {
                plane[at] = sum.value();
                self.cut.remove(&(group, at));
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

#[cfg(test)]
mod tests {
    use telechroma_core::geo::Affine;
    use telechroma_core::graph::Graph;
    use telechroma_core::run::{Budget, Plan, Silent, Sink, run};
    use telechroma_core::tile::{BlockShape, Kind, PlaneSource, PlaneSpec, Tile};
    use telechroma_core::units::Unit;

    use super::*;

    /// Cells counted up, every seventh missing.
    #[derive(Debug)]
    struct Counted(PlaneSpec);

    fn value(i: u32) -> f32 {
        if i % 7 == 3 { f32::NAN } else { i as f32 * 0.01 - 5.0 }
    }

    impl PlaneSource for Counted {
        fn spec(&self) -> &PlaneSpec {
            &self.0
        }
        fn block(&self) -> BlockShape {
            BlockShape { cols: self.0.grid.cols, rows: self.0.grid.rows }
        }
        fn read_block(&self, _: u32, out: &mut Tile) -> telechroma_core::Result<()> {
            let (whole, part) = (self.0.grid.window(), out.window);
            for r in part.row..part.end_row() {
                let range = out.row_range(&part, r);
                let first = whole.index(part.col, r) as u32;
                (first..).zip(&mut out.values_mut()[range]).for_each(|(i, o)| *o = value(i));
            }
            Ok(())
        }
        fn name(&self) -> String {
            "counted".into()
        }
    }

    /// Dots are means of the known cells behind them, with any tiles; a picture of 2000 cells has three a dot.
    #[test]
    fn dots_are_means_whatever_the_tiles() {
        let (cols, rows) = (2000, 11);
        let grid = Arc::new(Grid { crs: None, transform: Affine::north_up(0.0, 0.0, 1.0, 1.0), cols, rows });
        let picture = |tile: (u32, u32)| {
            let mut g = Graph::new((*grid).clone());
            let node = g
                .source(Arc::new(Counted(PlaneSpec { grid: grid.clone(), kind: Kind::Values, unit: Unit::One })), None)
                .unwrap();
            let (encoder, mut file) = PictureEncoder::create(&grid, 1);
            let sinks = vec![Sink { groups: vec![vec![node]], prepare: &encoder, absorb: &mut file }];
            let plan = Plan::with_tiles(g, &sinks, Budget { threads: 2, bytes: u64::MAX }, tile.0, tile.1).unwrap();
            run(&plan, sinks, &Silent).unwrap();
            file.finish()
        };
        let whole = picture((2000, 11));
        assert_eq!((whole.cells_a_dot, whole.cols, whole.rows), (3, 667, 4));
        for (at, dot) in whole.planes[0].iter().enumerate() {
            let (c, r) = (at as u32 % 667 * 3, at as u32 / 667 * 3);
            let behind = (r..(r + 3).min(rows)).flat_map(|y| (c..(c + 3).min(cols)).map(move |x| value(y * cols + x)));
            let known: Vec<f64> = behind.filter(|v| !v.is_nan()).map(f64::from).collect();
            let mean = known.iter().sum::<f64>() / known.len() as f64;
            assert!((f64::from(*dot) - mean).abs() < 1e-4, "{at}: {dot} {mean}");
        }
        for tile in [(1000, 5), (7, 2), (64, 64)] {
            let other = picture(tile);
            let bits = |p: &Picture| p.planes[0].iter().map(|v| v.to_bits()).collect::<Vec<_>>();
            assert_eq!(bits(&other), bits(&whole), "{tile:?}");
        }
    }
}
