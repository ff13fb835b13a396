//! What a cell of a composite costs, without reading: nanoseconds of the composite's own step on one thread, by rule,
//! number of dates and how much is clear.
#![allow(missing_docs, clippy::unwrap_used)] // benches

use telechroma_core::graph::{Graph, NodeId};
use telechroma_core::op::{BandRule, Calibrator, Clear, Composite, FlagRule, FlagTest, Mask, Sample};
use telechroma_core::physics::{Calibration, Line};
use telechroma_core::tile::{Cells, Kind};
use telechroma_core::units::Unit;
use telechroma_testkit::memory::{MemoryPlane, compute, grid};

const SIDE: u32 = 512;
const CELLS: u64 = (SIDE * SIDE) as u64;
const ROUNDS: usize = 7;

fn noise(key: u64, i: u64) -> u64 {
    let z = (key.wrapping_mul(0x9E37_79B9_7F4A_7C15) ^ i).wrapping_mul(0xBF58_476D_1CE4_E5B9);
    (z ^ z >> 31).wrapping_mul(0x94D0_49BB_1331_11EB) >> 40
}

/// How the cells of a scene are clouded: not at all, half of them in runs of 128, or half of them by themselves.
const SKIES: [(&str, Option<u64>); 3] = [("clear", None), ("half in blobs", Some(128)), ("half in specks", Some(1))];

fn stack(dates: u64, run: Option<u64>) -> (Graph, Vec<NodeId>) {
    let here = grid(0, 0, SIDE, SIDE);
    let mut g = Graph::new(here.clone());
    let plane = |g: &mut Graph, name: String, kind: Kind, unit: Unit, cells: Vec<u16>| {
        g.source(MemoryPlane::shared(&name, here.clone(), kind, unit, (512, 512), Cells::Bits(cells)), None).unwrap()
    };
    let (mut masks, mut counts) = (vec![], vec![]);
    for k in 0..dates {
        let cloudy = |i: u64| run.is_some_and(|run| noise(k + 99, i / run) & 1 == 0);
        let flags = (0..CELLS).map(|i| if cloudy(i) { 8 } else { 0 }).collect();
        let flags = plane(&mut g, format!("f{k}"), Kind::Flags { outside: 1 }, Unit::Flags, flags);
        let rules = FlagRule::passing(0).filter(|r| r.test == FlagTest::Any(8)).collect();
        masks.push(g.add(Mask { rules }, &[flags]).unwrap());
        let cells = (0..CELLS).map(|i| 6000 + (noise(k, i) % 9000) as u16).collect();
        counts.push(plane(&mut g, format!("c{k}"), Kind::Counts { fill: Some(0) }, Unit::Counts, cells));
    }
    let mut inputs: Vec<NodeId> = masks.chunks(Clear::SCENES).map(|m| g.add(Clear, m).unwrap()).collect();
    inputs.extend(counts);
    (g, inputs)
}

fn nanoseconds(rule: BandRule, dates: u64, run: Option<u64>) -> f64 {
    let line = Calibration::Line(Line { gain: 2e-5, offset: -0.1 });
    let one = || {
        let (mut g, inputs) = stack(dates, run);
        let samples = (0..dates).map(|_| Sample::Counts(Calibrator::new(line, Some(0)))).collect();
        let node = g.add(Composite::new(rule, samples, Unit::Reflectance, 1), &inputs).unwrap();
        let step = g.node(node).step();
        let (_, report) = compute(g, &[node], Some((SIDE, SIDE)), 1).unwrap();
        report.seconds.iter().find(|s| s.0 == step).map_or(f64::NAN, |s| s.1) * 1e9 / CELLS as f64
    };
    (0..ROUNDS).map(|_| one()).fold(f64::INFINITY, f64::min)
}

fn main() {
    let rules = [
        ("median", BandRule::Median),
        ("p25", BandRule::Percentile(25.0)),
        ("spread", BandRule::Spread),
        ("mean", BandRule::Mean),
        ("max", BandRule::Max),
    ];
    println!("nanoseconds a cell, one thread");
    for (name, rule) in rules {
        for dates in [12, 24, 48, 64] {
            let cost: Vec<String> =
                SKIES.iter().map(|(sky, run)| format!("{sky} {:.1}", nanoseconds(rule, dates, *run))).collect();
            println!("{name:<7} {dates:>3} dates  {}", cost.join(", "));
        }
    }
}
