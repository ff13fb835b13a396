//! The made-up estate on the disk, written once for all tests of this program, and the demo.

use std::path::{Path, PathBuf};
use std::sync::OnceLock;

use crate::program;

/// The folder of the estate with its finished campaign, as `demo` leaves it.
pub fn demo() -> &'static Path {
    static ESTATE: OnceLock<PathBuf> = OnceLock::new();
    ESTATE.get_or_init(|| {
        // earlier runs' estates go, unless their process still lives
        let tmp = Path::new(env!("CARGO_TARGET_TMPDIR"));
        for old in std::fs::read_dir(tmp).unwrap().flatten() {
            let name = old.file_name().to_string_lossy().into_owned();
            let lives = |pid: &str| Path::new("/proc").join(pid).exists();
            if name.strip_prefix("estate-").is_some_and(|pid| !lives(pid)) {
                let _ = std::fs::remove_dir_all(old.path());
            }
        }
        let dir = tmp.join(format!("estate-{}", std::process::id()));
        let _ = std::fs::remove_dir_all(&dir);
        std::fs::create_dir_all(&dir).unwrap();
        program(&dir).ok(&["demo", "th"]);
        dir.join("th")
    })
}

#[test]
fn the_demo_does_the_whole_job() {
    let th = demo();
    let p = program(th);
    let deliveries = std::fs::read_dir(th.join("scenes")).unwrap().count();
    assert_eq!(deliveries, 10);
    let tars = std::fs::read_dir(th.join("scenes"))
        .unwrap()
        .flatten()
        .filter(|e| e.path().extension().is_some_and(|x| x == "tar"))
        .count();
    assert!((2..10).contains(&tars));
    let record: serde_json::Value =
        serde_json::from_slice(&std::fs::read(th.join("results/run.json")).unwrap()).unwrap();
    assert_eq!(record["inputs"].as_array().unwrap().len(), 10);
    assert_eq!(record["counts"]["blocks_decoded_again"], 0);
    for o in record["outputs"].as_array().unwrap() {
        assert!(th.join("results").join(o["path"].as_str().unwrap()).is_file(), "{o}");
    }
    let rows = crate::table(&std::fs::read_to_string(th.join("results/tables/fields.csv")).unwrap());
    assert_eq!(rows.len(), 40 * 7);
    assert_eq!(rows.iter().filter(|r| r["plot_note"].starts_with("partly outside")).count(), 2 * 7);
    // beside the campaign: crops through the season, and the trial with its harvest
    let seasons = crate::table(&std::fs::read_to_string(th.join("results/tables/seasons.csv")).unwrap());
    assert_eq!(seasons.iter().map(|r| r["crop"].as_str()).collect::<Vec<_>>(), ["buckwheat", "flax", "hay", "lupin"]);
    for made in ["pictures/season.png", "pictures/trial_fit.png", "pictures/trial_ndvi.png", "plots/trial.gpkg"] {
        assert!(th.join("results").join(made).is_file(), "{made}");
    }
    // the demo may be run again over itself, but not over somebody's files
    p.ok(&["run", "campaign.toml", "--dry-run"]);
    p.ok(&["run", "campaign.toml", "--overwrite", "-q"]);
    let other = tempfile::tempdir().unwrap();
    std::fs::write(other.path().join("campaign.toml"), "mine").unwrap();
    program(other.path()).fails(&["demo", "."], 2, &["holds other files"]);
    assert_eq!(std::fs::read_to_string(other.path().join("campaign.toml")).unwrap(), "mine");
}

#[test]
fn a_dry_run_reads_no_cell_writes_nothing_and_tells_the_plan() {
    let th = demo();
    let p = program(th);
    let ran = p.ok(&["run", "campaign.toml", "--dry-run", "--out", "nowhere"]);
    assert!(!th.join("nowhere").exists());
    for says in [
        "10 scenes",
        "700 x 600 cells of 30 x 30 m",
        "2031-06 (2)",
        "MB at most with",
        "to read, rasters of",
        "layers/ndvi_",
        "[mask]",
        "grow = \"60m\"",
        "at_least = 1",
    ] {
        assert!(ran.out.contains(says), "'{says}' is not in\n{}", ran.out);
    }
    let j: serde_json::Value =
        serde_json::from_str(&p.ok(&["run", "campaign.toml", "--dry-run", "--json"]).out).unwrap();
    assert_eq!(j["plans"][0]["scenes"].as_array().unwrap().len(), 10);
    assert_eq!(j["plans"][0]["decodes_again"], false);
    // what is shown as settings is a campaign file, and the same one
    let settings: String = ran
        .out
        .lines()
        .skip_while(|l| !l.starts_with("Settings"))
        .skip(1)
        .take_while(|l| l.is_empty() || l.starts_with("  "))
        .map(|l| format!("{}\n", l.trim_start()))
        .collect();
    std::fs::write(th.join("shown.toml"), &settings).unwrap();
    let again = p.ok(&["run", "shown.toml", "--dry-run", "--out", "nowhere"]);
    let of = |t: &str| t.lines().skip_while(|l| !l.starts_with("Settings")).map(String::from).collect::<Vec<_>>();
    assert_eq!(of(&again.out), of(&ran.out));
}
