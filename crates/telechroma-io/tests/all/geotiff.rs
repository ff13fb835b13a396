//! Reading every variant of GeoTIFF that is supported, refusing the others, surviving damaged ones; writing files that
//! an independent reader understands.

use std::path::Path;
use std::sync::Arc;

use telechroma_core::geo::Crs;
use telechroma_core::grid::Window;
use telechroma_core::run::{Budget, Plan, Silent, Sink, run};
use telechroma_core::tile::{Cells, Kind, read_window};
use telechroma_core::units::Unit;
use telechroma_io::bytes::ByteRange;
use telechroma_io::raster::cog::{CogEncoder, CogOptions};
use telechroma_io::raster::samples::{Coding, Reading, SampleFormat};
use telechroma_io::raster::tiff::{Tiff, TiffPlane};
use telechroma_testkit::hostile::{cuts, set_tag};
use telechroma_testkit::memory::{MemoryPlane, compute, grid};
use telechroma_world::tiff::{Options, Packing, Samples, encode};

const COLS: usize = 75;
const ROWS: usize = 53;

fn open(path: &Path) -> telechroma_io::Result<Arc<Tiff>> {
    Tiff::open(ByteRange::whole(path)?)
}

/// All cells of a band.
fn cells(tiff: &Arc<Tiff>, band: u32, reading: Reading) -> Result<Cells, String> {
    let plane = TiffPlane::new(tiff, band, reading).map_err(|e| e.to_string())?;
    let mut g = telechroma_core::graph::Graph::new((*tiff.grid).clone());
    let id = g.source(Arc::new(plane), None).map_err(|e| e.to_string())?;
    compute(g, &[id], Some((40, 40)), 2).map(|mut c| c.0.remove(0)).map_err(|e| e.to_string())
}

fn samples(kind: usize, n: usize) -> Samples {
    let at = |i: usize| (i * 7919 + i / 31) % 65_521;
    match kind {
        0 => Samples::U8((0..n).map(|i| at(i) as u8).collect()),
        1 => Samples::U16((0..n).map(|i| at(i) as u16).collect()),
        2 => Samples::I16((0..n).map(|i| at(i) as u16 as i16).collect()),
        _ => Samples::F32((0..n).map(|i| at(i) as f32 * 0.37 - 4000.0).collect()),
    }
}

fn value(s: &Samples, i: usize) -> f32 {
    match s {
        Samples::U8(v) => f32::from(v[i]),
        Samples::U16(v) => f32::from(v[i]),
        Samples::I16(v) => f32::from(v[i]),
        Samples::F32(v) => v[i],
    }
}

#[test]
fn every_variant_reads_back_exactly() {
    let dir = tempfile::tempdir().unwrap();
    let path = dir.path().join("v.tif");
    let mut n = 0i64;
    for kind in 0..4 {
        for packing in [Packing::None, Packing::Lzw, Packing::Deflate] {
            for (tile, strip) in [(Some((32, 16)), 0), (Some((128, 64)), 0), (None, 7), (None, ROWS)] {
                for (bands, planar) in [(1, false), (3, false), (3, true)] {
                    for predictor in if kind == 3 { vec![1, 2, 3] } else { vec![1, 2] } {
                        for (big, big_endian) in [(false, false), (true, false), (false, true), (true, true)] {
                            let s = samples(kind, COLS * ROWS * bands);
                            let o = Options {
                                cols: COLS,
                                rows: ROWS,
                                bands,
                                planar,
                                tile,
                                strip,
                                packing,
                                predictor,
                                big,
                                big_endian,
                                point: n % 2 == 0,
                                ..Options::default()
                            };
                            std::fs::write(&path, encode(&s, &o)).unwrap();
                            let tiff = open(&path).unwrap_or_else(|e| panic!("{o:?}: {e}"));
                            assert_eq!((tiff.grid.transform.c, tiff.grid.transform.f), o.corner, "{o:?}");
                            assert_eq!(tiff.grid.crs, Crs::from_epsg(u32::from(o.epsg)).ok());
                            let band = bands - 1;
                            let got = cells(&tiff, band as u32, Reading::Values(Unit::Unknown))
                                .unwrap_or_else(|e| panic!("{o:?}: {e}"));
                            let want: Vec<f32> = (0..COLS * ROWS).map(|i| value(&s, band * COLS * ROWS + i)).collect();
                            // any window, even one that reaches beyond the file, is the same as cut out of all cells
                            let window = Window::new(n % 83 - 9, n % 61 - 6, 1 + n as u32 % 47, 1 + n as u32 % 23);
                            let plane = TiffPlane::new(&tiff, band as u32, Reading::Values(Unit::Unknown)).unwrap();
                            let part = read_window(&plane, window).unwrap();
                            let whole = tiff.grid.window();
                            for (i, got) in (0i64..).zip(part.values()) {
                                let (c, r) = (i % i64::from(window.cols), i / i64::from(window.cols));
                                let at = Window::new(window.col + c, window.row + r, 1, 1);
                                match whole.contains(&at) {
                                    true => assert_eq!(*got, want[whole.index(at.col, at.row)], "{o:?} {at:?}"),
                                    false => assert!(got.is_nan(), "{o:?} {at:?}"),
                                }
                            }
                            assert_eq!(got, Cells::Values(want), "{o:?}");
                            n += 1;
                        }
                    }
                }
            }
        }
    }
    assert_eq!(n, 3 * 4 * 3 * 4 * (2 * 3 + 3));
}

#[test]
fn counts_and_flags_keep_their_bits_and_declared_missing_values_become_missing() {
    let dir = tempfile::tempdir().unwrap();
    let path = dir.path().join("v.tif");
    let o = Options { cols: COLS, rows: ROWS, nodata: Some("-9999".into()), ..Options::default() };
    let mut v = vec![-9999i16; COLS * ROWS];
    v[5] = 17;
    std::fs::write(&path, encode(&Samples::I16(v), &o)).unwrap();
    let Cells::Values(v) = cells(&open(&path).unwrap(), 0, Reading::Values(Unit::One)).unwrap() else {
        panic!("values")
    };
    assert_eq!((v[5], v.iter().filter(|v| v.is_nan()).count()), (17.0, COLS * ROWS - 1));
    let s = samples(1, COLS * ROWS);
    std::fs::write(&path, encode(&s, &Options { nodata: None, ..o })).unwrap();
    for reading in [Reading::Counts { fill: Some(0) }, Reading::Flags { outside: 1 }] {
        let Samples::U16(want) = &s else { panic!("words") };
        assert_eq!(cells(&open(&path).unwrap(), 0, reading).unwrap(), Cells::Bits(want.clone()));
    }
}

#[test]
fn what_is_not_supported_is_named() {
    let dir = tempfile::tempdir().unwrap();
    let path = dir.path().join("v.tif");
    let write = |o: Options| std::fs::write(&path, encode(&samples(1, COLS * ROWS), &o)).unwrap();
    let plain = || Options { cols: COLS, rows: ROWS, ..Options::default() };
    let message = |tag: u16, v: u32| {
        write(plain());
        set_tag(&path, tag, v);
        open(&path).err().map_or_else(|| panic!("tag {tag} = {v} was accepted"), |e| e.to_string())
    };
    for (tag, v, says) in [
        (259, 7, "compression 7"),
        (259, 34_887, "compression 34887"),
        (258, 12, "12-bit"),
        (258, 64, "64-bit"),
        (339, 6, "complex"),
        (317, 9, "predictor 9"),
    ] {
        let m = message(tag, v);
        assert!(m.contains(says) && m.contains("v.tif"), "{m}");
    }
    std::fs::write(&path, b"II*\0").unwrap();
    assert!(open(&path).unwrap_err().to_string().contains("v.tif"));
    std::fs::write(&path, b"GIF89a and so on").unwrap();
    assert!(open(&path).unwrap_err().to_string().contains("not a TIFF"));
    let m = {
        write(plain());
        cells(&open(&path).unwrap(), 3, Reading::Values(Unit::One)).unwrap_err()
    };
    assert!(m.contains("has 1 bands, so no band 4"), "{m}");
}

#[test]
fn absurd_dimensions_ask_for_no_memory() {
    let dir = tempfile::tempdir().unwrap();
    let path = dir.path().join("v.tif");
    for (tag, v) in [(256, u32::MAX), (257, u32::MAX), (322, u32::MAX), (277, 60_000)] {
        std::fs::write(
            &path,
            encode(&samples(1, COLS * ROWS), &Options { cols: COLS, rows: ROWS, ..Options::default() }),
        )
        .unwrap();
        set_tag(&path, tag, v);
        let m = open(&path).err().map_or_else(|| panic!("tag {tag} = {v} was accepted"), |e| e.to_string());
        assert!(m.contains("v.tif"), "{m}");
    }
}

#[test]
fn a_file_cut_off_anywhere_is_an_error_and_never_a_wrong_number() {
    let dir = tempfile::tempdir().unwrap();
    for (i, o) in [
        Options { tile: Some((32, 32)), predictor: 2, ..Options::default() },
        Options { tile: None, strip: 9, packing: Packing::Lzw, ..Options::default() },
        Options { tile: Some((32, 32)), big: true, packing: Packing::None, ..Options::default() },
    ]
    .into_iter()
    .enumerate()
    {
        let s = samples(1, COLS * ROWS);
        let whole = encode(&s, &Options { cols: COLS, rows: ROWS, ..o });
        let path = dir.path().join(format!("{i}.tif"));
        for cut in cuts(whole.len()) {
            std::fs::write(&path, &whole[..cut]).unwrap();
            let read =
                open(&path).map_err(|e| e.to_string()).and_then(|t| cells(&t, 0, Reading::Counts { fill: None }));
            match read {
                Err(m) => assert!(m.contains(&format!("{i}.tif")), "{cut}: {m}"),
                // what lies behind the last value needed may be cut off
                Ok(got) => {
                    let Samples::U16(want) = &s else { panic!("words") };
                    assert_eq!(got, Cells::Bits(want.clone()), "{cut}");
                }
            }
        }
    }
}

#[test]
fn flipped_bytes_never_panic() {
    let dir = tempfile::tempdir().unwrap();
    let path = dir.path().join("v.tif");
    let whole = encode(
        &samples(1, COLS * ROWS),
        &Options { cols: COLS, rows: ROWS, tile: Some((64, 64)), ..Options::default() },
    );
    // the directory stands at the end: flip each of its bytes to a few values
    for at in whole.len() - 420..whole.len() {
        for v in [0u8, 1, 0x7F, 0xFF] {
            let mut bytes = whole.clone();
            bytes[at] = v;
            std::fs::write(&path, &bytes).unwrap();
            if let Ok(t) = open(&path) {
                let _ = cells(&t, 0, Reading::Values(Unit::Unknown)); // a message or numbers, no panic
            }
        }
    }
}

/// How a raster is written: blocks packed or plain, by what tiles, on how many threads.
#[derive(Clone, Copy, Debug)]
struct How(bool, (u32, u32), usize);

fn write_cog(path: &Path, (cols, rows): (u32, u32), planes: &[Cells], kind: Kind, How(packed, tile, threads): How) {
    let g0 = grid(3, 5, cols, rows);
    let mut g = telechroma_core::graph::Graph::new(g0.clone());
    let unit = if kind == Kind::Values { Unit::Reflectance } else { Unit::Flags };
    let nodes: Vec<_> = planes
        .iter()
        .enumerate()
        .map(|(i, c)| {
            g.source(MemoryPlane::shared(&i.to_string(), g0.clone(), kind, unit, (256, 256), c.clone()), None).unwrap()
        })
        .collect();
    let bands = planes.len() as u32;
    let options = CogOptions { bands, packed, ..CogOptions::new(Arc::new(g0), kind, "{\"a\": \"ä\"}".into()) };
    let (encoder, mut file) = CogEncoder::create(path, options);
    let sinks = vec![Sink { groups: nodes.iter().map(|n| vec![*n]).collect(), prepare: &encoder, absorb: &mut file }];
    let plan = Plan::with_tiles(g, &sinks, Budget { threads, bytes: 1 << 32 }, tile.0, tile.1).unwrap();
    run(&plan, sinks, &Silent).unwrap();
    file.finish(threads).unwrap();
}

fn surface(cols: u32, rows: u32, k: u32) -> Vec<f32> {
    (0..rows)
        .flat_map(|r| {
            (0..cols)
                .map(move |c| if (c + r) % 211 == 0 { f32::NAN } else { ((c * 31 + r * 17 + k) % 977) as f32 / 977.0 })
        })
        .collect()
}

/// Values packed as whole numbers come back within half a step, held to the range, and missing where they were.
#[test]
fn packed_values_come_back_within_half_a_step() {
    let dir = tempfile::tempdir().unwrap();
    let path = dir.path().join("p.tif");
    let (cols, rows) = (700, 540);
    let given: Vec<f32> = surface(cols, rows, 3).iter().map(|v| 2.0 * v - 0.7).collect();
    let whole: Vec<f32> = given.iter().map(|v| (v * 9000.0).round()).collect();
    for (format, scale, offset, missing, values) in [
        (SampleFormat::I16, 1e-4, 0.0, -32_768, &given),
        (SampleFormat::U16, 1e-4, -0.7, 65_535, &given),
        (SampleFormat::U8, 0.01, -0.7, 255, &given),
        (SampleFormat::I16, 1.0, 0.0, -32_768, &whole),
    ] {
        let g0 = grid(3, 5, cols, rows);
        let mut g = telechroma_core::graph::Graph::new(g0.clone());
        let plane = Cells::Values(values.clone());
        let plane = MemoryPlane::shared("v", g0.clone(), Kind::Values, Unit::Reflectance, (256, 256), plane);
        let node = g.source(plane, None).unwrap();
        let packing = telechroma_io::raster::cog::Packing::Coded { format, scale, offset, missing: Some(missing) };
        let options = CogOptions { packing, ..CogOptions::new(Arc::new(g0), Kind::Values, String::new()) };
        let (encoder, mut file) = CogEncoder::create(&path, options);
        let sinks = vec![Sink { groups: vec![vec![node]], prepare: &encoder, absorb: &mut file }];
        let plan = Plan::with_tiles(g, &sinks, Budget { threads: 2, bytes: 1 << 32 }, 512, 512).unwrap();
        run(&plan, sinks, &Silent).unwrap();
        file.finish(2).unwrap();
        let coding = Coding { scale, offset, fill: vec![f64::from(missing)], valid: None, unit: Unit::Reflectance };
        let Cells::Values(back) = cells(&open(&path).unwrap(), 0, Reading::Coded(coding)).unwrap() else { panic!() };
        for (i, (a, b)) in values.iter().zip(&back).enumerate() {
            let same = a.is_nan() && b.is_nan() || (f64::from(*a) - f64::from(*b)).abs() <= 0.5 * scale + 2e-7;
            assert!(same, "{format:?} cell {i}: {a} {b}");
            assert!(scale != 1.0 || a.to_bits() == b.to_bits() || a.is_nan(), "{a} {b}");
        }
    }
}

/// What an independent reader makes of our files: size, values, levels.
#[test]
fn an_independent_reader_finds_the_same_cells_and_halved_levels() {
    let dir = tempfile::tempdir().unwrap();
    let path = dir.path().join("c.tif");
    let (cols, rows) = (1300, 700);
    let v = surface(cols, rows, 0);
    for packed in [true, false] {
        write_cog(&path, (cols, rows), &[Cells::Values(v.clone())], Kind::Values, How(packed, (512, 512), 2));
        let sizes = levels_of(&path, &v, cols);
        assert_eq!(sizes, [(1300, 700), (650, 350), (325, 175)]);
    }
}

/// Sizes of the levels, the first two of which must hold these values and their means.
fn levels_of(path: &Path, v: &[f32], cols: u32) -> Vec<(u32, u32)> {
    let mut other = tiff::decoder::Decoder::new(std::fs::File::open(path).unwrap()).unwrap();
    let mut sizes = vec![];
    loop {
        sizes.push(other.dimensions().unwrap());
        let tiff::decoder::DecodingResult::F32(got) = other.read_image().unwrap() else { panic!("floats") };
        if sizes.len() == 1 {
            assert!(got.iter().zip(v).all(|(a, b)| a.to_bits() == b.to_bits() || a.is_nan() && b.is_nan()));
        } else if sizes.len() == 2 {
            // the mean of the four cells that are known
            for (c, r) in [(0u32, 0u32), (7, 3), (100, 200), (649, 349)] {
                let four = [(0, 0), (1, 0), (0, 1), (1, 1)].map(|(x, y)| v[((2 * r + y) * cols + 2 * c + x) as usize]);
                let known: Vec<f64> = four.iter().filter(|v| !v.is_nan()).map(|v| f64::from(*v)).collect();
                let mean = known.iter().sum::<f64>() / known.len() as f64;
                assert!((f64::from(got[(r * 650 + c) as usize]) - mean).abs() < 1e-6);
            }
        }
        if !other.more_images() {
            return sizes;
        }
        other.next_image().unwrap();
    }
}

#[test]
fn the_header_precedes_all_data_and_levels_rise_from_the_smallest() {
    let dir = tempfile::tempdir().unwrap();
    let path = dir.path().join("c.tif");
    let planes = [1, 2].map(|k| Cells::Values(surface(1300, 700, k)));
    for packed in [true, false] {
        write_cog(&path, (1300, 700), &planes, Kind::Values, How(packed, (512, 512), 2));
        let bytes = std::fs::read(&path).unwrap();
        let mut other = tiff::decoder::Decoder::new(std::io::Cursor::new(&bytes)).unwrap();
        let mut first = vec![];
        loop {
            let offsets = other.get_tag_u64_vec(tiff::tags::Tag::TileOffsets).unwrap();
            assert!(offsets.is_sorted());
            first.push(offsets[0]);
            assert_eq!(other.get_tag_u32(tiff::tags::Tag::PlanarConfiguration).unwrap(), 2);
            if !other.more_images() {
                break;
            }
            other.next_image().unwrap();
        }
        assert!(first.is_sorted_by(|a, b| a > b), "{first:?}");
        // the first byte of data is the end of the header: nothing of the directories lies behind it
        assert!(first[2] < 8000, "{first:?}");
    }
}

#[test]
fn bytes_do_not_depend_on_tiles_or_threads_and_flags_come_back() {
    let dir = tempfile::tempdir().unwrap();
    let path = dir.path().join("c.tif");
    let (cols, rows) = (1100, 600);
    let planes = [Cells::Values(surface(cols, rows, 1)), Cells::Values(surface(cols, rows, 2))];
    let bytes = |how| {
        write_cog(&path, (cols, rows), &planes, Kind::Values, how);
        std::fs::read(&path).unwrap()
    };
    for packed in [true, false] {
        let first = bytes(How(packed, (512, 512), 1));
        for (tile, threads) in [((512, 512), 5), ((256, 256), 2), ((1100, 16), 2), ((100, 70), 3)] {
            let how = How(packed, tile, threads);
            assert!(bytes(how) == first, "{how:?}");
        }
    }
    let flags = Cells::Bits((0..cols * rows).map(|i| (i % 7) as u16 * 8).collect());
    for packed in [true, false] {
        let how = How(packed, (512, 512), 2);
        write_cog(&path, (cols, rows), std::slice::from_ref(&flags), Kind::Flags { outside: 1 }, how);
        assert_eq!(cells(&open(&path).unwrap(), 0, Reading::Flags { outside: 1 }).unwrap(), flags);
    }
    assert_eq!(open(&path).unwrap().header.description.as_deref(), Some("{\"a\": \"ä\"}"));
}
