//! What `inspect` says, and the troubles it finds.

use telechroma_testkit::tiny::Tiny;
use telechroma_world::tiff::{Options, Samples, encode};

use crate::{COLS, ROWS, program, season};

fn json(text: &str) -> serde_json::Value {
    serde_json::from_str::<serde_json::Value>(text).unwrap()["inspected"][0].clone()
}

#[test]
fn a_scene_shows_its_facts_and_the_counts_of_its_cells() {
    let (_dir, scenes, p) = season(1);
    let s = &scenes[0];
    let text = p.ok(&["inspect", "scenes"]).out;
    for line in [
        "Landsat 8 (landsat-oli-tirs), level L1TP",
        "2031-04-03 12:20:17 UTC, path 250 row 300",
        "42.0° above the horizon, azimuth 140.0°",
        "20.0 % by the metadata",
        "40 x 30 cells of 30 m, WGS 84 / UTM zone 25N (EPSG:32625)",
        "ndvi",
        "0.636–0.673",
    ] {
        assert!(text.contains(line), "'{line}' is not in\n{text}");
    }
    let j = json(&p.ok(&["inspect", "scenes", "--json"]).out);
    let red = j["bands"].as_array().unwrap().iter().find(|b| b["role"] == "red").unwrap();
    let mut counts: Vec<u16> = s.counts(4).iter().copied().filter(|c| *c != 0).collect();
    counts.sort_unstable();
    assert_eq!(red["range"][0].as_f64().unwrap(), f64::from(counts[0]));
    assert_eq!(red["range"][1].as_f64().unwrap(), f64::from(counts[counts.len() - 1]));
    let missing = 1.0 - counts.len() as f64 / (COLS * ROWS) as f64;
    assert!((red["missing_share"].as_f64().unwrap() - missing).abs() < 1e-12);
    let low = (2e-5 * f64::from(counts[((counts.len() - 1) as f64 * 0.02).round() as usize]) - 0.1)
        / s.sun.to_radians().sin();
    assert!((red["calibrated_p2_p98"][0].as_f64().unwrap() - low).abs() < 1e-9);
    let (fill, cloud) = (
        s.quality.iter().filter(|q| **q & 1 != 0).count() as f64,
        s.quality.iter().filter(|q| **q & 8 != 0).count() as f64,
    );
    assert!((j["flag_shares"]["cloud"].as_f64().unwrap() - cloud / ((COLS * ROWS) as f64 - fill)).abs() < 1e-12);
}

#[test]
fn troubles_are_named() {
    let dir = tempfile::tempdir().unwrap();
    let p = program(dir.path());
    let mut s = Tiny::new(0, COLS, ROWS);
    s.sun = 9.0;
    s.bands.iter_mut().find(|b| b.0 == 3).unwrap().1[..300].fill(65535);
    let folder = s.write(dir.path());
    std::fs::remove_file(folder.join(format!("{}_B7.TIF", s.id()))).unwrap();
    let ran = p.ok(&["inspect", s.id().as_str()]);
    for says in [
        "the sun stood only 9.0° high",
        "swir22 (B7)",
        "_B7.TIF, but the delivery does not hold it",
        "green (B3): 25",
        "saturated",
        "more need bands that are not here",
    ] {
        let plain = ran.out.split_whitespace().collect::<Vec<_>>().join(" ");
        assert!(plain.contains(says), "'{says}' is not in\n{}", ran.out);
    }
    p.fails(&["inspect", s.id().as_str(), "--strict"], 3, &["troubles"]);
    // counts that pass for reflectance, a border of zeros, no coordinate system
    let n = COLS * ROWS;
    let counts = (0..n).map(|i| if i % COLS < 5 { 0 } else { 7000 + (i % 900) as u16 }).collect();
    let o = Options { cols: COLS, rows: ROWS, ..Options::default() };
    std::fs::write(dir.path().join("nir.tif"), encode(&Samples::U16(counts), &o)).unwrap();
    let out = p.ok(&["inspect", "nir.tif"]).out;
    for says in ["nir: looks like counts (median 7", "nir: 12.5 % of the cells are exactly 0 and touch the edge"] {
        let plain = out.split_whitespace().collect::<Vec<_>>().join(" ");
        assert!(plain.contains(says), "'{says}' is not in\n{out}");
    }
    let mut night = Tiny::new(1, COLS, ROWS);
    night.sun = -12.0;
    night.write(dir.path());
    assert!(p.ok(&["inspect", night.id().as_str()]).out.contains("night scene: the sun stood 12.0° below the horizon"));
}
