//! Every op and the whole job: the same bits with any tiles and threads, and absence as no data.

use proptest::prelude::*;
use telechroma_core::graph::{Graph, NodeId};
use telechroma_core::index::Program;
use telechroma_core::mask::{Reasons, SceneLevels};
use telechroma_core::op::{
    BandRule, BySunAngle, Calibrate, Calibrator, Choice, Choose, Chosen, Clear, CloudTest, Composite, Compute, Facet,
    FlagRule, FlagTest, Grow, Leading, Looks, Majority, Mark, Mask, OfChosen, Outliers, Relight, Sample, Terrain,
};
use telechroma_core::physics::{Calibration, Line};
use telechroma_core::tile::{Cells, Kind};
use telechroma_core::units::Unit;
use telechroma_testkit::memory::{MemoryPlane, compute, grid};
use telechroma_testkit::names::NIR_RED;
use telechroma_testkit::tiling::{check, check_absence};

const COLS: u32 = 41;
const ROWS: u32 = 29;

/// Numbers that look random, the same for the same key.
fn noise(key: u64, i: u64) -> u64 {
    let mut z = (key ^ 0x9E37_79B9).wrapping_mul(0xD6E8_FEB8_6659_FD93) ^ i.wrapping_mul(0x9E37_79B9_7F4A_7C15);
    z = (z ^ z >> 30).wrapping_mul(0xBF58_476D_1CE4_E5B9);
    (z ^ z >> 27).wrapping_mul(0x94D0_49BB_1331_11EB) >> 33
}

/// A source over the columns from 11 on, or over the whole grid with no data in the others.
fn source(g: &mut Graph, key: u64, kind: Kind, padded: bool, unless: Option<NodeId>) -> NodeId {
    let (col, cols) = if padded { (0, COLS) } else { (11, COLS - 11) };
    let cells = (0..ROWS).flat_map(|r| (0..cols).map(move |c| (c + col, r)));
    let missing = |c: u32| c < 11;
    let at = |c: u32, r: u32| noise(key, u64::from(r * COLS + c));
    let cells = match kind {
        Kind::Values => Cells::Values(
            cells
                .map(|(c, r)| if missing(c) || at(c, r) % 9 == 0 { f32::NAN } else { (at(c, r) % 1000) as f32 * 1e-3 })
                .collect(),
        ),
        Kind::Counts { fill } => Cells::Bits(
            cells.map(|(c, r)| if missing(c) { fill.unwrap() } else { (at(c, r) % 60_000) as u16 }).collect(),
        ),
        Kind::Flags { outside } => Cells::Bits(
            cells
                .map(|(c, r)| {
                    if missing(c) {
                        outside
                    } else if (c / 6 + r / 5) % 3 == 0 {
                        8
                    } else {
                        (at(c, r) % 40 == 0) as u16 * 16
                    }
                })
                .collect(),
        ),
    };
    let block = [(16, 16), (COLS, 4), (5, 9)][key as usize % 3];
    let unit = if kind == Kind::Values { Unit::Reflectance } else { Unit::Counts };
    let plane = MemoryPlane::shared(
        &format!("{key} {kind:?} {padded}"),
        grid(col as i32, 0, cols, ROWS),
        kind,
        unit,
        block,
        cells,
    );
    g.source(plane, unless).unwrap()
}

const FLAGS: Kind = Kind::Flags { outside: 1 };
const COUNTS: Kind = Kind::Counts { fill: Some(0) };

fn graph() -> Graph {
    Graph::new(grid(0, 0, COLS, ROWS))
}

fn rules() -> Vec<FlagRule> {
    let rule = |bits, reason| FlagRule { plane: 0, test: FlagTest::Any(bits), reason };
    vec![rule(1, Reasons::FILL), rule(8, Reasons::CLOUD), rule(16, Reasons::SHADOW)]
}

fn both(make: impl Fn(&mut Graph, bool) -> Vec<NodeId>) -> Vec<Cells> {
    check_absence(|padded| {
        let mut g = graph();
        let planes = make(&mut g, padded);
        (g, planes)
    });
    check(|| {
        let mut g = graph();
        let planes = make(&mut g, false);
        (g, planes)
    })
}

fn line(gain: f64) -> Calibrator {
    Calibrator::new(Calibration::Line(Line { gain, offset: -0.1 }), Some(0))
}

#[test]
fn calibrate() {
    both(|g, padded| {
        let s = source(g, 1, COUNTS, padded, None);
        let bt = Calibration::Brightness { radiance: Line { gain: 3.3e-4, offset: 0.1 }, k1: 774.9, k2: 1321.1 };
        vec![
            g.add(Calibrate { by: line(2e-5), unit: Unit::Reflectance }, &[s]).unwrap(),
            g.add(Calibrate { by: Calibrator::new(bt, Some(0)), unit: Unit::Kelvin }, &[s]).unwrap(),
        ]
    });
}

#[test]
fn mask_and_growth() {
    let planes = both(|g, padded| {
        let flags = source(g, 2, FLAGS, padded, None);
        let mask = g.add(Mask { rules: rules() }, &[flags]).unwrap();
        let grown = g.add(Grow { seeds: Reasons::CLOUD, radius_m: 100.0, cell_m: (30.0, 30.0) }, &[mask]).unwrap();
        vec![mask, grown]
    });
    let (Cells::Bits(mask), Cells::Bits(grown)) = (&planes[0], &planes[1]) else { panic!("flags") };
    // by brute force: a cell is reached if a cloudy one lies within 100 m, centre to centre
    for r in 0..ROWS as i64 {
        for c in 0..COLS as i64 {
            let at = (r * i64::from(COLS) + c) as usize;
            let near = (-4..=4i64).flat_map(|y| (-4..=4i64).map(move |x| (x, y))).any(|(x, y)| {
                let (cc, rr) = (c + x, r + y);
                let inside = (0..i64::from(COLS)).contains(&cc) && (0..i64::from(ROWS)).contains(&rr);
                inside
                    && (x * x + y * y) as f64 * 900.0 <= 10_000.0
                    && mask[(rr * i64::from(COLS) + cc) as usize] & 8 != 0
            });
            assert_eq!(grown[at] & mask[at], mask[at], "reasons stay: {c} {r}");
            assert_eq!(grown[at] != 0, mask[at] != 0 || near, "{c} {r}");
        }
    }
}

/// Every rule of a composite; the clear looks, counts and values of a stack.
fn rules_of_composites(g: &mut Graph, clear: &[NodeId], counts: &[NodeId], values: &[NodeId]) -> Vec<NodeId> {
    let n = counts.len();
    let with = |planes: &[NodeId]| clear.iter().chain(planes).copied().collect::<Vec<_>>();
    let samples = || (0..n).map(|k| Sample::Counts(line(2e-5 * (1.0 + k as f64 * 0.1)))).collect::<Vec<_>>();
    let mut planes: Vec<NodeId> =
        [BandRule::Mean, BandRule::Min, BandRule::Max, BandRule::Percentile(30.0), BandRule::Spread]
            .into_iter()
            .map(|by| g.add(Composite::new(by, samples(), Unit::Reflectance, 1), &with(counts)).unwrap())
            .collect();
    for choice in [Choice::Medoid, Choice::Best, Choice::Latest, Choice::Earliest] {
        let each = (0..n).map(|k| vec![Sample::Counts(line(2e-5 * (1.0 + k as f64 * 0.1))), Sample::Values]).collect();
        let mut inputs = clear.to_vec();
        inputs.extend(counts.iter().zip(values).flat_map(|(a, b)| [*a, *b]));
        inputs.extend(values.iter().filter(|_| choice == Choice::Best));
        let op = Choose { choice, samples: each, measured: vec![0, 1], at_least: 1 };
        let chosen = g.add(op, &inputs).unwrap();
        let taken: Vec<NodeId> = [chosen].iter().chain(counts).copied().collect();
        planes.push(g.add(Chosen { samples: samples(), unit: Unit::Reflectance }, &taken).unwrap());
        let numbers = (0..n).map(|k| k as f32).collect();
        planes.push(g.add(OfChosen { numbers, unit: Unit::Day }, &[chosen]).unwrap());
    }
    planes
}

/// A stack with masks: composites of counts and of values, looks.
fn stack(g: &mut Graph, n: u64, padded: bool, at_least: u32) -> Vec<NodeId> {
    let masks: Vec<NodeId> = (0..n)
        .map(|k| {
            let flags = source(g, 100 + k, FLAGS, padded && k % 2 == 0, None);
            g.add(Mask { rules: rules() }, &[flags]).unwrap()
        })
        .collect();
    let clear: Vec<NodeId> = masks.chunks(Clear::SCENES).map(|m| g.add(Clear, m).unwrap()).collect();
    let counts: Vec<NodeId> =
        (0..n as usize).map(|k| source(g, 200 + k as u64, COUNTS, padded && k % 2 == 0, Some(masks[k]))).collect();
    let values: Vec<NodeId> = (0..n as usize)
        .map(|k| source(g, 300 + k as u64, Kind::Values, padded && k % 2 == 0, Some(masks[k])))
        .collect();
    let of_counts = (0..n).map(|k| Sample::Counts(line(2e-5 * (1.0 + k as f64 * 0.1)))).collect();
    let of_values = (0..n).map(|_| Sample::Values).collect();
    let with = |planes: &[NodeId]| clear.iter().chain(planes).copied().collect::<Vec<_>>();
    let mut planes = rules_of_composites(g, &clear, &counts, &values);
    planes.extend([
        g.add(Composite::new(BandRule::Median, of_counts, Unit::Reflectance, at_least), &with(&counts)).unwrap(),
        g.add(Composite::new(BandRule::Median, of_values, Unit::Reflectance, at_least), &with(&values)).unwrap(),
        g.add(Looks, &clear).unwrap(),
    ]);
    planes
}

#[test]
fn composites_of_few_and_of_many_scenes() {
    for n in [1, 2, 5, 17, 33] {
        both(|g, padded| stack(g, n, padded, 1));
    }
    both(|g, padded| stack(g, 5, padded, 3));
}

#[test]
fn formulas() {
    both(|g, padded| {
        let (a, b) = (source(g, 7, Kind::Values, padded, None), source(g, 8, Kind::Values, padded, None));
        [
            "(nir - red) / (nir + red)",
            "1 where nir > red else 0",
            "sqrt(nir) where red in (0.2, 0.3) or nir > 0.5",
            "nir where nir != missing else red",
        ]
        .iter()
        .map(|f| Program::compile(f, &NIR_RED).unwrap())
        .map(|p| {
            let inputs: Vec<NodeId> = p.inputs().iter().map(|n| if n == "nir" { a } else { b }).collect();
            g.add(Compute { program: p, unit: Unit::One }, &inputs).unwrap()
        })
        .collect()
    });
}

#[test]
fn blocks_are_decoded_once_and_not_at_all_under_a_closed_mask() {
    // tiles as the blocks of the sources: none is read twice
    let make = |closed: bool| {
        let mut g = Graph::new(grid(0, 0, 64, 64));
        let cells = Cells::Bits(vec![if closed { 8 } else { 0 }; 64 * 64]);
        let flags = g
            .source(MemoryPlane::shared("flags", grid(0, 0, 64, 64), FLAGS, Unit::Flags, (16, 16), cells), None)
            .unwrap();
        let mask = g.add(Mask { rules: rules() }, &[flags]).unwrap();
        let clear = g.add(Clear, &[mask]).unwrap();
        let counts = MemoryPlane::shared(
            "counts",
            grid(0, 0, 64, 64),
            COUNTS,
            Unit::Counts,
            (16, 16),
            Cells::Bits(vec![9000; 64 * 64]),
        );
        let counts = g.source(counts, Some(mask)).unwrap();
        let planes = ["a", "b"].map(|_| {
            g.add(
                Composite::new(BandRule::Median, vec![Sample::Counts(line(2e-5))], Unit::Reflectance, 1),
                &[clear, counts],
            )
            .unwrap()
        });
        (g, planes.to_vec())
    };
    for tile in [(16, 16), (32, 32), (40, 24)] {
        let (g, planes) = make(false);
        let (_, report) = compute(g, &planes, Some(tile), 2).unwrap();
        assert_eq!((report.blocks, report.decoded, report.decoded_again), (32, 32, 0), "{tile:?}");
    }
    let (g, planes) = make(true);
    let (cells, report) = compute(g, &planes, Some((16, 16)), 2).unwrap();
    assert_eq!(report.decoded, 16, "the flags alone");
    let Cells::Values(v) = &cells[0] else { panic!("values") };
    assert!(v.iter().all(|v| v.is_nan()));
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(24))]

    /// Any tile size and block shape: what is read is what is stored.
    #[test]
    fn sources_read_back(cols in 1u32..40, rows in 1u32..40, bc in 1u32..20, br in 1u32..20, tc in 1u32..50, tr in 1u32..50, threads in 1usize..4) {
        let values: Vec<f32> = (0..cols * rows).map(|i| i as f32).collect();
        let mut g = Graph::new(grid(0, 0, cols, rows));
        let plane = MemoryPlane::shared("p", grid(0, 0, cols, rows), Kind::Values, Unit::One, (bc, br), Cells::Values(values.clone()));
        let id = g.source(plane, None).unwrap();
        let (got, report) = compute(g, &[id], Some((tc, tr)), threads).unwrap();
        prop_assert_eq!(&got[0], &Cells::Values(values));
        prop_assert_eq!(report.decoded_again, 0);
    }
}

#[test]
fn slopes_and_light() {
    both(|g, padded| {
        let heights = source(g, 1, Kind::Values, padded, None);
        let band = source(g, 2, Kind::Values, padded, None);
        let facet = |facet| Terrain { facet, cell_m: (0.3, 0.2) };
        let light = Facet::Light { elevation: 40.0, azimuth: 150.0 };
        let light = g.add(facet(light), &[heights]).unwrap();
        vec![
            g.add(facet(Facet::Slope), &[heights]).unwrap(),
            g.add(facet(Facet::Aspect), &[heights]).unwrap(),
            g.add(Relight { elevation: 40.0, c: 0.2 }, &[band, light]).unwrap(),
            g.add(BySunAngle, &[band, heights]).unwrap(),
        ]
    });
}

#[test]
fn masks_from_the_cells_themselves() {
    both(|g, padded| {
        let bands: Vec<NodeId> = (0..8).map(|k| source(g, 10 + k, Kind::Values, padded, None)).collect();
        let levels = SceneLevels { land: Some((0.2, 0.7)), water: None, threshold: 0.3 };
        let test = CloudTest { thermal: true, cirrus: Some(0.5), saturated: [0.99; 3], levels };
        let found = g.add(test, &bands).unwrap();
        let tidy = g.add(Majority { reason: Reasons::WATER }, &[found]).unwrap();
        let flags = source(g, 2, FLAGS, padded, None);
        vec![
            found,
            tidy,
            g.add(Leading { order: vec![Reasons::CLOUD, Reasons::SHADOW] }, &[flags]).unwrap(),
            g.add(Mark { reason: Reasons::GIVEN }, &[flags]).unwrap(),
            g.add(Mark { reason: Reasons::GIVEN }, &[bands[0]]).unwrap(),
        ]
    });
}

#[test]
fn outliers_in_time() {
    both(|g, padded| {
        const SCENES: u64 = 18;
        let masks: Vec<NodeId> = (0..SCENES)
            .map(|k| {
                let flags = source(g, 100 + k, FLAGS, padded, None);
                g.add(Mask { rules: rules() }, &[flags]).unwrap()
            })
            .collect();
        let mut inputs: Vec<NodeId> = masks.chunks(Clear::SCENES).map(|m| g.add(Clear, m).unwrap()).collect();
        inputs.extend((0..2 * SCENES).map(|k| source(g, 200 + k, Kind::Values, padded, None)));
        let days: Vec<f64> = (0..SCENES).map(|k| 16.0 * k as f64).collect();
        [0, 16].map(|first| g.add(Outliers { days: days.clone(), first }, &inputs).unwrap()).to_vec()
    });
}
