//! Results appear complete or not at all; existing ones are safe.

use std::io::Write;
use std::process::Stdio;
use std::time::Duration;

use telechroma_testkit::program::files_below;
use telechroma_testkit::tiny::Tiny;

use crate::{program, season};

const CAMPAIGN: &str = "[composite]\nbands = \"all\"\n[layers]\nuse = [\"ndvi\"]\n[plots]\nfile = \"plots.geojson\"\n[output]\npictures = true\n";

#[test]
fn existing_results_are_refused_without_overwrite_and_kept_where_a_run_fails() {
    let (dir, _scenes, p) = season(2);
    std::fs::write(dir.path().join("c.toml"), CAMPAIGN).unwrap();
    p.ok(&["run", "c.toml"]);
    let before = files_below(&dir.path().join("results"));
    p.fails(&["run", "c.toml"], 2, &["composite_all.tif: exists already and is not replaced", "--overwrite"]);
    assert_eq!(files_below(&dir.path().join("results")), before);
    // a run that fails half way leaves the earlier results as they are
    let tar = dir.path().join("scenes").join(format!("{}.tar", Tiny::new(1, 40, 30).id()));
    let bytes = std::fs::read(&tar).unwrap();
    let mut damaged = bytes.clone();
    damaged[1024..3000].fill(0xAA); // inside the first band
    std::fs::write(&tar, damaged).unwrap();
    p.fails(&["run", "c.toml", "--overwrite"], 1, &[".tar"]);
    assert_eq!(files_below(&dir.path().join("results")), before);
    std::fs::write(&tar, bytes).unwrap();
    p.ok(&["run", "c.toml", "--overwrite"]);
    let strip = |mut f: std::collections::BTreeMap<String, Vec<u8>>| {
        f.remove("run.json");
        f
    };
    assert_eq!(strip(files_below(&dir.path().join("results"))), strip(before));
    p.fails(&["mask", "scenes", "--out", "results/tables/plots.csv/m"], 1, &["results/tables/plots.csv"]);
}

#[test]
fn killed_at_any_moment_no_half_file_has_a_final_name_and_the_next_run_cleans_up() {
    let dir = tempfile::tempdir().unwrap();
    for n in 0..3 {
        Tiny::new(n, 900, 700).write(&dir.path().join("scenes"));
    }
    std::fs::write(dir.path().join("c.toml"), "[composite]\nbands = \"all\"\n[layers]\nuse = [\"ndvi\", \"lst\"]\n")
        .unwrap();
    let p = program(dir.path());
    let out = dir.path().join("results");
    let mut caught = 0;
    for ms in [5, 20, 40, 60, 80, 100, 130, 160, 200, 250, 300] {
        let _ = std::fs::remove_dir_all(&out);
        let mut child = p.command(&["run", "c.toml", "-q"]).stderr(Stdio::null()).spawn().unwrap();
        std::thread::sleep(Duration::from_millis(ms));
        let done = child.try_wait().unwrap().is_some();
        let _ = child.kill();
        let status = child.wait().unwrap();
        let names: Vec<String> = if out.exists() { files_below(&out).into_keys().collect() } else { vec![] };
        let finals = names.iter().filter(|n| !n.starts_with(".unfinished-")).count();
        if done || status.success() {
            continue;
        }
        caught += 1;
        // renaming is the last moment: what has its final name then is whole
        for n in names.iter().filter(|n| n.ends_with(".tif") && !n.starts_with('.')) {
            crate::values(&out.join(n), 0);
        }
        assert!(finals <= 4, "{names:?}");
    }
    assert!(caught >= 2, "no run was caught in the act");
    p.ok(&["run", "c.toml", "-q", "--overwrite"]);
    assert!(files_below(&out).keys().all(|n| !n.starts_with('.')), "what a killed run left is gone");
}

#[test]
#[cfg(unix)]
fn an_interrupt_ends_with_130_and_leaves_nothing() {
    let dir = tempfile::tempdir().unwrap();
    for n in 0..4 {
        Tiny::new(n, 1500, 1200).write(&dir.path().join("scenes"));
    }
    let p = program(dir.path());
    let mut caught = false;
    for ms in [60, 120, 30, 200, 350] {
        let child = p
            .command(&["composite", "scenes", "-q", "--threads", "1", "--out", "out"])
            .stderr(Stdio::piped())
            .spawn()
            .unwrap();
        std::thread::sleep(Duration::from_millis(ms));
        std::process::Command::new("kill").args(["-INT", &child.id().to_string()]).status().unwrap();
        let ended = child.wait_with_output().unwrap();
        if ended.status.code() == Some(130) {
            assert!(String::from_utf8_lossy(&ended.stderr).contains("interrupted"));
            assert!(!dir.path().join("out").exists());
            caught = true;
            break;
        }
        let _ = std::fs::remove_dir_all(dir.path().join("out"));
    }
    assert!(caught, "no run was interrupted in the act");
}

#[test]
#[cfg(unix)]
fn a_full_disk_is_said_and_nothing_stays() {
    let dir = tempfile::tempdir().unwrap();
    for n in 0..2 {
        Tiny::new(n, 700, 600).write(&dir.path().join("scenes"));
    }
    // a limit on the size of files stands in for a full disk: writing fails in the middle
    let exe = env!("CARGO_BIN_EXE_telechroma");
    let ran = std::process::Command::new("sh")
        .current_dir(dir.path())
        .args(["-c", &format!("trap '' XFSZ; ulimit -f 200; exec {exe} composite scenes --out out")])
        .output()
        .unwrap();
    let err = String::from_utf8_lossy(&ran.stderr).into_owned();
    assert_eq!(ran.status.code(), Some(1), "{err}");
    assert!(err.contains("error: out/.unfinished-") || err.contains("error: out"), "{err}");
    assert!(!err.contains("panicked"), "{err}");
    assert!(!dir.path().join("out").exists());
}

#[test]
fn an_output_folder_that_cannot_be_made_is_named() {
    let (dir, _scenes, p) = season(1);
    std::fs::write(dir.path().join("taken"), "a file").unwrap();
    p.fails(&["composite", "scenes", "--out", "taken/deeper"], 1, &["taken/deeper"]);
    std::fs::create_dir(dir.path().join("c.tif")).unwrap();
    p.fails(&["composite", "scenes", "--out", "c.tif"], 2, &["is a folder"]);
}

#[test]
#[cfg(unix)]
fn a_reader_that_goes_away_is_not_an_error() {
    let (_dir, _scenes, p) = season(1);
    let mut child = p.command(&["inspect", "scenes"]).stdout(Stdio::piped()).stderr(Stdio::piped()).spawn().unwrap();
    drop(child.stdout.take());
    let ended = child.wait_with_output().unwrap();
    assert_eq!(ended.status.code(), Some(0), "{}", String::from_utf8_lossy(&ended.stderr));
    std::io::stderr().flush().unwrap();
}

#[test]
fn rasters_say_how_they_were_made() {
    let (dir, scenes, p) = season(2);
    p.ok(&["index", "scenes", "lst", "--grow", "60m", "--out", "lst.tif"]);
    let bytes = telechroma_io::bytes::ByteRange::whole(&dir.path().join("lst.tif")).unwrap();
    let tiff = telechroma_io::raster::tiff::Tiff::open(bytes).unwrap();
    let d: serde_json::Value = serde_json::from_str(tiff.header.description.as_deref().unwrap()).unwrap();
    assert!(d["tool"].as_str().unwrap().starts_with("telechroma "));
    assert_eq!((d["bands"][0]["name"].as_str(), d["bands"][0]["unit"].as_str()), (Some("lst"), Some("K")));
    assert!(d["bands"][0]["formula"].as_str().unwrap().contains("lwir11 / (1 +"));
    assert_eq!(d["inputs"][1]["id"].as_str().unwrap(), scenes[1].id());
    assert!(d["inputs"][1]["digest"].as_str().unwrap().starts_with("sha256:"));
    assert_eq!(d["steps"][1], "drop fill, dilated, cirrus, cloud, shadow; clouds and shadows grown by 60m");
}
