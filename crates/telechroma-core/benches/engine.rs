//! The engine and its ops on planes in memory: no decoding, no files.
#![allow(missing_docs, clippy::unwrap_used)] // benches

use divan::Bencher;
use divan::counter::ItemsCount;
use telechroma_core::geo::{Affine, Crs};
use telechroma_core::graph::{Graph, Inputs, NodeId, Op, values_row};
use telechroma_core::grid::Grid;
use telechroma_core::index::Program;
use telechroma_core::mask::Reasons;
use telechroma_core::op::{
    BandRule, Calibrator, Choice, Choose, Chosen, Clear, Composite, Compute, FlagRule, FlagTest, Grow, How, Mask,
    Sample, align,
};
use telechroma_core::physics::{Calibration, Line};
use telechroma_core::plot::{Polygon, Weighting, cover};
use telechroma_core::tile::{Cells, Kind, PlaneSpec, Tile};
use telechroma_core::units::Unit;
use telechroma_testkit::memory::{MemoryPlane, compute, grid};
use telechroma_testkit::names::{Bands, NIR_RED};

const SIDE: u32 = 1024;
const CELLS: u64 = (SIDE * SIDE) as u64;

fn main() {
    divan::main();
}

fn noise(key: u64, i: u64) -> u64 {
    let z = (key.wrapping_mul(0x9E37_79B9_7F4A_7C15) ^ i).wrapping_mul(0xBF58_476D_1CE4_E5B9);
    (z ^ z >> 31).wrapping_mul(0x94D0_49BB_1331_11EB) >> 40
}

/// Counts, and a mask with clouds of some dozens of cells over a half.
fn scene(g: &mut Graph, key: u64) -> (NodeId, NodeId) {
    let here = grid(0, 0, SIDE, SIDE);
    let counts = (0..CELLS).map(|i| 6000 + (noise(key, i) % 9000) as u16).collect();
    let cloudy = |i: u64| noise(key + 99, (i / u64::from(SIDE) / 40) * 64 + i % u64::from(SIDE) / 40) & 1 == 0;
    let flags = (0..CELLS).map(|i| if cloudy(i) { 8 } else { 0 }).collect();
    let flags = MemoryPlane::shared(
        &format!("f{key}"),
        here.clone(),
        Kind::Flags { outside: 1 },
        Unit::Flags,
        (512, 512),
        Cells::Bits(flags),
    );
    let flags = g.source(flags, None).unwrap();
    let mask = g
        .add(Mask { rules: vec![FlagRule { plane: 0, test: FlagTest::Any(8), reason: Reasons::CLOUD }] }, &[flags])
        .unwrap();
    let kind = Kind::Counts { fill: Some(0) };
    let plane = MemoryPlane::shared(&format!("c{key}"), here, kind, Unit::Counts, (512, 512), Cells::Bits(counts));
    (g.source(plane, Some(mask)).unwrap(), mask)
}

/// Scenes of several bands and their clear looks.
struct Stack {
    graph: Graph,
    clear: Vec<NodeId>,
    /// By band, by scene.
    bands: Vec<Vec<NodeId>>,
}

fn stack(dates: u64, bands: u64) -> Stack {
    let mut g = Graph::new(grid(0, 0, SIDE, SIDE));
    let scenes: Vec<Vec<(NodeId, NodeId)>> =
        (0..bands).map(|b| (0..dates).map(|k| scene(&mut g, k + 1000 * b)).collect()).collect();
    let masks: Vec<NodeId> = scenes[0].iter().map(|s| s.1).collect();
    let clear = masks.chunks(Clear::SCENES).map(|m| g.add(Clear, m).unwrap()).collect();
    Stack { graph: g, clear, bands: scenes.iter().map(|band| band.iter().map(|s| s.0).collect()).collect() }
}

fn samples(dates: u64) -> Vec<Sample> {
    let line = Calibration::Line(Line { gain: 2e-5, offset: -0.1 });
    (0..dates).map(|_| Sample::Counts(Calibrator::new(line, Some(0)))).collect()
}

fn reduced(rule: BandRule, dates: u64) -> (Graph, Vec<NodeId>) {
    let mut s = stack(dates, 1);
    let inputs: Vec<NodeId> = s.clear.iter().chain(&s.bands[0]).copied().collect();
    let node = s.graph.add(Composite::new(rule, samples(dates), Unit::Reflectance, 1), &inputs).unwrap();
    (s.graph, vec![node])
}

fn on_one_thread(b: Bencher, make: impl Fn() -> (Graph, Vec<NodeId>) + Sync) {
    b.counter(ItemsCount::new(CELLS))
        .with_inputs(make)
        .bench_values(|(g, nodes)| compute(g, &nodes, Some((512, 512)), 1).unwrap());
}

/// The median of so many dates, half of the cells masked in blobs; cells a second on one thread.
#[divan::bench(args = [6, 12, 24, 48, 64], sample_count = 9)]
fn median(b: Bencher, dates: u64) {
    on_one_thread(b, || reduced(BandRule::Median, dates));
}

/// Other statistics of 24 dates.
#[divan::bench(args = ["mean", "max", "p25", "spread"], sample_count = 9)]
fn statistic(b: Bencher, rule: &str) {
    let rule = match rule {
        "mean" => BandRule::Mean,
        "max" => BandRule::Max,
        "p25" => BandRule::Percentile(25.0),
        _ => BandRule::Spread,
    };
    on_one_thread(b, || reduced(rule, 24));
}

/// Four bands of 24 dates: each band's median, or all bands of one look.
#[divan::bench(args = ["median", "medoid", "latest"], sample_count = 9)]
fn four_bands(b: Bencher, rule: &str) {
    const DATES: u64 = 24;
    on_one_thread(b, || {
        let mut s = stack(DATES, 4);
        let choice = match rule {
            "medoid" => Choice::Medoid,
            "latest" => Choice::Latest,
            _ => {
                let nodes = s.bands.iter().map(|band| {
                    let inputs: Vec<NodeId> = s.clear.iter().chain(band).copied().collect();
                    s.graph
                        .add(Composite::new(BandRule::Median, samples(DATES), Unit::Reflectance, 1), &inputs)
                        .unwrap()
                });
                let nodes = nodes.collect();
                return (s.graph, nodes);
            }
        };
        let mut inputs = s.clear.clone();
        (0..DATES as usize).for_each(|k| inputs.extend(s.bands.iter().map(|band| band[k])));
        let by_scene = (0..DATES).map(|_| samples(4)).collect();
        let op = Choose { choice, samples: by_scene, measured: vec![0, 1, 2, 3], at_least: 1 };
        let chosen = s.graph.add(op, &inputs).unwrap();
        let nodes = s.bands.iter().map(|band| {
            let inputs: Vec<NodeId> = std::iter::once(chosen).chain(band.iter().copied()).collect();
            s.graph.add(Chosen { samples: samples(DATES), unit: Unit::Reflectance }, &inputs).unwrap()
        });
        let nodes = nodes.collect();
        (s.graph, nodes)
    });
}

/// What a formula is measured against: the same arithmetic as an op written by hand.
#[derive(Debug)]
struct ByHand(Hand);

#[derive(Debug, Clone, Copy)]
enum Hand {
    Ratio,
    Evi,
}

impl Op for ByHand {
    fn output(&self, _: &[&PlaneSpec]) -> telechroma_core::Result<(Kind, Unit)> {
        Ok((Kind::Values, Unit::One))
    }

    fn compute(&self, inputs: &Inputs, out: &mut Tile) -> telechroma_core::Result<()> {
        let window = out.window;
        for row in window.row..window.end_row() {
            let rows: Vec<&[f32]> = (0..inputs.len()).map(|i| values_row(inputs.tile(i), &window, row)).collect();
            let at = out.row_range(&window, row);
            let over = |a: f64, b: f64| if b == 0.0 { f64::NAN } else { a / b };
            for (i, o) in out.values_mut()[at].iter_mut().enumerate() {
                let v = |k: usize| f64::from(rows[k][i]);
                *o = match self.0 {
                    Hand::Ratio => over(v(0) - v(1), v(0) + v(1)),
                    Hand::Evi => 2.5 * over(v(0) - v(1), v(0) + 6.0 * v(1) - 7.5 * v(2) + 1.0),
                } as f32;
            }
        }
        Ok(())
    }

    fn step(&self) -> &'static str {
        "by hand"
    }
}

fn planes(g: &mut Graph) -> [NodeId; 3] {
    [1u64, 2, 3].map(|key| {
        let v = (0..CELLS).map(|i| (noise(key, i) % 1000) as f32 * 1e-3 + 1e-3).collect();
        let here = grid(0, 0, SIDE, SIDE);
        let p =
            MemoryPlane::shared(&key.to_string(), here, Kind::Values, Unit::Reflectance, (512, 512), Cells::Values(v));
        g.source(p, None).unwrap()
    })
}

/// Indices as the catalogue compiles them, and written by hand.
#[divan::bench(args = ["ndvi", "ndvi by hand", "evi", "evi by hand"])]
fn index(b: Bencher, which: &str) {
    on_one_thread(b, || {
        let mut g = Graph::new(grid(0, 0, SIDE, SIDE));
        let [red, nir, blue] = planes(&mut g);
        let node = match which {
            "ndvi by hand" => g.add(ByHand(Hand::Ratio), &[nir, red]).unwrap(),
            "evi by hand" => g.add(ByHand(Hand::Evi), &[nir, red, blue]).unwrap(),
            name => {
                let three = Bands(&["red", "nir", "blue"], Unit::Reflectance);
                let program = Program::compile(name, &three).unwrap();
                let of = |n: &String| match n.as_str() {
                    "nir" => nir,
                    "red" => red,
                    _ => blue,
                };
                let inputs: Vec<NodeId> = program.inputs().iter().map(of).collect();
                g.add(Compute { program, unit: Unit::One }, &inputs).unwrap()
            }
        };
        (g, vec![node])
    });
}

/// Growing a mask by so many cells.
#[divan::bench(args = [1, 4, 16])]
fn grow(b: Bencher, cells: u32) {
    let make = || {
        let mut g = Graph::new(grid(0, 0, SIDE, SIDE));
        let (_, mask) = scene(&mut g, 1);
        let op = Grow { seeds: Reasons::CLOUD, radius_m: 30.0 * f64::from(cells), cell_m: (30.0, 30.0) };
        let node = g.add(op, &[mask]).unwrap();
        (g, node)
    };
    b.counter(ItemsCount::new(CELLS))
        .with_inputs(make)
        .bench_values(|(g, node)| compute(g, &[node], Some((512, 512)), 1).unwrap());
}

/// Formulas, from a ratio to a logarithm.
#[divan::bench(args = ["(nir - red) / (nir + red)", "1 where nir > red and red < 0.3 else 0", "nir / (1 + nir * ln(red))"])]
fn formula(b: Bencher, text: &str) {
    on_one_thread(b, || {
        let mut g = Graph::new(grid(0, 0, SIDE, SIDE));
        let [red, nir, _] = planes(&mut g);
        let program = Program::compile(text, &NIR_RED).unwrap();
        let inputs: Vec<NodeId> = program.inputs().iter().map(|n| if n == "nir" { nir } else { red }).collect();
        let node = g.add(Compute { program, unit: Unit::One }, &inputs).unwrap();
        (g, vec![node])
    });
}

/// A plane of 4096 x 4096 cells brought to the next UTM zone, on two threads; cells of the result a second.
#[divan::bench(args = ["nearest", "bilinear", "cubic"], sample_count = 5)]
fn warp(b: Bencher, rule: &str) {
    const WIDE: u32 = 4096;
    let from = Grid {
        crs: Crs::utm(25, true).ok(),
        transform: Affine::north_up(700_000.0, 4_400_000.0, 30.0, 30.0),
        cols: WIDE,
        rows: WIDE,
    };
    let v: Vec<f32> = (0..u64::from(WIDE) * u64::from(WIDE)).map(|i| (i % 1000) as f32).collect();
    let plane = MemoryPlane::shared("wide", from, Kind::Values, Unit::One, (512, 512), Cells::Values(v));
    let to = Grid {
        crs: Crs::utm(26, true).ok(),
        transform: Affine::north_up(190_000.0, 4_390_000.0, 30.0, 30.0),
        cols: WIDE,
        rows: WIDE,
    };
    let how = How::Values(rule.parse().unwrap());
    let make = || {
        let mut g = Graph::new(to.clone());
        let source = g.native(plane.clone(), None).unwrap();
        let node = align(&mut g, source, how).unwrap();
        (g, node)
    };
    b.counter(ItemsCount::new(u64::from(WIDE) * u64::from(WIDE)))
        .with_inputs(make)
        .bench_values(|(g, node)| compute(g, &[node], Some((512, 512)), 2).unwrap());
}

/// Exact shares of the cells of a plot of so many cells' radius.
#[divan::bench(args = [5, 50, 500])]
fn coverage(b: Bencher, radius: u32) {
    let r = f64::from(radius);
    let corner = |i: u32| {
        let (a, r) = (f64::from(i) * 0.2, r * (0.8 + 0.2 * f64::from(i % 3) / 2.0));
        (600.3 + r * a.cos(), 600.7 + r * a.sin())
    };
    let plot = [Polygon { outer: (0..31).map(corner).collect(), holes: vec![] }];
    let window = grid(0, 0, 1200, 1200).window();
    b.counter(ItemsCount::new(4 * u64::from(radius * radius))).bench(|| cover(&plot, window, Weighting::Share));
}
