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
