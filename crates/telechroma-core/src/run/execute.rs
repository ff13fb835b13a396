//! The executor: workers compute tiles, the calling thread merges them in order, each part as soon as it is there.

use std::any::Any;
use std::collections::BTreeMap;
use std::panic::{AssertUnwindSafe, catch_unwind};
use std::sync::atomic::{AtomicBool, AtomicI64, AtomicUsize, Ordering};
use std::sync::{Condvar, Mutex, PoisonError};
use std::time::Instant;

use super::feed::{Feed, Tally};
use super::observe::Observer;
use super::plan::{Plan, in_flight};
use super::pool::Pool;
use super::sink::{Absorb, Part, Prepare, Sink};
use crate::error::{Error, Result};
use crate::graph::{Absence, Inputs, NodeId, Work};
use crate::grid::Window;
use crate::tile::Tile;

/// What a run did.
#[derive(Debug, Clone, Default)]
pub struct RunReport {
    /// Blocks that the sources have.
    pub blocks: u64,
    /// Block decodes.
    pub decoded: u64,
    /// Of these, decodes of a block decoded before.
    pub decoded_again: u64,
    /// Cells of the run's grid.
    pub cells: u64,
    /// Tiles.
    pub tiles: usize,
    /// Seconds of work by step, over all workers.
    pub seconds: Vec<(&'static str, f64)>,
}

/// Runs a plan into its sinks; they must be those the plan was made with.
///
/// # Errors
/// The first error in tile order, of a source, an op or a sink; [`Error::Cancelled`] if the observer asks for it.
pub fn run(plan: &Plan, sinks: Vec<Sink>, observer: &dyn Observer) -> Result<RunReport> {
    let (mut shared, mut owned): (Vec<Shared>, Vec<&mut dyn Absorb>) = (vec![], vec![]);
    for s in sinks {
        shared.push((s.groups, s.prepare));
        owned.push(s.absorb);
    }
    let job = Job::new(plan, &shared);
    observer.stage("computing", plan.tiling.tiles.len());
    std::thread::scope(|scope| {
        for _ in 0..plan.threads {
            scope.spawn(|| job.work());
        }
        let _stop = StopOnDrop(&job); // whatever happens below, the workers must not wait for ever
        job.merge(&mut owned, observer)
    })?;
    let seconds = std::mem::take(&mut *lock(&job.seconds));
    Ok(RunReport {
        blocks: job.feeds.iter().flatten().map(Feed::blocks).sum(),
        decoded: job.tally.decoded.load(Ordering::Relaxed),
        decoded_again: job.tally.again.load(Ordering::Relaxed),
        cells: plan.graph.grid().cells(),
        tiles: plan.tiling.tiles.len(),
        seconds: seconds.into_iter().map(|(k, ns)| (k, ns as f64 * 1e-9)).collect(),
    })
}

type Shared<'a> = (Vec<Vec<NodeId>>, &'a dyn Prepare);
/// A sink's number, a group's, and the part.
type Numbered = (usize, usize, Part);

struct Job<'a> {
    plan: &'a Plan,
    shared: &'a [Shared<'a>],
    feeds: Vec<Option<Feed>>,
    gates: Vec<bool>,
    tally: Tally,
    next: AtomicUsize,
    stop: AtomicBool,
    done: Mutex<Done>,
    changed: Condvar,
    seconds: Mutex<BTreeMap<&'static str, u64>>,
}

#[derive(Default)]
struct Done {
    /// Tiles begun and not yet merged.
    tiles: BTreeMap<usize, Computed>,
    merged: usize,
}

/// What is computed of a tile and not yet merged.
#[derive(Default)]
struct Computed {
    parts: Vec<Numbered>,
    end: Option<Result<()>>,
}

struct StopOnDrop<'a, 'b>(&'a Job<'b>);

impl Drop for StopOnDrop<'_, '_> {
    fn drop(&mut self) {
        self.0.stop.store(true, Ordering::SeqCst);
        let _guard = lock(&self.0.done);
        self.0.changed.notify_all();
    }
}

fn lock<T>(m: &Mutex<T>) -> std::sync::MutexGuard<'_, T> {
    m.lock().unwrap_or_else(PoisonError::into_inner) // panics are caught and reported as a tile's error
}

/// A node's tile while a tile of the run is computed.
enum Slot {
    Empty,
    Absent,
    Full(Tile),
}

impl<'a> Job<'a> {
    fn new(plan: &'a Plan, shared: &'a [Shared<'a>]) -> Job<'a> {
        let n = plan.graph.nodes().len();
        let mut feeds: Vec<Option<Feed>> = (0..n).map(|_| None).collect();
        let mut gates = vec![false; n];
        for id in &plan.order {
            let node = plan.graph.node(*id);
            if let Work::Source(p) = &node.work {
                feeds[id.index()] = Some(Feed::new(p));
                node.inputs.iter().for_each(|gate| gates[gate.index()] = true);
            }
        }
        let wanted: Vec<_> = shared.iter().map(|(g, p)| (g.as_slice(), *p)).collect();
        for tile in &plan.tiling.tiles {
            let windows = plan.windows(&wanted, *tile);
            for (feed, w) in feeds.iter_mut().zip(&windows) {
                if let (Some(feed), Some(w)) = (feed, w) {
                    feed.expect(*w);
                }
            }
        }
        Job {
            plan,
            shared,
            feeds,
            gates,
            tally: Tally { room: AtomicI64::new(plan.kept_bytes as i64), ..Tally::default() },
            next: AtomicUsize::new(0),
            stop: AtomicBool::new(false),
            done: Mutex::default(),
            changed: Condvar::new(),
            seconds: Mutex::default(),
        }
    }

    /// One worker: takes tiles until there are none, not too far ahead of the merge.
    fn work(&self) {
        let mut worker = Worker { job: self, pool: Pool::default(), clock: Clock::new() };
        loop {
            let i = self.next.fetch_add(1, Ordering::SeqCst);
            let Some(tile) = self.plan.tiling.tiles.get(i) else { break };
            {
                let mut done = lock(&self.done);
                while i >= done.merged + in_flight(self.plan.threads) && !self.stop.load(Ordering::SeqCst) {
                    done = self.changed.wait(done).unwrap_or_else(PoisonError::into_inner);
                }
            }
            if self.stop.load(Ordering::SeqCst) {
                break;
            }
            let result = catch_unwind(AssertUnwindSafe(|| worker.tile(i, *tile)))
                .unwrap_or_else(|panic| Err(Error::Defect { tile: i, text: panic_text(&*panic) }));
            let failed = result.is_err();
            lock(&self.done).tiles.entry(i).or_default().end = Some(result);
            self.changed.notify_all();
            if failed {
                break;
            }
        }
        let mut seconds = lock(&self.seconds);
        for (step, ns) in worker.clock.sums {
            *seconds.entry(step).or_default() += ns;
        }
    }

    /// A worker hands over a part of its tile.
    fn hand_over(&self, tile: usize, part: Numbered) {
        lock(&self.done).tiles.entry(tile).or_default().parts.push(part);
        self.changed.notify_all();
    }

    /// The calling thread: merges parts in tile order, those of a sink in the order of its groups.
    fn merge(&self, owned: &mut [&mut dyn Absorb], observer: &dyn Observer) -> Result<()> {
        let total = self.plan.tiling.tiles.len();
        for i in 0..total {
            // groups are done in any order: the number of each sink's next, and those that must wait for it
            let mut next = vec![0; owned.len()];
            let mut early: BTreeMap<(usize, usize), Part> = BTreeMap::new();
            loop {
                let (parts, end) = self.next_of(i, observer)?;
                early.extend(parts.into_iter().map(|(sink, group, part)| ((sink, group), part)));
                for (sink, group) in next.iter_mut().enumerate() {
                    while let Some(part) = early.remove(&(sink, *group)) {
                        owned[sink].absorb(*group, part)?;
                        *group += 1;
                    }
                }
                if let Some(end) = end {
                    break end?;
                }
            }
            if observer.cancelled() {
                return Err(Error::Cancelled);
            }
            lock(&self.done).merged = i + 1;
            self.changed.notify_all();
            observer.tile_done(i + 1, total);
        }
        Ok(())
    }

    /// Waits for more of a tile: parts, or its end.
    fn next_of(&self, tile: usize, observer: &dyn Observer) -> Result<(Vec<Numbered>, Option<Result<()>>)> {
        let mut done = lock(&self.done);
        loop {
            if let Some(computed) = done.tiles.get_mut(&tile)
                && (!computed.parts.is_empty() || computed.end.is_some())
            {
                let found = (std::mem::take(&mut computed.parts), computed.end.take());
                if found.1.is_some() {
                    done.tiles.remove(&tile);
                }
                return Ok(found);
            }
            let wait = std::time::Duration::from_millis(100);
            (done, _) = self.changed.wait_timeout(done, wait).unwrap_or_else(PoisonError::into_inner);
            if observer.cancelled() {
                return Err(Error::Cancelled);
            }
        }
    }
}

fn panic_text(panic: &(dyn Any + Send)) -> String {
    match (panic.downcast_ref::<&str>(), panic.downcast_ref::<String>()) {
        (Some(s), _) => (*s).to_string(),
        (_, Some(s)) => s.clone(),
        _ => "no message".into(),
    }
}

struct Clock {
    at: Instant,
    sums: BTreeMap<&'static str, u64>,
}

impl Clock {
    fn new() -> Clock {
        Clock { at: Instant::now(), sums: BTreeMap::new() }
    }

    fn start(&mut self) {
        self.at = Instant::now();
    }

    fn lap(&mut self, step: &'static str) {
        let now = Instant::now();
        *self.sums.entry(step).or_default() += (now - self.at).as_nanos() as u64;
        self.at = now;
    }
}

struct Worker<'a> {
    job: &'a Job<'a>,
    pool: Pool,
    clock: Clock,
}

impl Worker<'_> {
    fn tile(&mut self, number: usize, tile: Window) -> Result<()> {
        let (plan, shared) = (self.job.plan, self.job.shared);
        let wanted: Vec<_> = shared.iter().map(|(g, p)| (g.as_slice(), *p)).collect();
        let windows = plan.windows(&wanted, tile);
        let mut slots: Vec<Slot> = windows.iter().map(|_| Slot::Empty).collect();
        let mut open = vec![false; slots.len()];
        let mut left = plan.uses.clone();
        let mut waiting: Vec<(usize, usize, Window, usize)> = vec![]; // sink, group, window, planes still to come
        for (s, (groups, prepare)) in shared.iter().enumerate() {
            if let Some(w) = prepare.wants(tile) {
                waiting.extend(groups.iter().enumerate().map(|(g, planes)| (s, g, w, planes.len())));
            }
        }
        self.clock.start();
        for id in &plan.order {
            let Some(window) = windows[id.index()] else {
                // not needed here, so neither is what it reads
                plan.graph.node(*id).reads().iter().for_each(|i| self.used(*i, &mut left, &mut slots));
                continue;
            };
            slots[id.index()] = self.node(*id, window, &mut slots, &open, &left)?;
            open[id.index()] = self.job.gates[id.index()] && is_open(&slots[id.index()]);
            self.clock.lap(plan.graph.node(*id).step());
            for input in plan.graph.node(*id).reads() {
                self.used(*input, &mut left, &mut slots);
            }
            if left[id.index()] == 0 {
                self.free(*id, &mut slots); // only a gate
            }
            for (s, g, w, missing) in &mut waiting {
                let group = &shared[*s].0[*g];
                *missing -= group.iter().filter(|p| *p == id).count();
                if *missing == 0 && group.contains(id) {
                    let inputs = inputs_of(group, &slots);
                    self.job.hand_over(number, (*s, *g, shared[*s].1.prepare(*g, *w, &inputs)?));
                    for plane in group {
                        self.used(*plane, &mut left, &mut slots);
                    }
                    self.clock.lap("prepare outputs");
                }
            }
        }
        Ok(())
    }

    fn node(&mut self, id: NodeId, window: Window, slots: &mut [Slot], open: &[bool], left: &[u32]) -> Result<Slot> {
        let (plan, tally) = (self.job.plan, &self.job.tally);
        let node = plan.graph.node(id);
        let kind = node.spec.kind;
        match &node.work {
            Work::Source(placed) => {
                let Some(feed) = &self.job.feeds[id.index()] else {
                    unreachable!("every source in the order has its feed")
                };
                let hidden = node.inputs.iter().any(|gate| !open[gate.index()]);
                if hidden || placed.extent().intersect(&window).is_none() {
                    feed.release(window, tally);
                    return Ok(Slot::Absent);
                }
                let mut tile = self.pool.tile(kind, window);
                feed.read(&mut tile, tally)?;
                Ok(Slot::Full(tile))
            }
            Work::Op(op) => {
                if let [input] = node.inputs.as_slice()
                    && left[input.index()] == 1
                    && let Slot::Full(tile) = &mut slots[input.index()]
                    && tile.window == window
                    && op.in_place(tile)
                {
                    return Ok(std::mem::replace(&mut slots[input.index()], Slot::Empty));
                }
                let inputs = inputs_of(&node.inputs, slots);
                let absent = match op.absence() {
                    Absence::IfAny => inputs.tiles.iter().any(Option::is_none),
                    Absence::IfAll => inputs.tiles.iter().all(Option::is_none),
                    Absence::Never => false,
                };
                if absent {
                    return Ok(Slot::Absent);
                }
                let mut tile = self.pool.tile(kind, window);
                op.compute(&inputs, &mut tile)?;
                Ok(Slot::Full(tile))
            }
        }
    }

    fn used(&mut self, id: NodeId, left: &mut [u32], slots: &mut [Slot]) {
        left[id.index()] -= 1;
        if left[id.index()] == 0 {
            self.free(id, slots);
        }
    }

    fn free(&mut self, id: NodeId, slots: &mut [Slot]) {
        if let Slot::Full(tile) = std::mem::replace(&mut slots[id.index()], Slot::Empty) {
            self.pool.give_back(tile.cells);
        }
    }
}

/// True where a mask leaves a cell clear: sources behind it must be read.
fn is_open(slot: &Slot) -> bool {
    match slot {
        Slot::Full(tile) => tile.bits().contains(&0),
        Slot::Absent | Slot::Empty => false,
    }
}

fn inputs_of<'t>(ids: &[NodeId], slots: &'t [Slot]) -> Inputs<'t> {
    let tile = |id: &NodeId| match &slots[id.index()] {
        Slot::Full(tile) => Some(tile),
        Slot::Absent | Slot::Empty => None,
    };
    Inputs { tiles: ids.iter().map(tile).collect() }
}
