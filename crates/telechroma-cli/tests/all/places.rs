//! Areas, grids, assembling, probing, headerless rasters.

use std::path::Path;

use telechroma_testkit::program::Program;
use telechroma_testkit::tiny::{Tiny, plots};
use telechroma_world::deliveries::products;
use telechroma_world::tiff::{Options, Samples, encode};
use telechroma_world::{Estate, ZONE};

use crate::{COLS, program, season, values};

fn json(p: &Program, args: &[&str]) -> serde_json::Value {
    let ran = p.ok(&[args, &["--json"]].concat());
    serde_json::from_str(&ran.out).unwrap_or_else(|e| panic!("{args:?}: {e}\n{}", ran.out))
}

/// A raster of one band of 16-bit numbers.
fn write(
    path: &Path,
    cols: usize,
    rows: usize,
    corner: (f64, f64),
    nodata: Option<&str>,
    f: impl Fn(usize, usize) -> u16,
) {
    let samples = (0..rows).flat_map(|r| (0..cols).map(move |c| (c, r))).map(|(c, r)| f(c, r)).collect();
    let o = Options {
        cols,
        rows,
        corner,
        cell: 30.0,
        epsg: 32625,
        point: false,
        tile: Some((16, 16)),
        predictor: 2,
        nodata: nodata.map(String::from),
        ..Options::default()
    };
    std::fs::write(path, encode(&Samples::U16(samples), &o)).unwrap();
}

#[test]
fn an_area_limits_every_command_and_changes_no_value_inside() {
    let (dir, s, p) = season(2);
    let (x, y) = s[0].corner;
    // columns 4 to 24, rows 5 to 21, off the cells' lines by less than half a cell
    std::fs::write(
        dir.path().join("a.geojson"),
        plots(s[0].corner, 25, &[("in", 4.2, 5.3, 20.1, 16.2), ("far", 900.0, 0.0, 5.0, 5.0)]),
    )
    .unwrap();
    let area = ["--area", "a.geojson", "--only", "id = 'in'"];
    p.ok(&["index", "scenes", "ndvi", "--grow", "60m", "--out", "whole.tif"]);
    let whole = values(&dir.path().join("whole.tif"), 0);
    p.ok(&[&["index", "scenes", "ndvi", "--grow", "60m", "--out", "part.tif"], &area[..]].concat());
    let part = values(&dir.path().join("part.tif"), 0);
    assert_eq!(part.len(), 20 * 16);
    for (i, v) in part.iter().enumerate() {
        let w = whole[(i / 20 + 5) * COLS + i % 20 + 4];
        assert_eq!(v.to_bits(), w.to_bits(), "cell {i}: growth from outside the area counts too");
    }
    for command in [&["composite", "scenes"][..], &["calibrate", "scenes"], &["mask", "scenes"]] {
        p.ok(&[command, &area[..], &["--out", "many"]].concat());
    }
    let shown = json(&p, &["inspect", "many/composite_all.tif"]);
    assert_eq!(
        (shown["inspected"][0]["grid"]["cols"].as_u64(), shown["inspected"][0]["grid"]["rows"].as_u64()),
        (Some(20), Some(16))
    );
    // touched cells belong on request; a box does as a file does
    p.ok(&[&["index", "scenes", "ndvi", "--edge", "touch", "--out", "touch.tif"], &area[..]].concat());
    assert_eq!(values(&dir.path().join("touch.tif"), 0).len(), 21 * 17);
    let bounds = format!("{},{},{},{}@EPSG:32625", x + 126.0, y - 645.0, x + 729.0, y - 159.0);
    p.ok(&["index", "scenes", "ndvi", "--box", &bounds, "--grow", "60m", "--out", "box.tif"]);
    assert_eq!(
        values(&dir.path().join("box.tif"), 0).iter().map(|v| v.to_bits()).collect::<Vec<_>>(),
        part.iter().map(|v| v.to_bits()).collect::<Vec<_>>()
    );
    // an area that misses: both extents, in one system
    p.fails(
        &["index", "scenes", "ndvi", "--area", "a.geojson", "--only", "id = 'far'"],
        2,
        &["does not meet", "x 527000 to 527150", "x 500000 to 501200", "EPSG:32625"],
    );
    p.fails(
        &["index", "scenes", "ndvi", "--box", "-33.0,39.7,-32.9,39.8", "--area", "a.geojson"],
        2,
        &["cannot be used with"],
    );
    p.fails(&["index", "scenes", "ndvi", "--area", "a.geojson", "--only", "idd = 'in'"], 2, &["did you mean 'id'"]);
    // in a campaign, whose dry run tells it
    std::fs::write(dir.path().join("c.toml"), "out = \"o\"\n[area]\nfile = \"a.geojson\"\nonly = \"id = 'in'\"\n[mask]\ngrow = \"60m\"\n[layers]\nuse = [\"ndvi\"]\n").unwrap();
    let shown = p.ok(&["run", "c.toml", "--dry-run"]).out;
    for says in ["[area]", "only = \"id = 'in'\"", "edge = \"centre\"", "20 x 16 cells", "limit to the area"] {
        assert!(shown.contains(says), "'{says}' is not in\n{shown}");
    }
    p.ok(&["run", "c.toml"]);
    assert_eq!(
        values(&dir.path().join("o/layers/ndvi_all.tif"), 0).iter().map(|v| v.to_bits()).collect::<Vec<_>>(),
        part.iter().map(|v| v.to_bits()).collect::<Vec<_>>()
    );
}

#[test]
fn only_blocks_under_the_area_are_decoded() {
    let (dir, _, p) = season(1);
    let big = Tiny::new(0, 160, 160);
    big.write(&dir.path().join("big"));
    std::fs::write(dir.path().join("a.geojson"), plots(big.corner, 25, &[("a", 17.0, 17.0, 14.0, 14.0)])).unwrap();
    let run = |args: &[&str]| {
        json(&p, &[&["index", "big", "ndvi", "--overwrite", "--out", "x.tif"], args].concat())["counts"].clone()
    };
    let (all, part) = (run(&[]), run(&["--area", "a.geojson"]));
    // red, nir, flags: one block each of a hundred
    assert_eq!((all["blocks"].as_u64(), part["blocks_decoded"].as_u64()), (Some(300), Some(3)), "{all} {part}");
}

#[test]
fn a_file_beside_a_raster_names_its_bands_and_its_place() {
    let dir = tempfile::tempdir().unwrap();
    let (p, at) = (program(dir.path()), |n: &str| dir.path().join(n));
    let n = 30 * 20;
    let samples = (0..3 * n).map(|i| [900u16, 1200, 4000][i / n] + (i % 7) as u16).collect();
    let o = Options {
        cols: 30,
        rows: 20,
        bands: 3,
        planar: true,
        epsg: 0,
        cell: 30.0,
        corner: (500_000.0, 4_400_000.0),
        point: false,
        ..Options::default()
    };
    std::fs::write(at("r.tif"), encode(&Samples::U16(samples), &o)).unwrap();
    assert!(p.ok(&["inspect", "r.tif"]).out.contains("band3"));
    std::fs::write(
        at("r.tif.toml"),
        "names = [\"green\", \"red\", \"nir\"]\ndate = \"2031-06-14\"\ncrs = \"EPSG:32625\"\n",
    )
    .unwrap();
    let shown = p.ok(&["inspect", "r.tif"]).out;
    assert!(shown.contains("period 2031-06-14") && shown.contains("EPSG:32625") && shown.contains("nir"), "{shown}");
    p.ok(&["index", "r.tif", "ndvi", "--out", "n.tif"]);
    let want = (4000.0 - 1200.0) / (4000.0 + 1200.0);
    assert!(values(&at("n.tif"), 0).iter().all(|v| (v - want).abs() < 0.01));
    std::fs::write(at("r.tif.toml"), "names = [\"green\", \"red\"]\n").unwrap();
    p.fails(&["index", "r.tif", "ndvi", "--out", "x.tif"], 1, &["names 2 bands, the raster has 3"]);
    std::fs::write(at("r.tif.toml"), "nmes = []\n").unwrap();
    p.fails(&["index", "r.tif", "ndvi", "--out", "x.tif"], 1, &["r.tif.toml", "nmes"]);
}

#[test]
fn assembled_bands_are_those_of_the_inputs_bit_for_bit() {
    let dir = tempfile::tempdir().unwrap();
    let (p, at) = (program(dir.path()), |n: &str| dir.path().join(n));
    let corner = (500_000.0, 4_400_000.0);
    write(&at("b4.tif"), 60, 50, corner, None, |c, r| (c * 700 + r) as u16);
    write(&at("b5.tif"), 60, 50, corner, None, |c, r| (r * 900 + c) as u16);
    let said = p.ok(&["assemble", "red=b4.tif", "nir=b5.tif", "--out", "stack.tif"]).err;
    assert!(said.contains("red, nir of 60 x 50 cells, uint16"), "{said}");
    for (band, name) in [(0, "b4.tif"), (1, "b5.tif")] {
        assert_eq!(values(&at("stack.tif"), band), values(&at(name), 0), "{name}");
    }
    // names are kept, so an index can be computed of it
    p.ok(&["index", "stack.tif", "ndvi", "--out", "n.tif"]);
    // uncompressed, of another type
    p.ok(&["assemble", "red=b4.tif", "--compress", "none", "--type", "float32", "--out", "plain.tif"]);
    assert_eq!(values(&at("plain.tif"), 0), values(&at("b4.tif"), 0));
    // whole numbers need a number for missing as soon as cells may lack a value
    let clip = ["--box", "500030,4399000,500300,4399900@EPSG:32625"];
    let said = p.ok(&[&["assemble", "red=b4.tif", "--out", "clip.tif"], &clip[..]].concat()).err;
    assert!(said.contains("float32"), "{said}");
    p.fails(
        &[&["assemble", "red=b4.tif", "--type", "uint16", "--out", "u.tif"], &clip[..]].concat(),
        2,
        &["no value", "--missing"],
    );
    p.ok(&[&["assemble", "red=b4.tif", "--type", "uint16", "--missing", "65535", "--out", "u.tif"], &clip[..]].concat());
    assert_eq!(values(&at("u.tif"), 0), values(&at("clip.tif"), 0));
    // what a type cannot hold is said: 59 columns above 255, one cell that is the number for missing
    for compress in ["deflate", "none"] {
        let out = format!("narrow_{compress}.tif");
        let asked = ["--type", "uint8", "--missing", "3", "--compress", compress, "--out", &out];
        let said = p.ok(&[&["assemble", "red=b4.tif"], &asked[..]].concat()).err;
        assert!(said.contains("2951 values do not fit"), "{said}");
        let got = values(&at(&out), 0);
        assert!(got[3 * 60].is_nan() && got[60] == 1.0 && got[61] == 255.0, "{compress}");
    }
    assert!(!p.ok(&["assemble", "red=b4.tif", "--out", "same.tif"]).err.contains("do not fit"));
    // packed with a scale: read back to the nearest step
    p.ok(&["assemble", "n.tif", "--pack", "i16", "--out", "packed.tif"]);
    let shown = json(&p, &["inspect", "packed.tif", "n.tif"]);
    let median = |i: usize| shown["inspected"][i]["layers"][0]["median"].as_f64().unwrap();
    assert!((median(0) - median(1)).abs() < 0.01, "{shown}");
    p.ok(&["assemble", "packed.tif", "--out", "unpacked.tif"]);
    for (a, b) in values(&at("unpacked.tif"), 0).iter().zip(values(&at("n.tif"), 0)) {
        assert!(a.is_nan() == b.is_nan() && (b.is_nan() || (a - b).abs() <= 0.5001e-4), "{a} {b}");
    }
}

#[test]
fn rasters_of_one_band_are_joined_and_shifted_grids_are_named_in_metres() {
    let dir = tempfile::tempdir().unwrap();
    let (p, at) = (program(dir.path()), |n: &str| dir.path().join(n));
    write(
        &at("west.tif"),
        20,
        20,
        (500_000.0, 4_400_000.0),
        Some("0"),
        |c, r| if c == 0 { 0 } else { (100 + c + r) as u16 },
    );
    write(&at("east.tif"), 20, 20, (500_450.0, 4_400_000.0), Some("0"), |c, r| (1000 + c + r) as u16);
    let join = |rule: &str| {
        p.ok(&["assemble", "v=west.tif", "v=east.tif", "--overlap", rule, "--overwrite", "--out", "j.tif"]);
        values(&at("j.tif"), 0)
    };
    let (first, last, mean) = (join("first"), join("last"), join("mean"));
    assert_eq!(first.len(), 35 * 20);
    assert!(first[0].is_nan());
    assert_eq!((first[1], first[17], first[25]), (101.0, 117.0, 1010.0));
    assert_eq!((last[17], mean[17]), (1002.0, 559.5));
    write(&at("off.tif"), 20, 20, (500_465.0, 4_400_000.0), None, |_, _| 5);
    p.fails(&["assemble", "v=west.tif", "w=off.tif", "--out", "x.tif"], 1, &["15.00 m east-west", "0.50", "--grid"]);
    p.ok(&["assemble", "v=west.tif", "w=off.tif", "--grid", "30m", "--out", "g.tif"]);
    p.ok(&["assemble", "v=west.tif", "--grid", "east.tif", "--out", "like.tif"]);
    let like = json(&p, &["inspect", "like.tif"]);
    assert_eq!(
        like["inspected"][0]["grid"]["bounds"],
        json(&p, &["inspect", "east.tif"])["inspected"][0]["grid"]["bounds"]
    );
    p.fails(&["assemble", "v=west.tif", "--bands", "w", "--out", "x.tif"], 2, &["none of the inputs has a band 'w'"]);
}

#[test]
fn a_place_is_probed_through_scenes_and_layers() {
    let (dir, s, p) = season(2);
    p.ok(&["index", "scenes", "ndvi", "--out", "n.tif"]);
    let (c, r) = (13, 7);
    let at = format!("{},{}", s[0].corner.0 + 30.0 * f64::from(c) + 14.0, s[0].corner.1 - 30.0 * f64::from(r) - 3.0);
    let found = json(&p, &["probe", "scenes", "n.tif", "--at", &at, "--bands", "red,lwir11,ndvi"]);
    let found = found["values"].as_array().unwrap();
    assert_eq!(found.len(), 2 * 2 + 1);
    let i = (r * COLS as u32 + c) as usize;
    let of = |input: &str, layer: &str| found.iter().find(|f| f["input"] == input && f["layer"] == layer).unwrap();
    for scene in &s {
        let (red, warm) = (of(&scene.id(), "red"), of(&scene.id(), "lwir11"));
        let count = f64::from(scene.counts(4)[i]);
        let want = (2e-5 * count - 0.1) / scene.sun.to_radians().sin();
        if count > 0.0 {
            assert!((red["value"].as_f64().unwrap() - want).abs() < 1e-6, "{red}");
        }
        assert_eq!((red["unit"].as_str(), warm["unit"].as_str()), (Some("reflectance"), Some("K")));
        assert_eq!(red["note"].as_str().unwrap().contains("cloud"), scene.quality[i] == 22280);
    }
    let got = of("n.tif", "ndvi")["value"].as_f64().map(|v| v as f32);
    let want = values(&dir.path().join("n.tif"), 0)[i];
    assert_eq!(got.unwrap_or(f32::NAN).to_bits(), want.to_bits());
    // outside and missing are told apart, and degrees are degrees
    let outside = json(&p, &["probe", "n.tif", "--at", "-30,39.7"]);
    assert_eq!(
        (outside["values"][0]["note"].as_str(), outside["values"][0]["value"].is_null()),
        (Some("outside"), true)
    );
    let hole = values(&dir.path().join("n.tif"), 0).iter().position(|v| v.is_nan()).unwrap();
    let at = format!(
        "{},{}",
        s[0].corner.0 + 30.0 * (hole % COLS) as f64 + 5.0,
        s[0].corner.1 - 30.0 * (hole / COLS) as f64 - 5.0
    );
    assert!(p.ok(&["probe", "n.tif", "--at", &at]).out.contains("missing"));
    p.ok(&["probe", "n.tif", "--at", &at, "--out", "v.csv"]);
    assert_eq!(std::fs::read_to_string(dir.path().join("v.csv")).unwrap().lines().count(), 2);
    p.fails(&["probe", "n.tif", "--at", "here"], 2, &["longitude,latitude"]);
}

#[test]
fn a_headerless_raster_is_declared_checked_and_read() {
    let estate = Estate::new(2031);
    let a = estate.acquisitions()[6].clone();
    let part = estate.part(&a, (200, 200), (40, 30));
    let (bytes, cell) = products::headerless(&part);
    let dir = tempfile::tempdir().unwrap();
    let p = program(dir.path());
    std::fs::write(dir.path().join("t.bin"), &bytes).unwrap();
    let layout = [
        "--cols",
        "40",
        "--bands",
        "3",
        "--type",
        "int16",
        "--order",
        "line-interleaved",
        "--byte-order",
        "big",
        "--names",
        "green,red,nir",
        "--missing",
        "-9999",
    ];
    let (epsg, corner, cell) =
        (format!("EPSG:{}", 32600 + ZONE), format!("{},{}", part.corner.0, part.corner.1), cell.to_string());
    let place = ["--crs", &epsg, "--corner", &corner, "--cell", &cell, "--date", "2031-07-27"];
    let declare = |more: &[&'static str]| [&["declare", "t.bin"], &layout[..], &place[..], more].concat();
    p.fails(&declare(&["--rows", "30"]), 2, &["the file has 7328", "need 7200", "128 bytes before the first"]);
    p.fails(&declare(&["--rows", "31", "--skip", "128"]), 2, &["it would fit with 30 rows"]);
    p.fails(&["inspect", "t.bin"], 1, &["declare"]);
    p.ok(&declare(&["--rows", "30", "--skip", "128"]));
    p.fails(&declare(&["--rows", "30", "--skip", "128"]), 2, &["exists already"]);
    p.ok(&["assemble", "t.bin", "--type", "float32", "--out", "t.tif"]);
    for (band, place) in [(0, 2), (1, 3), (2, 4)] {
        let got = values(&dir.path().join("t.tif"), band);
        for (i, v) in got.iter().enumerate() {
            let want = (part.clear[i][place] * 10_000.0).round() as f32;
            assert!(if part.has(i) { *v == want } else { v.is_nan() }, "band {band} cell {i}: {v} {want}");
        }
    }
    // whole numbers stay whole numbers
    assert!(p.ok(&["assemble", "t.bin", "--out", "whole.tif"]).err.contains("int16, missing -9999"));
    // counts by their size, said as a trouble
    assert!(p.ok(&["inspect", "t.bin"]).out.contains("looks like counts"));
    p.ok(&["index", "t.bin", "ndvi", "--out", "n.tif"]);
}
