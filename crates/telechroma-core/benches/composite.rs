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
const TILES: [(&str, (u32, u32)); 2] = [("in cache", (4096, 4)), ("beyond it", (512, 512))];
/// Bands of a medoid.
const BANDS: u64 = 4;
/// Cells composed in all rounds together.
const WORK: u64 = 10_000_000;

fn noise(key: u64, i: u64) -> u64 {
    let z = (key.wrapping_mul(0x9E37_79B9_7F4A_7C15) ^ i).wrapping_mul(0xBF58_476D_1CE4_E5B9);
    (z ^ z >> 31).wrapping_mul(0x94D0_49BB_1331_11EB) >> 40
}

/// How the cells of a scene are clouded: not at all, half of them in runs of 128, or half of them by themselves.
const SKIES: [(&str, Option<u64>); 3] = [("clear", None), ("blobs", Some(128)), ("specks", Some(1))];

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

/// All bands of the look nearest to all others, and their medians: the same planes, from as far.
fn medoid_and_medians(bands: u64, tile: (u32, u32), dates: u64, own: f64, run: Option<u64>) -> (f64, f64) {
    let stacks: Vec<Stack> = (0..bands).map(|b| stack(tile, dates, b, run)).collect();
    let (window, clear) = (stacks[0].window, &stacks[0].clear);
    let samples = || (0..dates).map(|k| sample(own, k)).collect();
    let of_all = (0..dates).map(|k| (0..bands).map(|_| sample(own, k)).collect()).collect();
    let choose =
        Choose { choice: Choice::Medoid, samples: of_all, measured: (0..bands as usize).collect(), at_least: 1 };
    let chosen = Chosen { samples: samples(), unit: Unit::Reflectance };
    let median = Composite::new(BandRule::Median, samples(), Unit::Reflectance, 1);
    let mut choices = Tile { window, cells: Cells::Bits(vec![0; window.len()]) };
    let mut out = values(window);
    let medoid = best(window, || {
        let planes = (0..dates as usize).flat_map(|k| stacks.iter().map(move |s| &s.counts[k]));
        compute(&choose, clear.iter().chain(planes).collect(), &mut choices);
        for stack in &stacks {
            compute(&chosen, std::iter::once(&choices).chain(&stack.counts).collect(), &mut out);
        }
    });
    let medians = best(window, || {
        for stack in &stacks {
            compute(&median, clear.iter().chain(&stack.counts).collect(), &mut out);
        }
    });
    (medoid, medians)
}

/// Of these those that are named on the command line, or all if none is.
fn asked<'a, T: Copy>(all: &[(&'a str, T)]) -> Vec<(&'a str, T)> {
    let named: Vec<String> = std::env::args().skip(1).collect();
    let is_named = |name: &str| named.iter().any(|n| n == name);
    let none = !all.iter().any(|(name, _)| is_named(name));
    all.iter().filter(|(name, _)| none || is_named(name)).copied().collect()
}

fn main() {
    // cargo bench --bench composite -- median medoid "in cache" "one line" clear 12 24
    let rules = asked(&[
        ("median", Some(BandRule::Median)),
        ("p25", Some(BandRule::Percentile(25.0))),
        ("spread", Some(BandRule::Spread)),
        ("mean", Some(BandRule::Mean)),
        ("max", Some(BandRule::Max)),
        ("medoid", None),
    ]);
    let (skies, dates) = (asked(&SKIES), asked(&[("12", 12), ("24", 24), ("48", 48), ("64", 64)]));
    let (tiles, lines) = (asked(&TILES), asked(&LINES));
    let settings = tiles.iter().flat_map(|t| lines.iter().map(move |l| (*t, *l)));
    let settings: Vec<_> = settings.flat_map(|s| dates.iter().map(move |(_, d)| (s, *d))).collect();
    println!("nanoseconds a cell, one thread");
    for (name, rule) in rules {
        for (((tile, size), (lines, own)), dates) in &settings {
            let cost = skies.iter().map(|(sky, run)| match rule {
                Some(rule) => format!("{sky} {:.1}", of_rule(rule, *size, *dates, *own, *run)),
                None => {
                    let (medoid, medians) = medoid_and_medians(BANDS, *size, *dates, *own, *run);
                    format!("{sky} {medoid:.0} = {:.1} x {BANDS} medians' {medians:.0}", medoid / medians)
                }
            });
            let cost: Vec<String> = cost.collect();
            println!("{name:<7} {tile:<9} {lines:<9} {dates} dates: {}", cost.join(", "));
        }
    }
}
