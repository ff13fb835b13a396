//! Surface reflectance, masks from the cells themselves, choices of looks, classes, change, temperatures, slopes: the
//! commands, on files, against planted truth or numbers computed here.

use telechroma_world::tiff::{Options, Samples, encode};
use telechroma_world::{COLS, Cover, Estate, ROWS};

use crate::estate::demo;
use crate::{program, season, table, values};

/// The scene of 25 June: its folder, its number.
const JUNE: (&str, usize) = ("scenes/LC08_L1TP_250300_20310625_20310710_02_T1", 4);

fn json(text: &str) -> serde_json::Value {
    serde_json::from_str(text).unwrap()
}

/// A raster of one layer on the tiny deliveries' grid.
fn raster(path: &std::path::Path, corner: (f64, f64), cells: Vec<f32>) {
    let o = Options {
        cols: crate::COLS,
        rows: crate::ROWS,
        corner,
        cell: 30.0,
        epsg: 32625,
        point: false,
        ..Options::default()
    };
    std::fs::write(path, encode(&Samples::F32(cells), &o)).unwrap();
}

#[test]
fn surface_reflectance_comes_near_the_ground_and_is_named_for_what_it_is() {
    let th = demo();
    let p = program(th);
    let estate = Estate::new(2031);
    let truth = estate.truth(&estate.acquisitions()[JUNE.1]);
    let bias = |file: &str, band: u32, at: usize| {
        let got = values(&th.join(file), band);
        let clear: Vec<usize> =
            (0..COLS * ROWS).filter(|i| truth.cover[*i] == Cover::Clear && truth.ground[*i][3] < 1.0).collect();
        clear.iter().map(|i| f64::from(got[*i]) - f64::from(truth.ground[*i][at])).sum::<f64>() / clear.len() as f64
    };
    p.ok(&["calibrate", JUNE.0, "--bands", "blue,nir", "--out", "t/s_toa.tif"]);
    let ran = p.ok(&["calibrate", JUNE.0, "--to", "surface", "--bands", "blue,nir", "--out", "t/s_dos.tif"]);
    assert!(ran.err.contains("dark objects blue 0.0") && ran.err.contains("count 6"), "{}", ran.err);
    p.ok(&[
        "calibrate",
        JUNE.0,
        "--to",
        "surface",
        "--dark-object",
        "cost",
        "--bands",
        "blue,nir",
        "--out",
        "t/s_cost.tif",
    ]);
    // the air adds 0.04 in the blue, of which the dark object takes most
    assert!(bias("t/s_toa.tif", 0, 1) > 0.03);
    assert!(bias("t/s_dos.tif", 0, 1).abs() < 0.02, "{}", bias("t/s_dos.tif", 0, 1));
    assert!(bias("t/s_cost.tif", 1, 4) > bias("t/s_dos.tif", 1, 4), "cost makes up for the low sun");
    let text = String::from_utf8_lossy(&std::fs::read(th.join("t/s_dos.tif")).unwrap()).into_owned();
    assert!(text.contains("surface reflectance (dark-object estimate, dos1)"));
    p.fails(&["calibrate", JUNE.0, "--dark-object", "dos2", "--to", "surface", "--out", "t/no.tif"], 2, &["dos1"]);
}

#[test]
fn dark_objects_are_looked_for_only_in_scenes_that_a_window_takes() {
    let th = demo();
    let p = program(th);
    let args = ["composite", "scenes", "--to", "surface", "--bands", "red,nir", "--every", "2031-05..2031-06"];
    let ran = p.ok(&[&args[..], &["--out", "t/window"]].concat());
    let looked: Vec<&str> = ran.err.lines().filter(|l| l.contains("dark objects")).collect();
    assert!(looked.len() == 4 && looked.iter().all(|l| l.contains("_203105") || l.contains("_203106")), "{looked:?}");
    assert!(ran.err.contains("6 of 10 scenes lie in none of the windows"), "{}", ran.err);
    p.fails(&[&args[..6], &["--every", "2040-01..2040-02", "--out", "t/none"]].concat(), 2, &["none of the 10 scenes"]);
}

#[test]
fn clouds_and_shadows_are_found_without_flags() {
    let th = demo();
    let p = program(th);
    let args = ["mask", "scenes", "--ignore-flags", "--find", "clouds,shadows", "--why", "--out", "t/found"];
    let ran = p.ok(&args);
    for says in ["cloud test: clear land", "shadows of", "of cells seen", "only this"] {
        assert!(ran.err.contains(says), "'{says}' is not in\n{}", ran.err);
    }
    let estate = Estate::new(2031);
    // hits, misses, false alarms of clouds; of shadows hits and misses
    let (mut cloud, mut shadow) = ([0f64; 3], [0f64; 2]);
    for a in estate.acquisitions() {
        let truth = estate.truth(&a);
        let (y, m, d) = a.date;
        let all = std::fs::read_dir(th.join("t/found")).unwrap().flatten().map(|e| e.path());
        let file =
            all.into_iter().find(|f| f.to_string_lossy().contains(&format!("_250300_{y}{m:02}{d:02}_"))).unwrap();
        for (bits, cover) in values(&file, 0).iter().zip(&truth.cover) {
            let (is_cloud, is_shadow) = (*bits as u16 & 8 != 0, *bits as u16 & 16 != 0);
            match cover {
                Cover::Cloud => cloud[usize::from(!is_cloud)] += 1.0,
                Cover::Fill | Cover::Cirrus => {}
                Cover::Shadow | Cover::Clear => cloud[2] += f64::from(u8::from(is_cloud)),
            }
            if *cover == Cover::Shadow && !is_cloud {
                shadow[usize::from(!is_shadow)] += 1.0;
            }
        }
    }
    let (omission, commission) = (cloud[1] / (cloud[0] + cloud[1]), cloud[2] / (cloud[0] + cloud[2]));
    assert!(omission < 0.05 && commission < 0.05, "clouds: {omission} missed, {commission} wrong");
    let missed = shadow[1] / (shadow[0] + shadow[1]);
    assert!(missed < 0.15, "shadows: {missed} missed");
}

#[test]
fn what_is_found_is_the_same_for_any_number_of_threads_and_amount_of_memory() {
    let th = demo();
    let p = program(th);
    let run = |name: &str, more: &[&str]| {
        let args = ["mask", JUNE.0, "--ignore-flags", "--find", "clouds,shadows", "--out", name];
        p.ok(&[&args[..], more].concat());
        std::fs::read(th.join(name)).unwrap()
    };
    let one = run("t/one.tif", &["--threads", "1"]);
    assert!(one == run("t/three.tif", &["--threads", "3", "--memory", "90MB"]));
}

#[test]
fn a_scene_without_flags_is_refused_with_what_to_do() {
    let (dir, scenes, p) = season(1);
    // a plain raster of bands has no flags
    p.ok(&["calibrate", "scenes", "--out", "plain.tif"]);
    p.fails(&["composite", "plain.tif", "--out", "c.tif"], 2, &["has no mask", "--find clouds,shadows", "--unmasked"]);
    let ran = p.ok(&["mask", "scenes", "--ignore-flags", "--unmasked", "--out", "all.tif"]);
    assert!(ran.err.contains("clear 100 %"), "{}", ran.err);
    let mask = values(&dir.path().join("all.tif"), 0);
    assert_eq!(mask.iter().filter(|v| **v == 1.0).count(), scenes[0].quality.iter().filter(|q| **q == 1).count());
}

#[test]
fn cells_are_dropped_by_confidence_condition_polygon_and_raster() {
    let (dir, scenes, p) = season(1);
    let s = &scenes[0];
    // medium confidence of cloud in one cell, by bits 8 and 9
    let mut changed = s.clone();
    changed.quality =
        s.quality.iter().enumerate().map(|(i, q)| if i == 85 { 21824 & !0x300 | 0x200 } else { *q }).collect();
    std::fs::remove_dir_all(dir.path().join("scenes")).unwrap();
    changed.write(&dir.path().join("scenes"));
    let bits = |name: &str, more: &[&str]| {
        p.ok(&[&["mask", "scenes", "--out", name], more].concat());
        values(&dir.path().join(name), 0).iter().map(|v| *v as u16).collect::<Vec<_>>()
    };
    let plain = bits("plain.tif", &[]);
    assert_eq!(plain[85], 0);
    assert_eq!(bits("sure.tif", &["--confidence", "medium"])[85], 8);
    assert_eq!(bits("high.tif", &["--confidence", "high"])[85], 0);
    p.fails(&["mask", "scenes", "--confidence", "hgh", "--out", "x.tif"], 2, &["did you mean 'high'"]);
    // bit 9 alone, and the near infrared
    let by_flag = bits("flag.tif", &["--drop-where", "bit(QA_PIXEL, 9) and not bit(QA_PIXEL, 8)"]);
    assert_eq!((by_flag[85], by_flag.iter().filter(|b| **b & 512 != 0).count()), (512, 1));
    let by_band = bits("band.tif", &["--drop-where", "nir > 0.2"]);
    let bright = (0..s.quality.len()).filter(|i| {
        let count = f64::from(s.counts(5)[*i]);
        (2.0e-5 * count - 0.1) / s.sun.to_radians().sin() > 0.2
    });
    assert_eq!(by_band.iter().filter(|b| **b & 512 != 0).count(), bright.count());
    p.fails(&["mask", "scenes", "--drop-where", "QA_PIXL > 0", "--out", "x.tif"], 2, &["QA_PIXL", "QA_PIXEL"]);
    p.fails(&["mask", "scenes", "--drop-where", "1 > 0", "--out", "x.tif"], 2, &["names no flag plane"]);
    // a polygon, and a raster; a cell that is cloud too keeps both reasons
    let dropped: Vec<f32> = (0..s.quality.len()).map(|i| if i % 7 == 0 { 1.0 } else { 0.0 }).collect();
    raster(&dir.path().join("drop.tif"), s.corner, dropped);
    let by_raster = bits("raster.tif", &["--drop-in", "drop.tif"]);
    for (i, (b, was)) in by_raster.iter().zip(&plain).enumerate() {
        assert_eq!(*b, was | if i % 7 == 0 { 512 } else { 0 }, "{i}");
    }
    let by_plot = bits("plot.tif", &["--drop-in", "plots.geojson"]);
    let inside = |c: usize, r: usize| by_plot[r * crate::COLS + c] & 512 != 0;
    assert!(inside(2, 3) && inside(9, 8) && !inside(10, 8) && inside(12, 4) && inside(39, 12));
}

#[test]
fn looks_far_above_their_series_are_dropped() {
    let (dir, scenes, p) = season(6);
    let mut changed: Vec<_> = scenes.clone();
    for s in &mut changed {
        s.quality = vec![21824; s.quality.len()];
        for (band, counts) in &mut s.bands {
            counts.iter_mut().for_each(|c| *c = 9_000 + u16::from(*band) * 20);
        }
    }
    // a cloud that no flag knows of: bright in blue and red
    let cell = 7 * crate::COLS + 11;
    for band in [2u8, 4] {
        changed[3].bands.iter_mut().filter(|b| b.0 == band).for_each(|b| b.1[cell] = 30_000);
    }
    std::fs::remove_dir_all(dir.path().join("scenes")).unwrap();
    changed.iter().for_each(|s| drop(s.write(&dir.path().join("scenes"))));
    let ran = p.ok(&["mask", "scenes", "--find", "outliers", "--out", "m"]);
    assert!(ran.err.contains("1 looks lie far above their own series in 6 scenes"), "{}", ran.err);
    let mask = values(&dir.path().join(format!("m/{}_mask.tif", changed[3].id())), 0);
    let found: Vec<usize> = (0..mask.len()).filter(|i| mask[*i] != 0.0).collect();
    assert_eq!((found, mask[cell]), (vec![cell], 256.0));
    p.ok(&["composite", "scenes", "--find", "outliers", "--by", "max", "--bands", "blue", "--out", "c.tif"]);
    p.ok(&["composite", "scenes", "--by", "max", "--bands", "blue", "--out", "d.tif"]);
    let at = |name: &str, band: u32| values(&dir.path().join(name), band)[cell];
    assert!(at("c.tif", 0) < 0.2 && at("d.tif", 0) > 0.5);
    assert_eq!((at("c.tif", 1), at("d.tif", 1)), (5.0, 6.0));
    p.fails(
        &["mask", &format!("scenes/{}", changed[0].id()), "--find", "outliers", "--out", "x.tif"],
        2,
        &["no series"],
    );
}

#[test]
fn composites_choose_looks_by_rule() {
    let (dir, scenes, p) = season(4);
    let of = |name: &str, band: u32| values(&dir.path().join(name), band);
    let value = |s: &telechroma_testkit::tiny::Tiny, b: u8, i: usize| s.value(b, i);
    p.ok(&["composite", "scenes", "--by", "best", "--score", "ndvi", "--bands", "red,nir", "--out", "best.tif"]);
    p.ok(&["composite", "scenes", "--by", "latest", "--bands", "red,nir", "--out", "latest.tif"]);
    p.ok(&["composite", "scenes", "--by", "p25", "--spread", "--bands", "nir", "--out", "p25.tif"]);
    let (red, nir, day) = (of("best.tif", 0), of("best.tif", 1), of("best.tif", 3));
    let latest = of("latest.tif", 1);
    let (p25, spread) = (of("p25.tif", 0), of("p25.tif", 2));
    for i in 0..red.len() {
        let looks: Vec<(f64, f64, &telechroma_testkit::tiny::Tiny)> = scenes
            .iter()
            .map(|s| (value(s, 4, i), value(s, 5, i), s))
            .filter(|(r, n, _)| !r.is_nan() && !n.is_nan())
            .collect();
        let ndvi = |l: &&(f64, f64, &telechroma_testkit::tiny::Tiny)| (l.1 - l.0) / (l.1 + l.0);
        let Some(best) = looks.iter().max_by(|a, b| ndvi(a).total_cmp(&ndvi(b))) else {
            assert!(red[i].is_nan() && day[i].is_nan());
            continue;
        };
        assert!((f64::from(red[i]) - best.0).abs() < 1e-6 && (f64::from(nir[i]) - best.1).abs() < 1e-6, "{i}");
        let (y, m, d) = best.2.date;
        let days = jiff_days(y, m, d);
        assert_eq!(f64::from(day[i]), days, "{i}");
        assert!((f64::from(latest[i]) - looks.last().unwrap().1).abs() < 1e-6);
        let mut all: Vec<f64> = scenes.iter().map(|s| value(s, 5, i)).filter(|v| !v.is_nan()).collect();
        all.sort_by(f64::total_cmp);
        let at = 0.25 * (all.len() - 1) as f64;
        let (low, high) = (all[at.floor() as usize], all[at.ceil() as usize]);
        assert!((f64::from(p25[i]) - (low + at.fract() * (high - low))).abs() < 1e-6, "{i}");
        let median = |v: &mut Vec<f64>| {
            v.sort_by(f64::total_cmp);
            let n = v.len();
            if n % 2 == 1 { v[n / 2] } else { (v[n / 2 - 1] + v[n / 2]) / 2.0 }
        };
        let middle = median(&mut all);
        let mut off: Vec<f64> = all.iter().map(|v| (v - middle).abs()).collect();
        assert!((f64::from(spread[i]) - median(&mut off)).abs() < 1e-6, "{i}");
    }
    p.fails(&["composite", "scenes", "--by", "best", "--out", "x.tif"], 2, &["needs a score"]);
    p.fails(&["composite", "scenes", "--by", "meduan", "--out", "x.tif"], 2, &["did you mean 'median'"]);
    // windows of days
    p.ok(&[
        "composite",
        "scenes",
        "--every",
        "2031-04..2031-04,2031-05-10..2031-06-30",
        "--bands",
        "red",
        "--out",
        "w",
    ]);
    let names: Vec<String> = std::fs::read_dir(dir.path().join("w"))
        .unwrap()
        .flatten()
        .map(|e| e.file_name().to_string_lossy().into_owned())
        .collect();
    assert_eq!(names.len(), 2, "{names:?}");
}

/// Days since 1970.
fn jiff_days(y: u16, m: u8, d: u8) -> f64 {
    // Howard Hinnant's count of days of the civil calendar
    let (y, m, d) = (i64::from(y) - i64::from(m <= 2), i64::from(m), i64::from(d));
    let (era, yoe) = (y.div_euclid(400), y.rem_euclid(400));
    let doy = (153 * ((m + 9) % 12) + 2) / 5 + d - 1;
    (era * 146_097 + yoe * 365 + yoe / 4 - yoe / 100 + doy - 719_468) as f64
}

#[test]
fn formulas_use_several_rasters_by_alias() {
    let (dir, _, p) = season(2);
    p.ok(&["composite", "scenes", "--every", "scene", "--bands", "red,nir", "--out", "c"]);
    let mut files: Vec<String> = std::fs::read_dir(dir.path().join("c"))
        .unwrap()
        .flatten()
        .map(|e| format!("c/{}", e.file_name().to_string_lossy()))
        .collect();
    files.sort();
    let (before, after) = (format!("before={}", files[0]), format!("after={}", files[1]));
    let formula = "gain = after.nir - before.nir where clear_in(before) else 0";
    p.fails(&["index", &before, &after, "--formula", formula, "--out", "x.tif"], 2, &["clear_in"]);
    p.ok(&["index", &before, &after, "--formula", "gain = after.nir - before.nir", "--out", "gain.tif"]);
    let (a, b) = (values(&dir.path().join(&files[0]), 1), values(&dir.path().join(&files[1]), 1));
    for (i, g) in values(&dir.path().join("gain.tif"), 0).iter().enumerate() {
        let want = f64::from(b[i]) - f64::from(a[i]);
        assert!(g.is_nan() && want.is_nan() || (f64::from(*g) - want).abs() < 1e-7, "{i}");
    }
}

#[test]
fn classes_have_areas_that_add_up_and_a_legend() {
    let th = demo();
    let p = program(th);
    let args = ["classify", JUNE.0, "ndvi", "--breaks", "0,0.2,0.5,1", "--names", "bare,sparse,dense"];
    let ran = p.ok(&[&args[..], &["--out", "t/classes", "--plots", "fields.geojson"]].concat());
    let rows = |part: &str| {
        let file = std::fs::read_dir(th.join("t/classes")).unwrap().flatten().map(|e| e.path()).find(|f| {
            let name = f.file_name().unwrap().to_string_lossy().into_owned();
            name.contains(part) && name.ends_with(".csv")
        });
        table(&std::fs::read_to_string(file.unwrap_or_else(|| panic!("{part}\n{}", ran.err))).unwrap())
    };
    let ndvi = {
        p.ok(&["index", JUNE.0, "ndvi", "--out", "t/ndvi_june.tif"]);
        values(&th.join("t/ndvi_june.tif"), 0)
    };
    let areas = rows("ndvi_classes");
    for (row, (from, to)) in areas.iter().zip([(0.0, 0.2), (0.2, 0.5), (0.5, 1.0)]) {
        let n = ndvi.iter().map(|v| f64::from(*v)).filter(|v| *v >= from && (*v < to || to == 1.0 && *v <= 1.0));
        let n = n.count();
        assert_eq!(row["cells"].parse::<usize>().unwrap(), n, "{row:?}");
        assert!((row["hectares"].parse::<f64>().unwrap() - n as f64 * 0.09).abs() < 1e-6);
    }
    assert_eq!(areas.iter().map(|r| r["cells"].parse::<usize>().unwrap_or(0)).sum::<usize>(), COLS * ROWS);
    for row in rows("fields").iter().filter(|r| !r["valid_share"].is_empty()) {
        let shares: Vec<f64> = row
            .iter()
            .filter(|(k, _)| k.ends_with("_share") && *k != "valid_share")
            .filter_map(|(_, v)| v.parse().ok())
            .collect();
        if !shares.is_empty() {
            assert!((shares.iter().sum::<f64>() - 1.0).abs() < 1e-6, "{row:?}");
        }
    }
    let raster = std::fs::read_dir(th.join("t/classes")).unwrap().flatten().map(|e| e.path());
    let raster = raster
        .into_iter()
        .find(|f| f.to_string_lossy().ends_with("june.tif") || f.extension().is_some_and(|x| x == "tif"))
        .unwrap();
    let seen = p.ok(&["inspect", raster.to_str().unwrap()]);
    assert!(seen.out.contains("sparse"), "{}", seen.out);
    // the automatic threshold, and breaks that cannot be
    let two = p.ok(&["classify", JUNE.0, "ndwi", "--two"]);
    assert!(two.err.contains("Otsu") || two.out.contains("Otsu"), "{}{}", two.out, two.err);
    p.fails(&["classify", JUNE.0, "ndvi", "--breaks", "1,0"], 2, &["rise"]);
}

#[test]
fn the_burn_is_found_where_it_burned() {
    let th = demo();
    let p = program(th);
    let args = ["compare", "scenes", "--before", "2031-07", "--after", "2031-09", "--index", "nbr", "--as", "dnbr"];
    let more = ["--scheme", "burn_severity", "--plots", "fields.geojson", "--out", "t/burn"];
    let ran = p.ok(&[&args[..], &more].concat());
    assert!(ran.err.contains("initial assessment"), "{}", ran.err);
    let read = |name: &str| table(&std::fs::read_to_string(th.join("t/burn").join(name)).unwrap());
    let areas = read("dnbr_classes_2031-07_to_2031-09.csv");
    let hectares = |part: &str| -> f64 {
        areas.iter().filter(|r| r["name"].contains(part)).map(|r| r["hectares"].parse::<f64>().unwrap()).sum()
    };
    // the hillside; crops that were cut look alike, and are told by their fields
    let estate = Estate::new(2031);
    let hill = estate.land.ground.iter().filter(|g| **g == telechroma_world::land::Ground::Hillside).count() as f64;
    assert!(hectares("moderate") > 0.3 * hill * 0.09, "{} of {}", hectares("moderate"), hill * 0.09);
    assert!(hectares("unburned") > hectares("moderate"));
    let fields = read("fields_dnbr_2031-07_to_2031-09.csv");
    let of = |crop: &str, verdict: &str| {
        fields.iter().filter(|f| f["crop"] == crop && f["verdict"].contains(verdict)).count()
    };
    assert!(of("buckwheat", "higher") + of("flax", "higher") > 5, "cut crops lose their green");
    let j = json(&p.ok(&[&args[..], &["--json"]].concat()).out);
    assert!(j.to_string().contains("hectares") || j["outputs"].is_array(), "{j}");
}

#[test]
fn the_catalogue_says_what_an_input_can_give() {
    let (_dir, scenes, p) = season(1);
    let ran = p.ok(&["indices", "list", "--for", &format!("scenes/{}", scenes[0].id())]);
    assert!(ran.out.contains("can be computed") && ran.out.contains("ndvi"), "{}", ran.out);
    assert!(ran.out.contains("rededge"), "what is missing is named\n{}", ran.out);
    let shown = p.ok(&["indices", "show", "evi"]).out;
    assert!(shown.contains("reflectance") && shown.contains("2.5"), "{shown}");
}

#[test]
fn temperatures_are_told_what_they_need() {
    let (dir, scenes, p) = season(1);
    let scene = format!("scenes/{}", scenes[0].id());
    let lst = |name: &str, layer: &str, more: &[&str]| {
        p.ok(&[&["index", &scene, layer, "--out", name], more].concat());
        values(&dir.path().join(name), 0)
    };
    let plain = lst("e.tif", "lst", &["--emissivity", "0.95"]);
    let emissivity: Vec<f32> = vec![0.95; scenes[0].quality.len()];
    raster(&dir.path().join("e95.tif"), scenes[0].corner, emissivity);
    let by_raster = lst("r.tif", "lst", &["--emissivity", "e95.tif"]);
    for (i, v) in plain.iter().enumerate() {
        let t = scenes[0].value(10, i);
        let want = t / (1.0 + 10.895e-6 * t / 0.014_387_768_8 * 0.95f64.ln());
        assert!(v.is_nan() && want.is_nan() || (f64::from(*v) - want).abs() < 1e-4, "{i}: {v} {want}");
        assert!(v.is_nan() && by_raster[i].is_nan() || (v - by_raster[i]).abs() < 1e-4);
    }
    // fill never becomes a cold cell
    assert!(plain.iter().all(|v| v.is_nan() || *v > 250.0));
    p.fails(&["index", &scene, "lst_single_channel", "--out", "x.tif"], 2, &["--water-vapour"]);
    let moist = lst("w.tif", "lst_single_channel", &["--water-vapour", "2.0", "--emissivity", "0.95"]);
    let known = (0..plain.len()).filter(|i| !plain[*i].is_nan());
    assert!(known.clone().count() > 100 && known.clone().all(|i| moist[i] > plain[i]), "moist air hides warmth");
    let fahrenheit = lst("f.tif", "lst", &["--emissivity", "0.95", "--unit", "F"]);
    for i in known {
        assert!((f64::from(fahrenheit[i]) - (1.8 * (f64::from(plain[i]) - 273.15) + 32.0)).abs() < 1e-3);
    }
    p.fails(&["index", &scene, "lst", "--emissivity", "1.2", "--out", "x.tif"], 2, &["at most 1"]);
    p.fails(&["index", &scene, "lst_split_window", "--water-vapour", "9", "--out", "x.tif"], 2, &["0 to 6"]);
}

/// Heights of a plane that rises to the east by a tenth, with a ring around the scene.
fn heights(dir: &std::path::Path, corner: (f64, f64)) {
    let (cols, rows) = (crate::COLS + 4, crate::ROWS + 4);
    let cells = (0..cols * rows).map(|i| 200.0 + 3.0 * (i % cols) as f32).collect();
    let corner = (corner.0 - 60.0, corner.1 + 60.0);
    let o = Options { cols, rows, corner, cell: 30.0, epsg: 32625, point: false, ..Options::default() };
    std::fs::write(dir.join("heights.tif"), encode(&Samples::F32(cells), &o)).unwrap();
}

#[test]
fn slopes_are_those_of_the_heights_and_light_on_them_is_corrected() {
    let (dir, scenes, p) = season(1);
    heights(dir.path(), scenes[0].corner);
    let ran = p.ok(&["slopes", "heights.tif", "--out", "slopes.tif"]);
    assert!(ran.err.contains("slope and aspect in degrees, 44 x 34 cells"), "{}", ran.err);
    let (slope, aspect) = (values(&dir.path().join("slopes.tif"), 0), values(&dir.path().join("slopes.tif"), 1));
    let inside = 5 * 44 + 5;
    assert!((slope[inside] - 5.710_593).abs() < 1e-4 && (aspect[inside] - 270.0).abs() < 1e-3);
    assert!(slope[0].is_nan());
    let scene = format!("scenes/{}", scenes[0].id());
    p.ok(&["calibrate", &scene, "--bands", "red", "--out", "plain.tif"]);
    let corrected = ["--terrain", "cosine", "--elevation", "heights.tif"];
    p.ok(&[&["calibrate", &scene, "--bands", "red", "--out", "level.tif"], &corrected[..]].concat());
    let (plain, level) = (values(&dir.path().join("plain.tif"), 0), values(&dir.path().join("level.tif"), 0));
    let ratios: Vec<f64> = plain
        .iter()
        .zip(&level)
        .filter(|(a, b)| !a.is_nan() && !b.is_nan())
        .map(|(a, b)| f64::from(*b) / f64::from(*a))
        .collect();
    assert!(ratios.len() > 1000);
    // every cell lies on the same slope, which turns away from the morning sun
    assert!(ratios.iter().all(|r| (r - ratios[0]).abs() < 1e-5) && ratios[0] > 1.0, "{}", ratios[0]);
    p.fails(&["calibrate", &scene, "--terrain", "c", "--out", "x.tif"], 2, &["--elevation"]);
    p.fails(
        &[&["calibrate", &scene, "--out", "x.tif"], &["--terrain", "sine", "--elevation", "heights.tif"][..]].concat(),
        2,
        &["cosine"],
    );
}

#[test]
fn the_sun_angle_of_each_cell_is_used_where_the_delivery_has_it() {
    let (dir, scenes, p) = season(1);
    let s = &scenes[0];
    let scene = format!("scenes/{}", s.id());
    p.fails(&["calibrate", &scene, "--sun-angle", "cell", "--out", "x.tif"], 2, &["no band of sun angles"]);
    let angle = |i: usize| 4000 + (i % 50) as i16 * 10;
    let o = Options {
        cols: crate::COLS,
        rows: crate::ROWS,
        corner: s.corner,
        cell: 30.0,
        epsg: 32625,
        point: true,
        ..Options::default()
    };
    let cells = (0..s.quality.len()).map(angle).collect();
    std::fs::write(dir.path().join(&scene).join(format!("{}_SZA.TIF", s.id())), encode(&Samples::I16(cells), &o))
        .unwrap();
    p.ok(&["calibrate", &scene, "--bands", "nir", "--out", "scene.tif"]);
    p.ok(&["calibrate", &scene, "--bands", "nir", "--sun-angle", "cell", "--out", "cell.tif"]);
    let (by_scene, by_cell) = (values(&dir.path().join("scene.tif"), 0), values(&dir.path().join("cell.tif"), 0));
    for i in 0..by_cell.len() {
        let count = f64::from(s.counts(5)[i]);
        let want = (2.0e-5 * count - 0.1) / (f64::from(angle(i)) / 100.0).to_radians().cos();
        assert!(by_cell[i].is_nan() && count == 0.0 || (f64::from(by_cell[i]) - want).abs() < 1e-6, "{i}");
        assert!(
            count == 0.0 || (f64::from(by_scene[i]) - (2.0e-5 * count - 0.1) / s.sun.to_radians().sin()).abs() < 1e-6
        );
    }
}

#[test]
fn a_campaign_says_all_of_it() {
    let (dir, scenes, p) = season(4);
    heights(dir.path(), scenes[0].corner);
    let text = r#"
[scenes]
from = "scenes"
[calibrate]
to = "surface"
dark_object = "cost"
terrain = "c"
elevation = "heights.tif"
[mask]
drop = ["fill", "cloud"]
confidence = "high"
find = ["outliers"]
drop_where = "nir > 0.9"
drop_in = "plots.geojson"
[composite]
every = ["2031-04..2031-05"]
by = "best"
score = "ndvi"
spread = true
[layers]
use = ["ndvi", "lst"]
[temperature]
emissivity = 0.97
"#;
    std::fs::write(dir.path().join("c.toml"), text).unwrap();
    let dry = p.ok(&["run", "c.toml", "--dry-run"]).out;
    for says in [
        "dark_object = \"cost\"",
        "terrain = \"c\"",
        "find = [\"outliers\"]",
        "drop_where",
        "score = \"ndvi\"",
        "emissivity = \"0.97\"",
    ] {
        assert!(dry.contains(says), "'{says}' is not in\n{dry}");
    }
    let ran = p.ok(&["run", "c.toml", "--out", "out"]);
    for says in ["dark objects", "terrain constants", "far above their own series"] {
        assert!(ran.err.contains(says), "'{says}' is not in\n{}", ran.err);
    }
    let bad = |from: &str, to: &str, needle: &str| {
        std::fs::write(dir.path().join("bad.toml"), text.replace(from, to)).unwrap();
        p.fails(&["run", "bad.toml", "--out", "no"], 2, &[needle]);
    };
    bad("find = [\"outliers\"]", "find = [\"cloud\"]", "mask.find");
    bad("confidence = \"high\"", "confidence = \"sure\"", "mask.confidence");
    bad("terrain = \"c\"\n", "", "calibrate");
    bad("by = \"best\"", "by = \"bst\"", "composite.by");
}

#[test]
fn what_is_calibrated_knows_its_level() {
    let (dir, _scenes, p) = season(1);
    let of = |name: &str, band: u32| values(&dir.path().join(name), band);
    p.ok(&["calibrate", "scenes", "--to", "surface", "--bands", "red,nir", "--out", "ground.tif"]);
    p.ok(&["calibrate", "scenes", "--bands", "blue,green,red,nir,swir16,swir22", "--out", "toa.tif"]);
    p.ok(&["calibrate", "scenes", "--to", "radiance", "--bands", "red,nir,lwir11", "--out", "radiance.tif"]);
    // never taken off twice; a raster above the air is brought down, and only then called surface
    p.ok(&["composite", "ground.tif", "--unmasked", "--to", "surface", "--bands", "red", "--out", "again.tif"]);
    let ran = p.ok(&["composite", "toa.tif", "--unmasked", "--to", "surface", "--bands", "red", "--out", "down.tif"]);
    assert!(ran.err.contains("dark objects red"), "{}", ran.err);
    for (i, v) in of("ground.tif", 0).iter().enumerate() {
        let (again, down) = (of("again.tif", 0)[i], of("down.tif", 0)[i]);
        assert!(v.is_nan() && again.is_nan() || *v == again, "{i}");
        // of values the dark object is known within 0.8 %, of counts exactly
        assert!(v.is_nan() && down.is_nan() || (v - down).abs() < 0.01 * 0.3, "{i}: {v} {down}");
    }
    p.fails(&["mask", "ground.tif", "--find", "clouds", "--out", "x.tif"], 2, &["at the surface", "light of the air"]);
    // an index of radiances is none; a formula of one's own may be
    for index in ["ndvi", "lst"] {
        p.fails(&["index", "radiance.tif", index, "--unmasked", "--out", "x.tif"], 1, &["W m-2", index]);
        p.fails(&["index", "scenes", index, "--to", "radiance", "--out", "x.tif"], 1, &["W m-2", index]);
    }
    p.ok(&["index", "radiance.tif", "--unmasked", "--formula", "r = nir / red", "--out", "r.tif"]);
}

#[test]
fn wishes_without_effect_are_said_and_taken_names_refused_at_once() {
    let (dir, scenes, p) = season(1);
    p.ok(&["calibrate", "scenes", "--out", "toa.tif"]);
    p.ok(&["mask", "scenes", "--out", "mask.tif"]);
    let ran = p.ok(&["mask", "toa.tif", "mask.tif", "--confidence", "high", "--out", "again.tif"]);
    assert!(ran.err.contains("hold no confidence"), "{}", ran.err);
    let far = telechroma_testkit::tiny::plots((700_000.0, 4_000_000.0), 25, &[("a", 0.0, 0.0, 5.0, 5.0)]);
    std::fs::write(dir.path().join("far.geojson"), far).unwrap();
    let ran = p.ok(&["mask", "scenes", "--drop-in", "far.geojson", "--out", "far.tif"]);
    assert!(ran.err.contains("meets no scene"), "{}", ran.err);
    p.fails(&["mask", "scenes", "--drop-in", "far.geojson", "--strict", "--out", "strict.tif"], 3, &[]);
    // nothing is looked for where the result's name is taken
    let taken = |args: &[&str]| {
        let ran = p.fails(args, 2, &["exists already"]);
        assert!(!ran.err.contains("dark objects") && !ran.err.contains("cloud test"), "{}", ran.err);
    };
    let scene = format!("scenes/{}", scenes[0].id());
    taken(&["mask", &scene, "--ignore-flags", "--find", "clouds", "--out", "toa.tif"]);
    taken(&["composite", &scene, "--to", "surface", "--bands", "red", "--out", "toa.tif"]);
    // a dry run looks for nothing, and is none the worse for it
    let text =
        "[scenes]\nfrom = \"scenes\"\n[mask]\nignore_flags = true\nfind = [\"clouds\"]\n[layers]\nuse = [\"ndvi\"]\n";
    std::fs::write(dir.path().join("c.toml"), text).unwrap();
    assert!(p.ok(&["run", "c.toml", "--dry-run"]).out.contains("ignore_flags = true"));
}
