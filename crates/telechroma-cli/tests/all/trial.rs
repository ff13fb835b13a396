//! The demo's trial: plots laid, fitted to the mosaic, joined, summarised, drawn; and the season as series.

use telechroma_testkit::program::Program;

use crate::program;

use crate::estate::demo;

/// A copy of the demo's files that a test may write beside.
fn trial() -> (tempfile::TempDir, Program) {
    let dir = tempfile::tempdir().unwrap();
    for file in ["mosaic_20310706.tif", "mosaic_20310706.tif.toml", "design.csv", "harvest.csv"] {
        std::fs::copy(demo().join("trial").join(file), dir.path().join(file)).unwrap();
    }
    let p = program(dir.path());
    let (x, y) = telechroma_world::trial::origin();
    p.ok(&[
        "plots",
        "lay",
        "--origin",
        &format!("{x},{y}"),
        "--crs",
        "EPSG:32625",
        "--size",
        "1.5m,6m",
        "--alley",
        "0.5m,1m",
        "--count",
        "12,5",
        "--angle",
        "11",
        "--design",
        "design.csv",
        "--out",
        "plots.gpkg",
    ]);
    (dir, p)
}

#[test]
fn plots_are_laid_fitted_joined_and_summarised() {
    let (dir, p) = trial();
    // as handed out they lie beside what grows; the proposal finds it and moves nothing unasked
    let said = p
        .ok(&[
            "plots",
            "align",
            "plots.gpkg",
            "mosaic_20310706.tif",
            "ndvi",
            "--unmasked",
            "--json",
            "--picture",
            "fit.png",
        ])
        .out;
    let said: serde_json::Value = serde_json::from_str(&said).unwrap();
    let n = |key: &str| said["proposal"][key].as_f64().unwrap();
    let (east, north, turn) = telechroma_world::trial::OFFSET;
    assert!((n("east_m") - east).hypot(n("north_m") - north) < 0.5 && (n("turn_deg") - turn).abs() < 0.2, "{said}");
    assert_eq!(said["doubts"].as_array().unwrap().len(), 0, "{said}");
    assert!(dir.path().join("fit.png").exists() && !dir.path().join("moved.gpkg").exists());
    p.ok(&["plots", "align", "plots.gpkg", "mosaic_20310706.tif", "ndvi", "--unmasked", "--out", "moved.gpkg"]);
    // doubt keeps the plots where they are
    let doubt = [
        "plots",
        "align",
        "plots.gpkg",
        "mosaic_20310706.tif",
        "ndvi",
        "--unmasked",
        "--reach",
        "1m",
        "--out",
        "no.gpkg",
    ];
    p.fails(&doubt, 1, &["in doubt"]);
    let checked = p.ok(&["plots", "check", "moved.gpkg", "mosaic_20310706.tif"]).out;
    assert!(checked.contains("60 plots, cells of 0.1 m") && checked.contains("no pairs of plots overlap"), "{checked}");
    let joined = p.ok(&["plots", "join", "moved.gpkg", "harvest.csv", "--out", "all.gpkg"]);
    assert!(joined.err.contains("the table has no row for 2 plots (17, 44)"), "{}", joined.err);
    // what is measured follows what was planted
    let rows = |plots: &str| {
        let out = p
            .ok(&[
                "summarise",
                "mosaic_20310706.tif",
                "--index",
                "ndvi",
                "--plots",
                plots,
                "--unmasked",
                "--inset",
                "0.2m",
                "--stats",
                "mean,sd",
            ])
            .out;
        crate::table(&out)
    };
    let truth = telechroma_world::trial::plots(2031);
    let correlation = |rows: &[std::collections::BTreeMap<String, String>]| {
        let pairs: Vec<(f64, f64)> =
            rows.iter().zip(&truth).map(|(r, t)| (r["ndvi_mean"].parse().unwrap(), t.cover)).collect();
        let n = pairs.len() as f64;
        let mean = |pick: fn(&(f64, f64)) -> f64| pairs.iter().map(pick).sum::<f64>() / n;
        let (mx, my) = (mean(|p| p.0), mean(|p| p.1));
        let s = |f: &dyn Fn(&(f64, f64)) -> f64| pairs.iter().map(f).sum::<f64>();
        s(&|p| (p.0 - mx) * (p.1 - my)) / (s(&|p| (p.0 - mx).powi(2)) * s(&|p| (p.1 - my).powi(2))).sqrt()
    };
    let (moved, given) = (rows("all.gpkg"), rows("plots.gpkg"));
    assert!(correlation(&moved) > 0.97, "{}", correlation(&moved));
    assert!(correlation(&given) < 0.9, "beside their place: {}", correlation(&given));
    assert_eq!((moved[0]["sown"].as_str(), moved[16]["harvest_t_ha"].as_str()), (truth[0].sown, ""));
    for (by, out) in [("sown", "a.png"), ("harvest_t_ha", "b.png")] {
        p.ok(&["draw", "plots", "all.gpkg", "--by", by, "--out", out]);
    }
    p.fails(&["draw", "plots", "all.gpkg", "--by", "harvst", "--out", "c.png"], 2, &["known: fid, plot"]);
}

#[test]
fn plots_are_picked_ringed_scattered_and_written_in_other_formats() {
    let (dir, p) = trial();
    p.ok(&["plots", "pick", "plots.gpkg", "--only", "nitrogen_kg_ha = 120", "--out", "some.shp"]);
    for ending in ["shp", "dbf", "shx", "prj", "cpg"] {
        assert!(dir.path().join(format!("some.{ending}")).exists(), "{ending}");
    }
    p.ok(&["plots", "pick", "plots.gpkg", "--dissolve", "sown", "--out", "sown.parquet"]);
    let count = |file: &str| {
        let json = p.ok(&["plots", "check", file, "mosaic_20310706.tif", "--id", "plot", "--json"]).out;
        serde_json::from_str::<serde_json::Value>(&json).unwrap()["plots"].as_array().unwrap().len()
    };
    assert_eq!(count("some.shp"), 12);
    p.fails(
        &["plots", "pick", "plots.gpkg", "--only", "nitrogen_kg_ha = 7", "--out", "x.gpkg"],
        2,
        &["none of the 60"],
    );
    p.fails(&["plots", "pick", "plots.gpkg", "--only", "nitrogn > 7", "--out", "x.gpkg"], 2, &["nitrogen_kg_ha"]);
    // points, the same again for the same seed
    for out in ["a.csv", "b.csv"] {
        p.ok(&["plots", "scatter", "plots.gpkg", "--each", "2", "--apart", "0.5m", "--out", out]);
    }
    let text = |f: &str| std::fs::read_to_string(dir.path().join(f)).unwrap();
    assert_eq!(text("a.csv"), text("b.csv"));
    assert_eq!(text("a.csv").lines().count(), 121);
    p.fails(
        &["plots", "scatter", "plots.gpkg", "--each", "900", "--apart", "1m", "--out", "x.csv"],
        2,
        &["do not fit"],
    );
    let xy = ["--plots-xy", "x,y", "--plots-crs", "EPSG:32625"];
    p.ok(&[&["plots", "ring", "a.csv", "--by", "0.5m", "--out", "rings.gpkg"][..], &xy].concat());
    p.fails(&["plots", "ring", "a.csv", "--by", "0.5m", "--out", "x.gpkg"], 2, &["--plots-xy"]);
    p.fails(&["plots", "ring", "a.csv", "--by", "5", "--out", "x.gpkg"], 2, &["5m"]);
    // points are plots too: the value of the cell they lie in
    let summarised = [
        "summarise",
        "mosaic_20310706.tif",
        "--index",
        "ndvi",
        "--unmasked",
        "--plots",
        "a.csv",
        "--id",
        "sample",
        "--stats",
        "mean,count",
    ];
    let rows = crate::table(&p.ok(&[&summarised[..], &xy].concat()).out);
    assert_eq!(rows.len(), 120);
    assert!(rows.iter().all(|r| r["ndvi_count"] == "1" && r["ndvi_mean"].parse::<f64>().unwrap() > 0.0));
}

#[test]
fn grids_follow_a_line_or_a_polygon() {
    let dir = tempfile::tempdir().unwrap();
    let p = program(dir.path());
    let line = r#"{"type":"FeatureCollection","crs":{"type":"name","properties":{"name":"urn:ogc:def:crs:EPSG::32625"}},
        "features":[{"type":"Feature","properties":{},"geometry":{"type":"LineString",
        "coordinates":[[503990,4400700],[504030,4400710],[504020,4400730]]}}]}"#;
    std::fs::write(dir.path().join("line.geojson"), line).unwrap();
    let plain = ["--size", "2m,5m", "--count", "6,4", "--origin", "503985,4400715", "--crs", "EPSG:32625"];
    let lay = |more: &[&str]| p.ok(&[&["plots", "lay"][..], more].concat());
    lay(&[&plain[..], &["--along", "line.geojson", "--out", "along.gpkg"]].concat());
    // from its beginning to its end: 30 m east, 30 m north
    lay(&[&plain[..], &["--angle", "45", "--out", "angle.gpkg"]].concat());
    let shapes = |f: &str| {
        p.ok(&["plots", "pick", f, "--out", &format!("{f}.geojson")]);
        let text = std::fs::read_to_string(dir.path().join(format!("{f}.geojson"))).unwrap();
        let json: serde_json::Value = serde_json::from_str(&text).unwrap();
        json["features"].as_array().unwrap().iter().map(|f| f["geometry"].clone()).collect::<Vec<_>>()
    };
    let (along, angle) = (shapes("along.gpkg"), shapes("angle.gpkg"));
    assert_eq!((along.len(), &along), (24, &angle));
    p.fails(
        &[&["plots", "lay"], &plain[..], &["--along", "along.gpkg", "--out", "x.gpkg"]].concat(),
        2,
        &["along.gpkg: holds no line"],
    );
    // within the hull of the grid itself every plot has room, and with wider alleys fewer have
    p.ok(&["plots", "pick", "along.gpkg", "--dissolve", "block", "--out", "hull.gpkg"]);
    let within = ["--within", "hull.gpkg", "--size", "2m,5m"];
    lay(&[&within[..], &["--along", "line.geojson", "--out", "all.gpkg"]].concat());
    lay(&[&within[..], &["--along", "line.geojson", "--alley", "1m,1m", "--out", "fewer.gpkg"]].concat());
    assert_eq!((shapes("all.gpkg").len(), shapes("fewer.gpkg").len()), (24, 4 * 3));
    // a few lie in the middle
    lay(&[&within[..2], &["--size", "2m,5m", "--count", "2,2", "--along", "line.geojson", "--out", "few.gpkg"]]
        .concat());
    let mean = |shapes: &[serde_json::Value], axis: usize| {
        let all: Vec<f64> = shapes
            .iter()
            .flat_map(|s| s["coordinates"][0].as_array().unwrap()[..4].iter().map(|p| p[axis].as_f64().unwrap()))
            .collect();
        all.iter().sum::<f64>() / all.len() as f64
    };
    let few = shapes("few.gpkg");
    assert_eq!(few.len(), 4);
    assert!((0..2).all(|axis| (mean(&few, axis) - mean(&angle, axis)).abs() < 1e-7), "{few:?}");
    p.fails(&[&["plots", "lay"][..], &within[..2], &["--size", "90m,5m", "--out", "x.gpkg"]].concat(), 2, &["whole"]);
}

#[test]
fn points_outside_keep_their_rows_and_quantiles_beyond_the_memory_are_refused() {
    let (dir, p) = trial();
    let (x, y) = telechroma_world::trial::origin();
    std::fs::write(dir.path().join("p.csv"), format!("spot,e,n\na,{},{}\nb,0,0\nc,,\n", x + 3.0, y + 3.0)).unwrap();
    let base = ["summarise", "mosaic_20310706.tif", "--index", "ndvi", "--unmasked"];
    let points = ["--plots", "p.csv", "--plots-xy", "e,n", "--plots-crs", "EPSG:32625", "--id", "spot"];
    p.fails(&[&base[..], &points].concat(), 1, &["plot c is without a shape"]);
    std::fs::write(dir.path().join("p.csv"), format!("spot,e,n\na,{},{}\nb,0,0\n", x + 3.0, y + 3.0)).unwrap();
    let rows = crate::table(&p.ok(&[&base[..], &points].concat()).out);
    let said: Vec<_> = rows.iter().map(|r| (r["ndvi_mean"].is_empty(), r["plot_note"].as_str())).collect();
    assert_eq!(said, [(false, ""), (true, "outside")]);
    // all cells of a plot that covers the mosaic do not fit
    p.ok(&["plots", "ring", "plots.gpkg", "--by", "30m", "--out", "rings.gpkg"]);
    let large = ["--plots", "rings.gpkg", "--id", "plot", "--memory", "64MB", "--stats"];
    p.fails(&[&base[..], &large, &["median"]].concat(), 2, &["--memory"]);
    p.ok(&[&base[..], &large, &["mean"]].concat());
}

#[test]
fn trends_are_of_one_value_a_year() {
    let dir = tempfile::tempdir().unwrap();
    let p = program(dir.path());
    let square = r#"{"type":"FeatureCollection","crs":{"type":"name","properties":{"name":"urn:ogc:def:crs:EPSG::32625"}},
        "features":[{"type":"Feature","properties":{"id":"a"},"geometry":{"type":"Polygon",
        "coordinates":[[[400005,4399965],[400035,4399965],[400035,4399995],[400005,4399995],[400005,4399965]]]}}]}"#;
    std::fs::write(dir.path().join("a.geojson"), square).unwrap();
    std::fs::create_dir(dir.path().join("years")).unwrap();
    // 0.30, 0.32 … with a wild year, on the first of July
    for (i, v) in [3000u16, 3200, 3400, 9000, 3800, 4000].iter().enumerate() {
        let raw = dir.path().join(format!("years/y{i}.bin"));
        std::fs::write(&raw, [v.to_le_bytes(); 16].concat()).unwrap();
        let sidecar = format!(
            "crs = \"EPSG:32625\"\ndate = \"{}-07-01\"\ncorner = [400000.0, 4400000.0]\ncell = [10.0, 10.0]\nscale = 0.0001\n\
             unit = \"reflectance\"\nnames = [\"nir\"]\n[raw]\nrows = 4\ncols = 4\nbands = 1\ntype = \"uint16\"\norder = \"band-sequential\"\nbyte_order = \"little\"\nskip = 0\n",
            2026 + i
        );
        std::fs::write(raw.with_extension("bin.toml"), sidecar).unwrap();
    }
    let base = ["series", "years", "--plots", "a.geojson", "--unmasked", "--gap", "400", "--overwrite"];
    p.ok(&[&base[..], &["--trends", "t.csv"]].concat());
    let text = |f: &str| std::fs::read_to_string(dir.path().join(f)).unwrap();
    let row = crate::table(&text("t.csv")).remove(0);
    assert_eq!((row["years"].as_str(), row["first_year"].as_str(), row["last_year"].as_str()), ("6", "2026", "2031"));
    let number = |key: &str| row[key].parse::<f64>().unwrap();
    // days of leap years count
    assert!((number("slope") - 0.02).abs() < 1e-4 && number("s") == 11.0, "{row:?}");
    assert!((number("z") - 10.0 / (6.0 * 5.0 * 17.0 / 18.0f64).sqrt()).abs() < 1e-6 && row["note"].is_empty());
    // a second look in a year is a season, not a trend
    std::fs::copy(dir.path().join("years/y0.bin"), dir.path().join("years/z.bin")).unwrap();
    let again = text("years/y0.bin.toml").replace("07-01", "08-01");
    std::fs::write(dir.path().join("years/z.bin.toml"), again).unwrap();
    p.ok(&[&base[..], &["--trends", "t.csv"]].concat());
    let row = crate::table(&text("t.csv")).remove(0);
    assert!(row["slope"].is_empty() && row["years"] == "6" && row["note"].contains("of one a year"), "{row:?}");
    let few = ["series", "years/y0.bin", "years/y1.bin", "--plots", "a.geojson", "--unmasked", "--trends", "f.csv"];
    p.ok(&few);
    assert!(crate::table(&text("f.csv"))[0]["note"].contains("fewer than 4 years"));
}

#[test]
fn tables_have_the_form_and_the_format_asked_for() {
    let (dir, p) = trial();
    let base = [
        "summarise",
        "mosaic_20310706.tif",
        "--index",
        "ndvi,ndre",
        "--unmasked",
        "--plots",
        "plots.gpkg",
        "--stats",
        "mean",
    ];
    let with = |more: &[&str]| p.ok(&[&base[..], more].concat());
    let tidy = crate::table(&with(&["--rows", "layer"]).out);
    assert_eq!((tidy.len(), tidy[1]["layer"].as_str()), (120, "ndre"));
    let local = with(&["--separator", ";", "--decimal", ","]).out;
    assert!(local.lines().nth(1).unwrap().contains(";0,"), "{local}");
    p.fails(&[&base[..], &["--decimal", ","]].concat(), 2, &["--separator ';'"]);
    for ending in ["csv", "jsonl", "parquet", "gpkg", "geojson", "shp", "geoparquet"] {
        with(&["--out", &format!("t.{ending}"), "--overwrite"]);
        assert!(dir.path().join(format!("t.{ending}")).exists(), "{ending}");
    }
    let lines = std::fs::read_to_string(dir.path().join("t.jsonl")).unwrap();
    let first: serde_json::Value = serde_json::from_str(lines.lines().next().unwrap()).unwrap();
    let shown = crate::table(&with(&[]).out);
    assert_eq!(first["ndvi_mean"].as_f64().unwrap(), shown[0]["ndvi_mean"].parse::<f64>().unwrap());
    // the joined columns come back by name
    p.ok(&["draw", "plots", "t.gpkg", "--by", "ndre_mean", "--out", "a.png"]);
    let bins = crate::table(&p.ok(&[&base[..7], &["--histogram", "0,1,4"]].concat()).out);
    let sum: f64 = ["0_to_0.25", "0.25_to_0.5", "0.5_to_0.75", "0.75_to_1"]
        .iter()
        .map(|b| bins[0][&format!("ndvi_from_{b}")].parse::<f64>().unwrap())
        .sum();
    assert!((sum - 1.0).abs() < 1e-6, "{sum}");
}

#[test]
fn the_season_of_crops_and_the_reasons_of_what_is_missing() {
    let dir = tempfile::tempdir().unwrap();
    let p = program(dir.path());
    let (scenes, fields) = (demo().join("scenes"), demo().join("fields.geojson"));
    let base = ["series", scenes.to_str().unwrap(), "--index", "ndvi", "--plots", fields.to_str().unwrap()];
    let with = |more: &[&str]| p.ok(&[&base[..], more].concat());
    let rows = crate::table(&with(&[]).out);
    assert_eq!(rows.len(), 40 * 10, "every field on every date");
    let unused: Vec<_> = rows.iter().filter(|r| r["used"] == "false").collect();
    assert!(!unused.is_empty() && unused.iter().all(|r| !r["note"].is_empty()));
    assert!(rows.iter().all(|r| r["value"].is_empty() == r["note"].contains("no clear cell")));
    assert!(rows.iter().any(|r| r["note"].contains("% seen, 75 % needed")));
    // the crops' seasons come in the order in which they were sown
    let more = [
        "--by",
        "crop",
        "--smooth",
        "whittaker",
        "--seasons",
        "s.csv",
        "--out",
        "t.csv",
        "--curves",
        "c.csv",
        "--chart",
        "c.svg",
    ];
    with(&more);
    let text = |f: &str| std::fs::read_to_string(dir.path().join(f)).unwrap();
    let seasons = crate::table(&text("s.csv"));
    let peak = |crop: &str| seasons.iter().find(|r| r["crop"] == crop).unwrap()["peak"].clone();
    assert!(peak("flax") < peak("buckwheat") && peak("lupin") < peak("buckwheat"), "{seasons:?}");
    let groups = crate::table(&text("t.csv"));
    assert_eq!(groups.len(), 4 * 10);
    // the mean of a group is that of its plots' used values
    let july = rows.iter().filter(|r| r["date"] == "2031-07-27" && r["used"] == "true").count();
    let total: i64 =
        groups.iter().filter(|r| r["date"] == "2031-07-27").map(|r| r["plots"].parse::<i64>().unwrap()).sum();
    assert_eq!(total, july as i64);
    assert!(text("c.svg").contains("buckwheat") && text("c.csv").lines().count() > 4 * 150);
    // windows of one year laid over each other, and no year to compare with
    let rows = crate::table(&with(&["--windows", "2031-04..2031-06,2031-07..2031-10", "--anomaly"]).out);
    assert!(
        rows.iter().any(|r| r["window"] == "2031-07-01..2031-10-31")
            && rows.iter().all(|r| r["z"].is_empty() && r["years"] == "0")
    );
    p.fails(&[&base[..], &["--smooth", "splines"]].concat(), 2, &["savitzky-golay:31"]);
    p.fails(&[&base[..], &["--every", "all"]].concat(), 2, &["is no series"]);
    p.fails(&[&base[..], &["--out", "t.csv"]].concat(), 2, &["exists already"]);
    p.fails(&[&base[..], &["--chart", "t.pdf"]].concat(), 2, &["svg"]);
}
