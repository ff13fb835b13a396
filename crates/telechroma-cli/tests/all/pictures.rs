//! Pictures: made by `run` and by `draw`, of the right size, with what was asked for.

use std::path::Path;

use crate::season;

fn size(path: &Path) -> (u32, u32) {
    let reader = png::Decoder::new(std::io::BufReader::new(std::fs::File::open(path).unwrap())).read_info().unwrap();
    (reader.info().width, reader.info().height)
}

#[test]
fn scenes_and_maps_are_drawn_from_scenes_and_from_rasters() {
    let (dir, _scenes, p) = season(3);
    p.ok(&["composite", "scenes", "--out", "c.tif"]);
    p.ok(&["draw", "scene", "c.tif", "--out", "natural.png"]);
    p.ok(&["draw", "scene", "scenes", "--bands", "nir,red,green", "--out", "false.png"]);
    p.ok(&["draw", "map", "c.tif", "ndvi", "--plots", "plots.geojson", "--range", "-0.1,0.3", "--out", "ndvi.png"]);
    p.ok(&["draw", "map", "scenes", "lst", "--unit", "C", "--ramp", "grey", "--title", "Warmth", "--out", "lst.png"]);
    for name in ["natural.png", "false.png", "ndvi.png", "lst.png"] {
        // 40 x 30 cells, 21 dots each, and the room round them
        assert_eq!(size(&dir.path().join(name)), (40 * 21 + 78 + 216, 30 * 21 + 92 + 62), "{name}");
    }
    let bytes = |n: &str| std::fs::read(dir.path().join(n)).unwrap();
    p.ok(&["draw", "map", "c.tif", "ndvi", "--plots", "plots.geojson", "--range", "-0.1,0.3", "--out", "again.png"]);
    assert!(bytes("again.png") == bytes("ndvi.png"));
    p.ok(&["draw", "map", "c.tif", "ndvi", "--range", "-0.1,0.3", "--out", "bare.png"]);
    assert!(bytes("bare.png") != bytes("ndvi.png"), "the outlines are drawn");
    p.fails(&["draw", "map", "c.tif", "ndvi", "--ramp", "plant", "--out", "x.png"], 2, &["did you mean 'plants'"]);
    p.fails(&["draw", "map", "c.tif", "ndvi", "--range", "1,0", "--out", "x.png"], 2, &["the smaller first"]);
    p.fails(&["draw", "scene", "c.tif", "--bands", "nir,red", "--out", "x.png"], 2, &["three bands"]);
    p.fails(&["draw", "scene", "c.tif", "--bands", "nir,red,gren", "--out", "x.png"], 2, &["gren"]);
    p.fails(&["composite", "c.tif", "--out", "x"], 2, &["hold no scene"]);
    assert!(!dir.path().join("x.png").exists() && !dir.path().join("x").exists());
}

#[test]
fn a_mask_is_drawn_over_its_scene() {
    let (dir, scenes, p) = season(2);
    p.ok(&["draw", "mask", "scenes", "--out", "m"]);
    let of = |i: usize| dir.path().join(format!("m/{}_mask.png", scenes[i].id()));
    assert_eq!(size(&of(0)), (40 * 21 + 78 + 216, 30 * 21 + 92 + 62));
    let first = std::fs::read(of(0)).unwrap();
    p.ok(&["draw", "mask", "scenes", "--overwrite", "--out", "m", "--grow", "60m"]);
    assert!(std::fs::read(of(0)).unwrap() != first, "what was grown shows");
    p.fails(&["draw", "mask", "scenes", "--out", "one.png"], 2, &["do not go into one file"]);
    p.fails(&["draw", "mask", "scenes", "--bands", "red,nir", "--out", "n"], 2, &["three bands"]);
    assert!(!dir.path().join("n").exists());
}
