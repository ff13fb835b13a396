//! The executor: parts in order; the first error in tile order, no hanging, no lost panic when something goes wrong.

use std::sync::Arc;
use std::sync::atomic::{AtomicUsize, Ordering};

use telechroma_core::graph::{Graph, Inputs, NodeId, Op};
use telechroma_core::grid::Window;
use telechroma_core::run::{Absorb, Budget, Note, Observer, Part, Plan, Prepare, Silent, Sink, run};
use telechroma_core::tile::{BlockShape, Cells, Kind, PlaneSource, PlaneSpec, Tile};
use telechroma_core::units::Unit;
use telechroma_core::{Error, Result};
use telechroma_testkit::memory::{MemoryPlane, grid};

const SIDE: u32 = 64;

/// A source whose blocks from a number on cannot be read.
#[derive(Debug)]
struct Failing {
    spec: PlaneSpec,
    from: u32,
}

#[derive(Debug, thiserror::Error)]
#[error("block {0} is broken")]
struct Broken(u32);

impl PlaneSource for Failing {
    fn spec(&self) -> &PlaneSpec {
        &self.spec
    }
    fn block(&self) -> BlockShape {
        BlockShape { cols: 8, rows: SIDE }
    }
    fn read_block(&self, index: u32, out: &mut Tile) -> Result<()> {
        if index >= self.from {
            // later tiles fail sooner: the error told must still be that of the lowest
            std::thread::sleep(std::time::Duration::from_millis(20 / u64::from(index + 1)));
            return Err(Error::outside(Broken(index)));
        }
        out.values_mut().fill(1.0);
        Ok(())
    }
    fn name(&self) -> String {
        "failing".into()
    }
}

/// An op with a defect.
#[derive(Debug)]
struct Panics;

impl Op for Panics {
    fn output(&self, _: &[&PlaneSpec]) -> Result<(Kind, Unit)> {
        Ok((Kind::Values, Unit::One))
    }
    fn compute(&self, _: &Inputs, out: &mut Tile) -> Result<()> {
        assert!(out.window.col < 24, "made to fail");
        out.values_mut().fill(0.0);
        Ok(())
    }
    fn step(&self) -> &'static str {
        "panics"
    }
}

struct Count;
#[derive(Default)]
struct Counted {
    tiles: usize,
    fails_at: Option<usize>,
}

impl Prepare for Count {
    fn prepare(&self, _: usize, window: Window, _: &Inputs) -> Result<Part> {
        Ok(Box::new(window))
    }
    fn holds(&self, _: Window, _: usize) -> u64 {
        0
    }
}

impl Absorb for Counted {
    fn absorb(&mut self, _: usize, part: Part) -> Result<()> {
        let window = part.downcast::<Window>().unwrap();
        // parts come in the order of the tiles, which here lie side by side
        assert_eq!(window.col, 8 * self.tiles as i64);
        if self.fails_at == Some(self.tiles) {
            return Err(Error::Usage("the disk is full".into()));
        }
        self.tiles += 1;
        Ok(())
    }
}

fn go(g: Graph, plane: NodeId, threads: usize, counted: &mut Counted, observer: &dyn Observer) -> Result<()> {
    let sinks = vec![Sink { groups: vec![vec![plane]], prepare: &Count, absorb: counted }];
    let plan = Plan::with_tiles(g, &sinks, Budget { threads, bytes: 1 << 30 }, 8, SIDE)?;
    run(&plan, sinks, observer).map(|_| ())
}

fn sound() -> (Graph, NodeId) {
    let mut g = Graph::new(grid(0, 0, SIDE, SIDE));
    let cells = Cells::Values(vec![1.0; (SIDE * SIDE) as usize]);
    let plane = MemoryPlane::shared("p", grid(0, 0, SIDE, SIDE), Kind::Values, Unit::One, (8, 8), cells);
    let id = g.source(plane, None).unwrap();
    (g, id)
}

#[test]
fn the_error_of_the_lowest_tile_is_told_on_any_number_of_threads() {
    for threads in [1, 2, 5] {
        for from in [0, 3, 7] {
            let mut g = Graph::new(grid(0, 0, SIDE, SIDE));
            let spec = PlaneSpec { grid: Arc::new(grid(0, 0, SIDE, SIDE)), kind: Kind::Values, unit: Unit::One };
            let id = g.source(Arc::new(Failing { spec, from }), None).unwrap();
            let mut counted = Counted::default();
            let e = go(g, id, threads, &mut counted, &Silent).unwrap_err();
            assert_eq!(e.to_string(), format!("block {from} is broken"), "{threads} threads");
            assert_eq!(counted.tiles, from as usize, "what comes before is merged, nothing behind");
        }
    }
}

#[test]
fn a_panic_in_a_worker_is_an_error_with_its_tile_and_nobody_waits_for_ever() {
    for threads in [1, 2, 5] {
        let (mut g, source) = sound();
        let id = g.add(Panics, &[source]).unwrap();
        let mut counted = Counted::default();
        match go(g, id, threads, &mut counted, &Silent).unwrap_err() {
            Error::Defect { tile: 3, text } => assert!(text.contains("made to fail"), "{text}"),
            other => panic!("{other}"),
        }
        assert_eq!(counted.tiles, 3);
    }
}

#[test]
fn a_sink_that_fails_stops_the_run() {
    for threads in [1, 2, 5] {
        let (g, id) = sound();
        let mut counted = Counted { tiles: 0, fails_at: Some(2) };
        assert_eq!(go(g, id, threads, &mut counted, &Silent).unwrap_err().to_string(), "the disk is full");
    }
}

/// Asks to stop after so many tiles.
struct Impatient(usize, AtomicUsize);

impl Observer for Impatient {
    fn stage(&self, _: &str, tiles: usize) {
        assert_eq!(tiles, 8);
    }
    fn tile_done(&self, done: usize, total: usize) {
        assert_eq!((done, total), (self.1.fetch_add(1, Ordering::SeqCst) + 1, 8));
    }
    fn note(&self, _: Note) {}
    fn cancelled(&self) -> bool {
        self.1.load(Ordering::SeqCst) >= self.0
    }
}

#[test]
fn a_run_stops_when_asked_to() {
    for threads in [1, 2, 5] {
        let (g, id) = sound();
        let mut counted = Counted::default();
        let e = go(g, id, threads, &mut counted, &Impatient(3, AtomicUsize::new(0))).unwrap_err();
        assert!(matches!(e, Error::Cancelled), "{e}");
        assert!(counted.tiles < 8);
        let (g, id) = sound();
        let mut counted = Counted::default();
        go(g, id, threads, &mut counted, &Impatient(usize::MAX, AtomicUsize::new(0))).unwrap();
        assert_eq!(counted.tiles, 8);
    }
}

/// A sink that wants the left half only: the right half's blocks are not decoded.
struct Left;

impl Prepare for Left {
    fn wants(&self, tile: Window) -> Option<Window> {
        tile.intersect(&Window::new(0, 0, SIDE / 2, SIDE))
    }
    fn prepare(&self, _: usize, _: Window, _: &Inputs) -> Result<Part> {
        Ok(Box::new(()))
    }
    fn holds(&self, _: Window, _: usize) -> u64 {
        0
    }
}

impl Absorb for Left {
    fn absorb(&mut self, _: usize, _: Part) -> Result<()> {
        Ok(())
    }
}

#[test]
fn what_no_sink_wants_is_not_decoded() {
    let (g, id) = sound();
    let mut left = Left;
    let sinks = vec![Sink { groups: vec![vec![id]], prepare: &Left, absorb: &mut left }];
    let plan = Plan::with_tiles(g, &sinks, Budget { threads: 2, bytes: 1 << 30 }, 16, 16).unwrap();
    let report = run(&plan, sinks, &Silent).unwrap();
    assert_eq!((report.blocks, report.decoded), (64, 32));
}

/// Takes a plane from the one before it, as it is.
#[derive(Debug)]
struct Same;

impl Op for Same {
    fn output(&self, inputs: &[&PlaneSpec]) -> Result<(Kind, Unit)> {
        Ok((inputs[0].kind, inputs[0].unit))
    }
    fn compute(&self, inputs: &Inputs, out: &mut Tile) -> Result<()> {
        let window = out.window;
        out.copy_from(inputs.tile(0), window);
        Ok(())
    }
    fn step(&self) -> &'static str {
        "same"
    }
}

/// The groups in the order in which they are merged.
#[derive(Default)]
struct Groups(Vec<(i64, usize)>);

impl Absorb for Groups {
    fn absorb(&mut self, group: usize, part: Part) -> Result<()> {
        self.0.push((part.downcast::<Window>().unwrap().col, group));
        Ok(())
    }
}

/// A group whose planes are there before those of the group ahead of it waits, whatever tile and thread.
#[test]
fn groups_are_merged_in_order_though_they_are_done_in_another() {
    for threads in [1, 2, 5] {
        let (mut g, source) = sound();
        let later = g.add(Same, &[source]).unwrap();
        let latest = g.add(Same, &[later]).unwrap();
        let (mut one, mut two) = (Groups::default(), Groups::default());
        let sinks = vec![
            Sink { groups: vec![vec![latest], vec![later, source], vec![source]], prepare: &Count, absorb: &mut one },
            Sink { groups: vec![vec![source], vec![latest]], prepare: &Count, absorb: &mut two },
        ];
        let plan = Plan::with_tiles(g, &sinks, Budget { threads, bytes: 1 << 30 }, 8, SIDE).unwrap();
        run(&plan, sinks, &Silent).unwrap();
        for (got, groups) in [(one, 3), (two, 2)] {
            let tiles = i64::from(SIDE / 8);
            let want = (0..tiles).flat_map(|t| (0..groups).map(move |group| (8 * t, group)));
            assert_eq!(got.0, want.collect::<Vec<_>>(), "{threads} threads");
        }
    }
}
