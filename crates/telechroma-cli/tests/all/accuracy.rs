//! Against the truth of the made-up estate: not only the same as before, but right.

use telechroma_world::scene::Cover;
use telechroma_world::{COLS, Estate, ROWS};

use crate::estate::demo;
use crate::{program, values};

const SEED: u64 = 2031;

/// The scene of 25 June, nearly clear: its id, its number.
const JUNE: (&str, usize) = ("LC08_L1TP_250300_20310625_20310710_02_T1", 4);

fn mean(v: impl Iterator<Item = f64> + Clone) -> f64 {
    let n = v.clone().count() as f64;
    assert!(n > 1000.0, "only {n} cells are compared");
    v.sum::<f64>() / n
}

#[test]
fn reflectance_and_temperature_of_clear_cells_are_the_true_ones() {
    let th = demo();
    let p = program(th);
    let scene = format!("scenes/{}", JUNE.0);
    p.ok(&["calibrate", &scene, "--bands", "blue,red,nir,swir16,lwir11", "--out", "t/c.tif", "--overwrite"]);
    p.ok(&["index", &scene, "lst", "--out", "t/lst.tif", "--overwrite"]);
    let estate = Estate::new(SEED);
    let truth = estate.truth(&estate.acquisitions()[JUNE.1]);
    let clear = || (0..COLS * ROWS).filter(|i| truth.cover[*i] == Cover::Clear);
    for (band, at) in [(0, 1), (1, 3), (2, 4), (3, 5)] {
        let got = values(&th.join("t/c.tif"), band);
        let error = || {
            clear()
                .map(|i| (i, f64::from(got[i]) - f64::from(truth.toa[i][at])))
                .filter(|(i, _)| truth.toa[*i][at] < 1.1)
        };
        assert!(mean(error().map(|e| e.1)).abs() < 1e-4, "band {band}");
        // the grain of the counts, three at most, 2e-5 / sin(sun) each; under a veil of cloud too thin to be called one,
        // a little more
        let beyond = error().filter(|e| e.1.abs() > 1.2e-4).count() as f64 / error().count() as f64;
        assert!(beyond < 0.01 && error().all(|e| e.1.abs() < 0.02), "band {band}: {beyond}");
    }
    let lst = values(&th.join("t/lst.tif"), 0);
    let error = || clear().filter(|i| !lst[*i].is_nan()).map(|i| f64::from(lst[i]) - f64::from(truth.kelvin[i]));
    // emissivity from NDVI is a model: it takes half-green cells for green ones, which reads half a kelvin low
    assert!(mean(error()).abs() < 0.6, "{}", mean(error()));
    assert!(mean(error().map(f64::abs)) < 0.7, "{}", mean(error().map(f64::abs)));
}

#[test]
fn grown_masks_leave_few_cloudy_cells_and_most_of_the_clear_ones() {
    let th = demo();
    let p = program(th);
    p.ok(&["mask", "scenes", "--grow", "60m", "--out", "t/masks", "--overwrite"]);
    let estate = Estate::new(SEED);
    let (mut missed, mut bad, mut lost, mut clear) = (0, 0, 0, 0);
    for a in estate.acquisitions() {
        let truth = estate.truth(&a);
        let (y, m, d) = a.date;
        let name = std::fs::read_dir(th.join("t/masks"))
            .unwrap()
            .flatten()
            .map(|e| e.path())
            .find(|p| p.to_string_lossy().contains(&format!("_250300_{y}{m:02}{d:02}_")))
            .unwrap();
        for (mask, cover) in values(&name, 0).iter().zip(&truth.cover) {
            match cover {
                Cover::Fill => assert_ne!(*mask, 0.0),
                Cover::Clear => (clear, lost) = (clear + 1, lost + i64::from(*mask != 0.0)),
                Cover::Cloud | Cover::Shadow | Cover::Cirrus => {
                    (bad, missed) = (bad + 1, missed + i64::from(*mask == 0.0))
                }
            }
        }
    }
    let share = |a: i64, b: i64| a as f64 / b as f64;
    assert!(share(missed, bad) < 0.03, "{} of the cloudy cells are missed", share(missed, bad));
    assert!(share(lost, clear) < 0.12, "{} of the clear cells are lost", share(lost, clear));
}

#[test]
fn the_season_tells_what_happened_on_the_estate() {
    let th = demo();
    let rows = crate::table(&std::fs::read_to_string(th.join("results/tables/fields.csv")).unwrap());
    let of = |crop: &str, month: &str| {
        let v: Vec<f64> = rows
            .iter()
            .filter(|r| r["crop"] == crop && r["period"] == month)
            .filter_map(|r| r["ndvi_mean"].parse().ok())
            .collect();
        assert!(v.len() >= 2, "{crop} {month}");
        v.iter().sum::<f64>() / v.len() as f64
    };
    // flax is green in June and ripe in August; buckwheat is sown late
    assert!(of("flax", "2031-06") > 0.7 && of("flax", "2031-08") < 0.35);
    assert!(of("buckwheat", "2031-05") < 0.3 && of("buckwheat", "2031-07") > 0.7);
    // the hillside burns in August: the burn ratio falls there
    let nbr = |month: &str| values(&th.join(format!("results/layers/nbr_{month}.tif")), 0);
    let (july, september) = (nbr("2031-07"), nbr("2031-09"));
    let hill = (400..480).flat_map(|r| (140..240).map(move |c| r * COLS + c));
    let fall = hill.map(|i| f64::from(july[i] - september[i])).filter(|d| !d.is_nan());
    assert!(mean(fall.clone()) > 0.25, "{}", mean(fall));
}
