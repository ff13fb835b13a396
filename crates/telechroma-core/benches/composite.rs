//! What a cell of a composite costs, without reading: nanoseconds of the composite's own op on one tile and thread, the
//! best of many rounds, by rule, number of dates and how much is clear.
#![allow(missing_docs, clippy::unwrap_used)] // benches

use telechroma_core::graph::{Inputs, Op};
use telechroma_core::op::{BandRule, Calibrator, Clear, Composite, Sample};
use telechroma_core::physics::{Calibration, Line};
use telechroma_core::tile::{Cells, Tile};
use telechroma_core::units::Unit;
use telechroma_testkit::memory::grid;

const SIDE: u32 = 512;
const CELLS: u64 = (SIDE * SIDE) as u64;
const ROUNDS: usize = 40;

fn noise(key: u64, i: u64) -> u64 {
    let z = (key.wrapping_mul(0x9E37_79B9_7F4A_7C15) ^ i).wrapping_mul(0xBF58_476D_1CE4_E5B9);
    (z ^ z >> 31).wrapping_mul(0x94D0_49BB_1331_11EB) >> 40
}

/// How the cells of a scene are clouded: not at all, half of them in runs of 128, or half of them by themselves.
const SKIES: [(&str, Option<u64>); 3] = [("clear", None), ("half in blobs", Some(128)), ("half in specks", Some(1))];

fn nanoseconds(rule: BandRule, dates: u64, run: Option<u64>) -> f64 {
    let window = grid(0, 0, SIDE, SIDE).window();
    let bits = |cells: Vec<u16>| Tile { window, cells: Cells::Bits(cells) };
    let cloudy = |k: u64, i: u64| run.is_some_and(|run| noise(k + 99, i / run) & 1 == 0);
    let clear = |first: u64, i: u64| {
        let scenes = first..(first + Clear::SCENES as u64).min(dates);
        scenes.filter(|k| !cloudy(*k, i)).fold(0, |all, k| all | 1u16 << (k - first))
    };
    let mut tiles: Vec<Tile> =
        (0..dates).step_by(Clear::SCENES).map(|first| bits((0..CELLS).map(|i| clear(first, i)).collect())).collect();
    tiles.extend((0..dates).map(|k| bits((0..CELLS).map(|i| 6000 + (noise(k, i) % 9000) as u16).collect())));
    let line = Calibration::Line(Line { gain: 2e-5, offset: -0.1 });
    let samples = (0..dates).map(|_| Sample::Counts(Calibrator::new(line, Some(0)))).collect();
    let op = Composite::new(rule, samples, Unit::Reflectance, 1);
    let mut out = Tile { window, cells: Cells::Values(vec![0.0; CELLS as usize]) };
    let mut one = || {
        let inputs = Inputs::new(tiles.iter().map(Some).collect());
        let begun = std::time::Instant::now();
        op.compute(&inputs, &mut out).unwrap();
        begun.elapsed().as_secs_f64()
    };
    (0..ROUNDS).map(|_| one()).fold(f64::INFINITY, f64::min) * 1e9 / CELLS as f64
}

fn main() {
    let rules = [
        ("median", BandRule::Median),
        ("p25", BandRule::Percentile(25.0)),
        ("spread", BandRule::Spread),
        ("mean", BandRule::Mean),
        ("max", BandRule::Max),
    ];
    // rules may be named: cargo bench --bench composite -- median
    let asked: Vec<String> = std::env::args().skip(1).filter(|a| !a.starts_with('-')).collect();
    println!("nanoseconds a cell, one thread");
    for (name, rule) in rules.into_iter().filter(|(name, _)| asked.is_empty() || asked.iter().any(|a| a == name)) {
        for dates in [12, 24, 48, 64] {
            let cost: Vec<String> =
                SKIES.iter().map(|(sky, run)| format!("{sky} {:.1}", nanoseconds(rule, dates, *run))).collect();
            println!("{name:<7} {dates:>3} dates  {}", cost.join(", "));
        }
    }
}
