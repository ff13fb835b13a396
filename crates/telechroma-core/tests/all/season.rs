//! Planning the main job: what is shared, what is refused, how periods and layers are named, what is noted.

use telechroma_core::Error;
use telechroma_core::method::{
    BandChoice, Every, LayerRequest, MaskOptions, PlannedSeason, Recipe, Target, plan_layers, plan_season,
};
use telechroma_core::physics::Line;
use telechroma_core::run::Note;
use telechroma_core::scene::{Band, BandRole, Coefficients, Content, FlagPlane, Layer, LayerSet, Scene, Sun};
use telechroma_core::tile::{Cells, Kind};
use telechroma_core::units::{Degrees, Nanometres, TemperatureUnit, Unit};
use telechroma_testkit::memory::{MemoryPlane, compute, grid};

const SIDE: u32 = 8;
const ROLES: [&str; 6] = ["blue", "green", "red", "nir", "swir22", "lwir11"];

fn role(name: &str) -> BandRole {
    BandRole::from_name(name).unwrap()
}

/// A scene of constant counts, clear everywhere.
fn scene(id: &str, day: &str, roles: &[&str]) -> Scene {
    let here = || grid(0, 0, SIDE, SIDE);
    let n = (SIDE * SIDE) as usize;
    let band = |name: &&str| {
        let thermal = role(name).is_thermal();
        let content = Content::Counts(Coefficients {
            radiance: Ok(Line {
                gain: if thermal { 3.342e-4 } else { 0.0125 },
                offset: if thermal { 0.1 } else { -62.5 },
            }),
            reflectance: if thermal { Err("REFLECTANCE_MULT".into()) } else { Ok(Line { gain: 2e-5, offset: -0.1 }) },
            thermal: if thermal { Ok((774.8853, 1321.0789)) } else { Err("K1_CONSTANT".into()) },
            saturated: Some(65535),
        });
        let counts = if thermal { 28_000 } else { 8_000 + 1_000 * name.len() as u16 };
        let cells = Cells::Bits(vec![counts; n]);
        let kind = Kind::Counts { fill: Some(0) };
        Band {
            role: role(name),
            name: format!("B {name}"),
            edges: None,
            wavelength: thermal.then_some(Nanometres(10_895.0)),
            content,
            radiance_of_one: None,
            source: MemoryPlane::shared(&format!("{id} {name}"), here(), kind, Unit::Counts, (4, 4), cells),
        }
    };
    let flags = Cells::Bits(vec![0; n]);
    let kind = Kind::Flags { outside: 1 };
    Scene {
        id: id.into(),
        sensor: String::new(),
        platform: "made up".into(),
        level: "L1".into(),
        acquired: None,
        date: Some(day.parse().unwrap()),
        place: None,
        sun: Some(Sun { elevation: Degrees(50.0), azimuth: Degrees(140.0) }),
        cloud_cover: None,
        grid: std::sync::Arc::new(here()),
        bands: roles.iter().map(band).collect(),
        flags: vec![FlagPlane {
            name: "QA".into(),
            legend: vec![(1, telechroma_core::mask::Reasons::FILL), (8, telechroma_core::mask::Reasons::CLOUD)],
            confidence: vec![],
            source: MemoryPlane::shared(&format!("{id} flags"), here(), kind, Unit::Flags, (4, 4), flags),
            raw: None,
        }],
        dark: vec![],
        sun_zenith: None,
        relief: None,
        mask: None,
        digest: format!("digest of {id}"),
    }
}

fn layer(name: &str, formula: Option<&str>) -> LayerRequest {
    LayerRequest { name: name.into(), formula: formula.map(String::from) }
}

fn recipe(layers: &[&str]) -> Recipe {
    Recipe { at_least: 1, layers: layers.iter().map(|n| layer(n, None)).collect(), ..Recipe::default() }
}

fn refused(scenes: Vec<Scene>, recipe: &Recipe) -> Error {
    plan_season(scenes, recipe).err().unwrap_or_else(|| panic!("this was planned"))
}

fn two() -> Vec<Scene> {
    vec![scene("b", "2031-06-02", &ROLES), scene("a", "2031-05-01", &ROLES)]
}

/// The one value of a layer of constant scenes.
fn value(season: PlannedSeason, period: usize, at: usize) -> f32 {
    let node = season.periods[period].layers[at].node;
    match compute(season.graph, &[node], None, 1).unwrap().0.remove(0) {
        Cells::Values(v) => {
            assert!(v.iter().all(|x| x.to_bits() == v[0].to_bits()));
            v[0]
        }
        Cells::Bits(_) => panic!("values"),
    }
}

#[test]
fn layers_share_composites_masks_and_sources() {
    let nodes = |layers: &[&str]| plan_season(two(), &recipe(layers)).unwrap().graph.nodes().len();
    // ndvi: two scenes with flags and mask each, clear looks, looks, two bands of two scenes, two medians, one formula
    let ndvi = nodes(&["ndvi"]);
    assert_eq!(ndvi, 2 + 2 + 1 + 1 + 2 * 2 + 2 + 1);
    // lst adds the thermal band and its own formula to them; emissivity comes from the bands that are there
    assert_eq!(nodes(&["ndvi", "lst"]), ndvi + 2 + 1 + 1);
    // asked for twice in two ways: one plane
    let twice =
        Recipe { layers: vec![layer("ndvi", None), layer("same", Some("(nir - red) / (nir + red)"))], ..recipe(&[]) };
    assert_eq!(plan_season(two(), &twice).unwrap().graph.nodes().len(), ndvi);
}

#[test]
fn scenes_are_sorted_counted_once_and_put_into_periods() {
    let mut scenes = two();
    scenes.push(scene("a", "2031-05-01", &ROLES));
    let season = plan_season(scenes, &Recipe { every: Every::Month, ..recipe(&["ndvi"]) }).unwrap();
    assert_eq!(season.notes, [Note::SceneTwice("a".into())]);
    assert_eq!(season.inputs, [("a".into(), "digest of a".into()), ("b".into(), "digest of b".into())]);
    let periods: Vec<(&str, &[usize])> =
        season.periods.iter().map(|p| (p.period.as_str(), p.scenes.as_slice())).collect();
    assert_eq!(periods, [("2031-05", &[0][..]), ("2031-06", &[1][..])]);
    // two scenes of one day keep names of their own
    let day = vec![scene("x", "2031-05-01", &ROLES), scene("y", "2031-05-01", &ROLES)];
    let season = plan_season(day, &Recipe { every: Every::Scene, ..recipe(&["ndvi"]) }).unwrap();
    let names: Vec<&str> = season.periods.iter().map(|p| p.period.as_str()).collect();
    assert_eq!(names, ["2031-05-01", "2031-05-01_y"]);
    let undated = vec![Scene { date: None, ..scene("u", "2031-05-01", &ROLES) }];
    let e = refused(undated, &Recipe { every: Every::Month, ..recipe(&["ndvi"]) }).to_string();
    assert_eq!(e, "scene u has no date, so it falls in no month");
}

#[test]
fn bands_shown_are_those_needed_all_or_a_list_in_its_order() {
    let shown = |bands: BandChoice| {
        let season = plan_season(two(), &Recipe { bands, ..recipe(&["ndvi"]) }).unwrap();
        season.periods[0].bands.iter().map(|b| (b.name.clone(), b.unit)).collect::<Vec<_>>()
    };
    let reflectance = |names: &[&str]| names.iter().map(|n| (n.to_string(), Unit::Reflectance)).collect::<Vec<_>>();
    assert_eq!(shown(BandChoice::Needed), reflectance(&["red", "nir"]));
    assert_eq!(shown(BandChoice::List(vec![role("nir"), role("blue")])), reflectance(&["nir", "blue"]));
    let all = shown(BandChoice::All);
    assert_eq!(all.len(), 6);
    assert_eq!(all[5], ("lwir11".into(), Unit::Kelvin));
}

#[test]
fn temperatures_have_the_unit_asked_for() {
    let of = |temperature| {
        let season = plan_season(two(), &Recipe { temperature, ..recipe(&["lst"]) }).unwrap();
        (season.periods[0].layers[0].unit, f64::from(value(season, 0, 0)))
    };
    let (kelvin, k) = of(TemperatureUnit::K);
    let ((celsius, c), (fahrenheit, f)) = (of(TemperatureUnit::C), of(TemperatureUnit::F));
    assert_eq!((kelvin, celsius, fahrenheit), (Unit::Kelvin, Unit::Celsius, Unit::Fahrenheit));
    assert!((k - 273.15 - c).abs() < 1e-4 && (c * 1.8 + 32.0 - f).abs() < 1e-4 && k > 250.0, "{k} {c} {f}");
    // an own layer that is just the index's name is a temperature too
    let own = Recipe { layers: vec![layer("warm", Some("lst"))], temperature: TemperatureUnit::C, ..recipe(&[]) };
    assert_eq!(plan_season(two(), &own).unwrap().periods[0].layers[0].unit, Unit::Celsius);
}

#[test]
fn what_cannot_be_is_refused_with_the_scene_and_the_band() {
    let lacking = vec![scene("whole", "2031-05-01", &ROLES), scene("half", "2031-05-09", &["blue", "red"])];
    let e = refused(lacking, &recipe(&["ndvi"])).to_string();
    assert_eq!(e, "scene half has no band 'nir' (needed by ndvi); it has blue, red");
    let night = vec![Scene {
        sun: Some(Sun { elevation: Degrees(-3.0), azimuth: Degrees(0.0) }),
        ..scene("n", "2031-05-01", &ROLES)
    }];
    assert!(matches!(refused(night.clone(), &recipe(&["ndvi"])), Error::NightScene { elevation: -3.0, .. }));
    // thermal bands need no sun
    let warm = Recipe { bands: BandChoice::List(vec![role("lwir11")]), ..recipe(&[]) };
    assert!(plan_season(night, &warm).is_ok());
    let dark = vec![Scene { sun: None, ..scene("d", "2031-05-01", &ROLES) }];
    assert!(refused(dark, &recipe(&["ndvi"])).to_string().contains("SUN_ELEVATION"));
    let open = vec![Scene { flags: vec![], ..scene("o", "2031-05-01", &ROLES) }];
    assert!(refused(open.clone(), &recipe(&["ndvi"])).to_string().contains("scene o has no mask"));
    let mask = MaskOptions { unmasked: true, ..MaskOptions::default() };
    assert!(plan_season(open, &Recipe { mask, ..recipe(&["ndvi"]) }).is_ok());
    assert!(refused(vec![], &recipe(&["ndvi"])).to_string().contains("no scene"));
    assert!(matches!(refused(two(), &recipe(&["ndvy"])), Error::UnknownName { .. }));
    // a mixture of counts and of values in another unit
    let mut mixed = two();
    let red = mixed[1].bands.iter_mut().find(|b| b.role == role("red")).unwrap();
    let cells = Cells::Values(vec![0.2; (SIDE * SIDE) as usize]);
    red.content = Content::Values(Unit::Radiance);
    red.source = MemoryPlane::shared("radiance", grid(0, 0, SIDE, SIDE), Kind::Values, Unit::Radiance, (4, 4), cells);
    let e = refused(mixed.clone(), &recipe(&["ndvi"])).to_string();
    assert!(e.contains("band 'red'") && e.contains("reflectance"), "indices are of reflectance: {e}");
    let own = Recipe { layers: vec![layer("contrast", Some("nir - red"))], ..recipe(&[]) };
    let e = refused(mixed, &own).to_string();
    assert!(e.contains("band 'red' of scene") && e.contains("as in the other scenes"), "{e}");
}

#[test]
fn a_low_sun_is_noted_where_it_matters() {
    let low = || {
        vec![Scene {
            sun: Some(Sun { elevation: Degrees(9.5), azimuth: Degrees(0.0) }),
            ..scene("l", "2031-12-01", &ROLES)
        }]
    };
    let season = plan_season(low(), &recipe(&["ndvi"])).unwrap();
    assert_eq!(season.notes, [Note::LowSun { scene: "l".into(), elevation: 9.5 }]);
    let thermal = Recipe { bands: BandChoice::List(vec![role("lwir11")]), ..recipe(&[]) };
    assert!(plan_season(low(), &thermal).unwrap().notes.is_empty());
    let own = Recipe { layers: vec![layer("contrast", Some("nir - red"))], ..recipe(&[]) };
    let radiance = plan_season(low(), &Recipe { target: Target::Radiance, ..own }).unwrap();
    assert_eq!(radiance.periods[0].bands[0].unit, Unit::Radiance);
}

#[test]
fn layers_of_a_raster_are_its_own_or_computed_from_it() {
    let plane = |name: &str, v: f32, unit| Layer {
        name: name.into(),
        unit,
        wavelength: None,
        source: MemoryPlane::shared(
            name,
            grid(0, 0, SIDE, SIDE),
            Kind::Values,
            unit,
            (4, 4),
            Cells::Values(vec![v; (SIDE * SIDE) as usize]),
        ),
    };
    let set = LayerSet {
        classes: vec![],
        name: "c.tif".into(),
        period: "2031-07".into(),
        grid: std::sync::Arc::new(grid(0, 0, SIDE, SIDE)),
        layers: vec![
            plane("red", 0.1, Unit::Reflectance),
            plane("nir08", 0.5, Unit::Reflectance),
            plane("clear_looks", 3.0, Unit::Looks),
        ],
        digest: "d".into(),
    };
    let own = plan_layers(Some(&set), &recipe(&[])).unwrap();
    let names: Vec<&str> = own.periods[0].layers.iter().map(|l| l.name.as_str()).collect();
    assert_eq!((names, own.periods[0].looks), (vec!["red", "nir08", "clear_looks"], None));
    assert_eq!(own.graph.nodes().len(), 3, "what is there needs no computing");
    // nir08 stands in for nir
    let ndvi = plan_layers(Some(&set), &recipe(&["ndvi"])).unwrap();
    assert!((value(ndvi, 0, 0) - 2.0 / 3.0).abs() < 1e-6);
    let e = plan_layers(Some(&set), &recipe(&["nbr"])).err().unwrap().to_string();
    assert!(e.contains("c.tif has no band 'swir22' (needed by nbr)") || e.contains("swir22"), "{e}");
    let counts =
        LayerSet { layers: vec![plane("red", 9000.0, Unit::Counts), plane("nir", 12000.0, Unit::Counts)], ..set };
    assert!(
        matches!(plan_layers(Some(&counts), &recipe(&["ndvi"])), Err(Error::UnitMismatch { .. })),
        "an index over raw counts"
    );
}
