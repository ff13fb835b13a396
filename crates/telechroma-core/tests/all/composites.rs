//! Every rule of a composite against plain arithmetic in double precision.

use proptest::prelude::*;
use telechroma_core::graph::{Graph, NodeId};
use telechroma_core::op::{BandRule, Calibrator, Choice, Choose, Chosen, Clear, Composite, OfChosen, Sample};
use telechroma_core::physics::{Calibration, Line};
use telechroma_core::tile::{Cells, Kind};
use telechroma_core::units::Unit;
use telechroma_testkit::memory::{MemoryPlane, compute, grid};

/// Cells in a row: two tiles, each of whole runs of 64 cells; the second ends with a part of one.
const CELLS: u32 = 199;
const TILE: (u32, u32) = (128, 1);

/// Looks, each with its mask and its bands; NaN is missing.
type Looks = Vec<(Vec<bool>, Vec<Vec<f32>>)>;

fn looks() -> impl Strategy<Value = Looks> {
    let value = prop_oneof![8 => (0i32..40).prop_map(|v| v as f32 / 37.0), 1 => Just(f32::NAN)];
    let band = || proptest::collection::vec(value.clone(), CELLS as usize);
    let clear = proptest::collection::vec(proptest::bool::weighted(0.7), CELLS as usize);
    let look = (clear, band(), band()).prop_map(|(c, a, b)| (c, vec![a, b]));
    proptest::collection::vec(look, 1..24)
}

struct Stack {
    g: Graph,
    clear: Vec<NodeId>,
    bands: Vec<Vec<NodeId>>,
    /// The calibration, if values are counts.
    line: Option<Line>,
}

fn stack(looks: &Looks, line: Option<Line>) -> Stack {
    let mut g = Graph::new(grid(0, 0, CELLS, 1));
    let source = |g: &mut Graph, name: String, kind: Kind, unit: Unit, cells: Cells| {
        g.source(MemoryPlane::shared(&name, grid(0, 0, CELLS, 1), kind, unit, (32, 1), cells), None).unwrap()
    };
    let (mut masks, mut bands) = (vec![], vec![vec![]; looks[0].1.len()]);
    for (i, (clear, values)) in looks.iter().enumerate() {
        let bits = Cells::Bits(clear.iter().map(|c| u16::from(!c) << 3).collect());
        masks.push(source(&mut g, format!("m{i}"), Kind::Flags { outside: 1 }, Unit::Flags, bits));
        for (b, v) in values.iter().enumerate() {
            let (kind, unit, cells) = match line {
                Some(_) => {
                    let counts = v.iter().map(|v| *v as u16).collect();
                    (Kind::Counts { fill: None }, Unit::Counts, Cells::Bits(counts))
                }
                None => (Kind::Values, Unit::Reflectance, Cells::Values(v.clone())),
            };
            bands[b].push(source(&mut g, format!("b{b}_{i}"), kind, unit, cells));
        }
    }
    let clear = masks.chunks(Clear::SCENES).map(|m| g.add(Clear, m).unwrap()).collect();
    Stack { g, clear, bands, line }
}

impl Stack {
    /// A plane of the looks chosen, over all bands; scores by a band.
    fn choose(&mut self, choice: Choice, at_least: u32) -> NodeId {
        let looks = self.bands[0].len();
        let mut inputs = self.clear.clone();
        inputs.extend((0..looks).flat_map(|i| self.bands.iter().map(move |b| b[i])));
        inputs.extend(self.bands[self.bands.len() - 1].iter().filter(|_| choice == Choice::Best));
        let sample = || match self.line {
            Some(line) => Sample::Counts(Calibrator::new(Calibration::Line(line), None)),
            None => Sample::Values,
        };
        let samples = (0..looks).map(|_| self.bands.iter().map(|_| sample()).collect()).collect();
        let measured = (0..self.bands.len()).collect();
        self.g.add(Choose { choice, samples, measured, at_least }, &inputs).unwrap()
    }
}

fn read(g: Graph, node: NodeId) -> Vec<f32> {
    match compute(g, &[node], Some(TILE), 2).unwrap().0.swap_remove(0) {
        Cells::Values(v) => v,
        Cells::Bits(_) => panic!("values"),
    }
}

/// The statistic of the usable samples of a cell, sorted.
fn plain(by: BandRule, v: &[f64]) -> f64 {
    let n = v.len();
    if n == 0 {
        return f64::NAN;
    }
    let at = |p: f64| {
        let h = (n - 1) as f64 * p / 100.0;
        let low = h.floor() as usize;
        v[low] + (h - low as f64) * (v[(low + 1).min(n - 1)] - v[low])
    };
    match by {
        BandRule::Median => at(50.0),
        BandRule::Percentile(p) => at(p),
        BandRule::Mean => v.iter().sum::<f64>() / n as f64,
        BandRule::Min => v[0],
        BandRule::Max => v[n - 1],
        BandRule::Spread => {
            let centre = at(50.0);
            let mut away: Vec<f64> = v.iter().map(|x| (x - centre).abs()).collect();
            away.sort_by(f64::total_cmp);
            plain(BandRule::Median, &away)
        }
    }
}

fn same(got: f32, want: f64) -> bool {
    (got.is_nan() && want.is_nan()) || (f64::from(got) - want).abs() < 1e-6
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(40))]

    #[test]
    fn statistics_of_a_band(looks in looks(), percent in 0.0f64..=100.0, at_least in 1u32..4) {
        let rules = [
            BandRule::Median, BandRule::Mean, BandRule::Min, BandRule::Max, BandRule::Spread,
            BandRule::Percentile(percent), BandRule::Percentile(0.0), BandRule::Percentile(100.0),
        ];
        for by in rules {
            let Stack { mut g, clear, bands, .. } = stack(&looks, None);
            let inputs: Vec<NodeId> = clear.iter().chain(&bands[0]).copied().collect();
            let samples = looks.iter().map(|_| Sample::Values).collect();
            let node = g.add(Composite::new(by, samples, Unit::Reflectance, at_least), &inputs).unwrap();
            for (cell, got) in read(g, node).into_iter().enumerate() {
                let usable = looks.iter().filter(|l| l.0[cell] && !l.1[0][cell].is_nan());
                let mut v: Vec<f64> = usable.map(|l| f64::from(l.1[0][cell])).collect();
                v.sort_by(f64::total_cmp);
                let want = if v.len() < at_least as usize { f64::NAN } else { plain(by, &v) };
                prop_assert!(same(got, want), "{by:?}, cell {cell}: {got} for {want} of {v:?}");
            }
        }
    }

    #[test]
    fn ranks_among_counts_are_those_among_values(
        looks in proptest::collection::vec(
            proptest::collection::vec((any::<bool>(), prop_oneof![3 => 0u16..30, 1 => Just(u16::MAX)]), CELLS as usize), 1..20),
        own in prop_oneof![Just(0.0), Just(1e-7)], gain in prop_oneof![Just(2e-5), Just(-2e-5)],
        fill in proptest::option::of(Just(0u16)), percent in 0.0f64..=100.0,
    ) {
        let line = |i: usize| Line { gain: gain + own * i as f64, offset: -0.1 };
        for by in [BandRule::Median, BandRule::Percentile(percent)] {
            let mut g = Graph::new(grid(0, 0, CELLS, 1));
            let (mut masks, mut planes) = (vec![], vec![]);
            for (i, look) in looks.iter().enumerate() {
                let mut plane = |name: &str, kind: Kind, unit: Unit, cells: Vec<u16>| {
                    let grid = grid(0, 0, CELLS, 1);
                    g.source(MemoryPlane::shared(&format!("{name}{i}"), grid, kind, unit, (32, 1), Cells::Bits(cells)), None).unwrap()
                };
                let hidden = look.iter().map(|(c, _)| u16::from(!c)).collect();
                masks.push(plane("m", Kind::Flags { outside: 1 }, Unit::Flags, hidden));
                planes.push(plane("c", Kind::Counts { fill }, Unit::Counts, look.iter().map(|(_, v)| *v).collect()));
            }
            let clear: Vec<NodeId> = masks.chunks(Clear::SCENES).map(|m| g.add(Clear, m).unwrap()).collect();
            let samples =
                (0..looks.len()).map(|i| Sample::Counts(Calibrator::new(Calibration::Line(line(i)), fill))).collect();
            let op = Composite::new(by, samples, Unit::Reflectance, 1);
            let node = g.add(op, &[clear, planes].concat()).unwrap();
            let got = read(g, node);
            for (cell, got) in got.iter().enumerate() {
                let mut v: Vec<f32> = (looks.iter().enumerate())
                    .filter(|(_, l)| l[cell].0 && Some(l[cell].1) != fill)
                    .map(|(i, l)| (f64::from(l[cell].1) * line(i).gain + line(i).offset) as f32)
                    .collect();
                v.sort_by(f32::total_cmp);
                let n = v.len();
                let want = match by {
                    _ if n == 0 => f32::NAN,
                    BandRule::Median if n.is_multiple_of(2) => 0.5 * (v[n / 2 - 1] + v[n / 2]),
                    BandRule::Median => v[n / 2],
                    _ => {
                        let h = (n - 1) as f64 * percent / 100.0;
                        let (a, b) = (f64::from(v[h as usize]), f64::from(v[(h as usize + 1).min(n - 1)]));
                        (a + h.fract() * (b - a)) as f32
                    }
                };
                prop_assert_eq!(got.to_bits(), want.to_bits(), "{} {}", got, want);
            }
        }
    }

    #[test]
    fn one_look_for_all_bands(looks in looks(), at_least in 1usize..3) {
        for choice in [Choice::Medoid, Choice::Best, Choice::Latest, Choice::Earliest] {
            let mut stack = stack(&looks, None);
            let chosen = stack.choose(choice, at_least as u32);
            let Stack { mut g, bands, .. } = stack;
            let taken: Vec<NodeId> = [chosen].iter().chain(&bands[0]).copied().collect();
            let of_band = looks.iter().map(|_| Sample::Values).collect();
            let value = g.add(Chosen { samples: of_band, unit: Unit::Reflectance }, &taken).unwrap();
            let numbers = (0..looks.len()).map(|i| i as f32).collect();
            let number = g.add(OfChosen { numbers, unit: Unit::One }, &[chosen]).unwrap();
            let (cells, _) = compute(g, &[number, value], Some(TILE), 2).unwrap();
            let [Cells::Values(numbers), Cells::Values(values)] = &cells[..] else { panic!("values") };
            for cell in 0..CELLS as usize {
                let usable: Vec<usize> = (0..looks.len())
                    .filter(|i| looks[*i].0[cell] && looks[*i].1.iter().all(|b| !b[cell].is_nan()))
                    .collect();
                let of = |i: usize, b: usize| f64::from(looks[i].1[b][cell]);
                if usable.len() < at_least {
                    prop_assert!(numbers[cell].is_nan() && values[cell].is_nan());
                    continue;
                }
                let got = numbers[cell] as usize;
                prop_assert_eq!(values[cell].to_bits(), looks[got].1[0][cell].to_bits());
                let sum = |i: usize| -> f64 {
                    usable.iter().map(|j| (of(i, 0) - of(*j, 0)).hypot(of(i, 1) - of(*j, 1))).sum()
                };
                match choice {
                    Choice::Latest => prop_assert_eq!(got, *usable.last().unwrap()),
                    Choice::Earliest => prop_assert_eq!(got, usable[0]),
                    Choice::Best => {
                        let best = usable.iter().map(|i| of(*i, 1)).fold(f64::MIN, f64::max);
                        prop_assert_eq!(Some(&got), usable.iter().find(|i| of(**i, 1) == best));
                    }
                    // sums are of single precision: a tie but for rounding may fall to either
                    Choice::Medoid => {
                        let least = usable.iter().map(|i| sum(*i)).fold(f64::MAX, f64::min);
                        prop_assert!(usable.contains(&got) && sum(got) <= least + 1e-5, "{got}: {} {least}", sum(got));
                    }
                }
            }
        }
    }

    /// The same bits as held one against the other, whatever the number of bands and looks, how they lie, and their size;
    /// of counts of one calibration the counts are.
    #[test]
    fn medoids_of_any_bands(
        bands in 1usize..=10, looks in prop_oneof![1usize..40, 32usize..80], seed in any::<u64>(), clouds in 0u64..4,
        steps in prop_oneof![3 => Just(4001u64), 1 => Just(3)], line in prop_oneof![2 => Just(0f32), 1 => Just(5.0), 1 => Just(300.0)],
        size in prop_oneof![3 => Just(1f32), 1 => Just(1e-22), 1 => Just(1e18), 1 => Just(1e35)],
        counts in proptest::option::of(prop_oneof![Just(40f32), Just(5_000.0), Just(60_000.0)]),
    ) {
        let mut state = seed | 1;
        let mut next = || { state ^= state << 13; state ^= state >> 7; state ^= state << 17; state >> 20 };
        let looks: Looks = (0..looks)
            .map(|look| {
                let clear = (0..CELLS).map(|_| next() % 5 >= clouds).collect();
                let along = line * (look as f32 / looks as f32);
                let mut value = || {
                    let value = (next() % steps) as f32 / 3989.0 + along;
                    counts.map_or(size * value, |most| (most * value / (1.1 + line)).floor())
                };
                let mut band = || (0..CELLS).map(|_| value()).collect();
                (clear, (0..bands).map(|_| band()).collect())
            })
            .collect();
        let mut stack = stack(&looks, counts.map(|_| Line { gain: -2e-5, offset: 0.3 }));
        let chosen = stack.choose(Choice::Medoid, 1);
        let numbers = (0..looks.len()).map(|i| i as f32).collect();
        let number = stack.g.add(OfChosen { numbers, unit: Unit::One }, &[chosen]).unwrap();
        for (cell, got) in read(stack.g, number).into_iter().enumerate() {
            let usable: Vec<usize> = (0..looks.len()).filter(|i| looks[*i].0[cell]).collect();
            let distance = |i: usize, j: usize| {
                let squares = |b: usize| { let d = looks[i].1[b][cell] - looks[j].1[b][cell]; d * d };
                (0..bands).map(squares).fold(0f32, |sum, s| sum + s).sqrt()
            };
            let sum = |i: usize| usable.iter().filter(|j| **j != i).fold(0f32, |sum, j| sum + distance(i.min(*j), i.max(*j)));
            let want = usable.iter().copied().reduce(|best, i| if sum(i) < sum(best) { i } else { best });
            prop_assert_eq!((!got.is_nan()).then_some(got as usize), want, "cell {}", cell);
        }
    }
}
