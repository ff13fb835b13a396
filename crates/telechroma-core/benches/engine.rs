//! The engine and its ops on planes in memory: no decoding, no files.
#![allow(missing_docs, clippy::unwrap_used)] // benches

use divan::Bencher;
use divan::counter::ItemsCount;
use telechroma_core::geo::{Affine, Crs};
use telechroma_core::graph::{Graph, NodeId};
use telechroma_core::grid::Grid;
use telechroma_core::index::Program;
use telechroma_core::mask::Reasons;
use telechroma_core::op::{Calibrator, Clear, Composite, Compute, FlagRule, Grow, How, Mask, Reduce, Sample, align};
use telechroma_core::physics::{Calibration, Line};
use telechroma_core::plot::{Polygon, Weighting, cover};
use telechroma_core::tile::{Cells, Kind};
use telechroma_core::units::Unit;
use telechroma_testkit::memory::{MemoryPlane, compute, grid};
use telechroma_testkit::names::NIR_RED;

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
    let mask = g.add(Mask { rules: vec![FlagRule { plane: 0, bits: 8, reason: Reasons::CLOUD }] }, &[flags]).unwrap();
    let kind = Kind::Counts { fill: Some(0) };
    let plane = MemoryPlane::shared(&format!("c{key}"), here, kind, Unit::Counts, (512, 512), Cells::Bits(counts));
    (g.source(plane, Some(mask)).unwrap(), mask)
}

/// The median of so many dates, half of the cells masked in blobs; cells a second on one thread.
#[divan::bench(args = [6, 12, 24, 48])]
fn median(b: Bencher, dates: u64) {
    let make = || {
        let mut g = Graph::new(grid(0, 0, SIDE, SIDE));
        let scenes: Vec<(NodeId, NodeId)> = (0..dates).map(|k| scene(&mut g, k)).collect();
        let masks: Vec<NodeId> = scenes.iter().map(|s| s.1).collect();
        let mut inputs: Vec<NodeId> = masks.chunks(Clear::SCENES).map(|m| g.add(Clear, m).unwrap()).collect();
        inputs.extend(scenes.iter().map(|s| s.0));
        let line = Calibration::Line(Line { gain: 2e-5, offset: -0.1 });
        let samples = (0..dates).map(|_| Sample::Counts(Calibrator::new(line, Some(0)))).collect();
        let node = g.add(Composite::new(Reduce::Median, samples, Unit::Reflectance, 1), &inputs).unwrap();
        (g, node)
    };
    b.counter(ItemsCount::new(CELLS))
        .with_inputs(make)
        .bench_values(|(g, node)| compute(g, &[node], Some((512, 512)), 1).unwrap());
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
    let make = || {
        let mut g = Graph::new(grid(0, 0, SIDE, SIDE));
        let plane = |g: &mut Graph, key: u64| {
            let v = (0..CELLS).map(|i| (noise(key, i) % 1000) as f32 * 1e-3 + 1e-3).collect();
            let here = grid(0, 0, SIDE, SIDE);
            let p = MemoryPlane::shared(
                &key.to_string(),
                here,
                Kind::Values,
                Unit::Reflectance,
                (512, 512),
                Cells::Values(v),
            );
            g.source(p, None).unwrap()
        };
        let (red, nir) = (plane(&mut g, 1), plane(&mut g, 2));
        let program = Program::compile(text, &NIR_RED).unwrap();
        let inputs: Vec<NodeId> = program.inputs().iter().map(|n| if n == "nir" { nir } else { red }).collect();
        let node = g.add(Compute { program, unit: Unit::One }, &inputs).unwrap();
        (g, node)
    };
    b.counter(ItemsCount::new(CELLS))
        .with_inputs(make)
        .bench_values(|(g, node)| compute(g, &[node], Some((512, 512)), 1).unwrap());
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
