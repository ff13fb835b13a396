//! Scenes whose bands and flags lie on differing grids, and scenes in differing zones, in one run: against arithmetic
//! written out here, with any tiles.

use std::sync::Arc;

use telechroma_core::geo::{Affine, Crs, Projector};
use telechroma_core::graph::NodeId;
use telechroma_core::grid::Grid;
use telechroma_core::mask::Reasons;
use telechroma_core::method::{BandChoice, Frame, LayerRequest, MaskOptions, Recipe, plan_mask, plan_season};
use telechroma_core::run::Note;
use telechroma_core::scene::{Band, BandRole, Content, FlagPlane, Scene};
use telechroma_core::tile::{Cells, Kind};
use telechroma_core::units::{Metres, Unit};
use telechroma_testkit::memory::{MemoryPlane, grid};
use telechroma_testkit::tiling::check;

const FINE: (u32, u32) = (24, 16);

/// The same ground in cells twice as wide.
fn coarse() -> Grid {
    let g = grid(0, 0, FINE.0, FINE.1);
    Grid { transform: g.transform.coarser(2.0, 2.0), cols: FINE.0 / 2, rows: FINE.1 / 2, ..g }
}

fn nir(c: u32, r: u32) -> f32 {
    0.3 + 0.01 * (c % 7) as f32 + 0.002 * r as f32
}

fn swir(c: u32, r: u32) -> f32 {
    0.1 + 0.005 * (c % 5) as f32 + 0.003 * r as f32
}

fn band(role: &str, id: &str, g: &Grid, f: fn(u32, u32) -> f32) -> Band {
    let cells = (0..g.rows).flat_map(|r| (0..g.cols).map(move |c| f(c, r))).collect();
    Band {
        role: BandRole::from_name(role).unwrap(),
        name: role.into(),
        edges: None,
        wavelength: None,
        content: Content::Values(Unit::Reflectance),
        radiance_of_one: None,
        source: MemoryPlane::shared(
            &format!("{role} of {id}"),
            g.clone(),
            Kind::Values,
            Unit::Reflectance,
            (8, 8),
            Cells::Values(cells),
        ),
    }
}

/// Near infrared in fine cells; short-wave infrared and flags in coarse ones, with one coarse cell of cloud.
fn scene(id: &str, cloud: Option<(u32, u32)>) -> Scene {
    let (fine, wide) = (grid(0, 0, FINE.0, FINE.1), coarse());
    let bits =
        (0..wide.rows).flat_map(|r| (0..wide.cols).map(move |c| if Some((c, r)) == cloud { 8 } else { 0 })).collect();
    let flags = MemoryPlane::shared(
        &format!("flags of {id}"),
        wide.clone(),
        Kind::Flags { outside: 1 },
        Unit::Flags,
        (4, 4),
        Cells::Bits(bits),
    );
    Scene {
        id: id.into(),
        sensor: String::new(),
        platform: "made up".into(),
        level: "L2A".into(),
        acquired: None,
        date: "2031-06-14".parse().ok(),
        place: None,
        sun: None,
        cloud_cover: None,
        bands: vec![band("nir", id, &fine, nir), band("swir16", id, &wide, swir)],
        flags: vec![FlagPlane {
            name: "classes".into(),
            legend: vec![(1, Reasons::FILL), (8, Reasons::CLOUD)],
            confidence: vec![],
            raw: Some(flags.clone()),
            source: flags,
        }],
        dark: vec![],
        sun_zenith: None,
        relief: None,
        mask: None,
        digest: id.into(),
        grid: Arc::new(fine),
    }
}

fn recipe(grow: Option<f64>, grid: Option<&str>) -> Recipe {
    Recipe {
        at_least: 1,
        layers: vec![LayerRequest { name: "ndmi".into(), formula: None }],
        bands: BandChoice::Needed,
        mask: MaskOptions { grow: grow.map(Metres), ..MaskOptions::default() },
        frame: Frame { grid: grid.map(|g| g.parse().unwrap()), ..Frame::default() },
        ..Recipe::default()
    }
}

fn planes(scenes: impl Fn() -> Vec<Scene>, recipe: &Recipe) -> Vec<Vec<f32>> {
    let make = || {
        let season = plan_season(scenes(), recipe).unwrap();
        let p = &season.periods[0];
        let nodes: Vec<NodeId> = p.layers.iter().chain(&p.bands).map(|l| l.node).collect();
        (season.graph, nodes)
    };
    let values = |c: Cells| match c {
        Cells::Values(v) => v,
        Cells::Bits(_) => panic!("values"),
    };
    check(make).into_iter().map(values).collect()
}

#[test]
fn coarse_bands_are_repeated_and_flags_grown_on_their_own_cells() {
    let (cloud_c, cloud_r) = (4u32, 3u32);
    for (grow, reach) in [(None, 0), (Some(60.0), 1)] {
        let got = planes(|| vec![scene("a", Some((cloud_c, cloud_r)))], &recipe(grow, None));
        for (i, v) in got[0].iter().enumerate() {
            let (c, r) = (i as u32 % FINE.0, i as u32 / FINE.0);
            let (n, s) = (f64::from(nir(c, r)), f64::from(swir(c / 2, r / 2)));
            // sixty metres are one coarse cell: its four neighbours
            let far = (c / 2).abs_diff(cloud_c) + (r / 2).abs_diff(cloud_r);
            match far <= reach {
                true => assert!(v.is_nan(), "{c} {r} {v}"),
                false => assert!((f64::from(*v) - (n - s) / (n + s)).abs() < 1e-6, "{c} {r} {v}"),
            }
        }
    }
}

#[test]
fn on_coarser_cells_fine_bands_are_averaged_and_any_cloud_counts() {
    let got = planes(|| vec![scene("a", Some((2, 2)))], &recipe(None, Some("120m")));
    let wide = FINE.0 / 4;
    assert_eq!(got[0].len() as u32, wide * FINE.1 / 4);
    for (i, v) in got[0].iter().enumerate() {
        let (c, r) = (i as u32 % wide, i as u32 / wide);
        let mean = |f: fn(u32, u32) -> f32, k: u32| {
            let cells = (0..k * k).map(|j| f64::from(f(c * k + j % k, r * k + j / k)));
            cells.sum::<f64>() / f64::from(k * k)
        };
        let (n, s) = (mean(nir, 4), mean(swir, 2));
        match (c, r) {
            (1, 1) => assert!(v.is_nan(), "one of its four flag cells is cloudy"),
            _ => assert!((f64::from(*v) - (n - s) / (n + s)).abs() < 1e-6, "{c} {r}"),
        }
    }
}

#[test]
fn a_mask_lies_on_the_grid_of_its_flags() {
    let (g, _, _) = plan_mask(&scene("a", None), &MaskOptions::default(), &Frame::default()).unwrap();
    assert_eq!(**g.grid(), coarse());
}

/// A second scene in the next zone shows the same field of values; together they differ from one alone by no more than
/// what lies between neighbouring cells.
#[test]
fn a_scene_of_the_next_zone_is_brought_to_the_first() {
    let (own, next) = (Crs::utm(25, true).unwrap(), Crs::utm(26, true).unwrap());
    let (x, y) = Projector::new(own, next).unwrap().project(500_360.0, 4_399_760.0).unwrap();
    let there =
        Grid { crs: Some(next), transform: Affine::north_up(x - 900.0, y + 900.0, 30.0, 30.0), cols: 60, rows: 60 };
    let back = Projector::new(next, own).unwrap();
    let height = |x: f64, y: f64| (0.3 + (x - 500_000.0) * 1e-4 + (4_400_000.0 - y) * 1e-4) as f32;
    let field = |g: &Grid, own_zone: bool| -> Vec<f32> {
        let cells = (0..g.rows).flat_map(|r| (0..g.cols).map(move |c| (c, r)));
        cells
            .map(|(c, r)| {
                let (x, y) = g.transform.to_world(f64::from(c) + 0.5, f64::from(r) + 0.5);
                let (x, y) = if own_zone { (x, y) } else { back.project(x, y).unwrap() };
                height(x, y)
            })
            .collect()
    };
    let make = |id: &str, g: &Grid, own_zone: bool| {
        let cells = Cells::Values(field(g, own_zone));
        let mut s = scene(id, None);
        s.flags.clear();
        s.bands.truncate(1);
        s.bands[0].source = MemoryPlane::shared(id, g.clone(), Kind::Values, Unit::Reflectance, (8, 8), cells);
        s.grid = Arc::new(g.clone());
        s
    };
    let here = grid(0, 0, FINE.0, FINE.1);
    let r = Recipe {
        bands: BandChoice::List(vec![BandRole::from_name("nir").unwrap()]),
        layers: vec![],
        mask: MaskOptions { unmasked: true, ..MaskOptions::default() },
        ..recipe(None, None)
    };
    let both = || vec![make("a", &here, true), make("b", &there, false)];
    let season = plan_season(both(), &r).unwrap();
    assert!(
        matches!(&season.notes[..], [Note::Coordinates(t)] if t.contains("scene a and scene b differ in grid")),
        "{:?}",
        season.notes
    );
    let (cols, shift) = (season.graph.grid().cols, season.graph.grid().offset_of(&here).unwrap());
    let got = planes(both, &r);
    let mut compared = 0;
    for (c, row) in (0..FINE.0).flat_map(|c| (0..FINE.1).map(move |r| (c, r))) {
        let v = got[0][(i64::from(row) + shift.1) as usize * cols as usize + (i64::from(c) + shift.0) as usize];
        let (x, y) = here.transform.to_world(f64::from(c) + 0.5, f64::from(row) + 0.5);
        if !v.is_nan() {
            compared += 1;
            assert!((v - height(x, y)).abs() < 2e-5, "{c} {row}: {v} {}", height(x, y));
        }
    }
    assert_eq!(compared, FINE.0 * FINE.1);
}
