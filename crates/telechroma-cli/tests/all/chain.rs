//! Step by step through files gives what one pass gives, bit by bit; a later command given raw scenes says what it does.

use crate::{season, table, values};

fn same(a: &[f32], b: &[f32]) -> bool {
    a.len() == b.len() && a.iter().zip(b).all(|(a, b)| a.to_bits() == b.to_bits() || a.is_nan() && b.is_nan())
}

#[test]
fn step_by_step_is_one_pass() {
    let (dir, scenes, p) = season(5);
    p.ok(&["calibrate", "scenes", "--out", "calibrated"]);
    p.ok(&["mask", "scenes", "--grow", "60m", "--out", "masks"]);
    let mut inputs = vec![];
    for s in &scenes {
        inputs.push(format!("calibrated/{}_toa.tif", s.id()));
        inputs.push(format!("masks/{}_mask.tif", s.id()));
    }
    std::fs::write(dir.path().join("list.txt"), inputs.join("\n")).unwrap();
    p.ok(&["composite", "@list.txt", "--bands", "green,red,nir,lwir11", "--out", "steps.tif"]);
    let ran = p.ok(&["composite", "scenes", "--grow", "60m", "--bands", "green,red,nir,lwir11", "--out", "once.tif"]);
    assert!(ran.err.contains("raw scenes: calibrated to toa, masked (drop fill, dilated, cirrus, cloud, shadow; clouds and shadows grown by 60m), median of all dates"), "{}", ran.err);
    for band in 0..5 {
        assert!(
            same(&values(&dir.path().join("steps.tif"), band), &values(&dir.path().join("once.tif"), band)),
            "band {band}"
        );
    }
    p.ok(&["index", "steps.tif", "ndvi", "lst", "--formula", "gr = green / red", "--unit", "C", "--out", "steps"]);
    p.ok(&[
        "index",
        "scenes",
        "ndvi",
        "lst",
        "--formula",
        "gr = green / red",
        "--unit",
        "C",
        "--grow",
        "60m",
        "--out",
        "once",
    ]);
    for name in ["ndvi", "lst", "gr"] {
        let read = |folder: &str| values(&dir.path().join(format!("{folder}/{name}_all.tif")), 0);
        assert!(same(&read("steps"), &read("once")), "{name}");
    }
    let of = |args: &[&str]| {
        table(&p.ok(&[&["summarise"], args, &["--plots", "plots.geojson", "--stats", "mean,p90"]].concat()).out)
    };
    let steps = of(&["steps/ndvi_all.tif", "steps/lst_all.tif"]);
    let once = of(&["scenes", "--index", "ndvi,lst", "--grow", "60m", "--unit", "C"]);
    assert_eq!(steps, once);
    assert_eq!(of(&["steps.tif", "--index", "ndvi,lst", "--unit", "C"]), once);
}

#[test]
fn a_mask_says_why_each_cell_is_dropped() {
    let (dir, scenes, p) = season(1);
    p.ok(&["mask", "scenes", "--out", "m.tif"]);
    let flags = values(&dir.path().join("m.tif"), 0);
    for (got, q) in flags.iter().zip(&scenes[0].quality) {
        let want = match q {
            1 => 1.0,
            22280 => f32::from(22280u16 & 0x1F), // cloud, with the delivery's own margin bit if it has one
            _ => 0.0,
        };
        assert_eq!(*got, want, "{q}");
    }
    let json = p.ok(&["mask", "scenes", "--drop", "cloud", "--json", "--out", "n.tif"]).out;
    let json: serde_json::Value = serde_json::from_str(&json).unwrap();
    let cloudy = scenes[0].quality.iter().filter(|q| **q & 8 != 0).count() as f64 / scenes[0].quality.len() as f64;
    assert!((json["outputs"][0]["shares"]["cloud"].as_f64().unwrap() - 100.0 * cloudy).abs() < 0.051);
}

#[test]
fn the_table_goes_to_standard_output_or_to_a_file_alike() {
    let (dir, _scenes, p) = season(2);
    let args = ["summarise", "scenes", "--index", "ndvi", "--plots", "plots.geojson"];
    let shown = p.ok(&args).out;
    p.ok(&[&args[..], &["--out", "t.csv"]].concat());
    assert_eq!(std::fs::read_to_string(dir.path().join("t.csv")).unwrap(), shown);
    let columns = std::fs::read_to_string(dir.path().join("t.columns.csv")).unwrap();
    assert!(columns.contains("ndvi_mean,,ndvi: weighted mean"), "{columns}");
    p.ok(&[&args[..], &["--out", "t.geojson"]].concat());
    let joined: serde_json::Value =
        serde_json::from_slice(&std::fs::read(dir.path().join("t.geojson")).unwrap()).unwrap();
    let first = &joined["features"][0]["properties"];
    assert_eq!((first["id"].as_str(), first["crop"].as_str()), (Some("a"), Some("flax")));
    let row = &table(&shown)[0];
    assert_eq!(first["ndvi_mean"].as_f64().unwrap(), row["ndvi_mean"].parse::<f64>().unwrap());
    assert_eq!(joined.get("crs"), None, "GeoJSON is longitude and latitude");
    let place = joined["features"][0]["geometry"]["coordinates"][0][0].as_array().unwrap();
    assert!((place[0].as_f64().unwrap() + 33.0).abs() < 0.1, "{place:?}");
}
