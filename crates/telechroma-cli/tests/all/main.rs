//! The built program, driven on files in temporary folders: one file a theme.
#![allow(clippy::unwrap_used)] // tests

mod accuracy;
mod bad_input;
mod catalogue;
mod chain;
mod determinism;
mod estate;
mod finding;
mod inspect;
mod numbers;
mod outputs;
mod pictures;
mod places;
mod science;
mod sensors;
mod talk;
mod trial;

use std::path::Path;
use std::sync::Arc;

use telechroma_core::graph::Graph;
use telechroma_core::tile::Cells;
use telechroma_core::units::Unit;
use telechroma_io::bytes::ByteRange;
use telechroma_io::raster::samples::Reading;
use telechroma_io::raster::tiff::{Tiff, TiffPlane};
use telechroma_testkit::memory::compute;
use telechroma_testkit::program::Program;
use telechroma_testkit::tiny::{Tiny, plots};

const COLS: usize = 40;
const ROWS: usize = 30;

/// The built program in a folder.
fn program(dir: &Path) -> Program {
    Program::new(env!("CARGO_BIN_EXE_telechroma"), dir)
}

/// A folder with so many tiny deliveries below `scenes`, every other one a `.tar`, and plots.
fn season(n: u8) -> (tempfile::TempDir, Vec<Tiny>, Program) {
    let dir = tempfile::tempdir().unwrap();
    let scenes: Vec<Tiny> = (0..n).map(|i| Tiny::new(i, COLS, ROWS)).collect();
    for (i, s) in scenes.iter().enumerate() {
        let at = dir.path().join("scenes");
        if i % 2 == 0 {
            s.write(&at)
        } else {
            s.write_tar(&at)
        };
    }
    std::fs::write(dir.path().join("plots.geojson"), plots(scenes[0].corner, 25, &RECTANGLES)).unwrap();
    let p = program(dir.path());
    (dir, scenes, p)
}

/// Id, column, row, width, height, in cells: on cell borders, across them, thin, and half outside.
const RECTANGLES: [(&str, f64, f64, f64, f64); 4] =
    [("a", 2.0, 3.0, 8.0, 6.0), ("b", 12.25, 4.5, 9.5, 7.75), ("c", 25.1, 20.3, 3.2, 0.6), ("d", 36.5, 10.0, 8.0, 5.0)];

/// All values of a band of a raster.
fn values(path: &Path, band: u32) -> Vec<f32> {
    let tiff = Tiff::open(ByteRange::whole(path).unwrap()).unwrap();
    let mut g = Graph::new((*tiff.grid).clone());
    let plane = TiffPlane::new(&tiff, band, Reading::Values(Unit::Unknown)).unwrap();
    let id = g.source(Arc::new(plane), None).unwrap();
    match compute(g, &[id], None, 1).unwrap().0.remove(0) {
        Cells::Values(v) => v,
        Cells::Bits(_) => panic!("values"),
    }
}

/// A table of CSV: rows of (column, text).
fn table(text: &str) -> Vec<std::collections::BTreeMap<String, String>> {
    let mut reader = csv::Reader::from_reader(text.as_bytes());
    let header = reader.headers().unwrap().clone();
    reader
        .records()
        .map(|r| header.iter().map(String::from).zip(r.unwrap().iter().map(String::from)).collect())
        .collect()
}
