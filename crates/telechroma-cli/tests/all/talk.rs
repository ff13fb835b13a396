//! What is said where: results on standard output, talk on standard error, JSON, colour, quiet.

use crate::{season, table};

#[test]
fn results_and_talk_go_their_own_ways() {
    let (_dir, _scenes, p) = season(2);
    let args = ["summarise", "scenes", "--index", "ndvi,ndwi", "--plots", "plots.geojson"];
    let loud = p.ok(&args);
    assert!(loud.err.contains("raw scenes: calibrated to toa"), "{}", loud.err);
    assert!(loud.err.contains("ndwi is McFeeters' open-water index"), "{}", loud.err);
    assert!(!loud.out.contains("raw scenes") && table(&loud.out).len() == 4);
    let quiet = p.ok(&[&args[..], &["-q"]].concat());
    assert_eq!((quiet.out.as_str(), quiet.err.as_str()), (loud.out.as_str(), ""));
    let verbose = p.ok(&["composite", "scenes", "-v", "--out", "c.tif"]).err;
    for says in ["blocks decoded (0 again)", "planned memory", "read and decode"] {
        assert!(verbose.contains(says), "'{says}' is not in\n{verbose}");
    }
}

#[test]
fn every_command_speaks_json_on_request_one_object_each() {
    let (_dir, _scenes, p) = season(2);
    let one = |args: &[&str]| -> serde_json::Value {
        let ran = p.ok(&[args, &["--json"]].concat());
        serde_json::from_str(&ran.out).unwrap_or_else(|e| panic!("{args:?}: {e}\n{}", ran.out))
    };
    let composite = one(&["composite", "scenes", "--out", "c.tif"]);
    assert_eq!(
        (composite["outputs"][0]["kind"].as_str(), composite["outputs"][0]["path"].as_str()),
        (Some("composite"), Some("c.tif"))
    );
    assert!(composite["counts"]["blocks_decoded"].as_u64().unwrap() > 0);
    assert!(composite["measured"]["peak_bytes"].as_u64().unwrap() > 1_000_000);
    let index = one(&["index", "c.tif", "ndvi", "lst", "--out", "i"]);
    let units: Vec<&str> = index["outputs"].as_array().unwrap().iter().map(|o| o["unit"].as_str().unwrap()).collect();
    assert_eq!(units, ["1", "K"]);
    let rows = one(&["summarise", "c.tif", "--index", "ndvi", "--plots", "plots.geojson"]);
    assert_eq!(rows["rows"].as_array().unwrap().len(), 4);
    assert_eq!(rows["rows"][0]["id"], "a");
    assert!(rows["rows"][0]["ndvi_mean"].is_number());
    one(&["calibrate", "scenes", "--out", "cal"]);
    one(&["mask", "scenes", "--out", "m"]);
    one(&["draw", "map", "c.tif", "ndvi", "--out", "n.png"]);
    assert_eq!(one(&["inspect", "c.tif", "m", "scenes"])["inspected"].as_array().unwrap().len(), 1 + 2 + 2);
    assert!(one(&["indices", "list"]).as_array().unwrap().len() >= 8);
    assert_eq!(one(&["sensors", "show", "landsat-oli-tirs"])["bands"].as_array().unwrap().len(), 12);
}

#[test]
fn colour_only_where_it_is_wanted() {
    let (_dir, _scenes, p) = season(1);
    let args = ["index", "scenes", "nvdi", "--out", "o"];
    assert!(!p.run(&args).err.contains('\x1b'), "no terminal, no colour");
    assert!(p.run(&[&args[..], &["--color", "always"]].concat()).err.contains("\x1b[31;1merror:"));
    let env = p.command(&args).env("NO_COLOR", "1").output().unwrap();
    assert!(!String::from_utf8_lossy(&env.stderr).contains('\x1b'));
}

#[test]
fn threads_by_option_or_by_environment() {
    let (_dir, _scenes, p) = season(1);
    let threads = |env: Option<&str>, option: &[&str]| {
        let mut c = p.command(&[&["composite", "scenes", "--json", "--overwrite", "--out", "c.tif"], option].concat());
        if let Some(n) = env {
            c.env("RAYON_NUM_THREADS", n);
        }
        let j: serde_json::Value = serde_json::from_slice(&c.output().unwrap().stdout).unwrap();
        j["measured"]["threads"].as_u64().unwrap()
    };
    assert_eq!(threads(Some("3"), &[]), 3);
    assert_eq!(threads(Some("3"), &["--threads", "1"]), 1);
    assert!(threads(Some("many"), &[]) >= 1, "what is no number is not used");
    p.fails(&["composite", "scenes", "--threads", "0"], 2, &["use 1 to 1024"]);
}

#[test]
fn lists_of_inputs_skip_comments_and_empty_lines() {
    let (dir, scenes, p) = season(3);
    let list = format!("# the first two\nscenes/{}\n\n  scenes/{}.tar  \n", scenes[0].id(), scenes[1].id());
    std::fs::write(dir.path().join("two.txt"), list).unwrap();
    let j: serde_json::Value =
        serde_json::from_str(&p.ok(&["composite", "@two.txt", "--json", "--out", "c.tif"]).out).unwrap();
    let ids: Vec<&str> = j["inputs"].as_array().unwrap().iter().map(|i| i["id"].as_str().unwrap()).collect();
    assert_eq!(ids, [scenes[0].id(), scenes[1].id()]);
    p.fails(&["composite", "@none.txt", "--out", "d.tif"], 1, &["none.txt"]);
}

#[test]
fn a_mask_raster_without_its_scene_is_said_and_a_scene_without_a_mask_refused() {
    let (_dir, scenes, p) = season(2);
    p.ok(&["calibrate", "scenes", "--out", "cal"]);
    p.ok(&["mask", "scenes", "--out", "m"]);
    let (first, other) = (format!("cal/{}_toa.tif", scenes[0].id()), format!("m/{}_mask.tif", scenes[1].id()));
    p.fails(&["composite", &first, "--out", "c.tif"], 2, &["has no mask", "--unmasked"]);
    p.ok(&["composite", &first, "--unmasked", "--out", "c.tif"]);
    let said = p.ok(&["composite", &first, &other, "--unmasked", "--out", "d.tif"]).err;
    assert!(said.contains(&format!("the mask of scene {} belongs to none of the inputs", scenes[1].id())), "{said}");
}
