//! JPEG 2000: samples of another encoder come back exactly, tile by tile; what cannot be read is named.

use std::sync::Arc;

use telechroma_core::graph::Graph;
use telechroma_core::grid::Grid;
use telechroma_core::tile::{Cells, PlaneSource};
use telechroma_core::units::Unit;
use telechroma_io::bytes::ByteRange;
use telechroma_io::raster::jp2::{Jp2, Jp2Plane};
use telechroma_io::raster::samples::{Coding, Reading};
use telechroma_testkit::jp2::encode;
use telechroma_testkit::memory::{compute, grid};

fn samples(cols: usize, rows: usize, most: u32) -> Vec<u16> {
    (0..cols * rows).map(|i| ((i * 7919 + (i / cols) * 31) as u32 % (most + 1)) as u16).collect()
}

fn open(bytes: &[u8]) -> (tempfile::TempDir, telechroma_io::Result<Arc<Jp2>>) {
    let dir = tempfile::tempdir().unwrap();
    let path = dir.path().join("i.jp2");
    std::fs::write(&path, bytes).unwrap();
    let opened = ByteRange::whole(&path).and_then(Jp2::open);
    (dir, opened)
}

fn on(jp2: &Jp2) -> Arc<Grid> {
    Arc::new(grid(0, 0, jp2.cols, jp2.rows))
}

#[test]
fn samples_come_back_whatever_the_tiles() {
    for (cols, rows, tile, bits) in
        [(64, 64, 64, 15), (100, 75, 32, 16), (33, 47, 128, 15), (130, 20, 64, 8), (1, 1, 16, 12)]
    {
        let want = samples(cols, rows, (1 << bits) - 1);
        let (_dir, jp2) = open(&encode(cols, rows, bits, &want, tile));
        let jp2 = jp2.unwrap();
        assert_eq!((jp2.cols as usize, jp2.rows as usize), (cols, rows));
        let mut g = Graph::new((*on(&jp2)).clone());
        let plane = Jp2Plane::new(&jp2, on(&jp2), Reading::Counts { fill: None }).unwrap();
        let id = g.source(Arc::new(plane), None).unwrap();
        let (planes, report) = compute(g, &[id], Some((40, 24)), 2).unwrap();
        assert_eq!(planes[0], Cells::Bits(want), "{cols} x {rows}, tiles of {tile}, {bits} bits");
        assert_eq!(report.decoded_again, 0);
    }
}

#[test]
fn a_window_decodes_its_tiles_alone() {
    let want = samples(256, 256, 9000);
    let (_dir, jp2) = open(&encode(256, 256, 15, &want, 32));
    let jp2 = jp2.unwrap();
    let coding = Coding { scale: 1e-4, offset: -0.1, fill: vec![0.0], valid: None, unit: Unit::Reflectance };
    let plane = Jp2Plane::new(&jp2, on(&jp2), Reading::Coded(coding)).unwrap();
    assert!(plane.decode_bytes() > 0);
    // cells 40 to 60 lie in one tile of 64
    let mut g = Graph::new(grid(40, 40, 20, 20));
    let id = g.source(Arc::new(plane), None).unwrap();
    let (planes, report) = compute(g, &[id], None, 1).unwrap();
    assert_eq!((report.decoded, report.blocks), (1, 64));
    let Cells::Values(v) = &planes[0] else { panic!() };
    for (i, v) in v.iter().enumerate() {
        let stored = f64::from(want[(i / 20 + 40) * 256 + i % 20 + 40]);
        let wanted = if stored == 0.0 { f32::NAN } else { (stored * 1e-4 - 0.1) as f32 };
        assert_eq!(v.to_bits(), wanted.to_bits());
    }
}

#[test]
fn damaged_and_unsuitable_images_are_named() {
    let bytes = encode(64, 48, 15, &samples(64, 48, 9000), 32);
    let said = |b: &[u8]| open(b).1.err().map_or("opened".into(), |e| e.to_string());
    assert!(said(&bytes[..6]).contains("too short"));
    assert!(said(b"not an image at all").contains("does not start like one"));
    assert!(said(&bytes[..bytes.len() / 2]).contains("cut off"));
    let (_dir, jp2) = open(&bytes);
    let jp2 = jp2.unwrap();
    let other = Arc::new(grid(0, 0, 65, 48));
    let e = Jp2Plane::new(&jp2, other, Reading::Counts { fill: None }).unwrap_err().to_string();
    assert!(e.contains("has 64 x 48 cells, the metadata say 65 x 48"), "{e}");
    // the number of components stands behind the sizes in SIZ
    let siz = bytes.windows(2).position(|w| w == [0xFF, 0x51]).unwrap();
    let mut three = bytes.clone();
    three[siz + 39] = 3;
    assert!(said(&three).contains("3 components"), "{}", said(&three));
    let mut shifted = bytes;
    shifted[siz + 17] = 8; // the origin's last byte
    assert!(said(&shifted).contains("origin"), "{}", said(&shifted));
}
