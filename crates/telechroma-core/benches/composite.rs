//! What a cell of a composite costs, without reading: nanoseconds of the composite's own op on one tile and thread, the
//! best of many rounds, by rule, number of dates and how much is clear.
#![allow(missing_docs, clippy::unwrap_used)] // benches

use telechroma_core::graph::{Inputs, Op};
use telechroma_core::op::{BandRule, Calibrator, Clear, Composite, Sample};
use telechroma_core::physics::{Calibration, Line};
use telechroma_core::tile::{Cells, Tile};
use telechroma_core::units::Unit;
use telechroma_testkit::memory::grid;

/// Tiles: a few rows, whose planes stay in the second-level cache, and one whose planes come from beyond it.
const TILES: [(&str, u32, u32); 2] = [("in cache", 4096, 4), ("beyond it", 512, 512)];
/// Cells composed in all rounds together.
const WORK: u64 = 10_000_000;

fn noise(key: u64, i: u64) -> u64 {
    let z = (key.wrapping_mul(0x9E37_79B9_7F4A_7C15) ^ i).wrapping_mul(0xBF58_476D_1CE4_E5B9);
    (z ^ z >> 31).wrapping_mul(0x94D0_49BB_1331_11EB) >> 40
}

/// How the cells of a scene are clouded: not at all, half of them in runs of 128, or half of them by themselves.
const SKIES: [(&str, Option<u64>); 3] = [("clear", None), ("half in blobs", Some(128)), ("half in specks", Some(1))];

/// How much the gain of each date differs from the one before: one calibration for all, as of surface reflectance, or
/// one for each, as of the top of the atmosphere, where the sun's height counts.
const LINES: [(&str, f64); 2] = [("one line", 0.0), ("own lines", 1e-7)];

fn nanoseconds(rule: BandRule, (cols, rows): (u32, u32), dates: u64, own: f64, run: Option<u64>) -> f64 {
    let window = grid(0, 0, cols, rows).window();
    let cells = window.len() as u64;
    let bits = |cells: Vec<u16>| Tile { window, cells: Cells::Bits(cells) };
    let cloudy = |k: u64, i: u64| run.is_some_and(|run| noise(k + 99, i / run) & 1 == 0);
    let clear = |first: u64, i: u64| {
        let scenes = first..(first + Clear::SCENES as u64).min(dates);
        scenes.filter(|k| !cloudy(*k, i)).fold(0, |all, k| all | 1u16 << (k - first))
    };
    let mut tiles: Vec<Tile> =
        (0..dates).step_by(Clear::SCENES).map(|first| bits((0..cells).map(|i| clear(first, i)).collect())).collect();
    tiles.extend((0..dates).map(|k| bits((0..cells).map(|i| 6000 + (noise(k, i) % 9000) as u16).collect())));
    let line = |k: u64| Calibration::Line(Line { gain: 2e-5 + own * k as f64, offset: -0.1 });
    let samples = (0..dates).map(|k| Sample::Counts(Calibrator::new(line(k), Some(0)))).collect();
    let op = Composite::new(rule, samples, Unit::Reflectance, 1);
    let mut out = Tile { window, cells: Cells::Values(vec![0.0; window.len()]) };
    let mut one = || {
        let inputs = Inputs::new(tiles.iter().map(Some).collect());
        let begun = std::time::Instant::now();
        op.compute(&inputs, &mut out).unwrap();
        begun.elapsed().as_secs_f64()
    };
    (0..WORK / cells).map(|_| one()).fold(f64::INFINITY, f64::min) * 1e9 / cells as f64
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
        for ((tile, cols, rows), (lines, own)) in TILES.into_iter().flat_map(|t| LINES.map(|l| (t, l))) {
            for dates in [12, 24, 48, 64] {
                let cost =
                    SKIES.map(|(sky, run)| format!("{sky} {:.1}", nanoseconds(rule, (cols, rows), dates, own, run)));
                println!("{name:<7} {tile}, {lines:<9}, {dates} dates: {}", cost.join(", "));
            }
        }
    }
}
