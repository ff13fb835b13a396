//! The plan of a run: which nodes in which order, which tiles in which order, and how many bytes that takes.

use std::collections::HashMap;
use std::ops::RangeInclusive;

use super::feed::{block_bytes, touched};
use super::sink::{Prepare, Sink};
use crate::error::{Error, Result};
use crate::graph::{Graph, NodeId, Placed, Work};
use crate::grid::{Grid, Window};
use crate::tile::blocks_of;

/// What a run may use.
#[derive(Debug, Clone, Copy)]
pub struct Budget {
    /// Worker threads, at least 1.
    pub threads: usize,
    /// Bytes of memory.
    pub bytes: u64,
}

/// What the program itself and its libraries take, by measurement of a run on a tiny scene.
const BASE_BYTES: u64 = 14_000_000;
/// Side of the tiles aimed at: the block size of the rasters written.
const SIDE: u32 = 512;

/// A grid cut into tiles, in the order in which they are computed.
#[derive(Debug, Clone)]
pub struct Tiling {
    /// Columns of a whole tile.
    pub cols: u32,
    /// Rows of a whole tile.
    pub rows: u32,
    /// The tiles, cut at the grid's edge.
    pub tiles: Vec<Window>,
}

impl Tiling {
    /// Cuts a grid into tiles, ordered so that neighbours in both directions come soon after each other (Morton order):
    /// blocks shared by tiles, overview cells and open plots then wait for few others, whatever the grid's width.
    pub fn new(grid: &Grid, cols: u32, rows: u32) -> Tiling {
        let (across, down) = (grid.cols.div_ceil(cols), grid.rows.div_ceil(rows));
        let mut at: Vec<(u32, u32)> = (0..down).flat_map(|r| (0..across).map(move |c| (c, r))).collect();
        at.sort_by_key(|(c, r)| morton(*c) | morton(*r) << 1);
        let tile = |(c, r): (u32, u32)| {
            let (col, row) = (c * cols, r * rows);
            Window::new(i64::from(col), i64::from(row), cols.min(grid.cols - col), rows.min(grid.rows - row))
        };
        Tiling { cols, rows, tiles: at.into_iter().map(tile).collect() }
    }
}

/// The bits of `v`, a zero between each two.
fn morton(v: u32) -> u64 {
    (0..32).fold(0, |m, b| m | u64::from(v >> b & 1) << (2 * b))
}

/// A graph made ready to run.
pub struct Plan {
    /// The planes.
    pub graph: Graph,
    /// The tiles.
    pub tiling: Tiling,
    /// Bytes the run will take at most, by dry run.
    pub bytes: u64,
    /// Bytes for blocks that several tiles read, part of `bytes`.
    pub kept_bytes: u64,
    /// Bytes of the planes of one tile on one worker, part of `bytes`.
    pub tile_bytes: u64,
    /// Blocks that will be decoded more than once because the memory does not suffice to keep them.
    pub decodes_again: bool,
    /// Threads it was made for.
    pub threads: usize,
    pub(crate) order: Vec<NodeId>,
    pub(crate) uses: Vec<u32>,
}

/// What a sink looks like to the planner.
type Wanted<'a> = (&'a [Vec<NodeId>], &'a dyn Prepare);

impl Plan {
    /// Chooses the order of nodes and the tiles: those that fit the memory, decode each block once and take least.
    ///
    /// # Errors
    /// [`Error::OverBudget`] where no tiling fits.
    pub fn new(graph: Graph, sinks: &[Sink], budget: Budget) -> Result<Plan> {
        let candidates = candidates(&graph);
        Plan::among(graph, sinks, budget, &candidates)
    }

    /// As [`Plan::new`], with tiles of a given size: for tests of what must not depend on it.
    ///
    /// # Errors
    /// [`Error::OverBudget`] where it does not fit.
    pub fn with_tiles(graph: Graph, sinks: &[Sink], budget: Budget, cols: u32, rows: u32) -> Result<Plan> {
        Plan::among(graph, sinks, budget, &[vec![(cols, rows)]])
    }

    fn among(graph: Graph, sinks: &[Sink], budget: Budget, candidates: &[Vec<(u32, u32)>]) -> Result<Plan> {
        let wanted: Vec<Wanted> = sinks.iter().map(|s| (s.groups.as_slice(), s.prepare)).collect();
        let order = order_of(&graph, &wanted);
        let uses = uses_of(&graph, &wanted, &order);
        let most = budget.threads.max(1);
        let mut trials: Vec<Trial> = vec![];
        let mut chosen = None;
        // small tiles are only tried where larger ones do not fit; decoding again only where nothing fits; fewer threads
        // cost less than that
        for size in candidates {
            trials.extend(size.iter().map(|(cols, rows)| {
                Trial::new(&graph, &wanted, &order, &uses, Tiling::new(graph.grid(), *cols, *rows))
            }));
            chosen = choose(&trials, 1..=most, budget.bytes, true);
            if chosen.is_some_and(|(threads, _)| threads == most) {
                break;
            }
        }
        let Some((threads, at)) = chosen.or_else(|| choose(&trials, 1..=most, budget.bytes, false)) else {
            let needed = trials.iter().map(|t| t.bytes(1)).min().unwrap_or(0);
            return Err(Error::OverBudget { needed, allowed: budget.bytes });
        };
        let trial = &trials[at];
        let (bytes, kept) = (trial.bytes(threads), trial.kept(threads));
        let kept_bytes = kept.min(budget.bytes - bytes);
        let (tile_bytes, tiling) = (trial.tile, trial.tiling.clone());
        Ok(Plan {
            bytes: bytes + kept_bytes,
            kept_bytes,
            tile_bytes,
            decodes_again: kept_bytes < kept,
            tiling,
            threads,
            graph,
            order,
            uses,
        })
    }

    /// The window of each node that a tile needs; none where it is not needed.
    pub(crate) fn windows(&self, wanted: &[Wanted], tile: Window) -> Vec<Option<Window>> {
        windows_of(&self.graph, wanted, &self.order, tile)
    }

    /// Blocks of all sources used.
    pub fn blocks(&self) -> u64 {
        self.sources()
            .map(|p| {
                let (across, down) = blocks_of(&p.source.spec().grid, p.source.block());
                u64::from(across) * u64::from(down)
            })
            .sum()
    }

    fn sources(&self) -> impl Iterator<Item = &Placed> {
        self.order.iter().filter_map(|id| match &self.graph.node(*id).work {
            Work::Source(p) => Some(p),
            Work::Op(_) => None,
        })
    }

    /// Bytes of all blocks of all sources used, unpacked.
    pub fn source_bytes(&self) -> u64 {
        self.sources().map(|p| p.source.spec().grid.cells() * p.source.spec().kind.cell_bytes()).sum()
    }

    /// Number of source planes.
    pub fn source_planes(&self) -> usize {
        self.sources().count()
    }

    /// Steps of the plan with the number of planes each makes, in the order of the work.
    pub fn steps(&self) -> Vec<(&'static str, usize)> {
        let mut steps: Vec<(&'static str, usize)> = vec![];
        for id in &self.order {
            let name = self.graph.node(*id).step();
            match steps.iter_mut().find(|(n, _)| *n == name) {
                Some((_, n)) => *n += 1,
                None => steps.push((name, 1)),
            }
        }
        steps
    }

    /// Cells by which a step reads beyond its tile, at most.
    pub fn halo(&self) -> u32 {
        let tile = Window::new(0, 0, 1, 1);
        let beyond = |id: &NodeId| {
            let node = self.graph.node(*id);
            let own = node.reads().iter().all(|i| self.graph.node(*i).spec.grid == node.spec.grid);
            if own { node.needs(tile).cols.saturating_sub(1) / 2 } else { 0 }
        };
        self.order.iter().map(beyond).max().unwrap_or(0)
    }
}

/// The number of threads, as many as possible, and the tiling that takes least on them; none where nothing fits the bytes.
fn choose(trials: &[Trial], threads: RangeInclusive<usize>, bytes: u64, once: bool) -> Option<(usize, usize)> {
    threads.rev().find_map(|threads| {
        let need = |t: &Trial| t.bytes(threads) + if once { t.kept(threads) } else { 0 };
        let fit = trials.iter().enumerate().filter(|(_, t)| need(t) <= bytes);
        fit.min_by_key(|(_, t)| t.cost(threads)).map(|(at, _)| (threads, at))
    })
}

/// Tile sizes worth trying, the best first: squares, and full-width bands of rows where sources lie in strips.
fn candidates(graph: &Graph) -> Vec<Vec<(u32, u32)>> {
    let cols = graph.grid().cols;
    let strips = graph.nodes().iter().any(|n| match &n.work {
        Work::Source(p) => p.source.block().cols > 2 * SIDE && p.source.block().rows < SIDE,
        Work::Op(_) => false,
    });
    let bands = |rows: &[u32]| if strips { rows.iter().map(|r| (cols, *r)).collect() } else { vec![] };
    let square = |side: u32| vec![(side, side)];
    // tiles as large as large blocks: workers on tiles of one block would wait for each other while it is decoded
    let large = graph.nodes().iter().filter_map(|n| match &n.work {
        Work::Source(p) => {
            Some(p.source.block()).filter(|b| b.cols.min(b.rows) >= 2 * SIDE && b.cols.max(b.rows) <= 4 * SIDE)
        }
        Work::Op(_) => None,
    });
    let large = large.map(|b| (b.cols, b.rows)).max();
    let mut sizes: Vec<Vec<(u32, u32)>> = large.into_iter().map(|size| vec![size]).collect();
    sizes.extend([
        [square(SIDE), square(SIDE / 2), bands(&[512, 256, 128])].concat(),
        [square(SIDE / 4), square(SIDE / 8), bands(&[64, 32, 16])].concat(),
    ]);
    sizes
}

/// Nodes in the order of computing: what a group needs, then the group, depth first, so that buffers are freed early.
fn order_of(graph: &Graph, wanted: &[Wanted]) -> Vec<NodeId> {
    let mut seen = vec![false; graph.nodes().len()];
    let mut order = vec![];
    let roots = wanted.iter().flat_map(|(groups, _)| groups.iter().flatten());
    for root in roots {
        let mut stack = vec![(*root, 0)];
        while let Some((id, next)) = stack.pop() {
            if seen[id.index()] {
                continue;
            }
            match graph.node(id).inputs.get(next) {
                Some(input) => {
                    stack.push((id, next + 1));
                    if !seen[input.index()] {
                        stack.push((*input, 0));
                    }
                }
                None => {
                    seen[id.index()] = true;
                    order.push(id);
                }
            }
        }
    }
    order
}

/// How often each node's tile is read: by other nodes and by sinks' groups.
fn uses_of(graph: &Graph, wanted: &[Wanted], order: &[NodeId]) -> Vec<u32> {
    let mut uses = vec![0; graph.nodes().len()];
    for id in order {
        for input in graph.node(*id).reads() {
            uses[input.index()] += 1;
        }
    }
    for id in wanted.iter().flat_map(|(groups, _)| groups.iter().flatten()) {
        uses[id.index()] += 1;
    }
    uses
}

fn windows_of(graph: &Graph, wanted: &[Wanted], order: &[NodeId], tile: Window) -> Vec<Option<Window>> {
    let mut windows: Vec<Option<Window>> = vec![None; graph.nodes().len()];
    let join = |slot: &mut Option<Window>, w: Window| *slot = Some(slot.map_or(w, |s| s.union(&w)));
    for (groups, prepare) in wanted {
        if let Some(w) = prepare.wants(tile) {
            for id in groups.iter().flatten() {
                join(&mut windows[id.index()], w);
            }
        }
    }
    for id in order.iter().rev() {
        if let Some(w) = windows[id.index()] {
            let node = graph.node(*id);
            let need = node.needs(w);
            for input in node.inputs.iter().filter(|_| !need.is_empty()) {
                join(&mut windows[input.index()], need);
            }
        }
    }
    windows
}

/// A tiling with what it would take.
struct Trial {
    tiling: Tiling,
    /// Bytes of one worker's planes.
    tile: u64,
    /// The blocks that several tiles read.
    spans: Spans,
    /// Bytes that decoding takes on one thread.
    decode: u64,
    /// Bytes the sinks hold whatever the number of threads, and for each tile in flight.
    sinks: (u64, u64),
}

impl Trial {
    fn new(graph: &Graph, wanted: &[Wanted], order: &[NodeId], uses: &[u32], tiling: Tiling) -> Trial {
        let (mut tile, mut largest) = (0, Window::new(0, 0, 0, 0));
        for w in &tiling.tiles {
            if w.len() > largest.len() {
                largest = *w;
            }
            tile = tile.max(peak_of(graph, wanted, order, uses, &windows_of(graph, wanted, order, *w)));
        }
        let spans = Spans::new(graph, wanted, order, &tiling);
        let holds = |in_flight: usize| wanted.iter().map(|(_, p)| p.holds(largest, in_flight)).sum::<u64>();
        let (none, four) = (holds(0), holds(4));
        let decode = order.iter().filter_map(|id| match &graph.node(*id).work {
            Work::Source(p) => Some(p.source.decode_bytes()),
            Work::Op(_) => None,
        });
        let decode = decode.max().unwrap_or(0);
        Trial { tiling, tile, decode, spans, sinks: (none, (four - none).div_ceil(4)) }
    }

    /// Bytes on so many threads, without the blocks that are kept.
    fn bytes(&self, threads: usize) -> u64 {
        let own = threads as u64 * (self.tile + self.decode) + self.sinks.0 + in_flight(threads) as u64 * self.sinks.1;
        BASE_BYTES + own + own / 16 // what the allocator leaves between
    }

    /// Bytes of the blocks kept for later tiles.
    fn kept(&self, threads: usize) -> u64 {
        self.spans.peak(in_flight(threads))
    }

    /// Bytes, more for small tiles: many of them cost time.
    fn cost(&self, threads: usize) -> u64 {
        let small =
            (f64::from(SIDE * SIDE) / (f64::from(self.tiling.cols) * f64::from(self.tiling.rows))).max(1.0).sqrt();
        ((self.bytes(threads) + self.kept(threads)) as f64 * small) as u64
    }
}

/// Tiles that may be computed or waiting for the merge at a time.
pub(crate) fn in_flight(threads: usize) -> usize {
    threads + threads.div_ceil(2)
}

/// Bytes of all planes alive at a time in one tile, by walking the plan as the executor does.
fn peak_of(graph: &Graph, wanted: &[Wanted], order: &[NodeId], uses: &[u32], windows: &[Option<Window>]) -> u64 {
    let mut left = uses.to_vec();
    let bytes = |id: NodeId| windows[id.index()].map_or(0, |w| w.len() as u64 * graph.node(id).spec.kind.cell_bytes());
    let (mut now, mut peak) = (0, 0);
    for id in order {
        now += bytes(*id);
        peak = peak.max(now);
        let groups = wanted.iter().flat_map(|(g, _)| g.iter().flatten()).filter(|g| *g == id).count();
        for used in graph.node(*id).reads().iter().chain(std::iter::repeat_n(id, groups)) {
            left[used.index()] -= 1;
            if left[used.index()] == 0 {
                now -= bytes(*used);
            }
        }
        if uses[id.index()] == 0 {
            now -= bytes(*id); // only a gate
        }
    }
    peak
}

/// The blocks that several tiles read: numbers of the first and the last of them, and bytes.
struct Spans {
    spans: Vec<(u32, u32, u64)>,
    tiles: usize,
}

impl Spans {
    fn new(graph: &Graph, wanted: &[Wanted], order: &[NodeId], tiling: &Tiling) -> Spans {
        let mut seen: HashMap<(NodeId, u32), (u32, u32, u64)> = HashMap::new();
        for (n, tile) in (0..).zip(&tiling.tiles) {
            let windows = windows_of(graph, wanted, order, *tile);
            for id in order {
                if let (Work::Source(p), Some(w)) = (&graph.node(*id).work, windows[id.index()])
                    && !p.source.in_parts()
                {
                    for block in touched(p, w) {
                        seen.entry((*id, block)).or_insert_with(|| (n, n, block_bytes(p))).1 = n;
                    }
                }
            }
        }
        Spans { spans: seen.into_values().filter(|(first, last, _)| first < last).collect(), tiles: tiling.tiles.len() }
    }

    /// Bytes alive at a time, at most, when as many tiles as are in flight may be anywhere in their work.
    fn peak(&self, in_flight: usize) -> u64 {
        let mut change = vec![0i64; self.tiles + 1];
        for (first, last, bytes) in &self.spans {
            change[(*first as usize + 1).saturating_sub(in_flight)] += *bytes as i64;
            change[*last as usize + 1] -= *bytes as i64;
        }
        let alive = change.iter().scan(0, |now, c| {
            *now += c;
            Some(*now)
        });
        alive.max().unwrap_or(0) as u64
    }
}
