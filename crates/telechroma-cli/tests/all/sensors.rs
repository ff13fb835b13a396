//! Every sensor profile: a made-up delivery in its public layout, opened, calibrated and masked, against planted truth.

use std::path::Path;

use telechroma_testkit::{archive, jp2};
use telechroma_world::deliveries::{self, landsat, products, sentinel2};
use telechroma_world::{Acquisition, Cover, Estate, Part};

use crate::{program, values};

const SIZE: (usize, usize) = (132, 96);

/// A part of the estate with clouds, shadows and a piece of its ragged edge.
fn part() -> (Acquisition, Part) {
    let estate = Estate::new(2031);
    let a = estate.acquisitions()[5].clone();
    let worth = |part: &Part| {
        let has = |c: Cover| part.cover.iter().filter(|x| **x == c).count();
        has(Cover::Fill) > 50 && has(Cover::Cloud) > 200 && has(Cover::Shadow) > 50 && has(Cover::Clear) > 2000
    };
    let places = (0..5).flat_map(|r| [0, 284, 568].map(|c| (c, 96 * r)));
    let mut parts = places.map(|at| estate.part(&a, at, SIZE)).filter(worth);
    (a.clone(), parts.next().expect("a part with something of everything"))
}

fn pack(cols: usize, rows: usize, bits: u32, samples: &[u16]) -> Vec<u8> {
    jp2::encode(cols, rows, bits, samples, 64)
}

/// Cells of a raster against what they should be: within `within`, missing where there are no data.
fn close(raster: &Path, band: u32, want: impl Fn(usize) -> f64, part: &Part, within: f64) {
    let got = values(raster, band);
    assert_eq!(got.len(), part.cover.len(), "{}", raster.display());
    for (i, v) in got.iter().enumerate() {
        match part.has(i) {
            true => assert!(
                (f64::from(*v) - want(i)).abs() <= within,
                "{} band {band} cell {i}: {v}, not {}",
                raster.display(),
                want(i)
            ),
            false => assert!(v.is_nan(), "{} band {band} cell {i}: {v} where there are no data", raster.display()),
        }
    }
}

/// A mask at the grid of the part: cloud and fill are dropped, clear cells are not.
fn masked(raster: &Path, part: &Part, shadow_too: bool) {
    let got = values(raster, 0);
    for (i, (v, cover)) in got.iter().zip(&part.cover).enumerate() {
        match cover {
            Cover::Fill | Cover::Cloud => assert!(*v > 0.0, "cell {i}: {cover:?} is not dropped"),
            Cover::Shadow if shadow_too => assert!(*v > 0.0, "cell {i}: shadow is not dropped"),
            Cover::Clear => assert_eq!(*v, 0.0, "cell {i} is clear"),
            Cover::Shadow | Cover::Cirrus => {}
        }
    }
}

#[test]
fn landsat_of_every_kind() {
    let (a, part) = part();
    let dir = tempfile::tempdir().unwrap();
    let p = program(dir.path());
    let sine = a.sun_elevation.to_radians().sin();
    for kind in [landsat::Kind::Tm, landsat::Kind::TmCollection1, landsat::Kind::Etm, landsat::Kind::OliLevel2] {
        let (id, files) = (landsat::id(kind, &a), landsat::files(kind, &a, &part));
        deliveries::write(&dir.path().join("d").join(&id), &files).unwrap();
        let delivery = format!("d/{id}");
        let thermal = if kind == landsat::Kind::OliLevel2 { "lst" } else { "lwir" };
        p.ok(&["calibrate", &delivery, "--bands", &format!("red,nir,{thermal}"), "--out", "c.tif", "--overwrite"]);
        p.ok(&["mask", &delivery, "--out", "m.tif", "--overwrite"]);
        let out = dir.path().join("c.tif");
        // half a count, and a little for what lies below the least count
        let step = if kind == landsat::Kind::OliLevel2 { 1.4e-5 } else { 0.0021 / sine };
        close(&out, 0, |i| part.seen[i][3], &part, step);
        close(&out, 1, |i| part.seen[i][4], &part, step);
        close(&out, 2, |i| part.kelvin[i], &part, if kind == landsat::Kind::OliLevel2 { 0.002 } else { 0.35 });
        masked(&dir.path().join("m.tif"), &part, true);
        if kind == landsat::Kind::OliLevel2 {
            // temperatures of Level 2 pass through, no emissivity is applied again
            p.ok(&["index", &delivery, "lst", "--unmasked", "--drop", "fill", "--out", "lst.tif", "--overwrite"]);
            close(&dir.path().join("lst.tif"), 0, |i| part.kelvin[i], &part, 0.002);
            p.fails(&["calibrate", &delivery, "--to", "radiance"], 1, &["raw counts"]);
        }
        archive::tar_gz(&dir.path().join(format!("{id}.tar.gz")), &files);
        p.ok(&["calibrate", &format!("{id}.tar.gz"), "--bands", &format!("red,nir,{thermal}"), "--out", "t.tif"]);
        assert_eq!(values(&dir.path().join("t.tif"), 0).len(), part.cover.len());
        let (folder, packed) = (values(&out, 1), values(&dir.path().join("t.tif"), 1));
        assert!(
            folder.iter().zip(&packed).all(|(a, b)| a.to_bits() == b.to_bits()),
            "{id}: .tar.gz differs from the folder"
        );
        std::fs::remove_file(dir.path().join("t.tif")).unwrap();
        assert!(
            p.ok(&["inspect", &delivery]).out.contains("troubles  none found"),
            "{}",
            p.ok(&["inspect", &delivery]).out
        );
    }
}

#[test]
fn older_metadata_state_radiance_alone() {
    let (a, part) = part();
    let dir = tempfile::tempdir().unwrap();
    let p = program(dir.path());
    let (kind, sine) = (landsat::Kind::TmCollection1, a.sun_elevation.to_radians().sin());
    let without = |(name, bytes): (String, Vec<u8>)| match name.ends_with("_MTL.txt") {
        true => {
            let text = String::from_utf8(bytes).unwrap();
            let lines = text.lines().filter(|l| !l.contains("REFLECTANCE_"));
            (name, lines.fold(String::new(), |t, l| t + l + "\n").into_bytes())
        }
        false => (name, bytes),
    };
    let files: deliveries::Files = landsat::files(kind, &a, &part).into_iter().map(without).collect();
    deliveries::write(&dir.path().join("d"), &files).unwrap();
    let said = p.ok(&["calibrate", "d", "--bands", "red,swir22", "--out", "c.tif"]);
    assert!(said.err.contains("from radiance and the sun's irradiance"), "{}", said.err);
    // radiance of the count, and the distance on the day
    let (y, m, d) = a.date;
    let day = jiff::civil::date(y as i16, m as i8, d as i8).day_of_year();
    let distance = telechroma_core::physics::earth_sun_distance(f64::from(day));
    let (mult, add) = landsat::REFLECTANCE;
    for (band, place, irradiance) in [(0, 3, 1536.0), (1, 6, 83.44)] {
        let radiance = |i: usize| 0.7 * ((part.seen[i][place] * sine - add) / mult).round().clamp(1.0, 255.0) - 1.5;
        let want = |i: usize| std::f64::consts::PI * radiance(i) * distance.powi(2) / (irradiance * sine);
        close(&dir.path().join("c.tif"), band, want, &part, 1e-6);
    }
}

#[test]
fn sentinel_2_of_every_kind() {
    let (a, part) = part();
    let dir = tempfile::tempdir().unwrap();
    let p = program(dir.path());
    for kind in [sentinel2::Kind::L1c, sentinel2::Kind::L1cWithoutOffset, sentinel2::Kind::L2a] {
        let (safe, files) = (sentinel2::name(kind, &a), sentinel2::files(kind, &a, &part, &pack));
        deliveries::write(dir.path(), &files).unwrap();
        let zipped = safe.replace(".SAFE", ".zip");
        archive::zip(&dir.path().join(&zipped), &files, kind == sentinel2::Kind::L2a);
        for delivery in [&safe, &zipped] {
            p.ok(&["calibrate", delivery, "--bands", "blue,red,nir,swir16", "--out", "c.tif", "--overwrite"]);
            p.ok(&["mask", delivery, "--out", "m.tif", "--grid", "10m", "--overwrite"]);
            let out = dir.path().join("c.tif");
            for (band, place) in [(0, 1), (1, 3), (2, 4)] {
                close(&out, band, |i| part.seen[i][place], &part, 0.51e-4);
            }
            // the band of 20 m is the mean of four cells, repeated; near the edge some of the four have no data
            let swir = values(&out, 3);
            let quad = |i: usize| {
                let (c, r) = (i % part.cols / 2 * 2, i / part.cols / 2 * 2);
                [(0, 0), (1, 0), (0, 1), (1, 1)].map(|(x, y)| (r + y) * part.cols + c + x)
            };
            for (i, v) in swir.iter().enumerate() {
                let four = quad(i);
                if four.iter().all(|j| part.has(*j)) {
                    let mean = four.iter().map(|j| part.seen[*j][5]).sum::<f64>() / 4.0;
                    assert!((f64::from(*v) - mean).abs() < 0.51e-4, "cell {i}: {v} {mean}");
                } else {
                    assert!(v.is_nan());
                }
            }
            // a cell of 20 m is what the worst of its four is; Level 1 tells cloud alone
            let mask = values(&dir.path().join("m.tif"), 0);
            for (i, v) in mask.iter().enumerate() {
                let four = quad(i).map(|j| part.cover[j]);
                let order = [Cover::Fill, Cover::Cloud, Cover::Shadow, Cover::Cirrus, Cover::Clear];
                let worst = order.into_iter().find(|c| four.contains(c)).unwrap();
                let dropped = match kind {
                    sentinel2::Kind::L2a => worst != Cover::Clear,
                    _ => worst == Cover::Cloud,
                };
                assert_eq!(*v > 0.0, dropped, "{safe} cell {i}: {four:?} {v}");
            }
        }
        let shown = p.ok(&["inspect", &safe]).out;
        assert!(shown.contains("Sentinel-2A") && shown.contains("tile 25ABC"), "{shown}");
    }
    // radiance of Level 1, of the bands whose irradiance the metadata state
    let safe = sentinel2::name(sentinel2::Kind::L1c, &a);
    p.ok(&["calibrate", &safe, "--to", "radiance", "--bands", "red", "--out", "r.tif"]);
    let sine = a.sun_elevation.to_radians().sin();
    let one = sine * 1512.8 * 0.9713 / std::f64::consts::PI;
    close(&dir.path().join("r.tif"), 0, |i| one * part.seen[i][3], &part, 0.52e-4 * one);
    p.fails(&["calibrate", &safe, "--to", "radiance", "--bands", "nir"], 1, &["raw counts"]);
    // a baseline that carries an offset which the metadata do not state
    let files: deliveries::Files = sentinel2::files(sentinel2::Kind::L1c, &a, &part, &pack)
        .into_iter()
        .map(|(name, bytes)| match name.ends_with("MTD_MSIL1C.xml") {
            true => {
                let text = String::from_utf8(bytes).unwrap();
                let (head, rest) = text.split_once("<Radiometric_Offset_List>").unwrap();
                (name, format!("{head}{}", rest.split_once("</Radiometric_Offset_List>").unwrap().1).into_bytes())
            }
            false => (name, bytes),
        })
        .collect();
    deliveries::write(&dir.path().join("odd"), &files).unwrap();
    let safe = format!("odd/{}", sentinel2::name(sentinel2::Kind::L1c, &a));
    assert!(p.ok(&["inspect", &safe, "--no-cells"]).out.contains("reflectance is 0.1 too high"));
}

#[test]
fn drone_mosaics_in_both_orders() {
    let (a, part) = part();
    let dir = tempfile::tempdir().unwrap();
    let p = program(dir.path());
    for (camera, sensor) in [(false, "drone-5band"), (true, "drone-5band-camera")] {
        let (name, bytes) = products::drone(&a, &part, camera);
        std::fs::write(dir.path().join(&name), bytes).unwrap();
        let bands = "blue,green,red,rededge,nir";
        p.ok(&["calibrate", &name, "--sensor", sensor, "--bands", bands, "--out", "c.tif", "--overwrite"]);
        let out = dir.path().join("c.tif");
        for (band, place) in [(0, 1), (1, 2), (2, 3), (4, 4)] {
            close(&out, band, |i| part.clear[i][place], &part, 1.6e-5);
        }
        close(&out, 3, |i| Part::rededge(&part.clear[i]), &part, 1.6e-5);
        // the other order is contradicted by what green cells show
        let other = if camera { "drone-5band" } else { "drone-5band-camera" };
        let said = p.ok(&["inspect", &name, "--sensor", other]).out;
        assert!(said.contains("over green cells") && said.contains("nir"), "{said}");
        assert!(!p.ok(&["inspect", &name, "--sensor", sensor]).out.contains("over green cells"));
        p.fails(
            &["index", &name, "ndre", "--sensor", other, "--unmasked", "--strict", "--out", "x.tif"],
            3,
            &["over green cells"],
        );
        assert!(!dir.path().join("x.tif").exists());
    }
    // no flags: not used unmasked unless asked for
    let (name, _) = products::drone(&a, &part, true);
    p.fails(&["index", &name, "ndvi", "--sensor", "drone-5band-camera"], 2, &["has no mask"]);
}

#[test]
fn products_by_their_sensor_files() {
    let (a, part) = part();
    let dir = tempfile::tempdir().unwrap();
    let p = program(dir.path());
    let ndvi = |i: usize| (part.seen[i][4] - part.seen[i][3]) / (part.seen[i][4] + part.seen[i][3]);
    deliveries::write(&dir.path().join("vi"), &products::vegetation(&a, &part)).unwrap();
    p.ok(&["calibrate", "vi", "--sensor", "vegetation-16day", "--bands", "ndvi,red", "--out", "v.tif"]);
    close(&dir.path().join("v.tif"), 0, ndvi, &part, 0.51e-4);
    p.ok(&["mask", "vi", "--sensor", "vegetation-16day", "--out", "vm.tif"]);
    masked(&dir.path().join("vm.tif"), &part, false);
    // the day is read from the files' names, and a delivered index stands for itself
    p.ok(&["index", "vi", "ndvi", "--sensor", "vegetation-16day", "--every", "scene", "--out", "day"]);
    let day = format!("2031-{}", if products::period_start(&a) == 177 { "06-26" } else { "07-12" });
    assert!(
        dir.path().join(format!("day/ndvi_{day}.tif")).exists(),
        "{:?}",
        std::fs::read_dir(dir.path().join("day")).unwrap().flatten().collect::<Vec<_>>()
    );

    let (name, bytes) = products::composite(&a, &part);
    std::fs::write(dir.path().join(&name), bytes).unwrap();
    p.ok(&["calibrate", &name, "--sensor", "composite-8bit", "--bands", "red,ndvi,lwir", "--out", "c.tif"]);
    close(&dir.path().join("c.tif"), 1, ndvi, &part, 0.0051);
    close(&dir.path().join("c.tif"), 2, |i| part.kelvin[i].clamp(220.5, 347.0), &part, 0.251);
    p.ok(&["mask", &name, "--sensor", "composite-8bit", "--out", "cm.tif"]);
    masked(&dir.path().join("cm.tif"), &part, false);

    // an own sensor: a built-in one printed, changed, used
    let file = p.ok(&["sensors", "show", "composite-8bit", "--toml"]).out;
    let own = file
        .replace("id = \"composite-8bit\"", "id = \"own\"")
        .replace("keep = \"flag < 100\"", "drop = \"flag < 100\"");
    std::fs::write(dir.path().join("own.toml"), own).unwrap();
    p.ok(&["mask", &name, "--sensor", "own.toml", "--out", "om.tif"]);
    let (kept, dropped) = (values(&dir.path().join("cm.tif"), 0), values(&dir.path().join("om.tif"), 0));
    assert!(
        part.cover.iter().zip(kept.iter().zip(&dropped)).all(|(c, (k, d))| *c != Cover::Cloud || *k > 0.0 && *d == 0.0)
    );
    // a role that contradicts its wavelengths is said, and refused with --strict before anything is written
    let odd = file.replace("role = \"red\"", "role = \"swir16\"");
    std::fs::write(dir.path().join("odd.toml"), odd).unwrap();
    assert!(p.ok(&["mask", &name, "--sensor", "odd.toml", "--out", "w.tif"]).err.contains("band 1 is called swir16"));
    p.fails(
        &["mask", &name, "--sensor", "odd.toml", "--strict", "--out", "s.tif"],
        3,
        &["band 1 is called swir16", "red"],
    );
    assert!(!dir.path().join("s.tif").exists());
    std::fs::write(dir.path().join("bad.toml"), file.replace("flag < 100", "flags < 100")).unwrap();
    p.fails(&["mask", &name, "--sensor", "bad.toml"], 1, &["bad.toml", "flags"]);
}
