//! Statistics of plots through the sink, in tiles of any size, against plain sums over the whole raster.

use std::sync::Arc;

use proptest::prelude::*;
use telechroma_core::graph::Graph;
use telechroma_core::grid::Window;
use telechroma_core::plot::{Laid, Plot, PlotSink, Polygon, Shape, Weighting, cover};
use telechroma_core::run::{Budget, Plan, RunReport, Silent, Sink, run};
use telechroma_core::stat::{Stat, histogram};
use telechroma_core::tile::{Cells, Kind};
use telechroma_core::units::Unit;
use telechroma_testkit::memory::{MemoryPlane, grid};

const SIDE: u32 = 40;

fn statistics(
    values: &[f32],
    plots: Vec<Plot>,
    weighting: Weighting,
    stats: &[Stat],
    tile: (u32, u32),
) -> Vec<Vec<f64>> {
    with_report(values, plots, weighting, stats, tile).0
}

/// The statistics, and how many blocks were decoded for them.
fn with_report(
    values: &[f32],
    plots: Vec<Plot>,
    weighting: Weighting,
    stats: &[Stat],
    tile: (u32, u32),
) -> (Vec<Vec<f64>>, RunReport) {
    let n = plots.len();
    let g0 = grid(0, 0, SIDE, SIDE);
    let mut g = Graph::new(g0.clone());
    let cells = Cells::Values(values.to_vec());
    let plane =
        g.source(MemoryPlane::shared("v", g0.clone(), Kind::Values, Unit::Kelvin, (7, 9), cells), None).unwrap();
    let (sink, mut table) = PlotSink::new(Arc::new(Laid::new(plots, &g0, weighting)), stats, 1);
    let sinks = vec![Sink { groups: vec![vec![plane]], prepare: &sink, absorb: &mut table }];
    let plan = Plan::with_tiles(g, &sinks, Budget { threads: 2, bytes: 1 << 30 }, tile.0, tile.1).unwrap();
    let report = run(&plan, sinks, &Silent).unwrap();
    ((0..n).map(|i| table.of(0, i).to_vec()).collect(), report)
}

/// Weighted values of a plot, from its cells on the whole raster.
fn weighted(values: &[f32], shape: &Shape, weighting: Weighting) -> Vec<(f64, f64)> {
    let runs = cover(shape.polygons(), Window::new(0, 0, SIDE, SIDE), weighting).runs;
    let cells = runs.iter().flat_map(|r| (0..r.cols).map(move |i| ((r.row * SIDE + r.col + i) as usize, r.weight)));
    cells.filter(|(i, _)| !values[*i].is_nan()).map(|(i, w)| (f64::from(values[i]), w)).collect()
}

/// A sum that keeps what rounding cuts off (Neumaier).
fn sum(all: impl Iterator<Item = f64>) -> f64 {
    let (mut s, mut rest) = (0.0f64, 0.0f64);
    for v in all {
        let t = s + v;
        rest += if s.abs() >= v.abs() { (s - t) + v } else { (v - t) + s };
        s = t;
    }
    s + rest
}

fn plot(id: usize, outer: Vec<(f64, f64)>) -> Plot {
    Plot { id: id.to_string(), shape: Shape::Polygons(vec![Polygon { outer, holes: vec![] }]) }
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(60))]

    #[test]
    fn they_are_those_of_plain_sums(
        seed in 0u32..1000, level in prop_oneof![Just(0.3f32), Just(301.0), Just(9000.0)], spread in prop_oneof![Just(0.001f32), Just(0.2), Just(40.0)],
        corners in proptest::collection::vec((-4.0..44.0f64, -4.0..44.0f64), 6), tile in (1u32..40, 1u32..40), rule in 0usize..3,
    ) {
        let noise = |i: u32| f64::from((i.wrapping_mul(2_654_435_761) ^ seed.wrapping_mul(40_503)).wrapping_mul(2_246_822_519) >> 8) / f64::from(1u32 << 24) - 0.5;
        let values: Vec<f32> =
            (0..SIDE * SIDE).map(|i| if i % 11 == 3 { f32::NAN } else { level + spread * noise(i) as f32 }).collect();
        // two triangles that may overlap, and a point
        let plots = vec![
            plot(0, corners[..3].to_vec()),
            plot(1, corners[3..].to_vec()),
            Plot { id: "p".into(), shape: Shape::Points(vec![(20.5, 20.5), (20.9, 20.1)]) },
        ];
        let weighting = [Weighting::Share, Weighting::Centre, Weighting::Touch][rule];
        let stats: Vec<Stat> =
            ["count", "mean", "sd", "variance", "cv", "min", "max", "range", "sum", "median", "p10"].iter().map(|s| s.parse().unwrap()).collect();
        let rows = statistics(&values, plots.clone(), weighting, &stats, tile);
        for (p, row) in plots.iter().zip(&rows).take(2) {
            let cells = weighted(&values, &p.shape, weighting);
            prop_assert_eq!(row[0], cells.len() as f64);
            if cells.is_empty() {
                prop_assert!(row[1..].iter().all(|v| v.is_nan()));
                continue;
            }
            let w = sum(cells.iter().map(|c| c.1));
            // about a value near the mean, so that nothing cancels
            let about = cells[0].0;
            let mean = about + sum(cells.iter().map(|c| c.1 * (c.0 - about))) / w;
            let variance = sum(cells.iter().map(|c| c.1 * (c.0 - mean).powi(2))) / w;
            let near = |got: f64, want: f64| (got - want).abs() <= 1e-9 * want.abs();
            prop_assert!(near(row[1], mean), "mean {} {}", row[1], mean);
            if cells.iter().any(|c| c.0 != about) {
                prop_assert!(near(row[2], variance.sqrt()), "sd {} {}", row[2], variance.sqrt());
                prop_assert!(near(row[3], variance), "variance {} {}", row[3], variance);
                prop_assert!(near(row[4], variance.sqrt() / mean));
            } else {
                prop_assert_eq!(row[2], 0.0);
            }
            let (min, max) = cells.iter().fold((f64::INFINITY, f64::NEG_INFINITY), |m, c| (m.0.min(c.0), m.1.max(c.0)));
            prop_assert_eq!((row[5], row[6], row[7]), (min, max, max - min));
            prop_assert!(near(row[8], w * mean));
            if weighting != Weighting::Share {
                // type 7 by its definition
                let mut sorted: Vec<f64> = cells.iter().map(|c| c.0).collect();
                sorted.sort_by(f64::total_cmp);
                for (got, p) in [(row[9], 0.5), (row[10], 0.1)] {
                    let h = (sorted.len() - 1) as f64 * p;
                    let (low, high) = (sorted[h.floor() as usize], sorted[h.ceil() as usize]);
                    prop_assert_eq!(got, low + h.fract() * (high - low));
                }
            }
        }
        // two points in one cell are one cell
        let at = f64::from(values[(20 * SIDE + 20) as usize]);
        let as_it_is = if at.is_nan() { rows[2][1].is_nan() } else { rows[2][0] == 1.0 && rows[2][1] == at };
        prop_assert!(as_it_is);
    }

    #[test]
    fn tiles_do_not_change_a_bit(corners in proptest::collection::vec((0.0..40.0f64, 0.0..40.0f64), 3), tile in (1u32..40, 1u32..40)) {
        let values: Vec<f32> = (0..SIDE * SIDE).map(|i| ((i * 7919) % 13) as f32).collect();
        let mut stats: Vec<Stat> =
            ["mean", "sd", "sum", "median", "majority", "minority", "variety", "class_3", "area"].iter().map(|s| s.parse().unwrap()).collect();
        stats.extend(histogram(0.0, 13.0, 5).unwrap());
        let all = |tile| statistics(&values, vec![plot(0, corners.clone())], Weighting::Share, &stats, tile);
        let bits = |rows: Vec<Vec<f64>>| rows[0].iter().map(|v| v.to_bits()).collect::<Vec<_>>();
        prop_assert_eq!(bits(all(tile)), bits(all((SIDE, SIDE))));
    }
}

#[test]
fn shares_of_plots_that_tile_an_area_sum_to_one() {
    // a slanting grid of parallelograms over the whole raster
    let corner = |u: f64, v: f64| (-10.0 + 7.3 * u + 1.9 * v, -14.0 - 1.1 * u + 6.1 * v);
    let mut sums = vec![0.0f64; (SIDE * SIDE) as usize];
    for u in -3..12 {
        for v in -3..12 {
            let (u, v) = (f64::from(u), f64::from(v));
            let outer = vec![corner(u, v), corner(u + 1.0, v), corner(u + 1.0, v + 1.0), corner(u, v + 1.0)];
            for r in cover(&[Polygon { outer, holes: vec![] }], Window::new(0, 0, SIDE, SIDE), Weighting::Share).runs {
                (0..r.cols).for_each(|i| sums[(r.row * SIDE + r.col + i) as usize] += r.weight);
            }
        }
    }
    assert!(
        sums.iter().all(|s| (s - 1.0).abs() < 1e-9),
        "{:?}",
        sums.iter().map(|s| (s - 1.0).abs()).fold(0.0, f64::max)
    );
}

#[test]
fn only_blocks_that_plots_touch_are_decoded() {
    // blocks of 7 × 9 cells: a plot within one, one over a corner of four, a point, and one outside the raster
    let square = |id, x: f64, y: f64| plot(id, vec![(x, y), (x + 3.0, y), (x + 3.0, y + 3.0), (x, y + 3.0)]);
    let values = vec![1.0; (SIDE * SIDE) as usize];
    let decoded = |plots: Vec<Plot>, tile| {
        let (rows, report) = with_report(&values, plots, Weighting::Share, &["sum".parse().unwrap()], tile);
        (rows.iter().map(|r| r[0]).collect::<Vec<_>>(), report.blocks, report.decoded)
    };
    let point = Plot { id: "p".into(), shape: Shape::Points(vec![(30.5, 30.5)]) };
    for tile in [(7, 9), (14, 18), (40, 9)] {
        assert_eq!(decoded(vec![square(0, 8.0, 10.0)], tile), (vec![9.0], 30, 1), "{tile:?}");
        assert_eq!(decoded(vec![square(0, 12.5, 16.5)], tile), (vec![9.0], 30, 4), "{tile:?}");
        assert_eq!(decoded(vec![square(0, 8.0, 10.0), point.clone()], tile), (vec![9.0, 1.0], 30, 2), "{tile:?}");
        let (sums, _, none) = decoded(vec![square(0, 80.0, 10.0)], tile);
        assert!(sums[0].is_nan() && none == 0, "{sums:?} {none}");
    }
}
