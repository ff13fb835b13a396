//! Deliveries on the disk: folders and archives, metadata as text and as JSON, what the scene says of itself.

use std::path::Path;

use telechroma_core::method::{Frame, Target, calibration, plan_calibrated};
use telechroma_core::run::Note;
use telechroma_core::scene::{BandRole, Content, Scene};
use telechroma_core::tile::Cells;
use telechroma_io::delivery::{self, Opened, Opener};
use telechroma_testkit::memory::compute;
use telechroma_testkit::tiny::Tiny;
use telechroma_world::tiff::{Options, Packing};

const COLS: usize = 50;
const ROWS: usize = 37;

fn scene(path: &Path) -> (Scene, Vec<Note>) {
    let mut notes = vec![];
    match Opener::default().open(path, &mut |n| notes.push(n)).unwrap_or_else(|e| panic!("{}: {e}", path.display())) {
        Opened::Scene(s) => (*s, notes),
        other => panic!("{other:?}"),
    }
}

fn find(path: &Path) -> telechroma_io::Result<Vec<std::path::PathBuf>> {
    delivery::find(path, &Opener::default())
}

/// Every band of a scene, calibrated.
fn cells(s: &Scene) -> Vec<Vec<u32>> {
    let roles: Vec<BandRole> = s.bands.iter().map(|b| b.role).collect();
    let (g, planes, _) = plan_calibrated(s, &roles, Target::Toa, &Frame::default()).unwrap();
    let ids: Vec<_> = planes.iter().map(|p| p.1).collect();
    let bits = |c: &Cells| match c {
        Cells::Values(v) => v.iter().map(|x| if x.is_nan() { u32::MAX } else { x.to_bits() }).collect(),
        Cells::Bits(v) => v.iter().map(|x| u32::from(*x)).collect(),
    };
    compute(g, &ids, None, 2).unwrap().0.iter().map(bits).collect()
}

/// The metadata of a delivery as JSON: the same tree, all values as text.
fn as_json(text: &str) -> String {
    let mut stack = vec![serde_json::Map::new()];
    let mut names = vec![];
    for line in text.lines().map(str::trim) {
        match line.split_once(" = ") {
            Some(("GROUP", name)) => {
                names.push(name.to_string());
                stack.push(serde_json::Map::new());
            }
            Some(("END_GROUP", _)) => {
                let (name, done) = (names.pop().unwrap(), stack.pop().unwrap());
                stack.last_mut().unwrap().insert(name, done.into());
            }
            Some((key, value)) => drop(stack.last_mut().unwrap().insert(key.into(), value.trim_matches('"').into())),
            None => {}
        }
    }
    serde_json::Value::Object(stack.remove(0)).to_string()
}

#[test]
fn folder_and_archive_text_and_json_tiles_and_strips_are_one_scene() {
    let dir = tempfile::tempdir().unwrap();
    let tiny = Tiny::new(3, COLS, ROWS);
    let (first, notes) = scene(&tiny.write(dir.path()));
    assert!(notes.is_empty(), "{notes:?}");
    let want = cells(&first);
    let strips = Options { tile: None, strip: 7, packing: Packing::Lzw, ..Options::default() };
    let area = Options { point: false, tile: Some((64, 64)), packing: Packing::None, ..Options::default() };
    for (n, layout) in [strips, area].into_iter().enumerate() {
        let other = Tiny { layout, ..tiny.clone() };
        let (s, _) = scene(&other.write_tar(&dir.path().join(format!("t{n}"))));
        assert_eq!(s.grid, first.grid, "point and area rasters lie alike");
        assert_eq!(cells(&s), want, "{n}");
    }
    let folder = tiny.write(&dir.path().join("json"));
    let text = folder.join(format!("{}_MTL.txt", tiny.id()));
    std::fs::write(folder.join(format!("{}_MTL.json", tiny.id())), as_json(&std::fs::read_to_string(&text).unwrap()))
        .unwrap();
    std::fs::remove_file(text).unwrap();
    let (s, _) = scene(&folder);
    assert_eq!(
        (s.id.as_str(), s.date, s.acquired, s.sun, s.cloud_cover),
        (first.id.as_str(), first.date, first.acquired, first.sun, first.cloud_cover)
    );
    assert_eq!(cells(&s), want, "JSON");
}

#[test]
fn a_scene_knows_what_its_metadata_say() {
    let dir = tempfile::tempdir().unwrap();
    let tiny = Tiny::new(1, COLS, ROWS);
    let (s, _) = scene(&tiny.write(dir.path()));
    assert_eq!(s.id, tiny.id());
    assert_eq!((s.platform.as_str(), s.sensor.as_str(), s.level.as_str()), ("Landsat 8", "landsat-oli-tirs", "L1TP"));
    assert_eq!(s.acquired.unwrap().to_string(), "2031-04-17T12:20:17.4Z");
    assert_eq!(s.place.as_deref(), Some("path 250 row 300"));
    assert_eq!(s.cloud_cover, Some(20.0));
    let sun = s.sun.unwrap();
    assert_eq!((sun.elevation.0, sun.azimuth.0), (43.0, 140.0));
    assert_eq!((s.grid.transform.c, s.grid.transform.f, s.grid.cols), (500_000.0, 4_400_000.0, COLS as u32));
    let role = |name: &str| s.band(BandRole::from_name(name).unwrap()).unwrap_or_else(|| panic!("{name}"));
    assert_eq!((role("red").name.as_str(), role("lwir11").name.as_str()), ("B4", "B10"));
    assert_eq!(role("lwir11").wavelength.map(|w| w.0), Some(10_895.0));
    assert!(s.band(BandRole::from_name("coastal").unwrap()).is_none());
    // coefficients are the metadata's own
    let red = calibration(&s, role("red"), Target::Toa).unwrap();
    let want = (2e-5 * 9000.0 - 0.1) / 43f64.to_radians().sin();
    assert!((red.at(9000.0) - want).abs() < 1e-12);
    let Content::Counts(c) = &role("red").content else { panic!("counts") };
    assert_eq!((c.saturated, c.thermal.is_err()), (Some(65535), true));
    // two names for one acquisition differ in nothing but their bytes' fingerprint
    let mut other = tiny.clone();
    other.cloud = 21.0;
    let (t, _) = scene(&other.write(&dir.path().join("other")));
    assert_ne!(s.digest, t.digest);
}

#[test]
fn missing_files_are_noted_and_cloud_cover_of_minus_one_is_unknown() {
    let dir = tempfile::tempdir().unwrap();
    let mut tiny = Tiny::new(2, COLS, ROWS);
    tiny.cloud = -1.0;
    let folder = tiny.write(dir.path());
    std::fs::remove_file(folder.join(format!("{}_B6.TIF", tiny.id()))).unwrap();
    let (s, notes) = scene(&folder);
    assert_eq!(s.cloud_cover, None);
    let said: Vec<String> = notes.iter().map(ToString::to_string).collect();
    assert!(said.len() == 1 && said[0].contains("_B6.TIF, but the delivery does not hold it"), "{said:?}");
    assert!(s.band(BandRole::from_name("swir16").unwrap()).is_none());
}

#[test]
fn deliveries_are_found_in_a_folder_by_name() {
    let dir = tempfile::tempdir().unwrap();
    let (a, b) = (Tiny::new(0, COLS, ROWS), Tiny::new(1, COLS, ROWS));
    let tar = b.write_tar(dir.path());
    let folder = a.write(dir.path());
    std::fs::create_dir(dir.path().join("other")).unwrap();
    std::fs::write(dir.path().join("notes.txt"), "").unwrap();
    assert_eq!(find(dir.path()).unwrap(), [folder.clone(), tar.clone()]);
    assert_eq!(find(&folder).unwrap(), [folder]);
    assert_eq!(find(&tar).unwrap(), [tar]);
    // rasters count where there is no delivery
    std::fs::write(dir.path().join("stray.tif"), "").unwrap();
    assert_eq!(find(dir.path()).unwrap().len(), 2);
    let rasters = dir.path().join("rasters");
    std::fs::create_dir(&rasters).unwrap();
    std::fs::write(rasters.join("b.TIF"), "").unwrap();
    std::fs::write(rasters.join("a.tif"), "").unwrap();
    assert_eq!(find(&rasters).unwrap(), [rasters.join("a.tif"), rasters.join("b.TIF")]);
    assert!(find(&dir.path().join("other")).unwrap_err().to_string().contains("holds no delivery"));
    // a name with spaces and letters of other scripts
    let odd = dir.path().join("szenen  über «alles»");
    a.write(&odd);
    assert_eq!(cells(&scene(&find(&odd).unwrap()[0]).0), cells(&scene(&dir.path().join(a.id())).0));
}
