//! The made-up estate: the same from the same seed, laid out as the public documents say, and full of what it should hold.
#![allow(clippy::unwrap_used)] // tests

use std::collections::BTreeMap;
use std::path::Path;
use std::sync::OnceLock;

use telechroma_world::scene::Cover;
use telechroma_world::{COLS, Estate, ROWS, plots, write_estate};

fn estate() -> &'static Estate {
    static ESTATE: OnceLock<Estate> = OnceLock::new();
    ESTATE.get_or_init(|| Estate::new(2031))
}

/// Sizes and sums of all files below a folder.
fn fingerprint(dir: &Path) -> BTreeMap<String, (usize, u64)> {
    let mut all = BTreeMap::new();
    let mut folders = vec![dir.to_path_buf()];
    while let Some(folder) = folders.pop() {
        for path in std::fs::read_dir(folder).unwrap().flatten().map(|e| e.path()) {
            if path.is_dir() {
                folders.push(path);
            } else {
                let bytes = std::fs::read(&path).unwrap();
                let sum = bytes.iter().fold(7u64, |s, b| s.wrapping_mul(0x100_0000_01B3) ^ u64::from(*b));
                all.insert(path.strip_prefix(dir).unwrap().display().to_string(), (bytes.len(), sum));
            }
        }
    }
    all
}

#[test]
fn the_same_seed_gives_the_same_bytes_on_any_number_of_threads_in_the_public_layout() {
    let dir = tempfile::tempdir().unwrap();
    write_estate(&dir.path().join("a"), 2031, 1).unwrap();
    write_estate(&dir.path().join("b"), 2031, 3).unwrap();
    let files = fingerprint(&dir.path().join("a"));
    assert_eq!(files, fingerprint(&dir.path().join("b")));
    // LXSS_LLLL_PPPRRR_YYYYMMDD_yyyymmdd_CC_TX and the ending of each file
    let folder = "scenes/LC08_L1TP_250300_20310414_20310427_02_T1";
    let id = folder.trim_start_matches("scenes/");
    let endings = ["B1", "B2", "B3", "B4", "B5", "B6", "B7", "B8", "B9", "B10", "B11", "QA_PIXEL", "QA_RADSAT"];
    for name in
        endings.iter().map(|e| format!("{id}_{e}.TIF")).chain([format!("{id}_MTL.txt"), format!("{id}_MTL.json")])
    {
        assert!(files.contains_key(&format!("{folder}/{name}")), "{name}");
    }
    let metadata = std::fs::read_to_string(dir.path().join("a").join(format!("{folder}/{id}_MTL.txt"))).unwrap();
    let json: serde_json::Value = serde_json::from_str(
        &std::fs::read_to_string(dir.path().join("a").join(format!("{folder}/{id}_MTL.json"))).unwrap(),
    )
    .unwrap();
    // the two forms hold the same keys and values
    let mut groups = vec![];
    let mut keys = 0;
    for line in metadata.lines().map(str::trim) {
        match line.split_once(" = ") {
            Some(("GROUP", g)) => groups.push(g),
            Some(("END_GROUP", _)) => drop(groups.pop()),
            Some((key, value)) => {
                let pointer = format!("/{}/{key}", groups.join("/"));
                assert_eq!(json.pointer(&pointer).and_then(|v| v.as_str()), Some(value.trim_matches('"')), "{pointer}");
                keys += 1;
            }
            None => {}
        }
    }
    assert!(keys > 120, "{keys}");
    assert!(files.keys().filter(|n| n.ends_with(".tar")).count() >= 3);
}

#[test]
fn fields_crops_a_hole_two_parts_and_two_beyond_the_edge() {
    let fields = &estate().land.fields;
    assert_eq!(fields.len(), 40);
    let beyond = |f: &&telechroma_world::land::Field| f.parts.iter().flatten().flatten().any(|p| p.0 > COLS as f64);
    assert_eq!(fields.iter().filter(beyond).count(), 2);
    assert_eq!(fields.iter().filter(|f| f.parts.len() == 2).count(), 1);
    assert_eq!(fields.iter().filter(|f| f.parts[0].len() == 2).count(), 1);
    let crops: std::collections::BTreeSet<_> = fields.iter().filter_map(|f| f.ground.crop()).collect();
    assert_eq!(crops.into_iter().collect::<Vec<_>>(), ["buckwheat", "flax", "hay", "lupin"]);
    let json: serde_json::Value = serde_json::from_str(&plots::geojson(estate())).unwrap();
    for f in json["features"].as_array().unwrap() {
        assert!(f["properties"]["area_ha"].as_f64().unwrap() > 10.0);
        let first = f["geometry"]["coordinates"].to_string();
        assert!(first.contains("-33.") || first.contains("-32."), "in the middle of an ocean: {first}");
    }
}

#[test]
fn the_sky_has_clouds_shadows_cirrus_and_ragged_edges_as_planned() {
    let all = estate().acquisitions();
    assert_eq!(all.len(), 10);
    assert!(all.iter().all(|a| (4..=10).contains(&a.date.1)) && all.is_sorted_by_key(|a| a.day as u32));
    let sun: Vec<f64> = all.iter().map(|a| a.sun_elevation).collect();
    assert!(
        sun.iter().copied().fold(f64::NEG_INFINITY, f64::max) - sun.iter().copied().fold(f64::INFINITY, f64::min)
            > 20.0
    );
    for a in &all {
        let truth = estate().truth(a);
        let count = |c: Cover| truth.cover.iter().filter(|x| **x == c).count() as f64;
        let seen = (COLS * ROWS) as f64 - count(Cover::Fill);
        assert!(count(Cover::Fill) > 5_000.0, "{:?}", a.date);
        let cloud = count(Cover::Cloud) / seen;
        assert!((cloud - a.cloud_share).abs() < 0.17, "{:?}: {cloud} for {}", a.date, a.cloud_share);
        assert_eq!(count(Cover::Cirrus) > 0.0, a.cirrus, "{:?}", a.date);
        assert!(count(Cover::Shadow) > 0.0, "{:?}", a.date);
        // the edge is no straight line
        let firsts: std::collections::BTreeSet<usize> =
            (0..ROWS).filter_map(|r| (0..COLS).find(|c| truth.cover[r * COLS + c] != Cover::Fill)).collect();
        assert!(firsts.len() > 10);
    }
}

#[test]
fn the_inverse_of_the_projection_undoes_an_independent_forward_one() {
    // Krüger's forward series, written out here once more
    let forward = |lon: f64, lat: f64| {
        let (a, f, k0) = (6_378_137.0, 1.0 / 298.257_223_563, 0.9996);
        let n: f64 = f / (2.0 - f);
        let big = a / (1.0 + n) * (1.0 + n * n / 4.0 + n.powi(4) / 64.0);
        let alpha = [
            n / 2.0 - 2.0 * n * n / 3.0 + 5.0 * n.powi(3) / 16.0,
            13.0 * n * n / 48.0 - 3.0 * n.powi(3) / 5.0,
            61.0 * n.powi(3) / 240.0,
        ];
        let s = 2.0 * n.sqrt() / (1.0 + n);
        let (lat, d) = (lat.to_radians(), (lon + 33.0).to_radians());
        let t = (lat.sin().atanh() - s * (s * lat.sin()).atanh()).sinh();
        let (xi, eta) = (t.atan2(d.cos()), (d.sin() / (1.0 + t * t).sqrt()).atanh());
        let (mut x, mut y) = (eta, xi);
        for (j, c) in alpha.iter().enumerate() {
            let k = 2.0 * (j as f64 + 1.0);
            x += c * (k * xi).cos() * (k * eta).sinh();
            y += c * (k * xi).sin() * (k * eta).cosh();
        }
        (500_000.0 + k0 * big * x, k0 * big * y)
    };
    for (c, r) in [(0.0, 0.0), (700.0, 600.0), (350.5, 12.25), (-4000.0, 9000.0)] {
        let (lon, lat) = plots::longitude_latitude(c, r);
        let (x, y) = forward(lon, lat);
        let want = (telechroma_world::CORNER.0 + 30.0 * c, telechroma_world::CORNER.1 - 30.0 * r);
        assert!((x - want.0).hypot(y - want.1) < 1e-3, "{c} {r}: {x} {y} {want:?}");
    }
}

#[test]
fn seasons_and_events_show_in_the_ground() {
    let land = &estate().land;
    let ndvi = |i: usize, day: f64| {
        let l = land.look(i, day).reflectance;
        (l[4] - l[3]) / (l[4] + l[3])
    };
    let of = |ground: telechroma_world::land::Ground, day: f64| {
        let cells: Vec<usize> = (0..COLS * ROWS).filter(|i| land.ground[*i] == ground).step_by(17).collect();
        assert!(cells.len() > 20, "{ground:?}");
        cells.iter().map(|i| ndvi(*i, day)).sum::<f64>() / cells.len() as f64
    };
    use telechroma_world::land::Ground::{Buckwheat, Flax, Hillside, MetalRoof, Reservoir, Town};
    assert!(of(Flax, 170.0) > 0.7 && of(Flax, 230.0) < 0.35);
    assert!(of(Buckwheat, 130.0) < 0.3 && of(Buckwheat, 205.0) > 0.7);
    assert!(of(Hillside, 220.0) - of(Hillside, 232.0) > 0.2, "the fire");
    assert!(of(Town, 180.0) < 0.3);
    let water = |day: f64| {
        (0..COLS * ROWS).filter(|i| land.ground[*i] == Reservoir && land.look(*i, day).reflectance[4] < 0.03).count()
    };
    assert!(water(110.0) as f64 > 1.5 * water(280.0) as f64, "the reservoir is drawn down");
    let roof = (0..COLS * ROWS).find(|i| land.ground[*i] == MetalRoof).unwrap();
    assert!(land.look(roof, 200.0).reflectance[3] > 1.3, "bright enough to saturate");
}
