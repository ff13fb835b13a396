//! Clouds, shadows, outliers and slopes looked for in whole scenes, on planted ground.

use std::sync::Arc;

use telechroma_core::geo::{Affine, Crs};
use telechroma_core::graph::Graph;
use telechroma_core::grid::Grid;
use telechroma_core::mask::Reasons;
use telechroma_core::method::{
    Find, FoundSky, Frame, MaskOptions, Target, clear_sky, find_outliers, find_sky, plan_calibrated, plan_mask,
    plan_slopes, terrain_constants,
};
use telechroma_core::physics::TerrainMethod;
use telechroma_core::run::{Budget, Silent};
use telechroma_core::scene::{AT_SURFACE, Band, BandRole, CALIBRATED, Content, FlagPlane, Relief, Scene, Sun};
use telechroma_core::tile::{Cells, Kind, PlaneSource};
use telechroma_core::units::{Degrees, Unit};
use telechroma_core::{Error, Result};
use telechroma_testkit::memory::{MemoryPlane, compute};

const COLS: usize = 200;
const ROWS: usize = 160;
const CELL: f64 = 30.0;
const BUDGET: Budget = Budget { threads: 2, bytes: 1 << 30 };
/// Blue, green, red, nir, swir16, swir22.
const LAND: [f32; 6] = [0.09, 0.10, 0.08, 0.32, 0.20, 0.12];
const WHITE: [f32; 6] = [0.52, 0.53, 0.54, 0.56, 0.42, 0.33];
const NAMES: [&str; 6] = ["blue", "green", "red", "nir", "swir16", "swir22"];

fn grid() -> Grid {
    let crs = Crs::utm(25, true).ok();
    // in the middle of the zone, where the grid's north is true north
    Grid { crs, transform: Affine::north_up(497_000.0, 4_402_400.0, CELL, CELL), cols: COLS as u32, rows: ROWS as u32 }
}

fn plane(name: &str, kind: Kind, unit: Unit, cells: Cells) -> Arc<dyn PlaneSource> {
    MemoryPlane::shared(name, grid(), kind, unit, (64, 64), cells)
}

fn role(name: &str) -> BandRole {
    BandRole::from_name(name).unwrap()
}

/// A scene above the air whose bands are `at` (column, row): reflectance, and temperature in kelvin.
fn scene(id: &str, at: &dyn Fn(usize, usize) -> ([f32; 6], f32)) -> Scene {
    let cells = || (0..COLS * ROWS).map(|i| at(i % COLS, i / COLS));
    let band = |name: &str, unit: Unit, cells: Vec<f32>| Band {
        role: role(name),
        name: name.into(),
        edges: None,
        wavelength: None,
        content: Content::Values(unit),
        radiance_of_one: None,
        source: plane(&format!("{id} {name}"), Kind::Values, unit, Cells::Values(cells)),
    };
    let mut bands: Vec<Band> = NAMES
        .iter()
        .enumerate()
        .map(|(b, name)| band(name, Unit::Reflectance, cells().map(|c| c.0[b]).collect()))
        .collect();
    bands.push(band("lwir11", Unit::Kelvin, cells().map(|c| c.1).collect()));
    Scene {
        id: id.into(),
        sensor: String::new(),
        platform: "test".into(),
        level: CALIBRATED.into(),
        acquired: None,
        date: Some(jiff::civil::date(2031, 7, 1)),
        place: None,
        sun: Some(Sun { elevation: Degrees(45.0), azimuth: Degrees(135.0) }),
        cloud_cover: None,
        grid: Arc::new(grid()),
        bands,
        flags: vec![],
        dark: vec![],
        sun_zenith: None,
        relief: None,
        mask: None,
        digest: id.into(),
    }
}

/// A small noise, so that percentiles have something to part.
fn grain(c: usize, r: usize) -> f32 {
    ((c * 7 + r * 13) % 17) as f32 / 17.0 - 0.5
}

fn land(c: usize, r: usize) -> ([f32; 6], f32) {
    (LAND.map(|v| v + 0.004 * grain(c, r)), 298.0 + 3.0 * grain(c, r))
}

/// Columns and rows that a shadow of this many metres moves at a sun in the south-east, 45° high: west and north.
fn shift(height: f64) -> i64 {
    -(height / CELL * std::f64::consts::FRAC_1_SQRT_2).round() as i64
}

fn inside((c, r): (i64, i64), (left, top): (i64, i64), (w, h): (i64, i64)) -> bool {
    (left..left + w).contains(&c) && (top..top + h).contains(&r)
}

/// A cloud of 24 × 16 cells, and its shadow from a height.
fn clouded(height: f64, corner: (i64, i64)) -> Scene {
    scene("clouded", &move |c, r| {
        let (at, by) = ((c as i64, r as i64), shift(height));
        let (ground, kelvin) = land(c, r);
        match () {
            () if inside(at, corner, (24, 16)) => (WHITE, kelvin - 8.0e-3 * height as f32),
            () if inside(at, (corner.0 + by, corner.1 + by), (24, 16)) => (ground.map(|v| 0.5 * v), kelvin - 1.0),
            () => (ground, kelvin),
        }
    })
}

fn options(clouds: bool, shadows: bool) -> MaskOptions {
    MaskOptions { find: Find { clouds, shadows, outliers: false }, ..MaskOptions::default() }
}

fn found(scene: &Scene, options: &MaskOptions) -> Result<FoundSky> {
    Ok(find_sky(scene, options, BUDGET, &Silent)?.unwrap())
}

/// The bits of a scene's mask.
fn mask(scene: &Scene, options: &MaskOptions) -> Vec<u16> {
    let (g, node, _) = plan_mask(scene, options, &Frame::default()).unwrap();
    match compute(g, &[node], None, 2).unwrap().0.remove(0) {
        Cells::Bits(b) => b,
        Cells::Values(_) => panic!("flags"),
    }
}

fn count(bits: &[u16], reason: Reasons, there: impl Fn((i64, i64)) -> bool) -> usize {
    let at = |i: usize| ((i % COLS) as i64, (i / COLS) as i64);
    (0..bits.len()).filter(|i| bits[*i] & reason.bits() != 0 && there(at(*i))).count()
}

#[test]
fn a_planted_cloud_and_its_shadow_are_found_where_they_are() {
    for height in [900.0, 1800.0] {
        let mut s = clouded(height, (120, 100));
        let options = options(true, true);
        let sky = found(&s, &options).unwrap();
        assert!(sky.said.iter().any(|t| t.contains("shadows of 1 of 1 clouds found")), "{:?}", sky.said);
        s.flags.push(sky.flags);
        let bits = mask(&s, &options);
        let all = |_| true;
        let cloud = |at| inside(at, (120, 100), (24, 16));
        let by = shift(height);
        let shade = |at| inside(at, (120 + by, 100 + by), (24, 16)) && !cloud(at);
        // the majority of nine takes the four corners
        assert_eq!(count(&bits, Reasons::CLOUD, cloud), 24 * 16 - 4);
        assert_eq!(count(&bits, Reasons::CLOUD, all), 24 * 16 - 4);
        let (hit, marked) = (count(&bits, Reasons::SHADOW, shade), count(&bits, Reasons::SHADOW, all));
        let planted = (0..COLS as i64 * ROWS as i64).filter(|i| shade((i % COLS as i64, i / COLS as i64))).count();
        assert!(hit as f64 > 0.99 * planted as f64 && marked - hit <= 60, "{height}: {hit} of {planted}, {marked}");
    }
}

#[test]
fn a_shadow_of_a_cloud_beyond_the_edge_is_found_by_the_usual_height() {
    // one cloud on the scene tells the height; another hangs east of it, of which only the shadow is seen
    let height = 1800.0;
    let by = shift(height);
    let beyond = (COLS as i64 + 2, 120);
    let there = move |c: usize, r: usize| {
        let at = (c as i64, r as i64);
        let dark = inside(at, (beyond.0 + by, beyond.1 + by), (20, 14));
        let cloud = inside(at, (110, 60), (24, 16));
        let shade = inside(at, (110 + by, 60 + by), (24, 16));
        let (ground, kelvin) = land(c, r);
        match () {
            () if cloud => (WHITE, kelvin - 8.0e-3 * height as f32),
            () if dark || shade => (ground.map(|v| 0.5 * v), kelvin - 1.0),
            () => (ground, kelvin),
        }
    };
    let mut s = scene("edge", &there);
    let options = options(true, true);
    s.flags.push(found(&s, &options).unwrap().flags);
    let bits = mask(&s, &options);
    let hidden = |at| inside(at, (beyond.0 + by, beyond.1 + by), (20, 14));
    assert!(count(&bits, Reasons::SHADOW, hidden) > 20 * 14 * 9 / 10);
}

#[test]
fn clouds_of_flags_throw_shadows_and_flags_keep_their_part() {
    let mut s = clouded(1200.0, (120, 100));
    let cloud = (0..COLS * ROWS).map(|i| {
        let at = ((i % COLS) as i64, (i / COLS) as i64);
        if inside(at, (120, 100), (24, 16)) { 8 } else { 0 }
    });
    let flags = plane("QA", Kind::Flags { outside: 1 }, Unit::Flags, Cells::Bits(cloud.collect()));
    s.flags.push(FlagPlane {
        name: "QA".into(),
        legend: vec![(1, Reasons::FILL), (8, Reasons::CLOUD)],
        confidence: vec![],
        raw: Some(flags.clone()),
        source: flags,
    });
    let options = options(false, true);
    let sky = found(&s, &options).unwrap();
    s.flags.push(sky.flags);
    let bits = mask(&s, &options);
    assert_eq!(count(&bits, Reasons::CLOUD, |_| true), 24 * 16);
    let by = shift(1200.0);
    assert!(count(&bits, Reasons::SHADOW, |at| inside(at, (120 + by, 100 + by), (24, 16))) > 300);
    // a mask made earlier is joined by what is found, not replaced
    let made: Vec<u16> = (0..COLS * ROWS).map(|i| if i < COLS { Reasons::SNOW.bits() } else { 0 }).collect();
    s.mask = Some(plane("made", Kind::Flags { outside: 1 }, Unit::Flags, Cells::Bits(made)));
    let joined = mask(&s, &options);
    assert_eq!(count(&joined, Reasons::SNOW, |_| true), COLS);
    assert_eq!(count(&joined, Reasons::SHADOW, |_| true), count(&bits, Reasons::SHADOW, |_| true));
}

#[test]
fn what_cannot_be_looked_for_is_refused_in_words() {
    let whole = clouded(1200.0, (120, 100));
    let refused = |s: Scene, shadows: bool, needles: &[&str]| {
        let e = found(&s, &options(true, shadows)).err().unwrap().to_string();
        assert!(needles.iter().all(|n| e.contains(n)), "{e}");
    };
    refused(Scene { level: AT_SURFACE.into(), ..whole.clone() }, false, &["surface", "light of the air"]);
    refused(Scene { level: "L2SP".into(), ..whole.clone() }, false, &["L2SP"]);
    let without = |name: &str| whole.bands.iter().filter(|b| b.role.name() != name).cloned().collect::<Vec<_>>();
    refused(Scene { bands: without("swir22"), ..whole.clone() }, false, &["swir22", "cloud test"]);
    refused(Scene { sun: None, ..whole.clone() }, true, &["where the sun stood"]);
    let nowhere = Sun { elevation: Degrees(40.0), azimuth: Degrees(f64::NAN) };
    refused(Scene { sun: Some(nowhere), ..whole.clone() }, true, &["from which direction"]);
    let night = Sun { elevation: Degrees(-2.0), azimuth: Degrees(100.0) };
    refused(Scene { sun: Some(night), ..whole.clone() }, true, &["the sun was down"]);
    // radiance is not taken for reflectance
    let mut radiant = whole.clone();
    radiant.bands[0].content = Content::Values(Unit::Radiance);
    refused(radiant, false, &["blue", "reflectance"]);
    let nothing = found(&whole, &options(false, true)).err().unwrap();
    assert!(matches!(nothing, Error::Unmasked { .. }), "{nothing}");
}

#[test]
fn a_scene_without_a_thermal_band_is_told_by_colour_and_a_clouded_one_is_cloud() {
    let mut s = clouded(1200.0, (120, 100));
    s.bands.retain(|b| !b.role.is_thermal());
    let sky = found(&s, &options(true, false)).unwrap();
    assert!(sky.notes.iter().any(|n| n.to_string().contains("by colour alone")));
    s.flags.push(sky.flags);
    assert_eq!(count(&mask(&s, &options(true, false)), Reasons::CLOUD, |_| true), 24 * 16 - 4);
    let mut all = scene("overcast", &|c, r| (WHITE.map(|v| v + 0.01 * grain(c, r)), 270.0));
    let sky = found(&all, &options(true, false)).unwrap();
    assert!(sky.notes.iter().any(|n| n.to_string().contains("hardly a cell looks clear")), "{:?}", sky.notes);
    all.flags.push(sky.flags);
    assert!(count(&mask(&all, &options(true, false)), Reasons::CLOUD, |_| true) > COLS * ROWS * 98 / 100);
}

#[test]
fn outliers_are_found_in_any_order_and_beyond_sixteen_scenes() {
    let bright = |n: usize, c: usize, r: usize| n == 17 && (c, r) == (50, 40);
    let one = |n: usize| {
        let mut s = scene(&format!("s{n:02}"), &move |c, r| {
            let (mut v, k) = land(c, r);
            if bright(n, c, r) {
                (v[0], v[2]) = (v[0] + 0.2, v[2] + 0.2);
            }
            (v, k)
        });
        s.date = jiff::civil::date(2031, 1, 1).checked_add(jiff::Span::new().days(16 * n as i64)).ok();
        s
    };
    let mut scenes: Vec<Scene> = (0..19).map(one).collect();
    scenes.reverse();
    let options = MaskOptions { unmasked: true, ..MaskOptions::default() };
    let (flags, looks) = find_outliers(&scenes, &options, &Frame::default(), BUDGET, &Silent).unwrap();
    assert_eq!((flags.len(), looks), (19, 1));
    scenes.iter_mut().zip(flags).for_each(|(s, f)| s.flags.push(f));
    for s in &scenes {
        let bits = mask(s, &options);
        let want = if s.id == "s17" { 1 } else { 0 };
        assert_eq!(count(&bits, Reasons::OUTLIER, |at| at == (50, 40)), want, "{}", s.id);
    }
    let undated = vec![Scene { date: None, ..scenes[0].clone() }, scenes[1].clone()];
    assert!(find_outliers(&undated, &options, &Frame::default(), BUDGET, &Silent).is_err());
}

/// Heights of hills, and the light on them by the usual formula.
fn hills() -> (Arc<dyn PlaneSource>, Vec<f64>) {
    let height = |c: f64, r: f64| 300.0 * ((c / 17.0).sin() + (r / 23.0).cos());
    let cells = (0..COLS * ROWS).map(|i| height((i % COLS) as f64, (i / COLS) as f64) as f32).collect();
    let (sin_el, cos_el) = 45f64.to_radians().sin_cos();
    let (sin_az, cos_az) = 135f64.to_radians().sin_cos();
    let light = |i: usize| {
        let (c, r) = ((i % COLS) as f64, (i / COLS) as f64);
        let east = (height(c + 1.0, r) - height(c - 1.0, r)) / (2.0 * CELL);
        let north = (height(c, r - 1.0) - height(c, r + 1.0)) / (2.0 * CELL);
        (sin_el - cos_el * (east * sin_az + north * cos_az)) / (1.0 + east * east + north * north).sqrt()
    };
    let heights = plane("heights", Kind::Values, Unit::Unknown, Cells::Values(cells));
    (heights, (0..COLS * ROWS).map(light).collect())
}

#[test]
fn the_constant_of_a_band_is_that_of_its_line_and_levels_its_slopes() {
    let (heights, light) = hills();
    // nir follows the light by a line, red not at all
    let (m, b) = (0.4, 0.1);
    let lit = light.clone();
    let mut s = scene("hills", &move |c, r| {
        let mut v = LAND;
        v[3] = (m * lit[r * COLS + c].max(0.0) + b) as f32;
        (v, 298.0)
    });
    let roles = [role("nir"), role("red")];
    let (constants, notes) = terrain_constants(&s, &heights, &roles, Target::Toa, BUDGET, &Silent).unwrap();
    let of = |name: &str| constants.iter().find(|c| c.0 == role(name)).unwrap().1;
    // Horn's slopes are those of a window of three cells, not of a point
    assert!((of("nir") - b / m).abs() < 0.01, "{}", of("nir"));
    assert!(of("red") > 1e6 && notes.len() == 1 && notes[0].to_string().contains("'red'"), "{notes:?}");
    s.relief = Some(Relief { method: TerrainMethod::C, elevation: heights.clone(), constants });
    let (g, planes, _) = plan_calibrated(&s, &roles, Target::Toa, &Frame::default()).unwrap();
    let nodes: Vec<_> = planes.iter().map(|p| p.1).collect();
    let level = m * 45f64.to_radians().sin() + b;
    let (cells, _) = compute(g, &nodes, None, 2).unwrap();
    let (Cells::Values(nir), Cells::Values(red)) = (&cells[0], &cells[1]) else { panic!("values") };
    let mut told = 0;
    for (i, v) in nir.iter().enumerate().filter(|(_, v)| !v.is_nan()) {
        assert!(light[i] < 0.1 || (f64::from(*v) - level).abs() < 0.02 * level, "{i}: {v} {level}");
        assert!((red[i] - LAND[2]).abs() < 1e-6);
        told += 1;
    }
    // the rim has no slope, and shaded cells no light
    let shaded = light.iter().filter(|l| **l <= 0.0).count();
    assert!(told > (COLS - 2) * (ROWS - 2) - 2 * shaded - 50 && told <= (COLS - 2) * (ROWS - 2), "{told}");
}

#[test]
fn slopes_need_a_grid_in_metres_and_relief_a_direction_of_the_sun() {
    let (heights, _) = hills();
    let (_, planes, _) = plan_slopes("heights", &heights, &Frame::default()).unwrap();
    assert_eq!(
        planes.iter().map(|p| (p.0, p.2)).collect::<Vec<_>>(),
        [("slope", Unit::Degree), ("aspect", Unit::Degree)]
    );
    let degrees = Grid {
        crs: Some(Crs::LONGITUDE_LATITUDE),
        transform: Affine::north_up(-33.0, 40.0, 0.001, 0.001),
        cols: 8,
        rows: 8,
    };
    let flat = MemoryPlane::shared("flat", degrees, Kind::Values, Unit::Unknown, (8, 8), Cells::Values(vec![0.0; 64]));
    let e = plan_slopes("flat", &flat, &Frame::default()).err().unwrap().to_string();
    assert!(e.contains("in metres"), "{e}");
    let mut s = scene("hills", &land);
    s.sun = Some(Sun { elevation: Degrees(40.0), azimuth: Degrees(f64::NAN) });
    let e = terrain_constants(&s, &heights, &[role("nir")], Target::Toa, BUDGET, &Silent).unwrap_err().to_string();
    assert!(e.contains("from which direction"), "{e}");
}

#[test]
fn a_scene_without_flags_needs_a_word() {
    let s = scene("bare", &land);
    let mut g = Graph::new(grid());
    assert!(matches!(clear_sky(&mut g, &s, &MaskOptions::default()).unwrap_err(), Error::Unmasked { .. }));
    let all = mask(&s, &MaskOptions { unmasked: true, ..MaskOptions::default() });
    assert!(all.iter().all(|b| *b == 0));
    let high = MaskOptions { condition: Some("nir > 0.32".into()), unmasked: true, ..MaskOptions::default() };
    let bits = mask(&s, &high);
    assert_eq!(
        count(&bits, Reasons::GIVEN, |(c, r)| land(c as usize, r as usize).0[3] > 0.32),
        count(&bits, Reasons::GIVEN, |_| true)
    );
    assert!(count(&bits, Reasons::GIVEN, |_| true) > 1000);
}
