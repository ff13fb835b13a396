//! Every reader over damaged files: cut at every offset, and ten thousand times changed at random. A message or numbers,
//! never a panic, never a hang, never more memory than the file can account for.

use std::path::{Path, PathBuf};
use std::sync::Arc;
use std::time::{Duration, Instant};

use telechroma_core::geo::Crs;
use telechroma_core::grid::Grid;
use telechroma_core::sensor::SensorDef;
use telechroma_core::tile::{PlaneSource, block_window, blocks_of, read_window};
use telechroma_core::units::Unit;
use telechroma_io::bytes::ByteRange;
use telechroma_io::delivery::{Opened, Opener, stac};
use telechroma_io::raster::jp2::{Jp2, Jp2Plane};
use telechroma_io::raster::samples::Reading;
use telechroma_io::raster::tiff::{Tiff, TiffPlane};
use telechroma_io::vector::{self, Source};
use telechroma_testkit::memory::grid;
use telechroma_testkit::{archive, jp2};
use telechroma_world::deliveries::{self, landsat, products, sentinel2};
use telechroma_world::{Estate, Part};

/// Changed files a reader gets.
const CHANGED: u64 = 10_000;
/// A reader that takes longer than this for all of them hangs somewhere.
const LONGEST: Duration = Duration::from_secs(240);

/// Numbers that look random.
struct Dice(u64);

impl Dice {
    fn roll(&mut self, sides: usize) -> usize {
        self.0 = self.0.wrapping_mul(0x5851_F42D_4C95_7F2D).wrapping_add(0x1405_7B7E_F767_814F);
        ((self.0 >> 33) as usize) % sides.max(1)
    }

    /// Some bytes replaced, taken out, doubled, or set to what breaks careless readers.
    fn change(&mut self, bytes: &[u8]) -> Vec<u8> {
        let mut b = bytes.to_vec();
        for _ in 0..=self.roll(4) {
            if b.is_empty() {
                break;
            }
            // headers matter most: half of the changes go to the first kilobyte
            let at = if self.roll(2) == 0 { self.roll(b.len().min(1024)) } else { self.roll(b.len()) };
            match self.roll(6) {
                0 => b[at] = self.roll(256) as u8,
                1 => b[at] ^= 1 << self.roll(8),
                2 => b[at] = [0, 0xFF, 0x7F, 0x80][self.roll(4)],
                3 => b.truncate(at),
                4 => {
                    let n = self.roll(16).min(b.len() - at);
                    b[at..at + n].fill([0, 0xFF][self.roll(2)]);
                }
                _ => {
                    let n = self.roll(32).min(b.len() - at);
                    let part = b[at..at + n].to_vec();
                    b.splice(at..at, part);
                }
            }
        }
        b
    }
}

/// A folder in memory where the system has such: ten thousand files are written.
fn quick() -> tempfile::TempDir {
    tempfile::tempdir_in("/dev/shm").or_else(|_| tempfile::tempdir()).unwrap()
}

/// Runs a reader over every cut of a file and over ten thousand changed ones.
fn torture(name: &str, bytes: &[u8], mut read: impl FnMut(&Path)) {
    let dir = quick();
    let path = dir.path().join(name);
    let start = Instant::now();
    let mut once = |b: &[u8], what: &str| {
        std::fs::write(&path, b).unwrap();
        read(&path);
        assert!(start.elapsed() < LONGEST, "{name}: {what} takes too long");
    };
    // every offset of a small file; of a larger one its head, its tail and some in between
    let cuts: Vec<usize> = match bytes.len() {
        n @ 0..=6000 => (0..n).collect(),
        n => (0..1500).chain((1500..n).step_by(n / 500)).chain(n - 200..n).collect(),
    };
    cuts.into_iter().for_each(|cut| once(&bytes[..cut], &format!("cut at {cut}")));
    let mut dice = Dice(0x2031);
    (0..CHANGED).for_each(|n| once(&dice.change(bytes), &format!("change {n}")));
}

/// Every block of a plane, as far as it can be read; blocks are bounded whatever the header says.
fn cells(plane: &dyn PlaneSource) {
    let (shape, spec) = (plane.block(), plane.spec());
    let n = shape.cols as usize * shape.rows as usize;
    assert!(n <= 1 << 28, "a block of {n} cells");
    if n > 1 << 16 {
        return; // made larger by the change: refused or bounded by the plan, and too slow for ten thousand
    }
    let (across, down) = blocks_of(&spec.grid, shape);
    for b in 0..across.saturating_mul(down).min(3) {
        let _ = read_window(plane, block_window(&spec.grid, shape, b));
    }
}

fn part() -> (telechroma_world::Acquisition, Part) {
    let estate = Estate::new(7);
    let a = estate.acquisitions()[5].clone();
    let part = estate.part(&a, (284, 210), (12, 6));
    (a, part)
}

/// Opens whatever lies at a path and reads its cells.
fn open(path: &Path) {
    match Opener::default().open(path, &mut |_| {}) {
        Ok(Opened::Scene(s)) => s.bands.iter().for_each(|b| cells(&*b.source)),
        Ok(Opened::Layers(l)) => l.layers.iter().for_each(|l| cells(&*l.source)),
        Ok(Opened::Mask { source, .. }) => cells(&*source),
        Err(e) => assert!(!e.to_string().is_empty()),
    }
}

#[test]
fn geotiff() {
    let (a, part) = part();
    let (_, bytes) = products::drone(&a, &part, false);
    torture("r.tif", &bytes, |path| {
        if let Ok(tiff) = ByteRange::whole(path).and_then(Tiff::open) {
            for band in 0..tiff.header.samples.min(5) {
                let _ = TiffPlane::new(&tiff, band, Reading::Values(Unit::One)).map(|p| cells(&p));
            }
        }
    });
}

#[test]
fn jpeg_2000() {
    let samples: Vec<u16> = (0..40 * 30).map(|i| (i * 37 % 9000) as u16).collect();
    let bytes = jp2::encode(40, 30, 15, &samples, 16);
    torture("r.jp2", &bytes, |path| {
        if let Ok(image) = ByteRange::whole(path).and_then(Jp2::open) {
            let g = Grid { cols: image.cols, rows: image.rows, ..grid(0, 0, 1, 1) };
            let _ = Jp2Plane::new(&image, Arc::new(g), Reading::Counts { fill: None }).map(|p| cells(&p));
        }
    });
}

#[test]
fn archives() {
    let (a, part) = part();
    let files = landsat::files(landsat::Kind::Tm, &a, &part);
    let dir = tempfile::tempdir().unwrap();
    let at = |n: &str| dir.path().join(n);
    archive::zip(&at("d.zip"), &files, true);
    archive::tar_gz(&at("d.tar.gz"), &files);
    let mut tar = tar::Builder::new(std::fs::File::create(at("d.tar")).unwrap());
    for (name, bytes) in &files {
        let mut header = tar::Header::new_gnu();
        header.set_size(bytes.len() as u64);
        tar.append_data(&mut header, name, bytes.as_slice()).unwrap();
    }
    tar.finish().unwrap();
    for name in ["d.zip", "d.tar.gz", "d.tar"] {
        torture(name, &std::fs::read(at(name)).unwrap(), open);
    }
}

#[test]
fn metadata_of_deliveries() {
    let (a, part) = part();
    let dir = quick();
    let pack = |c: usize, r: usize, b: u32, s: &[u16]| jp2::encode(c, r, b, s, 16);
    let safe = dir.path().join(sentinel2::name(sentinel2::Kind::L2a, &a));
    let mut files = sentinel2::files(sentinel2::Kind::L2a, &a, &part, &pack);
    files.retain(|(name, _)| !name.ends_with(".jp2") || name.contains("_B04_") || name.contains("_SCL_"));
    deliveries::write(dir.path(), &files).unwrap();
    let landsat = dir.path().join("lt");
    deliveries::write(&landsat, &landsat::files(landsat::Kind::Tm, &a, &part)).unwrap();
    let find = |folder: &Path, end: &str| {
        let mut stack = vec![folder.to_path_buf()];
        while let Some(f) = stack.pop() {
            for e in std::fs::read_dir(f).unwrap().flatten() {
                match e.path() {
                    p if p.is_dir() => stack.push(p),
                    p if p.to_string_lossy().ends_with(end) => return p,
                    _ => {}
                }
            }
        }
        panic!("{end}")
    };
    for (delivery, file) in [
        (&safe, find(&safe, "MTD_MSIL2A.xml")),
        (&safe, find(&safe, "MTD_TL.xml")),
        (&landsat, find(&landsat, "_MTL.txt")),
    ] {
        let whole = std::fs::read(&file).unwrap();
        torture("copy", &whole, |copy| {
            std::fs::copy(copy, &file).unwrap();
            let _ = Opener::default().open(delivery, &mut |_| {});
        });
        std::fs::write(&file, whole).unwrap();
    }
}

#[test]
fn text_files() {
    let toml = telechroma_core::sensor::file_of("composite-8bit").unwrap();
    torture("sensor.toml", toml.as_bytes(), |p| {
        drop(SensorDef::parse(&String::from_utf8_lossy(&std::fs::read(p).unwrap())))
    });
    let wkt = r#"PROJCS["a",GEOGCS["b",DATUM["D_North_American_1927",SPHEROID["c",6378206.4,294.97]],PRIMEM["Greenwich",0],UNIT["Degree",0.0174]],PROJECTION["Albers"],PARAMETER["Central_Meridian",-96],PARAMETER["Standard_Parallel_1",29.5],PARAMETER["Standard_Parallel_2",45.5],UNIT["Meter",1]]"#;
    torture("a.prj", wkt.as_bytes(), |p| drop(Crs::from_wkt(&String::from_utf8_lossy(&std::fs::read(p).unwrap()))));
    let item = r#"{"type":"FeatureCollection","features":[{"type":"Feature","id":"x","geometry":{"type":"Polygon","coordinates":[[[0,0],[1,0],[1,1],[0,1],[0,0]]]},"properties":{"proj:shape":[3,4],"proj:transform":[30,0,0,0,-30,0],"telechroma:scene":{"crs":"EPSG:32625"}},"assets":{"delivery":{"href":"d","title":"x"}}}]}"#;
    torture("list.json", item.as_bytes(), |p| {
        if let Ok(all) = stac::summaries(p) {
            all.iter().filter_map(|s| s.grid.as_ref()?.grid()).for_each(|g| assert!(g.transform.determinant() != 0.0));
        }
    });
    torture("area.geojson", item.as_bytes(), |p| drop(vector::read(&Source::of(p))));
}

#[test]
fn headerless_rasters() {
    let raw = "missing = -9999.0\n[raw]\nrows = 6\ncols = 8\nbands = 2\ntype = \"int16\"\norder = \"line-interleaved\"\nbyte_order = \"big\"\nskip = 4\n";
    torture("r.bin.toml", raw.as_bytes(), |p| {
        let raster: PathBuf = p.with_extension("");
        std::fs::write(&raster, vec![7u8; 4 + 6 * 8 * 2 * 2]).unwrap();
        open(&raster);
    });
}

#[test]
fn geopackages() {
    let dir = tempfile::tempdir().unwrap();
    let path = dir.path().join("a.gpkg");
    let db = rusqlite::Connection::open(&path).unwrap();
    let mut blob = b"GP\0\x01".to_vec();
    blob.extend(4326i32.to_le_bytes());
    blob.extend([1, 3, 0, 0, 0, 1, 0, 0, 0, 4, 0, 0, 0]);
    [0.0f64, 0.0, 1.0, 0.0, 1.0, 1.0, 0.0, 0.0].iter().for_each(|v| blob.extend(v.to_le_bytes()));
    db.execute_batch(
        "PRAGMA page_size = 512; VACUUM;
         CREATE TABLE gpkg_spatial_ref_sys (srs_name TEXT, srs_id INTEGER PRIMARY KEY, organization TEXT, organization_coordsys_id INTEGER, definition TEXT);
         INSERT INTO gpkg_spatial_ref_sys VALUES ('x', 4326, 'EPSG', 4326, 'undefined');
         CREATE TABLE gpkg_geometry_columns (table_name TEXT, column_name TEXT, geometry_type_name TEXT, srs_id INTEGER, z TINYINT, m TINYINT);
         INSERT INTO gpkg_geometry_columns VALUES ('t', 'geom', 'POLYGON', 4326, 0, 0);
         CREATE TABLE t (fid INTEGER PRIMARY KEY, geom BLOB, kind TEXT);",
    )
    .unwrap();
    db.execute("INSERT INTO t (geom, kind) VALUES (?1, 'x')", [&blob]).unwrap();
    drop(db);
    assert_eq!(vector::read(&Source::of(&path)).unwrap().features.rows[0].shape.polygons().len(), 1);
    torture("b.gpkg", &std::fs::read(&path).unwrap(), |p| drop(vector::read(&Source::of(p))));
}

#[test]
fn tables_of_points_and_parquet() {
    torture("p.csv", b"id,lon,lat,note\na,-33.1,39.7,\"x, y\"\nb,1,2,z\n", |p| drop(vector::read(&Source::of(p))));
    let dir = tempfile::tempdir().unwrap();
    let csv = dir.path().join("p.csv");
    std::fs::write(&csv, "id,lon,lat,note\na,-33.1,39.7,x\nb,1,2,\n").unwrap();
    let path = dir.path().join("p.parquet");
    vector::write(&path, &vector::read(&Source::of(&csv)).unwrap().features).unwrap();
    torture("q.parquet", &std::fs::read(&path).unwrap(), |p| drop(vector::read(&Source::of(p))));
}

#[test]
fn shapes() {
    let dir = tempfile::tempdir().unwrap();
    let path = dir.path().join("a.shp");
    let table = shapefile::dbase::TableWriterBuilder::new().add_character_field("kind".try_into().unwrap(), 8);
    let mut writer = shapefile::Writer::from_path(&path, table).unwrap();
    let mut record = shapefile::dbase::Record::default();
    record.insert("kind".into(), shapefile::dbase::FieldValue::Character(Some("x".into())));
    let ring = [(0.0, 0.0), (0.0, 1.0), (1.0, 1.0), (0.0, 0.0)].map(|(x, y)| shapefile::Point::new(x, y)).to_vec();
    writer.write_shape_and_record(&shapefile::Polygon::new(shapefile::PolygonRing::Outer(ring)), &record).unwrap();
    drop(writer);
    let (shp, dbf) = (std::fs::read(&path).unwrap(), std::fs::read(path.with_extension("dbf")).unwrap());
    let prj = r#"GEOGCS["GCS_WGS_1984",DATUM["D_WGS_1984",SPHEROID["WGS_1984",6378137.0,298.257223563]],PRIMEM["Greenwich",0.0],UNIT["Degree",0.0174532925199433]]"#;
    let beside = |p: &Path, shp: Option<&[u8]>, dbf: Option<&[u8]>| {
        std::fs::write(p.with_extension("prj"), prj).unwrap();
        shp.iter().for_each(|b| std::fs::write(p.with_extension("shp"), b).unwrap());
        dbf.iter().for_each(|b| std::fs::write(p.with_extension("dbf"), b).unwrap());
        drop(vector::read(&Source::of(&p.with_extension("shp"))));
    };
    torture("b.shp", &shp, |p| beside(p, None, Some(&dbf)));
    torture("b.dbf", &dbf, |p| beside(p, Some(&shp), None));
}
