//! Finding scenes on the disk: listing, catalogues, choosing, lists that other commands take.

use std::path::Path;

use telechroma_testkit::program::Program;
use telechroma_testkit::tiny::{Tiny, plots};

use crate::{COLS, ROWS, program, values};

/// Four scenes in nested folders, one of them far away, a raster, and a file that is none of these.
fn archive() -> (tempfile::TempDir, Vec<Tiny>, Program) {
    let dir = tempfile::tempdir().unwrap();
    let mut all: Vec<Tiny> = (0..4).map(|i| Tiny::new(i, COLS, ROWS)).collect();
    for (t, cloud) in all.iter_mut().zip([60.0, 10.0, 30.0, 5.0]) {
        t.cloud = cloud;
    }
    all[3].corner.0 += 30_000.0;
    // a cloud over the area in the scene with least cloud by its metadata
    for (i, q) in all[1].quality.iter_mut().enumerate() {
        *q = if i % COLS < 10 { 22280 } else { 21824 };
    }
    for (i, q) in all[0].quality.iter_mut().enumerate() {
        *q = if i % COLS < 10 { 21824 } else { 22280 };
    }
    all[0].write(&dir.path().join("a/2031/april"));
    all[1].write_tar(&dir.path().join("a/2031"));
    all[2].write(&dir.path().join("a"));
    all[3].write(&dir.path().join("a/far"));
    std::fs::write(dir.path().join("a/notes.txt"), "x").unwrap();
    std::fs::write(dir.path().join("a/broken.tar"), "x").unwrap();
    std::fs::write(dir.path().join("area.geojson"), plots(all[0].corner, 25, &[("a", 1.0, 1.0, 8.0, 20.0)])).unwrap();
    let p = program(dir.path());
    (dir, all, p)
}

fn run(p: &Program, args: &[&str]) -> serde_json::Value {
    let out = p.command(&[args, &["--json"]].concat()).env("XDG_CACHE_HOME", p.dir().join("cache")).output().unwrap();
    assert!(out.status.success(), "{args:?}: {}", String::from_utf8_lossy(&out.stderr));
    serde_json::from_slice(&out.stdout).unwrap()
}

fn ids(found: &serde_json::Value) -> Vec<String> {
    found["found"].as_array().unwrap().iter().map(|f| f["id"].as_str().unwrap().to_string()).collect()
}

#[test]
fn everything_below_a_folder_is_listed_once_opened() {
    let (dir, all, p) = archive();
    let listed = run(&p, &["scenes", "list", "a", "--area", "area.geojson"]);
    let listed = listed.as_array().unwrap();
    assert_eq!(listed.len(), 5, "four scenes and a broken archive");
    let of = |id: &str| listed.iter().find(|s| s["id"] == id).unwrap();
    let first = of(&all[0].id());
    assert_eq!(
        (first["date"].as_str(), first["cloud"].as_f64(), first["covered"].as_f64()),
        (Some("2031-04-03"), Some(60.0), Some(1.0))
    );
    assert_eq!(of(&all[3].id())["covered"].as_f64(), Some(0.0));
    assert!(of("broken.tar")["troubles"][0].as_str().unwrap().contains(".tar archive"));
    // the second time nothing is opened: a delivery damaged without its size and time changing is not noticed, one that
    // changed is
    let mtl = dir.path().join("a").join(all[2].id()).join(format!("{}_MTL.txt", all[2].id()));
    let text = std::fs::read_to_string(&mtl).unwrap();
    let before = std::fs::metadata(&mtl).unwrap().modified().unwrap();
    let change = |cloud: &str, time| {
        std::fs::write(&mtl, text.replace("CLOUD_COVER = 30", cloud)).unwrap();
        std::fs::File::options().append(true).open(&mtl).unwrap().set_modified(time).unwrap();
        let again = run(&p, &["scenes", "list", "a"]);
        again.as_array().unwrap().iter().find(|s| s["id"] == all[2].id()).unwrap()["cloud"].as_f64()
    };
    assert_eq!(change("CLOUD_COVER = 31", before), Some(30.0));
    assert_eq!(change("CLOUD_COVER = 32", before + std::time::Duration::from_secs(2)), Some(32.0));
    let table = p.command(&["scenes", "list", "a"]).env("XDG_CACHE_HOME", dir.path().join("cache")).output().unwrap();
    let table = String::from_utf8(table.stdout).unwrap();
    assert!(table.starts_with("date") && table.contains("path 250 row 300") && table.contains("! "), "{table}");
}

#[test]
fn scenes_are_chosen_by_what_is_asked() {
    let (_dir, all, p) = archive();
    let id = |i: usize| all[i].id();
    let find = |more: &[&str]| ids(&run(&p, &[&["scenes", "find", "a"], more].concat()));
    assert_eq!(find(&[]), [id(0), id(1), id(2), id(3)]);
    assert_eq!(find(&["--area", "area.geojson"]), [id(0), id(1), id(2)]);
    assert_eq!(find(&["--max-cloud", "30"]), [id(1), id(2), id(3)]);
    assert_eq!(find(&["--since", "2031-04-10", "--until", "2031-05-03"]), [id(1), id(2)]);
    assert_eq!(find(&["--sort", "cloud"]), [id(3), id(1), id(2), id(0)]);
    assert_eq!(find(&["--clearest", "2"]), [id(1), id(3)]);
    assert_eq!(find(&["--latest", "1"]), [id(3)]);
    assert_eq!(find(&["--one-per", "month"]), [id(1), id(3)]);
    // the metadata call scene 0 cloudy and scene 1 clear; inside the area it is the other way round
    let here = run(&p, &["scenes", "find", "a", "--area", "area.geojson", "--max-cloud-here", "10"]);
    assert_eq!(ids(&here)[0], id(0));
    assert!(!ids(&here).contains(&id(1)) && here["found"][0]["cloud_here"].as_f64() == Some(0.0), "{here}");
    p.fails(&["scenes", "find", "a", "--covers", "90%"], 2, &["--covers needs an area"]);
    p.fails(&["scenes", "find", "a", "--since", "2040-01-01"], 1, &["none of the 4 scenes fits"]);
    p.fails(&["scenes", "find", "none"], 2, &["neither a folder nor a STAC catalogue"]);
}

#[test]
fn lists_and_catalogues_are_inputs() {
    let (dir, all, p) = archive();
    let at = |n: &str| dir.path().join(n);
    p.ok(&["index", "a/2031/april", &format!("a/{}", all[2].id()), "ndvi", "--out", "plain.tif"]);
    let want: Vec<u32> = values(&at("plain.tif"), 0).iter().map(|v| v.to_bits()).collect();
    let same =
        |name: &str| assert_eq!(values(&at(name), 0).iter().map(|v| v.to_bits()).collect::<Vec<_>>(), want, "{name}");
    let choice = ["scenes", "find", "a", "--area", "area.geojson", "--covers", "95%", "--max-cloud-here", "90"];
    for (list, word) in [("l/best.txt", "@l/best.txt"), ("l/best.json", "@l/best.json"), ("l/same.json", "l/same.json")]
    {
        run(&p, &[&choice[..], &["--out", list]].concat());
        p.ok(&["index", word, "ndvi", "--overwrite", "--out", "listed.tif"]);
        same("listed.tif");
    }
    run(&p, &["scenes", "list", "a", "--write", "cat"]);
    let root: serde_json::Value = serde_json::from_slice(&std::fs::read(at("cat/catalog.json")).unwrap()).unwrap();
    assert_eq!((root["type"].as_str(), root["stac_version"].as_str()), (Some("Catalog"), Some("1.0.0")));
    for link in root["links"].as_array().unwrap().iter().filter(|l| l["rel"] == "item") {
        let item = std::fs::read(at("cat").join(link["href"].as_str().unwrap())).unwrap();
        check_item(&serde_json::from_slice(&item).unwrap(), &at("cat/items"));
    }
    assert_eq!(ids(&run(&p, &["scenes", "find", "cat/catalog.json", "--max-cloud", "30"])).len(), 3);
    std::fs::write(at("c.toml"), "[scenes]\nfrom = \"l/best.json\"\n[layers]\nuse = [\"ndvi\"]\n").unwrap();
    p.ok(&["run", "c.toml"]);
    same("results/layers/ndvi_all.tif");
    p.fails(&["index", "c.json", "ndvi"], 2, &["does not exist"]);
    std::fs::write(at("c.json"), "{\"type\": \"Feature\", \"id\": \"x\", \"assets\": {}}").unwrap();
    p.fails(&["index", "c.json", "ndvi"], 1, &["names no asset 'delivery'"]);
}

/// What STAC 1.0.0 and its extensions demand of an item.
fn check_item(item: &serde_json::Value, folder: &Path) {
    for key in ["type", "stac_version", "id", "geometry", "properties", "links", "assets"] {
        assert!(item.get(key).is_some(), "{key} in {item}");
    }
    assert_eq!(item["type"], "Feature");
    assert!(item["properties"].get("datetime").is_some());
    let asset = &item["assets"]["delivery"];
    assert!(folder.join(asset["href"].as_str().unwrap()).exists(), "{asset}");
    if item["geometry"].is_null() {
        assert!(item.get("bbox").is_none());
        return;
    }
    let ring: Vec<(f64, f64)> = item["geometry"]["coordinates"][0]
        .as_array()
        .unwrap()
        .iter()
        .map(|c| (c[0].as_f64().unwrap(), c[1].as_f64().unwrap()))
        .collect();
    assert_eq!((ring.len(), ring[0]), (5, ring[4]));
    let area: f64 = ring.windows(2).map(|w| w[0].0 * w[1].1 - w[1].0 * w[0].1).sum();
    assert!(area > 0.0, "rings run against the clock");
    let b: Vec<f64> = item["bbox"].as_array().unwrap().iter().map(|v| v.as_f64().unwrap()).collect();
    assert!(
        ring.iter().all(|p| p.0 >= b[0] && p.1 >= b[1] && p.0 <= b[2] && p.1 <= b[3]) && b[0] > -34.0 && b[2] < -32.0
    );
    let p = &item["properties"];
    assert!(p["eo:cloud_cover"].is_number() && p["view:sun_elevation"].is_number(), "{p}");
    assert_eq!((p["proj:epsg"].as_u64(), p["proj:transform"].as_array().unwrap().len()), (Some(32625), 6));
    let red = asset["eo:bands"].as_array().unwrap().iter().find(|b| b["common_name"] == "red").unwrap();
    assert_eq!(red["center_wavelength"].as_f64(), Some(0.6545));
    assert_eq!(asset["raster:bands"].as_array().unwrap().len(), asset["eo:bands"].as_array().unwrap().len());
    assert_eq!(asset["raster:bands"][0]["scale"].as_f64(), Some(0.0125), "radiance of a count");
}
