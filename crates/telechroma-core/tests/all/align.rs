//! Plots that were moved and turned are found again on made-up mosaics, and where nothing can be found it is said.

use telechroma_core::geo::{Affine, Crs};
use telechroma_core::grid::Grid;
use telechroma_core::layout::{Alignment, Doubt, Field, Layout, Numbering, Search, Trial, align, lay, moved};
use telechroma_core::plot::{Plot, Polygon, Shape};

/// Reproducible noise, −1 to 1, of a cell.
fn noise(seed: u64, x: i64, y: i64) -> f64 {
    let mut h = seed ^ (x as u64).wrapping_mul(0x9E37_79B9_7F4A_7C15) ^ (y as u64).wrapping_mul(0xC2B2_AE3D_27D4_EB4F);
    for _ in 0..3 {
        h = (h ^ (h >> 31)).wrapping_mul(0x9FB2_1C65_1E98_DF25);
    }
    (h >> 11) as f64 / (1u64 << 52) as f64 - 1.0
}

const ORIGIN: (f64, f64) = (500_100.0, 4_400_200.0);

fn trial(size: (f64, f64), alley: (f64, f64), count: (u32, u32), angle: f64) -> Vec<Plot> {
    let layout = Layout { origin: ORIGIN, angle, size, alley, count, block: None, shifts: vec![] };
    let all = lay(&layout, Numbering::default()).unwrap();
    all.iter()
        .map(|(place, corners)| Plot {
            id: place.number.to_string(),
            shape: Shape::Polygons(vec![Polygon { outer: corners.to_vec(), holes: vec![] }]),
        })
        .collect()
}

fn middle(plots: &[Plot]) -> (f64, f64) {
    let all: Vec<[f64; 4]> = plots.iter().filter_map(|p| p.shape.bounds()).collect();
    let b = all.into_iter().reduce(|a, b| [a[0].min(b[0]), a[1].min(b[1]), a[2].max(b[2]), a[3].max(b[3])]).unwrap();
    ((b[0] + b[2]) / 2.0, (b[1] + b[3]) / 2.0)
}

fn inside(plot: &Plot, x: f64, y: f64) -> bool {
    let ring = &plot.shape.polygons()[0].outer;
    let edges = ring.iter().zip(ring.iter().cycle().skip(1));
    edges.filter(|(a, b)| (a.1 > y) != (b.1 > y) && x < (b.0 - a.0) * (y - a.1) / (b.1 - a.1) + a.0).count() % 2 == 1
}

/// A mosaic whose plots lie where `truth` says: plots of different vigour, alleys of soil with weeds, a slope across the
/// field, and noise; each cell the mean of four samples.
fn mosaic(plots: &[Plot], truth: &Trial, cell: f64, seed: u64) -> Field {
    let pivot = middle(plots);
    let there: Vec<Plot> =
        plots.iter().map(|p| Plot { id: p.id.clone(), shape: moved(&p.shape, truth, pivot) }).collect();
    let boxes: Vec<[f64; 4]> = there.iter().map(|p| p.shape.bounds().unwrap()).collect();
    let b =
        boxes.iter().copied().reduce(|a, b| [a[0].min(b[0]), a[1].min(b[1]), a[2].max(b[2]), a[3].max(b[3])]).unwrap();
    let room = 14.0;
    let (cols, rows) = (((b[2] - b[0] + 2.0 * room) / cell) as u32, ((b[3] - b[1] + 2.0 * room) / cell) as u32);
    let transform = Affine::north_up(b[0] - room, b[3] + room, cell, cell);
    let grid = Grid { crs: Crs::utm(25, true).ok(), transform, cols, rows };
    let mut values = vec![0f32; (cols * rows) as usize];
    let ground = |x: f64, y: f64| {
        let plot = (0..there.len()).find(|i| {
            let b = boxes[*i];
            x >= b[0] && x <= b[2] && y >= b[1] && y <= b[3] && inside(&there[*i], x, y)
        });
        let slope = 0.002 * (x - pivot.0) + 0.001 * (y - pivot.1);
        match plot {
            Some(i) => 0.55 + 0.15 * noise(seed, i as i64, 7) + slope,
            None => 0.25 + slope,
        }
    };
    for r in 0..rows {
        for c in 0..cols {
            let mut sum = 0.0;
            for (i, j) in (0..2).flat_map(|i| (0..2).map(move |j| (i, j))) {
                let at = |n: u32, k: i32| f64::from(n) + (f64::from(k) + 0.5) / 2.0;
                let (x, y) = grid.transform.to_world(at(c, i), at(r, j));
                sum += ground(x, y) / 4.0;
            }
            values[(r * cols + c) as usize] = (sum + 0.08 * noise(seed, i64::from(c), i64::from(r) + 1_000_000)) as f32;
        }
    }
    Field { grid, values }
}

const SEARCH: Search = Search { reach: 7.0, turn: 2.5, threads: 2 };
const NEAR: Search = Search { reach: 3.0, turn: 0.8, threads: 2 };

fn off(found: &Alignment, truth: &Trial) -> (f64, f64) {
    let (dx, dy) = (found.best.shift.0 - truth.shift.0, found.best.shift.1 - truth.shift.1);
    (dx.hypot(dy), (found.best.turn - truth.turn).abs())
}

#[test]
fn planted_shifts_and_turns_are_found_on_fine_and_coarse_mosaics() {
    let places = [((6.0, -0.5), 2.0), ((-3.2, 4.1), -1.3), ((0.4, -0.3), 0.0)];
    for (n, (shift, turn)) in places.into_iter().enumerate() {
        let truth = Trial { shift, turn, score: 0.0 };
        // sixty plots of 1.5 by 6 m on cells of 10 cm, and of 4 by 10 m on cells of 1 m
        for (size, alley, cell) in [((1.5, 6.0), (0.5, 1.0), 0.1), ((4.0, 10.0), (1.0, 2.0), 1.0)] {
            let plots = trial(size, alley, (12, 5), 17.0);
            let found = align(&plots, &mosaic(&plots, &truth, cell, 31 + n as u64), SEARCH).unwrap();
            let (metres, degrees) = off(&found, &truth);
            assert!(metres < 0.5 && degrees < 0.2, "cells of {cell}: {metres} m, {degrees}° off: {found:?}");
            assert!(found.doubts.is_empty(), "cells of {cell}: {:?}", found.doubts);
            assert!(found.best.score > found.before.score && found.contrast > 0.1, "{found:?}");
        }
    }
}

#[test]
fn what_cannot_be_told_is_said() {
    let plots = trial((1.5, 6.0), (0.5, 1.0), (12, 5), 17.0);
    let truth = Trial::default();
    let sound = mosaic(&plots, &truth, 0.25, 5);
    let doubts = |field: &Field, search| align(&plots, field, search).unwrap().doubts;
    // bare ground: noise and a slope
    let mut bare = sound.clone();
    let cols = i64::from(bare.grid.cols);
    bare.values.iter_mut().enumerate().for_each(|(i, v)| {
        let (c, r) = (i as i64 % cols, i as i64 / cols);
        *v = (0.3 + 0.0005 * c as f64 + 0.08 * noise(9, c, r)) as f32;
    });
    assert!(!doubts(&bare, NEAR).is_empty());
    // nothing there
    let empty = Field { values: vec![f32::NAN; sound.values.len()], ..sound.clone() };
    assert!(doubts(&empty, NEAR).contains(&Doubt::NoValues));
    // farther away than was looked
    let away = mosaic(&plots, &Trial { shift: (5.0, 0.0), turn: 0.0, score: 0.0 }, 0.25, 5);
    assert!(!doubts(&away, Search { reach: 3.0, turn: 0.5, threads: 2 }).is_empty());
    // a reach within which one plot farther on would not be noticed
    let doubt = Doubt::ShortReach(2.0);
    let short = doubts(&sound, Search { reach: 1.0, turn: 0.5, threads: 2 });
    assert!(
        short
            .iter()
            .any(|d| matches!((d, &doubt), (Doubt::ShortReach(a), Doubt::ShortReach(b)) if (a - b).abs() < 1e-6)),
        "{short:?}"
    );
    // plots in an endless row of the same: one to the left fits as well
    let wide = trial((1.5, 6.0), (0.5, 1.0), (24, 5), 17.0);
    let endless = mosaic(&wide, &truth, 0.25, 5);
    let few: Vec<Plot> = wide.iter().filter(|p| (p.id.parse::<u32>().unwrap() - 1) % 24 / 8 == 1).cloned().collect();
    let found = align(&few, &endless, NEAR).unwrap();
    assert!(found.doubts.iter().any(|d| matches!(d, Doubt::Twin(_))), "{found:?}");
    assert!(align(&plots[..3], &sound, NEAR).unwrap_err().to_string().contains("at least four"));
}

#[test]
fn the_answer_does_not_depend_on_threads() {
    let plots = trial((4.0, 10.0), (1.0, 2.0), (6, 4), 5.0);
    let field = mosaic(&plots, &Trial { shift: (1.0, 2.0), turn: 0.5, score: 0.0 }, 1.0, 3);
    let one = align(&plots, &field, Search { threads: 1, ..NEAR }).unwrap();
    assert_eq!(one, align(&plots, &field, Search { threads: 5, ..NEAR }).unwrap());
}
