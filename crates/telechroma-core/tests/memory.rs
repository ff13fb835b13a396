//! The plan's promise: a run takes no more memory than the plan says, however the grid is cut.
#![allow(clippy::unwrap_used, unsafe_code)] // a test; counting what is allocated needs an allocator of its own

use std::alloc::{GlobalAlloc, Layout, System};
use std::sync::atomic::{AtomicUsize, Ordering};
use std::sync::{Mutex, PoisonError};

use telechroma_core::graph::{Graph, Inputs, NodeId};
use telechroma_core::grid::Window;
use telechroma_core::mask::Reasons;
use telechroma_core::op::{BandRule, Calibrator, Clear, Composite, FlagRule, FlagTest, Grow, Looks, Mask, Sample};
use telechroma_core::physics::{Calibration, Line};
use telechroma_core::run::{Absorb, Budget, Part, Plan, Prepare, Silent, Sink, run};
use telechroma_core::tile::{Cells, Kind};
use telechroma_core::units::Unit;
use telechroma_testkit::memory::{MemoryPlane, grid};

/// Bytes held now, and the most so far.
struct Counting;

static NOW: AtomicUsize = AtomicUsize::new(0);
static MOST: AtomicUsize = AtomicUsize::new(0);

// SAFETY: every call goes to the system's allocator unchanged.
unsafe impl GlobalAlloc for Counting {
    unsafe fn alloc(&self, layout: Layout) -> *mut u8 {
        let now = NOW.fetch_add(layout.size(), Ordering::Relaxed) + layout.size();
        MOST.fetch_max(now, Ordering::Relaxed);
        // SAFETY: as above.
        unsafe { System.alloc(layout) }
    }

    unsafe fn dealloc(&self, at: *mut u8, layout: Layout) {
        NOW.fetch_sub(layout.size(), Ordering::Relaxed);
        // SAFETY: as above.
        unsafe { System.dealloc(at, layout) }
    }
}

#[global_allocator]
static ALLOCATOR: Counting = Counting;

/// Takes planes and forgets them.
struct Nothing;

impl Prepare for Nothing {
    fn prepare(&self, _: usize, _: Window, _: &Inputs) -> telechroma_core::Result<Part> {
        Ok(Box::new(()))
    }
    fn holds(&self, _: Window, _: usize) -> u64 {
        0
    }
}

impl Absorb for Nothing {
    fn absorb(&mut self, _: usize, _: Part) -> telechroma_core::Result<()> {
        Ok(())
    }
}

/// The count is of the whole process: one test at a time.
static ALONE: Mutex<()> = Mutex::new(());

const SIDE: u32 = 640;

/// Six scenes, three bands each, masks grown: composites and looks. Blocks as given.
fn season(block: (u32, u32)) -> (Graph, Vec<NodeId>) {
    let here = || grid(0, 0, SIDE, SIDE);
    let n = (SIDE * SIDE) as usize;
    let mut g = Graph::new(here());
    let mut masks = vec![];
    for s in 0..6 {
        let cells = Cells::Bits((0..n).map(|i| if (i / 997 + s) % 3 == 0 { 8 } else { 0 }).collect());
        let kind = Kind::Flags { outside: 1 };
        let flags = MemoryPlane::shared(&format!("f{s}"), here(), kind, Unit::Flags, block, cells);
        let flags = g.source(flags, None).unwrap();
        let rules = vec![FlagRule { plane: 0, test: FlagTest::Any(8), reason: Reasons::CLOUD }];
        let mask = g.add(Mask { rules }, &[flags]).unwrap();
        let grow = Grow { seeds: Reasons::CLOUD, radius_m: 60.0, cell_m: (30.0, 30.0) };
        masks.push(g.add(grow, &[mask]).unwrap());
    }
    let clear = g.add(Clear, &masks).unwrap();
    let mut planes = vec![g.add(Looks, &[clear]).unwrap()];
    for b in 0..3 {
        let mut inputs = vec![clear];
        for (s, mask) in masks.iter().enumerate() {
            let cells = Cells::Bits((0..n).map(|i| 7000 + ((i * 31 + s * 17 + b) % 4000) as u16).collect());
            let kind = Kind::Counts { fill: Some(0) };
            let plane = MemoryPlane::shared(&format!("c{s}{b}"), here(), kind, Unit::Counts, block, cells);
            inputs.push(g.source(plane, Some(*mask)).unwrap());
        }
        let line = Calibration::Line(Line { gain: 2e-5, offset: -0.1 });
        let samples = (0..6).map(|_| Sample::Counts(Calibrator::new(line, Some(0)))).collect();
        planes.push(g.add(Composite::new(BandRule::Median, samples, Unit::Reflectance, 1), &inputs).unwrap());
    }
    (g, planes)
}

#[test]
fn a_run_takes_no_more_than_its_plan_says() {
    let _alone = ALONE.lock().unwrap_or_else(PoisonError::into_inner);
    for block in [(256, 256), (SIDE, 16), (64, 64)] {
        for (tile, threads) in [((512, 512), 1), ((512, 512), 2), ((256, 256), 2), ((128, 128), 4), ((SIDE, 32), 2)] {
            let (g, planes) = season(block);
            let mut end = Nothing;
            let sinks =
                vec![Sink { groups: planes.iter().map(|p| vec![*p]).collect(), prepare: &Nothing, absorb: &mut end }];
            let plan = Plan::with_tiles(g, &sinks, Budget { threads, bytes: 1 << 30 }, tile.0, tile.1).unwrap();
            let before = NOW.load(Ordering::Relaxed);
            MOST.store(before, Ordering::Relaxed);
            let report = run(&plan, sinks, &Silent).unwrap();
            let took = MOST.load(Ordering::Relaxed) - before;
            assert_eq!(report.decoded_again, 0, "blocks {block:?}, tiles {tile:?}");
            // the plan's share for the program itself covers bookkeeping and stacks
            assert!(
                (took as u64) < plan.bytes,
                "blocks {block:?}, tiles {tile:?}, {threads} threads: {took} of {}",
                plan.bytes
            );
            let cells = plan.tile_bytes * plan.threads as u64 + plan.kept_bytes;
            assert!(took as u64 > cells / 4, "the plan is far too careful: {took} of {cells}");
        }
    }
}

#[test]
fn a_tight_budget_is_met_by_fewer_threads_or_by_decoding_again_and_said() {
    let _alone = ALONE.lock().unwrap_or_else(PoisonError::into_inner);
    let plan = |bytes: u64, threads: usize| {
        let (g, planes) = season((256, 256));
        let mut end = Nothing;
        let sinks =
            vec![Sink { groups: planes.iter().map(|p| vec![*p]).collect(), prepare: &Nothing, absorb: &mut end }];
        Plan::new(g, &sinks, Budget { threads, bytes }).map(|p| (p.bytes, p.threads, p.decodes_again))
    };
    let (wide, threads, again) = plan(1 << 30, 4).unwrap();
    assert!(threads == 4 && !again && wide < 1 << 30);
    let (narrow, fewer, _) = plan(wide - 1, 4).unwrap();
    assert!(narrow < wide && fewer <= 4);
    let needed = match plan(1, 4) {
        Err(telechroma_core::Error::OverBudget { needed, allowed: 1 }) => needed,
        other => panic!("{other:?}"),
    };
    let (least, threads, _) = plan(needed, 4).unwrap();
    assert!(least <= needed && threads == 1);
    assert!(plan(needed - 1, 4).is_err());
}
