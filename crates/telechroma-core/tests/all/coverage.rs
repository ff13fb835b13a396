//! Exact shares of cells against counting fine points, for shapes with holes, in parts, over the edge, of any size.

use proptest::prelude::*;
use telechroma_core::grid::Window;
use telechroma_core::plot::{Coverage, Polygon, Ring, Weighting, cover};

const SIDE: u32 = 12;
/// Points a cell and side.
const FINE: usize = 40;

fn inside(ring: &Ring, x: f64, y: f64) -> bool {
    let edges = ring.iter().zip(ring.iter().cycle().skip(1));
    edges.filter(|(a, b)| (a.1 > y) != (b.1 > y) && x < (b.0 - a.0) * (y - a.1) / (b.1 - a.1) + a.0).count() % 2 == 1
}

fn within(parts: &[Polygon], x: f64, y: f64) -> bool {
    parts.iter().any(|p| inside(&p.outer, x, y) && !p.holes.iter().any(|h| inside(h, x, y)))
}

/// Shares by counting points.
fn counted(parts: &[Polygon]) -> Vec<f64> {
    let at = |c: usize, k: usize| c as f64 + (k as f64 + 0.5) / FINE as f64;
    let share = |c: usize, r: usize| {
        let points = (0..FINE).flat_map(|y| (0..FINE).map(move |x| (x, y)));
        points.filter(|(x, y)| within(parts, at(c, *x), at(r, *y))).count() as f64 / (FINE * FINE) as f64
    };
    (0..SIDE as usize).flat_map(|r| (0..SIDE as usize).map(move |c| (c, r))).map(|(c, r)| share(c, r)).collect()
}

fn laid(c: &Coverage) -> Vec<f64> {
    let mut all = vec![0.0; (SIDE * SIDE) as usize];
    for r in &c.runs {
        for i in 0..r.cols {
            let cell = &mut all[(r.row * SIDE + r.col + i) as usize];
            assert_eq!(*cell, 0.0, "no cell comes twice");
            *cell = r.weight;
        }
    }
    all
}

fn window() -> Window {
    Window::new(0, 0, SIDE, SIDE)
}

fn star(cx: f64, cy: f64, radii: &[f64], turn: f64) -> Ring {
    let step = std::f64::consts::TAU / radii.len() as f64;
    let corner =
        |(i, r): (usize, &f64)| (cx + r * (turn + i as f64 * step).cos(), cy + r * (turn + i as f64 * step).sin());
    radii.iter().enumerate().map(corner).collect()
}

fn close(got: &[f64], want: &[f64], edge_cells: f64) -> Result<(), TestCaseError> {
    for (i, (g, w)) in got.iter().zip(want).enumerate() {
        // an edge crosses at most about so many rows of points
        prop_assert!((g - w).abs() <= edge_cells / FINE as f64, "cell {}: {} {}", i, g, w);
    }
    let (a, b): (f64, f64) = (got.iter().sum(), want.iter().sum());
    prop_assert!((a - b).abs() < 0.2 + 0.02 * b, "{} {}", a, b);
    Ok(())
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(60))]

    #[test]
    fn a_shape_with_a_hole_anywhere(
        cx in -2.0..14.0f64, cy in -2.0..14.0f64, radii in proptest::collection::vec(0.4..6.0f64, 3..9), turn in 0.0..6.3f64, hole in 0.1..0.9f64,
    ) {
        let outer = star(cx, cy, &radii, turn);
        // the same shape made smaller lies inside it
        let mut inner = star(cx, cy, &radii.iter().map(|r| r * hole).collect::<Vec<_>>(), turn);
        if radii.len() % 2 == 0 {
            inner.reverse(); // the direction of a ring does not matter
        }
        let parts = [Polygon { outer, holes: vec![inner] }];
        close(&laid(&cover(&parts, window(), Weighting::Share)), &counted(&parts), 4.0)?;
        // by centres: each cell whose centre lies inside, and no other
        let centres = laid(&cover(&parts, window(), Weighting::Centre));
        for r in 0..SIDE {
            for c in 0..SIDE {
                let want = within(&parts, f64::from(c) + 0.5, f64::from(r) + 0.5);
                prop_assert_eq!(centres[(r * SIDE + c) as usize] > 0.0, want, "{} {}", c, r);
            }
        }
        // touched: every cell with a share, all of weight one
        let (shares, touched) = (laid(&cover(&parts, window(), Weighting::Share)), laid(&cover(&parts, window(), Weighting::Touch)));
        for (s, t) in shares.iter().zip(&touched) {
            prop_assert_eq!(*s > 1e-9, *t == 1.0);
        }
    }

    #[test]
    fn two_parts_apart(x in 0.5..4.0f64, y in 0.5..10.0f64, a in proptest::collection::vec(0.3..1.9f64, 3..7), b in proptest::collection::vec(0.3..1.9f64, 3..7)) {
        let parts = [Polygon { outer: star(x, y, &a, 0.3), holes: vec![] }, Polygon { outer: star(x + 5.0, y, &b, 1.1), holes: vec![] }];
        let c = cover(&parts, window(), Weighting::Share);
        close(&laid(&c), &counted(&parts), 4.0)?;
    }
}

#[test]
fn slivers_specks_and_shapes_that_cover_everything() {
    let square = |x0: f64, y0: f64, x1: f64, y1: f64| {
        [Polygon { outer: vec![(x0, y0), (x1, y0), (x1, y1), (x0, y1)], holes: vec![] }]
    };
    let all = cover(&square(-1e6, -1e6, 1e6, 1e6), window(), Weighting::Share);
    assert!(laid(&all).iter().all(|w| *w == 1.0));
    let sliver = cover(&square(3.0, 2.4999, 9.0, 2.5001), window(), Weighting::Share);
    assert!((sliver.weight - 6.0 * 0.0002).abs() < 1e-9 && sliver.cells == 6, "{} {}", sliver.weight, sliver.cells);
    let speck = cover(&square(5.2, 5.2, 5.2 + 1e-5, 5.2 + 1e-5), window(), Weighting::Share);
    assert!((speck.weight - 1e-10).abs() < 1e-13 || speck.cells == 0, "{}", speck.weight);
    let outside = cover(&square(20.0, 0.0, 30.0, 5.0), window(), Weighting::Share);
    assert!(outside.runs.is_empty());
    // on the lines between cells nothing spills over
    let exact = cover(&square(2.0, 3.0, 7.0, 8.0), window(), Weighting::Share);
    assert_eq!((exact.weight, exact.cells), (25.0, 25));
    assert_eq!(cover(&square(2.0, 3.0, 7.0, 8.0), window(), Weighting::Touch).cells, 25);
}

/// The shares of cells by triangles of a geometry library, each cut at the cell's four sides.
fn by_triangles(p: &Polygon) -> Vec<f64> {
    use geo::TriangulateDelaunay;
    use geo::algorithm::triangulate_delaunay::DelaunayTriangulationConfig;
    let line = |r: &Ring| geo::LineString::from(r.clone());
    let polygon = geo::Polygon::new(line(&p.outer), p.holes.iter().map(line).collect());
    let config = DelaunayTriangulationConfig { snap_radius: 0.0 };
    let triangles = polygon.constrained_triangulation(config).unwrap();
    let w = window();
    let mut shares = vec![0.0; w.len()];
    for t in triangles {
        let corners: Vec<(f64, f64)> = t.to_array().iter().map(|c| (c.x, c.y)).collect();
        let ends = |pick: fn(&(f64, f64)) -> f64| {
            let all = || corners.iter().map(pick);
            (all().fold(f64::INFINITY, f64::min).floor() as i64, all().fold(f64::NEG_INFINITY, f64::max).ceil() as i64)
        };
        let ((c0, c1), (r0, r1)) = (ends(|p| p.0), ends(|p| p.1));
        for row in r0.max(0)..r1.min(i64::from(w.rows)) {
            for col in c0.max(0)..c1.min(i64::from(w.cols)) {
                shares[(row * i64::from(w.cols) + col) as usize] += cut(&corners, col as f64, row as f64);
            }
        }
    }
    shares
}

/// How far a position lies inside a side of a cell.
type Side = fn((f64, f64), f64) -> f64;

/// The area of a convex shape within a cell.
fn cut(corners: &[(f64, f64)], col: f64, row: f64) -> f64 {
    let mut shape = corners.to_vec();
    let sides: [Side; 4] = [|p, c| p.0 - c, |p, c| c + 1.0 - p.0, |p, r| p.1 - r, |p, r| r + 1.0 - p.1];
    for (side, at) in sides.into_iter().zip([col, col, row, row]) {
        let mut kept = vec![];
        for (i, a) in shape.iter().enumerate() {
            let b = shape[(i + 1) % shape.len()];
            let (da, db) = (side(*a, at), side(b, at));
            if da >= 0.0 {
                kept.push(*a);
            }
            if (da >= 0.0) != (db >= 0.0) {
                let t = da / (da - db);
                kept.push((a.0 + t * (b.0 - a.0), a.1 + t * (b.1 - a.1)));
            }
        }
        shape = kept;
        if shape.is_empty() {
            return 0.0;
        }
    }
    let edges = shape.iter().zip(shape.iter().cycle().skip(1));
    let (x, y) = (col, row); // from the cell's corner: large coordinates would lose digits
    edges.map(|(a, b)| ((a.0 - x) * (b.1 - y) - (b.0 - x) * (a.1 - y)) / 2.0).sum::<f64>().abs()
}

#[test]
fn ten_thousand_polygons_agree_with_a_geometry_library() {
    // a number 0–1 that is the same on every run
    let mut state = 7u64;
    let mut unit = move || {
        state = state.wrapping_mul(6_364_136_223_846_793_005).wrapping_add(1_442_695_040_888_963_407);
        (state >> 11) as f64 / (1u64 << 53) as f64
    };
    let mut worst = 0f64;
    for n in 0..10_000 {
        let (x, y) = (1.0 + 8.0 * unit(), 1.0 + 9.0 * unit());
        let radii: Vec<f64> = (0..3 + (unit() * 12.0) as usize).map(|_| 0.4 + 3.6 * unit()).collect();
        let mut p = Polygon { outer: star(x, y, &radii, unit()), holes: vec![] };
        let mut islands = vec![];
        match n % 6 {
            // a hole well inside
            0 => p.holes.push(star(x, y, &radii.iter().map(|_| 0.05 + 0.1 * unit()).collect::<Vec<_>>(), 0.4)),
            // corners on the corners of cells, edges along their sides
            1 => {
                let (w, h) = (1.0 + (unit() * 5.0).floor(), 1.0 + (unit() * 5.0).floor());
                let (x, y) = (x.floor(), y.floor());
                p.outer = vec![(x, y), (x + w, y), (x + w, y + h), (x + w - 0.5, y + h), (x, y + h)];
            }
            // a sliver
            2 => p.outer = vec![(x, y), (x + 3.0 * unit(), y + 2.0 * unit()), (x + 3.0 + unit(), y + 1.5e-6)],
            // corners on the lattice of half cells
            3 => {
                let half = |v: f64| (v * 2.0).round() / 2.0;
                let (a, b, c) = (half(1.0 + unit() * 4.0), half(1.0 + unit() * 4.0), half(x));
                p.outer = vec![(c, half(y)), (c + a, half(y)), (c + a + 1.0, half(y) + b), (c, half(y) + b)];
            }
            // an island in a hole
            4 => {
                p.holes.push(star(x, y, &radii.iter().map(|_| 0.1 + 0.05 * unit()).collect::<Vec<_>>(), 0.4));
                let shore: Vec<f64> = radii.iter().map(|_| 0.01 + 0.03 * unit()).collect();
                islands.push(Polygon { outer: star(x, y, &shore, unit()), holes: vec![] });
            }
            _ => {}
        }
        let mut theirs = by_triangles(&p);
        for island in &islands {
            theirs.iter_mut().zip(by_triangles(island)).for_each(|(all, more)| *all += more);
        }
        let parts: Vec<Polygon> = std::iter::once(p).chain(islands).collect();
        let ours = laid(&cover(&parts, window(), Weighting::Share));
        for (a, b) in ours.iter().zip(&theirs) {
            worst = worst.max((a - b).abs());
            assert!((a - b).abs() < 1e-9, "polygon {n}: {a} {b}\n{parts:?}");
        }
    }
    assert!(worst > 0.0, "something was compared");
}
