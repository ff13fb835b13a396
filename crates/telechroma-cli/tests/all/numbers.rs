//! Raw deliveries to rasters and a table, against numbers computed here, cell by cell, in double precision.

use std::collections::BTreeMap;

use telechroma_testkit::tiny::{Tiny, plots};

use crate::{COLS, RECTANGLES, ROWS, season, table, values};

fn median(mut v: Vec<f64>) -> f64 {
    v.retain(|x| !x.is_nan());
    v.sort_by(f64::total_cmp);
    match v.len() {
        0 => f64::NAN,
        n if n % 2 == 1 => v[n / 2],
        n => (v[n / 2 - 1] + v[n / 2]) / 2.0,
    }
}

fn composite(scenes: &[Tiny], band: u8) -> Vec<f64> {
    (0..COLS * ROWS).map(|i| median(scenes.iter().map(|s| s.value(band, i)).collect())).collect()
}

/// Every layer of a campaign by name.
fn layers(scenes: &[Tiny]) -> BTreeMap<&'static str, Vec<f64>> {
    let [green, red, nir, swir22, warm] = [3, 4, 5, 7, 10].map(|b| composite(scenes, b));
    let ratio = |a: &[f64], b: &[f64]| a.iter().zip(b).map(|(a, b)| (a - b) / (a + b)).collect::<Vec<f64>>();
    let ndvi = ratio(&nir, &red);
    let lst = ndvi
        .iter()
        .zip(&warm)
        .map(|(n, t)| {
            let pv = ((n - 0.2) / 0.3).clamp(0.0, 1.0).powi(2);
            let e: f64 = 0.97 * (1.0 - pv) + 0.99 * pv;
            t / (1.0 + 10.895e-6 * t / 0.014_387_768_8 * e.ln()) - 273.15
        })
        .collect();
    let own = green
        .iter()
        .zip(&red)
        .map(|(g, r)| if g > r { g / r } else { 0.0 })
        .zip(&green)
        .zip(&red)
        .map(|((v, g), r)| if g.is_nan() || r.is_nan() { f64::NAN } else { v })
        .collect();
    BTreeMap::from([
        ("ndwi", ratio(&green, &nir)),
        ("nbr", ratio(&nir, &swir22)),
        ("lst", lst),
        ("own", own),
        ("ndvi", ndvi),
    ])
}

fn close(got: &[f32], want: &[f64], tolerance: f64, what: &str) {
    assert_eq!(got.len(), want.len());
    for (i, (g, w)) in got.iter().zip(want).enumerate() {
        let same = g.is_nan() && w.is_nan() || (f64::from(*g) - w).abs() <= tolerance;
        assert!(same, "{what}, column {}, row {}: {g} {w}", i % COLS, i / COLS);
    }
}

const CAMPAIGN: &str = r#"
[scenes]
from = "scenes"
[composite]
every = "month"
bands = ["green", "red", "nir", "swir22", "lwir11"]
[layers]
use = ["ndvi", "ndwi", "nbr", "lst"]
own = "green / red where green > red else 0"
[plots]
file = "plots.geojson"
stats = ["count", "valid_share", "mean", "sd", "min", "max", "median", "sum", "p25"]
[output]
tables = ["csv", "geojson"]
temperature = "C"
"#;

#[test]
fn a_campaign_gives_the_numbers_computed_by_hand() {
    let (dir, scenes, p) = season(6);
    std::fs::write(dir.path().join("c.toml"), CAMPAIGN).unwrap();
    p.ok(&["run", "c.toml"]);
    let out = dir.path().join("results");
    let rows = table(&std::fs::read_to_string(out.join("tables/plots.csv")).unwrap());
    assert_eq!(rows.len(), 4 * 3, "four plots, three months");
    for (month, scenes) in [("2031-04", &scenes[0..2]), ("2031-05", &scenes[2..4]), ("2031-06", &scenes[4..6])] {
        let file = out.join(format!("layers/composite_{month}.tif"));
        for (i, band) in [3, 4, 5, 7, 10].into_iter().enumerate() {
            close(
                &values(&file, i as u32),
                &composite(scenes, band),
                if band == 10 { 5e-5 } else { 1e-7 },
                &format!("band {band}, {month}"),
            );
        }
        let looks: Vec<f64> =
            (0..COLS * ROWS).map(|i| scenes.iter().filter(|s| s.quality[i] & 0x1F == 0).count() as f64).collect();
        close(&values(&file, 5), &looks, 0.0, "clear looks");
        for (name, want) in layers(scenes) {
            let got = values(&out.join(format!("layers/{name}_{month}.tif")), 0);
            close(&got, &want, if name == "lst" { 1e-4 } else { 1e-6 }, &format!("{name}, {month}"));
            for (id, c, r, w, h) in RECTANGLES {
                let row = rows.iter().find(|row| row["id"] == id && row["period"] == month).unwrap();
                check_row(row, name, &want, (c, r, w, h));
            }
        }
    }
}

/// The share of each cell that a rectangle covers, and the cell's value.
fn shares(values: &[f64], (c, r, w, h): (f64, f64, f64, f64)) -> Vec<(f64, f64)> {
    let over = |at: usize, from: f64, size: f64| ((at as f64 + 1.0).min(from + size) - (at as f64).max(from)).max(0.0);
    let cells = (0..ROWS).flat_map(|y| (0..COLS).map(move |x| (x, y)));
    cells.map(|(x, y)| (over(x, c, w) * over(y, r, h), values[y * COLS + x])).filter(|(s, _)| *s > 1e-12).collect()
}

fn check_row(row: &BTreeMap<String, String>, name: &str, layer: &[f64], rectangle: (f64, f64, f64, f64)) {
    let all = shares(layer, rectangle);
    let valid: Vec<(f64, f64)> = all.iter().copied().filter(|(_, v)| !v.is_nan()).collect();
    let number = |stat: &str| row[&format!("{name}_{stat}")].parse::<f64>().unwrap_or(f64::NAN);
    let near = |stat: &str, want: f64, tolerance: f64| {
        let got = number(stat);
        assert!(
            got.is_nan() && want.is_nan() || (got - want).abs() <= tolerance,
            "{} {} {name}_{stat}: {got} {want}",
            row["id"],
            row["period"]
        );
    };
    let weight: f64 = valid.iter().map(|v| v.0).sum();
    let sum: f64 = valid.iter().map(|v| v.0 * v.1).sum();
    let mean = sum / weight;
    near("count", valid.len() as f64, 0.0);
    near("valid_share", weight / all.iter().map(|v| v.0).sum::<f64>(), 1e-8);
    let missing = valid.is_empty();
    let or_missing = |v: f64| if missing { f64::NAN } else { v };
    near("mean", mean, 1e-5);
    near("sum", or_missing(sum), 1e-3);
    near("sd", or_missing((valid.iter().map(|v| v.0 * (v.1 - mean).powi(2)).sum::<f64>() / weight).sqrt()), 5e-5);
    near("min", or_missing(valid.iter().map(|v| v.1).fold(f64::INFINITY, f64::min)), 1e-4);
    near("max", or_missing(valid.iter().map(|v| v.1).fold(f64::NEG_INFINITY, f64::max)), 1e-4);
    near("median", quantile(valid.clone(), 0.5), 1e-4);
    near("p25", quantile(valid, 0.25), 1e-4);
    let coverage = (rectangle.0 + rectangle.2).min(COLS as f64) - rectangle.0;
    assert!((row["plot_coverage"].parse::<f64>().unwrap() - coverage / rectangle.2).abs() < 1e-5);
    assert_eq!(row["plot_note"], if rectangle.0 + rectangle.2 > COLS as f64 { "partly outside" } else { "" });
}

/// Weighted quantile: positions halfway between cumulated weights, linear between, flat ends.
fn quantile(mut v: Vec<(f64, f64)>, p: f64) -> f64 {
    v.sort_by(|a, b| a.1.total_cmp(&b.1));
    let mut at = vec![0.0];
    for pair in v.windows(2) {
        at.push(at[at.len() - 1] + (pair[0].0 + pair[1].0) / 2.0);
    }
    let (Some(last), Some(first)) = (v.last(), v.first()) else { return f64::NAN };
    let t = p * at[at.len() - 1];
    let Some(i) = at.iter().position(|a| *a >= t) else { return last.1 };
    match i {
        0 => first.1,
        i => v[i - 1].1 + (t - at[i - 1]) / (at[i] - at[i - 1]) * (v[i].1 - v[i - 1].1),
    }
}

#[test]
fn cells_counted_by_their_centre_and_by_touch() {
    let (dir, scenes, p) = season(3);
    let layer = layers(&scenes).remove("ndvi").unwrap();
    let inside = |(c, r, w, h): (f64, f64, f64, f64), whole: bool| {
        let cells = (0..ROWS).flat_map(|y| (0..COLS).map(move |x| (x as f64, y as f64)));
        cells
            .filter(|(x, y)| match whole {
                true => x + 0.5 >= c && x + 0.5 < c + w && y + 0.5 >= r && y + 0.5 < r + h,
                false => x + 1.0 > c && *x < c + w && y + 1.0 > r && *y < r + h,
            })
            .map(|(x, y)| layer[y as usize * COLS + x as usize])
            .filter(|v| !v.is_nan())
            .collect::<Vec<f64>>()
    };
    for (weight, whole) in [("centre", true), ("touch", false)] {
        let ran = p.ok(&[
            "summarise",
            "scenes",
            "--index",
            "ndvi",
            "--plots",
            "plots.geojson",
            "--weight",
            weight,
            "--stats",
            "count,mean",
        ]);
        for (row, (id, c, r, w, h)) in table(&ran.out).iter().zip(RECTANGLES) {
            let want = inside((c, r, w, h), whole);
            assert_eq!(
                (row["id"].as_str(), row["ndvi_count"].as_str()),
                (id, want.len().to_string().as_str()),
                "{weight}"
            );
            if !want.is_empty() {
                let mean = want.iter().sum::<f64>() / want.len() as f64;
                assert!((row["ndvi_mean"].parse::<f64>().unwrap() - mean).abs() < 1e-6, "{weight} {id}");
            }
        }
    }
    drop(dir);
}

#[test]
fn kept_cells_only() {
    let (_dir, scenes, p) = season(3);
    let layer = layers(&scenes).remove("ndvi").unwrap();
    let ran = p.ok(&[
        "summarise",
        "scenes",
        "--index",
        "ndvi",
        "--plots",
        "plots.geojson",
        "--keep",
        "ndvi > 0.05",
        "--stats",
        "mean,kept_share,valid_share,count",
    ]);
    for (row, (_, c, r, w, h)) in table(&ran.out).iter().zip(RECTANGLES) {
        let all = shares(&layer, (c, r, w, h));
        let valid: Vec<_> = all.iter().filter(|v| !v.1.is_nan()).collect();
        let kept: Vec<_> = valid.iter().filter(|v| v.1 > 0.05).collect();
        let (weight, of) = (kept.iter().map(|v| v.0).sum::<f64>(), valid.iter().map(|v| v.0).sum::<f64>());
        let got = |s: &str| row[&format!("ndvi_{s}")].parse::<f64>().unwrap_or(f64::NAN);
        assert!(kept.len() < valid.len() || valid.len() < 5, "the condition cuts nothing: a test of nothing");
        assert!((got("kept_share") - weight / of).abs() < 1e-8);
        assert_eq!(got("count"), kept.len() as f64);
        if !kept.is_empty() {
            assert!((got("mean") - kept.iter().map(|v| v.0 * v.1).sum::<f64>() / weight).abs() < 1e-6);
        }
    }
}

#[test]
fn radiance_growth_at_least_and_the_choice_of_scenes() {
    let (dir, scenes, p) = season(4);
    p.ok(&["composite", "scenes", "--to", "radiance", "--bands", "red", "--drop", "fill", "--out", "r.tif"]);
    let plain = |s: &Tiny, i: usize| match s.counts(4)[i] {
        0 => f64::NAN,
        c if s.quality[i] & 1 == 0 => 1.25e-2 * f64::from(c) - 62.5,
        _ => f64::NAN,
    };
    let want: Vec<f64> = (0..COLS * ROWS).map(|i| median(scenes.iter().map(|s| plain(s, i)).collect())).collect();
    close(&values(&dir.path().join("r.tif"), 0), &want, 1e-4, "radiance");

    p.ok(&["composite", "scenes", "--bands", "nir", "--grow", "45m", "--at-least", "2", "--out", "g.tif"]);
    let masked = |s: &Tiny, x: i64, y: i64| {
        let flagged = |x: i64, y: i64, bits: u16| {
            (0..COLS as i64).contains(&x)
                && (0..ROWS as i64).contains(&y)
                && s.quality[y as usize * COLS + x as usize] & bits != 0
        };
        // 45 m reach the eight neighbours' nearer ones: (30² + 30²)½ = 42.4 m; fill does not grow
        flagged(x, y, 1) || (-1..=1).any(|dy| (-1..=1).any(|dx| flagged(x + dx, y + dy, 0x1E)))
    };
    let grown = |i: usize| {
        let clear = scenes.iter().filter(|s| !masked(s, (i % COLS) as i64, (i / COLS) as i64));
        let v: Vec<f64> = clear.map(|s| s.value(5, i)).filter(|v| !v.is_nan()).collect();
        if v.len() < 2 { f64::NAN } else { median(v) }
    };
    close(&values(&dir.path().join("g.tif"), 0), &(0..COLS * ROWS).map(grown).collect::<Vec<_>>(), 1e-7, "grown");

    p.ok(&[
        "composite",
        "scenes",
        "--bands",
        "nir",
        "--since",
        "2031-04-17",
        "--until",
        "2031-05-03",
        "--out",
        "s.tif",
    ]);
    close(&values(&dir.path().join("s.tif"), 0), &composite(&scenes[1..3], 5), 1e-7, "chosen by date");
}

#[test]
fn plots_in_longitude_and_latitude_lie_where_the_same_plots_in_utm_lie() {
    let (dir, scenes, p) = season(2);
    let utm: serde_json::Value = serde_json::from_str(&plots(scenes[0].corner, 25, &RECTANGLES)).unwrap();
    let mut geographic = utm.clone();
    geographic.as_object_mut().unwrap().remove("crs");
    for f in geographic["features"].as_array_mut().unwrap() {
        for at in f["geometry"]["coordinates"][0].as_array_mut().unwrap() {
            let (x, y) = (at[0].as_f64().unwrap(), at[1].as_f64().unwrap());
            // columns and rows of the made-up estate's grid: an independent inverse of the projection
            let (lon, lat) = telechroma_world::plots::longitude_latitude(
                (x - telechroma_world::CORNER.0) / 30.0,
                (telechroma_world::CORNER.1 - y) / 30.0,
            );
            *at = serde_json::json!([lon, lat]);
        }
    }
    std::fs::write(dir.path().join("geographic.geojson"), geographic.to_string()).unwrap();
    let run = |plots: &str| {
        table(&p.ok(&["summarise", "scenes", "--index", "ndvi", "--plots", plots, "--stats", "mean,valid_share"]).out)
    };
    for (a, b) in run("plots.geojson").iter().zip(run("geographic.geojson")) {
        let n = |r: &BTreeMap<String, String>, k: &str| r[k].parse::<f64>().unwrap();
        assert!((n(a, "ndvi_mean") - n(&b, "ndvi_mean")).abs() < 1e-5, "{a:?} {b:?}");
        assert!((n(a, "plot_coverage") - n(&b, "plot_coverage")).abs() < 1e-5);
    }
}

#[test]
fn scenes_that_overlap_in_part_make_one_grid() {
    let dir = tempfile::tempdir().unwrap();
    let p = crate::program(dir.path());
    // the second scene lies 11 cells east and 7 south of the first, the third 5 west and 4 north
    let shifts = [(0i64, 0i64), (11, 7), (-5, -4)];
    let scenes: Vec<Tiny> = shifts
        .iter()
        .enumerate()
        .map(|(n, (c, r))| {
            let mut s = Tiny::new(n as u8, COLS, ROWS);
            s.corner = (s.corner.0 + 30.0 * *c as f64, s.corner.1 - 30.0 * *r as f64);
            s.write(&dir.path().join("scenes"));
            s
        })
        .collect();
    p.ok(&["composite", "scenes", "--bands", "nir", "--out", "u.tif"]);
    let (cols, rows) = (COLS + 16, ROWS + 11);
    let (got, looks) = (values(&dir.path().join("u.tif"), 0), values(&dir.path().join("u.tif"), 1));
    assert_eq!(got.len(), cols * rows);
    for (i, g) in got.iter().enumerate() {
        let (c, r) = ((i % cols) as i64 - 5, (i / cols) as i64 - 4);
        let (mut seen, mut clear) = (vec![], 0.0);
        for (s, (dc, dr)) in scenes.iter().zip(shifts) {
            let (x, y) = (c - dc, r - dr);
            if (0..COLS as i64).contains(&x) && (0..ROWS as i64).contains(&y) {
                let at = y as usize * COLS + x as usize;
                seen.push(s.value(5, at));
                clear += if s.quality[at] & 0x1F == 0 { 1.0 } else { 0.0 };
            }
        }
        let want = median(seen);
        assert!(g.is_nan() && want.is_nan() || (f64::from(*g) - want).abs() < 1e-7, "{c} {r}: {g} {want}");
        assert_eq!(looks[i], clear, "{c} {r}");
    }
    // a plot that spans the union, one beyond every scene's own edge
    let corner = scenes[0].corner;
    let text = plots(corner, 25, &[("all", -5.0, -4.0, cols as f64, rows as f64), ("corner", -5.0, -4.0, 4.0, 4.0)]);
    std::fs::write(dir.path().join("u.geojson"), text).unwrap();
    let rows = table(
        &p.ok(&["summarise", "scenes", "--index", "ndvi", "--plots", "u.geojson", "--stats", "count,valid_share"]).out,
    );
    assert!(rows[0]["ndvi_count"].parse::<usize>().unwrap() > COLS * ROWS / 2);
    let corner =
        scenes[2].quality.iter().enumerate().filter(|(i, q)| i % COLS < 4 && i / COLS < 4 && **q & 0x1F == 0).count();
    let counted = rows[1]["ndvi_count"].parse::<usize>().unwrap();
    assert!(corner > 0 && counted <= corner && counted + 2 >= corner, "{counted} of {corner}"); // a few lack red
    assert_eq!(rows[0]["plot_coverage"], "1");
}
