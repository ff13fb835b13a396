//! Planes on differing grids: the same bits with any tiles and threads, values against arithmetic written out here, nothing
//! smeared into missing cells, and areas that decode only what lies under them.

use std::sync::Arc;

use telechroma_core::area::{Edge, Outline};
use telechroma_core::geo::{Affine, Crs, Projector};
use telechroma_core::graph::{Graph, NodeId};
use telechroma_core::grid::Grid;
use telechroma_core::method::{Piece, plan_assembled};
use telechroma_core::op::{FlagResample, How, Overlap, Resample, align};
use telechroma_core::plot::Polygon;
use telechroma_core::tile::{Cells, Kind};
use telechroma_core::units::Unit;
use telechroma_testkit::memory::{MemoryPlane, compute, grid};
use telechroma_testkit::tiling::{bits, check};

const COLS: u32 = 64;
const ROWS: u32 = 48;

/// A smooth field over coordinates, so that any grid's cells have a known value.
fn field(x: f64, y: f64) -> f64 {
    0.3 + (x - 500_000.0) * 2e-4 - (y - 4_400_000.0) * 1e-4
}

fn values(g: &Grid, f: impl Fn(u32, u32, f64) -> f32) -> Vec<f32> {
    let cells = (0..g.rows).flat_map(|r| (0..g.cols).map(move |c| (c, r)));
    cells
        .map(|(c, r)| {
            let (x, y) = g.transform.to_world(f64::from(c) + 0.5, f64::from(r) + 0.5);
            f(c, r, field(x, y))
        })
        .collect()
}

fn plane(name: &str, g: &Grid, cells: Vec<f32>) -> Arc<dyn telechroma_core::tile::PlaneSource> {
    MemoryPlane::shared(name, g.clone(), Kind::Values, Unit::One, (16, 16), Cells::Values(cells))
}

/// A grid in the next zone that lies over the middle of the source's.
fn next_zone(cell: f64, cols: u32, rows: u32) -> Grid {
    let (from, to) = (Crs::utm(25, true).unwrap(), Crs::utm(26, true).unwrap());
    let (x, y) = Projector::new(from, to).unwrap().project(500_300.0, 4_399_850.0).unwrap();
    Grid { crs: Some(to), transform: Affine::north_up(x.round(), y.round(), cell, cell), cols, rows }
}

const ALL: [Resample; 8] = [
    Resample::Nearest,
    Resample::Bilinear,
    Resample::Cubic,
    Resample::Mean,
    Resample::Median,
    Resample::Mode,
    Resample::Min,
    Resample::Max,
];

fn warped(to: &Grid, how: How, source: Arc<dyn telechroma_core::tile::PlaneSource>) -> (Graph, Vec<NodeId>) {
    let mut g = Graph::new(to.clone());
    let native = g.native(source, None).unwrap();
    let out = align(&mut g, native, how).unwrap();
    (g, vec![out])
}

#[test]
fn every_rule_gives_the_same_bits_with_any_tiles() {
    let from = grid(0, 0, COLS, ROWS);
    let holes =
        values(&from, |c, r, v| if (c * 7 + r * 13) % 17 == 0 || c > 50 && r > 30 { f32::NAN } else { v as f32 });
    let turned = Affine { a: 21.0, b: 9.0, c: 500_400.0, d: 9.0, e: -21.0, f: 4_399_500.0 };
    let grids = [
        next_zone(30.0, 40, 30),
        next_zone(75.0, 20, 14),
        next_zone(11.0, 50, 40),
        Grid { transform: Affine::north_up(499_950.0, 4_400_020.0, 20.0, 20.0), cols: 60, rows: 40, ..from.clone() },
        Grid { transform: turned, cols: 40, rows: 30, ..from.clone() },
    ];
    for to in &grids {
        for how in ALL {
            check(|| warped(to, How::Values(how), plane("holes", &from, holes.clone())));
        }
        for how in [FlagResample::Nearest, FlagResample::Any] {
            let flags: Vec<u16> =
                (0..COLS * ROWS).map(|i| if i % 11 == 0 { 8 } else { u16::from(i % 29 == 0) }).collect();
            let source = || {
                MemoryPlane::shared(
                    "flags",
                    from.clone(),
                    Kind::Flags { outside: 1 },
                    Unit::Flags,
                    (16, 16),
                    Cells::Bits(flags.clone()),
                )
            };
            check(|| warped(to, How::Flags(how), source()));
        }
    }
}

/// A plane that rises evenly comes back as it is, whatever the rule that weighs neighbours.
#[test]
fn a_slope_stays_a_slope_in_another_zone() {
    let from = grid(0, 0, COLS, ROWS);
    let source = plane("slope", &from, values(&from, |_, _, v| v as f32));
    let back = Projector::new(Crs::utm(26, true).unwrap(), Crs::utm(25, true).unwrap()).unwrap();
    for (how, cell, within) in [
        (Resample::Bilinear, 30.0, 2e-4),
        (Resample::Cubic, 30.0, 2e-4),
        (Resample::Mean, 90.0, 1e-3),
        (Resample::Nearest, 30.0, 5e-3),
    ] {
        let to = next_zone(cell, 20, 14);
        let (g, out) = warped(&to, How::Values(how), source.clone());
        let Cells::Values(got) = compute(g, &out, None, 2).unwrap().0.remove(0) else { panic!() };
        let mut compared = 0;
        for (i, v) in got.iter().enumerate().filter(|(_, v)| !v.is_nan()) {
            let (c, r) = (i as u32 % to.cols, i as u32 / to.cols);
            let (x, y) = to.transform.to_world(f64::from(c) + 0.5, f64::from(r) + 0.5);
            let (x, y) = back.project(x, y).unwrap();
            let inside = [500_060.0..500_000.0 + 30.0 * f64::from(COLS) - 60.0, 0.0..1.0][0].contains(&x);
            if inside && y < 4_399_940.0 && y > 4_400_060.0 - 30.0 * f64::from(ROWS) {
                assert!((f64::from(*v) - field(x, y)).abs() < within, "{how:?} {c} {r}: {v} {}", field(x, y));
                compared += 1;
            }
        }
        assert!(compared > 50, "{how:?}: {compared}");
    }
}

/// Three times coarser: means, medians and the rest against sums written out.
#[test]
fn coarser_cells_are_weighed_and_missing_ones_take_no_part() {
    let from = grid(0, 0, 6, 3);
    let n = f32::NAN;
    let cells = vec![1.0, 2.0, 3.0, n, n, 9.0, 4.0, 5.0, 6.0, n, 8.0, 8.0, 7.0, 8.0, 30.0, n, n, 1.0];
    let to = Grid { transform: Affine::north_up(500_000.0, 4_400_000.0, 90.0, 90.0), cols: 2, rows: 1, ..from.clone() };
    let of = |how| {
        let (g, out) = warped(&to, How::Values(how), plane("small", &from, cells.clone()));
        match compute(g, &out, None, 1).unwrap().0.remove(0) {
            Cells::Values(v) => v,
            Cells::Bits(_) => panic!(),
        }
    };
    // the second cell is less than half known: missing, not the mean of a few
    for (how, first) in
        [(Resample::Mean, 66.0 / 9.0), (Resample::Median, 5.0), (Resample::Min, 1.0), (Resample::Max, 30.0)]
    {
        let got = of(how);
        assert!((got[0] - first).abs() < 1e-6 && got[1].is_nan(), "{how:?} {got:?}");
    }
    assert_eq!(of(Resample::Mode)[0], 1.0); // all values take as much: the least
}

/// Between cells, a missing neighbour's weight goes to the others, and a cell whose own source cell is missing is missing.
#[test]
fn nothing_is_smeared_over_the_edge_of_missing_cells() {
    let from = grid(0, 0, 4, 1);
    let to = Grid { transform: Affine::north_up(500_000.0, 4_400_000.0, 15.0, 30.0), cols: 8, rows: 1, ..from.clone() };
    for how in [Resample::Bilinear, Resample::Cubic] {
        let (g, out) = warped(&to, How::Values(how), plane("gap", &from, vec![1.0, 1.0, f32::NAN, 3.0]));
        let Cells::Values(v) = compute(g, &out, None, 1).unwrap().0.remove(0) else { panic!() };
        assert!(v[4].is_nan() && v[5].is_nan(), "{how:?} {v:?}");
        assert_eq!((v[3], v[6], v[7]), (1.0, 3.0, 3.0), "{how:?} {v:?}");
    }
}

#[test]
fn an_area_decodes_only_the_blocks_under_it_and_moves_no_cell() {
    let from = grid(0, 0, 256, 256);
    let cells = values(&from, |_, _, v| v as f32);
    let corner = |c: f64, r: f64| from.transform.to_world(c, r);
    // a thin L: down the left side, then along the bottom
    let outer = [(20.0, 20.0), (30.0, 20.0), (30.0, 220.0), (230.0, 220.0), (230.0, 230.0), (20.0, 230.0)]
        .map(|(c, r)| corner(c, r))
        .to_vec();
    let outline = Outline {
        name: "L".into(),
        crs: from.crs.unwrap(),
        polygons: vec![Polygon { outer, holes: vec![] }],
        edge: Edge::Centre,
    };
    let source =
        MemoryPlane::shared("all", from.clone(), Kind::Values, Unit::One, (16, 16), Cells::Values(cells.clone()));
    let pieces = [Piece { name: "p".into(), planes: vec![("a".into(), source)] }];
    let frame = telechroma_core::method::Frame { area: Some(outline), ..Default::default() };
    let make = || {
        let a = plan_assembled(&pieces, &frame, Overlap::First, None).unwrap();
        let nodes = a.bands.iter().map(|b| b.1).collect::<Vec<_>>();
        (a.graph, nodes)
    };
    let got = check(make);
    let (g, nodes) = make();
    assert_eq!((g.grid().cols, g.grid().rows), (210, 210));
    let (_, report) = compute(g, &nodes, Some((64, 64)), 1).unwrap();
    // tiles of 64 cells ask for the box of the area's cells in them: down the side one column of blocks or two, along the
    // bottom one row of blocks or two
    let under = 2 * 14 + 2 * 14;
    assert!(report.decoded <= under, "{} of {} blocks", report.decoded, report.blocks);
    let Cells::Values(v) = &got[0] else { panic!() };
    for (i, v) in v.iter().enumerate() {
        let (c, r) = (i as u32 % 210 + 20, i as u32 / 210 + 20);
        let inside = c < 30 || r >= 220;
        match inside {
            true => assert_eq!(v.to_bits(), cells[(r * 256 + c) as usize].to_bits()),
            false => assert!(v.is_nan()),
        }
    }
}

#[test]
fn overlaps_follow_their_rule() {
    let (a, b) = (grid(0, 0, 4, 1), grid(2, 0, 4, 1));
    let piece = |name: &str, g: &Grid, v: Vec<f32>, s: Vec<f32>| Piece {
        name: name.into(),
        planes: vec![("v".into(), plane(&format!("{name}v"), g, v)), ("s".into(), plane(&format!("{name}s"), g, s))],
    };
    let n = f32::NAN;
    let pieces = [
        piece("a", &a, vec![1.0, 1.0, 1.0, n], vec![5.0, 5.0, 1.0, 9.0]),
        piece("b", &b, vec![2.0, 2.0, 2.0, 2.0], vec![3.0, 3.0, 3.0, n]),
    ];
    let run = |overlap, score: Option<&str>| {
        let p = plan_assembled(&pieces, &Default::default(), overlap, score).unwrap();
        assert!(p.exact && p.gaps);
        let nodes: Vec<NodeId> = p.bands.iter().map(|b| b.1).collect();
        bits(&compute(p.graph, &nodes, None, 1).unwrap().0[0])
    };
    let want = |v: [f32; 6]| v.map(|x| if x.is_nan() { u32::MAX } else { x.to_bits() }).to_vec();
    assert_eq!(run(Overlap::First, None), want([1.0, 1.0, 1.0, 2.0, 2.0, 2.0]));
    assert_eq!(run(Overlap::Last, None), want([1.0, 1.0, 2.0, 2.0, 2.0, 2.0]));
    assert_eq!(run(Overlap::Mean, None), want([1.0, 1.0, 1.5, 2.0, 2.0, 2.0]));
    // the best look counts even where it lacks the band; where no input has a score there is none
    assert_eq!(run(Overlap::Best, Some("s * 2")), want([1.0, 1.0, 2.0, n, 2.0, n]));
    assert!(plan_assembled(&pieces, &Default::default(), Overlap::Best, Some("x")).is_err());
}
