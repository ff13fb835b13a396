//! Planes held in memory, and the collecting of computed ones.

use std::fmt;
use std::sync::Arc;

use telechroma_core::geo::{Affine, Crs};
use telechroma_core::graph::{Graph, Inputs, NodeId};
use telechroma_core::grid::{Grid, Window};
use telechroma_core::run::{Absorb, Budget, Part, Plan, Prepare, RunReport, Silent, Sink, run};
use telechroma_core::tile::{BlockShape, Cells, Kind, PlaneSource, PlaneSpec, Tile, block_window};
use telechroma_core::units::Unit;

/// A grid of 30 m cells in a UTM zone, its first cell so many cells from a fixed corner.
pub fn grid(col: i32, row: i32, cols: u32, rows: u32) -> Grid {
    let corner = (500_000.0 + 30.0 * f64::from(col), 4_400_000.0 - 30.0 * f64::from(row));
    Grid { crs: Crs::from_epsg(32625).ok(), transform: Affine::north_up(corner.0, corner.1, 30.0, 30.0), cols, rows }
}

/// A plane held in memory.
pub struct MemoryPlane {
    name: String,
    spec: PlaneSpec,
    block: BlockShape,
    cells: Cells,
}

impl MemoryPlane {
    /// Cells row by row, stored in blocks of so many columns and rows. Names must differ where planes do.
    pub fn shared(
        name: &str,
        grid: Grid,
        kind: Kind,
        unit: Unit,
        block: (u32, u32),
        cells: Cells,
    ) -> Arc<dyn PlaneSource> {
        let spec = PlaneSpec { grid: Arc::new(grid), kind, unit };
        Arc::new(MemoryPlane { name: name.into(), spec, block: BlockShape { cols: block.0, rows: block.1 }, cells })
    }
}

impl fmt::Debug for MemoryPlane {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "memory {}", self.name)
    }
}

impl PlaneSource for MemoryPlane {
    fn spec(&self) -> &PlaneSpec {
        &self.spec
    }

    fn block(&self) -> BlockShape {
        self.block
    }

    fn read_block(&self, index: u32, out: &mut Tile) -> telechroma_core::Result<()> {
        let g = &self.spec.grid;
        let Some(part) = block_window(g, self.block, index).intersect(&out.window) else { return Ok(()) };
        let n = part.cols as usize;
        for r in part.row..part.end_row() {
            let (from, to) = (g.window().index(part.col, r), out.window.index(part.col, r));
            match (&self.cells, &mut out.cells) {
                (Cells::Values(a), Cells::Values(b)) => b[to..to + n].copy_from_slice(&a[from..from + n]),
                (Cells::Bits(a), Cells::Bits(b)) => b[to..to + n].copy_from_slice(&a[from..from + n]),
                _ => panic!("{}: cells of another kind are asked for", self.name),
            }
        }
        Ok(())
    }

    fn name(&self) -> String {
        self.name.clone()
    }
}

struct Copying;

struct Collected {
    grid: Window,
    planes: Vec<Cells>,
}

impl Prepare for Copying {
    fn prepare(&self, _: usize, window: Window, planes: &Inputs) -> telechroma_core::Result<Part> {
        // a computed tile may be larger than what is asked for
        let tile = planes.get(0).map(|t| {
            let rows = (window.row..window.end_row()).map(|r| t.row_range(&window, r));
            let cells = match &t.cells {
                Cells::Values(v) => Cells::Values(rows.flat_map(|r| v[r].to_vec()).collect()),
                Cells::Bits(v) => Cells::Bits(rows.flat_map(|r| v[r].to_vec()).collect()),
            };
            Tile { window, cells }
        });
        Ok(Box::new(tile))
    }

    fn holds(&self, _: Window, _: usize) -> u64 {
        0
    }
}

impl Absorb for Collected {
    fn absorb(&mut self, group: usize, part: Part) -> telechroma_core::Result<()> {
        let Ok(tile) = part.downcast::<Option<Tile>>() else { panic!("a part of another sink") };
        let Some(Tile { window: w, cells }) = *tile else { return Ok(()) };
        for row in w.row..w.end_row() {
            let (to, from) = (self.grid.index(w.col, row), (row - w.row) as usize * w.cols as usize);
            let n = w.cols as usize;
            match (&cells, &mut self.planes[group]) {
                (Cells::Values(a), Cells::Values(b)) => b[to..to + n].copy_from_slice(&a[from..from + n]),
                (Cells::Bits(a), Cells::Bits(b)) => b[to..to + n].copy_from_slice(&a[from..from + n]),
                _ => panic!("a plane changed its kind"),
            }
        }
        Ok(())
    }
}

/// Computes whole planes, with tiles of a given size or those that the planner chooses. Cells of absent tiles are what
/// their kind has where there is no plane.
pub fn compute(
    graph: Graph,
    planes: &[NodeId],
    tile: Option<(u32, u32)>,
    threads: usize,
) -> telechroma_core::Result<(Vec<Cells>, RunReport)> {
    let grid = graph.grid().window();
    let blank = |id: &NodeId| graph.node(*id).spec().kind.missing(grid.len());
    let mut collected = Collected { grid, planes: planes.iter().map(blank).collect() };
    let sinks =
        vec![Sink { groups: planes.iter().map(|p| vec![*p]).collect(), prepare: &Copying, absorb: &mut collected }];
    let budget = Budget { threads, bytes: 1 << 32 };
    let plan = match tile {
        Some((cols, rows)) => Plan::with_tiles(graph, &sinks, budget, cols, rows)?,
        None => Plan::new(graph, &sinks, budget)?,
    };
    let report = run(&plan, sinks, &Silent)?;
    Ok((collected.planes, report))
}
