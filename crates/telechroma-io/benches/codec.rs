//! Decoding blocks and encoding tiles, bytes a second of unpacked data on one thread.
#![allow(missing_docs, clippy::unwrap_used)] // benches

use std::sync::Arc;

use divan::Bencher;
use divan::counter::BytesCount;
use telechroma_core::graph::Graph;
use telechroma_core::grid::Window;
use telechroma_core::run::{Budget, Plan, Silent, Sink, run};
use telechroma_core::tile::{Cells, Kind, PlaneSource, Tile, block_window};
use telechroma_core::units::Unit;
use telechroma_io::bytes::ByteRange;
use telechroma_io::raster::cog::{CogEncoder, CogOptions};
use telechroma_io::raster::samples::Reading;
use telechroma_io::raster::tiff::{Tiff, TiffPlane};
use telechroma_testkit::memory::{MemoryPlane, grid};
use telechroma_world::tiff::{Options, Packing, Samples, encode};

const SIDE: usize = 1024;

fn main() {
    divan::main();
}

/// Fields with a fine grain, as counts.
fn counts() -> Vec<u16> {
    let grain = |i: u64| (i.wrapping_mul(0x9E37_79B9_7F4A_7C15) >> 58) as u16;
    (0..SIDE * SIDE)
        .map(|i| 7000 + (i / SIDE / 50 * 31 + i % SIDE / 60 * 17) as u16 % 900 * 8 + grain(i as u64))
        .collect()
}

/// Reading all blocks of a band of 16-bit counts.
#[divan::bench(args = ["deflate tiles", "deflate strips", "lzw strips", "plain tiles"])]
fn decode(b: Bencher, layout: &str) {
    let (packing, tile) = match layout {
        "deflate tiles" => (Packing::Deflate, Some((512, 512))),
        "deflate strips" => (Packing::Deflate, None),
        "lzw strips" => (Packing::Lzw, None),
        _ => (Packing::None, Some((512, 512))),
    };
    let dir = tempfile::tempdir().unwrap();
    let path = dir.path().join("b.tif");
    let o = Options { cols: SIDE, rows: SIDE, tile, strip: 32, packing, predictor: 2, ..Options::default() };
    std::fs::write(&path, encode(&Samples::U16(counts()), &o)).unwrap();
    let tiff = Tiff::open(ByteRange::whole(&path).unwrap()).unwrap();
    let plane = TiffPlane::new(&tiff, 0, Reading::Counts { fill: Some(0) }).unwrap();
    let shape = plane.block();
    let blocks = SIDE.div_ceil(shape.cols as usize) * SIDE.div_ceil(shape.rows as usize);
    let cells = Cells::Bits(vec![0; (shape.cols * shape.rows) as usize]);
    let mut out = Tile { window: Window::new(0, 0, shape.cols, shape.rows), cells };
    b.counter(BytesCount::new(2 * SIDE * SIDE)).bench_local(|| {
        for i in 0..blocks as u32 {
            let at = block_window(&plane.spec().grid, shape, i);
            out.window = Window::new(at.col, at.row, shape.cols, shape.rows);
            plane.read_block(i, &mut out).unwrap();
        }
    });
}

/// Writing a raster with overviews: float values, and flags.
#[divan::bench(args = ["values", "flags"])]
fn write(b: Bencher, what: &str) {
    let dir = tempfile::tempdir().unwrap();
    let path = dir.path().join("c.tif");
    let here = grid(0, 0, SIDE as u32, SIDE as u32);
    let (kind, cells) = match what {
        "values" => (Kind::Values, Cells::Values(counts().iter().map(|c| f32::from(*c) * 2.3e-5 - 0.11).collect())),
        _ => (Kind::Flags { outside: 1 }, Cells::Bits(counts().iter().map(|c| c / 800 % 4 * 8).collect())),
    };
    let bytes = cells.bytes() as usize;
    let source = MemoryPlane::shared("p", here.clone(), kind, Unit::One, (512, 512), cells);
    b.counter(BytesCount::new(bytes)).bench_local(|| {
        let mut g = Graph::new(here.clone());
        let node = g.source(source.clone(), None).unwrap();
        let options = CogOptions::new(Arc::new(here.clone()), kind, String::new());
        let (encoder, mut file) = CogEncoder::create(&path, options);
        let sinks = vec![Sink { groups: vec![vec![node]], prepare: &encoder, absorb: &mut file }];
        let plan = Plan::new(g, &sinks, Budget { threads: 1, bytes: 1 << 32 }).unwrap();
        run(&plan, sinks, &Silent).unwrap();
        file.finish(1).unwrap();
    });
}
