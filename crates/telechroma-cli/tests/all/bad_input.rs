//! Wrong input: one clear message that names the file and what to do, the right exit code, nothing left behind.

use std::path::{Path, PathBuf};

use telechroma_testkit::hostile::{cuts, set_tag};
use telechroma_testkit::program::Program;
use telechroma_testkit::tiny::{Tiny, plots};

use crate::{COLS, RECTANGLES, ROWS, program, season};

/// A folder with one delivery, changed by `change` before it is written.
fn one(change: impl Fn(&mut Tiny)) -> (tempfile::TempDir, Tiny, PathBuf, Program) {
    let dir = tempfile::tempdir().unwrap();
    let mut s = Tiny::new(0, COLS, ROWS);
    change(&mut s);
    let folder = s.write(&dir.path().join("scenes"));
    let p = program(dir.path());
    (dir, s, folder, p)
}

fn ndvi(p: &Program, code: i32, needles: &[&str]) {
    let before: Vec<PathBuf> = list(p.dir());
    p.fails(&["index", "scenes", "ndvi", "--out", "out"], code, needles);
    assert_eq!(list(p.dir()), before, "something was left behind");
}

fn list(dir: &Path) -> Vec<PathBuf> {
    let mut all: Vec<PathBuf> = std::fs::read_dir(dir).unwrap().flatten().map(|e| e.path()).collect();
    all.sort();
    all
}

#[test]
fn a_band_cut_off_anywhere() {
    let (_dir, s, folder, p) = one(|_| ());
    let file = folder.join(format!("{}_B4.TIF", s.id()));
    let whole = std::fs::read(&file).unwrap();
    // each cut is a run of the program: a choice of them, at the edges of what the file holds
    let chosen: Vec<usize> =
        cuts(whole.len()).into_iter().enumerate().filter(|(i, _)| i % 29 == 0).map(|(_, c)| c).collect();
    assert!(chosen.len() > 15);
    for cut in chosen {
        std::fs::write(&file, &whole[..cut]).unwrap();
        ndvi(&p, 1, &["_B4.TIF"]);
    }
    let mut damaged = whole.clone();
    damaged[8..200].iter_mut().for_each(|b| *b ^= 0x5A);
    std::fs::write(&file, damaged).unwrap();
    ndvi(&p, 1, &["_B4.TIF", "block 0", "damaged", "hint: copy or download the file again"]);
}

#[test]
fn absurd_dimensions() {
    let (_dir, s, folder, p) = one(|_| ());
    let file = folder.join(format!("{}_B4.TIF", s.id()));
    let whole = std::fs::read(&file).unwrap();
    for tag in [256, 257] {
        std::fs::write(&file, &whole).unwrap();
        set_tag(&file, tag, 4_000_000_000);
        ndvi(&p, 1, &["_B4.TIF"]);
    }
    std::fs::write(&file, &whole).unwrap();
    set_tag(&file, 257, 31); // one row more than the others: too little data for it, or another grid
    let ran = p.run(&["index", "scenes", "ndvi", "--out", "out"]);
    assert!(ran.code == Some(1) || ran.code == Some(0), "{}", ran.err);
}

#[test]
fn missing_bands_and_metadata() {
    let (_dir, s, folder, p) = one(|_| ());
    std::fs::remove_file(folder.join(format!("{}_B5.TIF", s.id()))).unwrap();
    ndvi(&p, 1, &[&s.id(), "has no band 'nir' (needed by ndvi)"]);
    std::fs::remove_file(folder.join(format!("{}_QA_PIXEL.TIF", s.id()))).unwrap();
    ndvi(&p, 1, &["has no QA_PIXEL file"]);
    std::fs::remove_file(folder.join(format!("{}_MTL.txt", s.id()))).unwrap();
    ndvi(&p, 2, &["holds no delivery"]);
    for (key, says) in [
        ("REFLECTANCE_MULT_BAND_4", "calibrating band 'red' to toa needs"),
        ("REFLECTANCE_ADD_BAND_5", "REFLECTANCE_ADD_BAND_5"),
        ("SUN_ELEVATION", "SUN_ELEVATION"),
        ("DATE_ACQUIRED", "DATE_ACQUIRED"),
        ("SPACECRAFT_ID", "SPACECRAFT_ID"),
        ("LANDSAT_PRODUCT_ID", "LANDSAT_PRODUCT_ID"),
    ] {
        let (_dir, _, _, p) = one(|s| s.without = vec![key.into()]);
        ndvi(&p, 1, &[says]);
    }
    // what a temperature needs does not matter to an index of reflected light
    let (_dir, _, _, p) = one(|s| s.without = vec!["K1_CONSTANT_BAND_10".into()]);
    p.ok(&["index", "scenes", "ndvi", "--out", "out"]);
    p.fails(&["index", "scenes", "lst", "--out", "lst"], 1, &["K1_CONSTANT_BAND_10", "incomplete"]);
}

#[test]
fn damaged_metadata() {
    let (_dir, s, folder, p) = one(|_| ());
    let file = folder.join(format!("{}_MTL.txt", s.id()));
    let text = std::fs::read_to_string(&file).unwrap();
    for (from, to, says) in [
        ("SUN_ELEVATION = 42", "SUN_ELEVATION = high", "SUN_ELEVATION is 'high', not a number"),
        ("2031-04-03", "2031-14-03", "not a date"),
        ("LANDSAT_8", "LANDSAT_88", "LANDSAT_88"),
        ("L1TP\"", "L3XX\"", "processing level L3XX"),
        ("L1TP\"", "L2SP\"", "LEVEL2_SURFACE_REFLECTANCE_PARAMETERS"),
    ] {
        assert!(text.contains(from), "{from}");
        std::fs::write(&file, text.replace(from, to)).unwrap();
        ndvi(&p, 1, &[says]);
    }
    std::fs::write(&file, &text[..text.len() / 2]).unwrap();
    ndvi(&p, 1, &["_MTL.txt", "cut off"]);
    std::fs::write(&file, [0xFFu8; 64]).unwrap();
    ndvi(&p, 1, &["_MTL.txt"]);
}

#[test]
fn night_scenes_other_zones_and_shifted_grids() {
    let (_dir, _, _, p) = one(|s| s.sun = -8.0);
    ndvi(&p, 1, &["the sun stood -8° above the horizon, so reflectance is undefined", "--to radiance"]);
    p.ok(&["composite", "scenes", "--to", "radiance", "--bands", "lwir11", "--out", "night.tif"]);
    let (dir, _scenes, p) = season(1);
    let mut other = Tiny::new(1, COLS, ROWS);
    other.corner.0 += 15.0;
    other.write(&dir.path().join("scenes"));
    ndvi(&p, 1, &["do not share a grid", "15.00 m east-west", &other.id(), "--grid"]);
    // brought to a grid that is asked for, or to another zone's, they are one run
    p.ok(&["index", "scenes", "ndvi", "--grid", "30m", "--out", "asked"]);
    other.corner.0 = 120_000.0;
    other.zone = 26;
    other.write(&dir.path().join("scenes"));
    let said = p.ok(&["index", "scenes", "ndvi", "--out", "zones"]).err;
    assert!(said.contains("differ in grid") && said.contains("all are brought to the cells of"), "{said}");
}

#[test]
fn plot_files() {
    let (dir, scenes, p) = season(1);
    let run = |text: &str, code: i32, needles: &[&str]| {
        std::fs::write(dir.path().join("bad.geojson"), text).unwrap();
        let ran = p.fails(
            &["summarise", "scenes", "--index", "ndvi", "--plots", "bad.geojson", "--out", "t.csv"],
            code,
            needles,
        );
        assert!(ran.err.contains("bad") && !dir.path().join("t.csv").exists(), "{}", ran.err);
    };
    let good = plots(scenes[0].corner, 25, &RECTANGLES);
    run(
        &good.replace("\"id\"", "\"number\""),
        2,
        &["which attribute is the plots' id is not clear; they have number, crop", "--id"],
    );
    run(&good.replace("\"id\":\"b\"", "\"id\":\"a\""), 1, &["feature 2", "ids must be unique"]);
    run(&good.replace("\"id\":\"b\"", "\"id\":null"), 1, &["feature 2", "has no 'id'"]);
    run(&good.replace("Polygon", "LineString"), 1, &["bad.geojson"]);
    run(&good[..good.len() - 40], 1, &["is not GeoJSON"]);
    run("{\"type\": \"FeatureCollection\", \"features\": []}", 2, &["holds no plot"]);
    run(&good.replace("EPSG::32625", "EPSG::99999"), 1, &["99999"]);
    p.fails(
        &["summarise", "scenes", "--index", "ndvi", "--plots", "none.geojson"],
        2,
        &["none.geojson", "does not exist"],
    );
    p.fails(
        &["summarise", "scenes", "--index", "ndvi", "--plots", "plots.geojson", "--id", "corp"],
        2,
        &["unknown attribute 'corp': did you mean 'crop'?"],
    );
    // no crs member: the numbers would be degrees
    let value: serde_json::Value = serde_json::from_str(&good).unwrap();
    let mut degrees = value.clone();
    degrees.as_object_mut().unwrap().remove("crs");
    run(&degrees.to_string(), 2, &["no longitude and latitude in degrees"]);
    // all plots elsewhere: both extents in the same coordinates
    let far = plots((scenes[0].corner.0 + 90_000.0, scenes[0].corner.1), 25, &RECTANGLES);
    std::fs::write(dir.path().join("far.geojson"), far).unwrap();
    p.fails(
        &["summarise", "scenes", "--index", "ndvi", "--plots", "far.geojson"],
        2,
        &["no plot touches the scenes", "500000, 4399100 to 501200, 4400000", "590060", "WGS 84 / UTM zone 25N"],
    );
    // one plot elsewhere: its row is kept, and it is said
    let mut some = value;
    some["features"][2] =
        serde_json::from_str::<serde_json::Value>(&std::fs::read_to_string(dir.path().join("far.geojson")).unwrap())
            .unwrap()["features"][2]
            .clone();
    std::fs::write(dir.path().join("some.geojson"), some.to_string()).unwrap();
    let ran = p.ok(&["summarise", "scenes", "--index", "ndvi", "--plots", "some.geojson"]);
    let rows = crate::table(&ran.out);
    assert_eq!(
        (rows.len(), rows[2]["plot_note"].as_str(), rows[2]["ndvi_count"].as_str(), rows[2]["ndvi_mean"].as_str()),
        (4, "outside", "0", "")
    );
    assert!(ran.err.contains("outside the scenes, with rows that are all missing: plot c"), "{}", ran.err);
    p.fails(
        &["summarise", "scenes", "--index", "ndvi", "--plots", "some.geojson", "--strict", "--out", "s.csv"],
        3,
        &["plot c"],
    );
}

#[test]
fn names_and_formulas() {
    let (_dir, _scenes, p) = season(1);
    p.fails(&["index", "scenes", "ndvy", "--out", "o"], 2, &["unknown index 'ndvy': did you mean 'ndvi'?"]);
    p.fails(&["composite", "scenes", "--bands", "rde", "--out", "o"], 2, &["unknown band 'rde': did you mean 'red'?"]);
    p.fails(&["composite", "scenes", "--drop", "clowd", "--out", "o"], 2, &["did you mean 'cloud'?"]);
    p.fails(&["composite", "scenes", "--grow", "60", "--out", "o"], 2, &["write 60m or 60km"]);
    p.fails(&["composite", "scenes", "--every", "moth", "--out", "o"], 2, &["did you mean 'month'?"]);
    p.fails(&["composite", "scenes", "--memory", "500", "--out", "o"], 2, &["write 500MB"]);
    p.fails(&["composite", "scenes", "--since", "2031-4-1", "--out", "o"], 2, &["--since"]);
    p.fails(
        &["composite", "scenes", "--since", "2040-01-01", "--out", "o"],
        2,
        &["none of the 1 scenes lies within the dates"],
    );
    p.fails(
        &["summarise", "scenes", "--index", "ndvi", "--plots", "plots.geojson", "--stats", "maen"],
        2,
        &["did you mean 'mean'?"],
    );
    p.fails(
        &["summarise", "scenes", "--index", "ndvi", "--plots", "plots.geojson", "--stats", "p101"],
        2,
        &["percentile 101 does not exist"],
    );
    let formula = |f: &str, message: &str, caret: &str| {
        let ran = p.fails(&["index", "scenes", "--formula", f, "--out", "o"], 2, &[message]);
        let lines: Vec<&str> = ran.err.lines().collect();
        let at = lines.iter().position(|l| l.trim() == "^").unwrap_or_else(|| panic!("no caret in\n{}", ran.err));
        assert!(lines[at - 1][lines[at].len() - 1..].starts_with(caret), "{}", ran.err);
    };
    formula("x = nir + gren", "unknown band 'gren': did you mean 'green'?", "gren");
    formula("x = (nir - red", "expected ')'", "");
    formula("x = nir * * red", "expected", "* red");
    formula("x = squirt(nir)", "did you mean 'sqrt'?", "squirt");
    formula("x = nir ? red", "'?' means nothing", "?");
    formula("x = clip(nir, 0)", "clip", "clip");
    p.fails(&["index", "scenes", "--formula", "nir / red", "--out", "o"], 2, &["write 'name = formula'"]);
    p.fails(&["index", "scenes", "--formula", "red = nir", "--out", "o"], 2, &["means something already"]);
    p.fails(&["index", "scenes", "--formula", "ndvi = red", "--out", "o"], 2, &["'ndvi' is an index of the catalogue"]);
    p.fails(&["index", "nothing.tif", "ndvi", "--out", "o"], 2, &["nothing.tif", "does not exist"]);
    p.fails(&["index", "ndvi", "--out", "o"], 2, &["no input"]);
}

#[test]
fn inputs_of_other_kinds() {
    let dir = tempfile::tempdir().unwrap();
    let p = program(dir.path());
    std::fs::create_dir(dir.path().join("empty")).unwrap();
    std::fs::write(dir.path().join("note.txt"), "hello").unwrap();
    std::fs::write(dir.path().join("fake.tif"), "hello").unwrap();
    std::fs::write(dir.path().join("fake.tar"), [7u8; 3000]).unwrap();
    std::fs::write(dir.path().join("zero.tar"), []).unwrap();
    p.fails(&["inspect", "empty"], 2, &["holds no delivery"]);
    p.fails(&["inspect", "note.txt"], 1, &["note.txt: a file of the kind 'txt' is not supported"]);
    p.fails(&["inspect", "fake.tif"], 1, &["fake.tif", "not a TIFF"]);
    p.fails(&["inspect", "fake.tar"], 1, &["fake.tar"]);
    p.fails(&["inspect", "zero.tar"], 1, &["zero.tar"]);
    // an archive cut off inside a band
    let tar = Tiny::new(0, COLS, ROWS).write_tar(&dir.path().join("t"));
    let bytes = std::fs::read(&tar).unwrap();
    std::fs::write(&tar, &bytes[..bytes.len() / 3]).unwrap();
    p.fails(&["inspect", "t"], 1, &[".tar", "cut off"]);
}

#[test]
fn campaign_files() {
    let (dir, _scenes, p) = season(1);
    let run = |text: &str, code: i32, needles: &[&str]| {
        std::fs::write(dir.path().join("c.toml"), text).unwrap();
        p.fails(&["run", "c.toml"], code, &[&["c.toml"], needles].concat());
        assert!(!dir.path().join("results").exists());
    };
    run("[mask]\ngrwo = \"60m\"\n", 2, &["line 2: unknown key 'mask.grwo': did you mean 'mask.grow'?"]);
    run("[layers]\nuse = [\"ndvi\"\n", 2, &["line"]);
    run("[layers]\nuse = [\"ndvi\"]\n[composite]\nat_least = \"two\"\n", 2, &["at_least"]);
    run("[layers]\nuse = [\"ndvi\"]\n[composite]\nby = \"meen\"\n", 2, &["composite.by"]);
    run("[layers]\nuse = [\"ndvi\"]\n[output]\ntables = [\"xls\"]\n", 2, &["unknown format of tables 'xls'"]);
    run("name = \"x\"\n", 2, &["nothing to make"]);
    p.fails(&["run", "none.toml"], 1, &["none.toml"]);
    p.fails(&["run", "scenes"], 2, &["scenes: is a folder"]);
    std::fs::write(dir.path().join("c.toml"), "[scenes]\nfrom = \"elsewhere\"\n[layers]\nuse = [\"ndvi\"]\n").unwrap();
    p.fails(&["run", "c.toml"], 2, &["elsewhere", "does not exist"]);
    // an error as JSON too
    let ran = p.run(&["run", "c.toml", "--json"]);
    let j: serde_json::Value = serde_json::from_str(&ran.out).unwrap();
    assert!(j["error"].as_str().unwrap().contains("does not exist") && ran.code == Some(2));
}

#[test]
fn indices_over_raw_counts_are_refused() {
    let (dir, _scenes, p) = season(1);
    // a raster of counts under band names, of which nothing says that it is reflectance
    let (red, nir) = (vec![9000u16; COLS * ROWS], vec![20_000u16; COLS * ROWS]);
    for (name, v) in [("red", red), ("nir", nir)] {
        let o = telechroma_world::tiff::Options { cols: COLS, rows: ROWS, ..Default::default() };
        std::fs::write(
            dir.path().join(format!("{name}.tif")),
            telechroma_world::tiff::encode(&telechroma_world::tiff::Samples::U16(v), &o),
        )
        .unwrap();
    }
    p.fails(&["index", "red.tif", "ndvi", "--out", "o"], 1, &["red.tif", "nir"]);
}
