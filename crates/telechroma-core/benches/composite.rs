//! What a cell of a composite costs, without reading: nanoseconds of the composite's own op on one tile and thread, the
//! best of many rounds, by rule, number of dates and how much is clear.
#![allow(missing_docs, clippy::unwrap_used)] // benches

use telechroma_core::graph::{Inputs, Op};
use telechroma_core::grid::Window;
use telechroma_core::op::{BandRule, Calibrator, Choice, Choose, Chosen, Clear, Composite, Sample};
use telechroma_core::physics::{Calibration, Line};
use telechroma_core::tile::{Cells, Tile};
use telechroma_core::units::Unit;
use telechroma_testkit::memory::grid;

/// Tiles: a few rows, whose planes stay in the second-level cache, and one whose planes come from beyond it.
const TILES: [(&str, u32, u32); 2] = [("in cache", 4096, 4), ("beyond it", 512, 512)];
/// Bands of a medoid.
const BANDS: u64 = 4;
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

/// Tiles of some dates: planes of clear looks, then a plane of counts a date.
struct Stack {
    window: Window,
    clear: Vec<Tile>,
    counts: Vec<Tile>,
}

fn stack((cols, rows): (u32, u32), dates: u64, band: u64, run: Option<u64>) -> Stack {
    let window = grid(0, 0, cols, rows).window();
    let cells = window.len() as u64;
    let bits = |cells: Vec<u16>| Tile { window, cells: Cells::Bits(cells) };
    let cloudy = |k: u64, i: u64| run.is_some_and(|run| noise(k + 99, i / run) & 1 == 0);
    let clear = |first: u64, i: u64| {
        let scenes = first..(first + Clear::SCENES as u64).min(dates);
        scenes.filter(|k| !cloudy(*k, i)).fold(0, |all, k| all | 1u16 << (k - first))
    };
    let clear = (0..dates).step_by(Clear::SCENES).map(|first| bits((0..cells).map(|i| clear(first, i)).collect()));
    let count = |k: u64, i: u64| 6000 + (noise(k + 1000 * band, i) % 9000) as u16;
    let counts = (0..dates).map(|k| bits((0..cells).map(|i| count(k, i)).collect()));
    Stack { window, clear: clear.collect(), counts: counts.collect() }
}

fn sample(own: f64, k: u64) -> Sample {
    let line = Calibration::Line(Line { gain: 2e-5 + own * k as f64, offset: -0.1 });
    Sample::Counts(Calibrator::new(line, Some(0)))
}

/// The best of many rounds, in nanoseconds a cell.
fn best(window: Window, mut round: impl FnMut()) -> f64 {
    let rounds = (0..WORK / window.len() as u64).map(|_| {
        let begun = std::time::Instant::now();
        round();
        begun.elapsed().as_secs_f64()
    });
    rounds.fold(f64::INFINITY, f64::min) * 1e9 / window.len() as f64
}

fn compute(op: &dyn Op, inputs: Vec<&Tile>, out: &mut Tile) {
    op.compute(&Inputs::new(inputs.into_iter().map(Some).collect()), out).unwrap();
}

fn values(window: Window) -> Tile {
    Tile { window, cells: Cells::Values(vec![0.0; window.len()]) }
}

fn of_rule(rule: BandRule, tile: (u32, u32), dates: u64, own: f64, run: Option<u64>) -> f64 {
    let Stack { window, clear, counts } = stack(tile, dates, 0, run);
    let op = Composite::new(rule, (0..dates).map(|k| sample(own, k)).collect(), Unit::Reflectance, 1);
    let mut out = values(window);
    best(window, || compute(&op, clear.iter().chain(&counts).collect(), &mut out))
}

/// All bands of the look nearest to all others.
fn medoid(bands: u64, tile: (u32, u32), dates: u64, own: f64, run: Option<u64>) -> f64 {
    let stacks: Vec<Stack> = (0..bands).map(|b| stack(tile, dates, b, run)).collect();
    let (window, clear) = (stacks[0].window, &stacks[0].clear);
    let samples = (0..dates).map(|k| (0..bands).map(|_| sample(own, k)).collect()).collect();
    let choose = Choose { choice: Choice::Medoid, samples, measured: (0..bands as usize).collect(), at_least: 1 };
    let chosen = Chosen { samples: (0..dates).map(|k| sample(own, k)).collect(), unit: Unit::Reflectance };
    let mut choices = Tile { window, cells: Cells::Bits(vec![0; window.len()]) };
    let mut out = values(window);
    best(window, || {
        let planes = (0..dates as usize).flat_map(|k| stacks.iter().map(move |s| &s.counts[k]));
        compute(&choose, clear.iter().chain(planes).collect(), &mut choices);
        for stack in &stacks {
            compute(&chosen, std::iter::once(&choices).chain(&stack.counts).collect(), &mut out);
        }
    })
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
    let is_asked = |name: &str| asked.is_empty() || asked.iter().any(|a| a == name);
    println!("nanoseconds a cell, one thread");
    for (name, rule) in rules.into_iter().filter(|(name, _)| is_asked(name)) {
        for ((tile, cols, rows), (lines, own)) in TILES.into_iter().flat_map(|t| LINES.map(|l| (t, l))) {
            for dates in [12, 24, 48, 64] {
                let cost = SKIES.map(|(sky, run)| format!("{sky} {:.1}", of_rule(rule, (cols, rows), dates, own, run)));
                println!("{name:<7} {tile}, {lines:<9}, {dates} dates: {}", cost.join(", "));
            }
        }
    }
    if is_asked("medoid") {
        let (tile, cols, rows) = TILES[0];
        for (lines, own) in LINES {
            for dates in [12, 24, 48, 64] {
                let cost = SKIES.map(|(sky, run)| {
                    let medians = BANDS as f64 * of_rule(BandRule::Median, (cols, rows), dates, own, run);
                    let medoid = medoid(BANDS, (cols, rows), dates, own, run);
                    format!("{sky} {medoid:.0} = {:.1} x", medoid / medians)
                });
                println!("medoid of {BANDS} bands {tile}, {lines:<9}, {dates} dates: {} the medians", cost.join(", "));
            }
        }
    }
}
