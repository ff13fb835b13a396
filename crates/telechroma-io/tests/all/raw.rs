//! Headerless rasters: every type, order of numbers and order of bytes, against samples laid out here.

use std::sync::Arc;

use proptest::prelude::*;
use telechroma_core::graph::Graph;
use telechroma_core::tile::Cells;
use telechroma_core::units::Unit;
use telechroma_io::bytes::ByteRange;
use telechroma_io::raster::raw::{ORDERS, Order, RawLayout, RawPlane};
use telechroma_io::raster::samples::{Coding, Reading, SampleFormat};
use telechroma_testkit::memory::{compute, grid};

/// The bytes of a whole number or its floating-point twin in a type, lowest byte first.
fn bytes_of(v: i32, format: SampleFormat) -> Vec<u8> {
    match format {
        SampleFormat::U8 => vec![v as u8],
        SampleFormat::I8 => vec![v as i8 as u8],
        SampleFormat::U16 => (v as u16).to_le_bytes().to_vec(),
        SampleFormat::I16 => (v as i16).to_le_bytes().to_vec(),
        SampleFormat::U32 => (v as u32).to_le_bytes().to_vec(),
        SampleFormat::I32 => v.to_le_bytes().to_vec(),
        SampleFormat::F32 => (v as f32).to_le_bytes().to_vec(),
        SampleFormat::F64 => f64::from(v).to_le_bytes().to_vec(),
    }
}

/// A file of a layout in which the number at (band, row, column) is given.
fn file(layout: &RawLayout, at: impl Fn(u32, u32, u32) -> i32) -> Vec<u8> {
    let mut out = vec![0xAA; layout.skip as usize];
    let mut put = |b: u32, r: u32, c: u32| {
        let mut bytes = bytes_of(at(b, r, c), layout.format);
        if layout.big_endian {
            bytes.reverse();
        }
        out.extend(bytes);
    };
    let (bands, rows, cols) = (layout.bands, layout.rows, layout.cols);
    match layout.order {
        Order::BandSequential => (0..bands).for_each(|b| (0..rows).for_each(|r| (0..cols).for_each(|c| put(b, r, c)))),
        Order::LineInterleaved => (0..rows).for_each(|r| (0..bands).for_each(|b| (0..cols).for_each(|c| put(b, r, c)))),
        Order::PixelInterleaved => {
            (0..rows).for_each(|r| (0..cols).for_each(|c| (0..bands).for_each(|b| put(b, r, c))))
        }
    }
    out
}

fn read(bytes: &[u8], layout: &RawLayout, band: u32, reading: Reading) -> Result<Vec<f32>, String> {
    let dir = tempfile::tempdir().unwrap();
    let path = dir.path().join("r.bin");
    std::fs::write(&path, bytes).unwrap();
    let here = grid(0, 0, layout.cols, layout.rows);
    let plane = RawPlane::new(ByteRange::whole(&path).unwrap(), layout.clone(), Arc::new(here.clone()), band, reading)
        .map_err(|e| e.to_string())?;
    let mut g = Graph::new(here);
    let id = g.source(Arc::new(plane), None).map_err(|e| e.to_string())?;
    match compute(g, &[id], Some((7, 5)), 2).map_err(|e| e.to_string())?.0.remove(0) {
        Cells::Values(v) => Ok(v),
        Cells::Bits(b) => Ok(b.into_iter().map(f32::from).collect()),
    }
}

/// The greatest number used in a type, so that it holds every number of the test.
fn most(format: SampleFormat) -> i32 {
    match format {
        SampleFormat::U8 => 255,
        SampleFormat::I8 => 127,
        SampleFormat::U16 => 65_535,
        SampleFormat::I16 => 32_767,
        _ => 1 << 24,
    }
}

proptest! {
    #[test]
    fn numbers_come_back_from_every_layout(
        (cols, rows, bands) in (1u32..23, 1u32..17, 1u32..5),
        format in proptest::sample::select(SampleFormat::all().collect::<Vec<_>>()),
        order in 0usize..3,
        big_endian: bool,
        skip in 0u64..300,
        key in 0i32..1000,
    ) {
        let layout = RawLayout { cols, rows, bands, format, order: ORDERS[order].1, big_endian, skip };
        let at = |b: u32, r: u32, c: u32| (key * 31 + (b * 7919 + r * 104_729 + c * 1299) as i32) % (most(format) + 1);
        let bytes = file(&layout, at);
        prop_assert_eq!(layout.bytes(), Some(bytes.len() as u64));
        for b in 0..bands {
            let got = read(&bytes, &layout, b, Reading::Values(Unit::One)).unwrap();
            for (i, v) in got.iter().enumerate() {
                prop_assert_eq!(*v, at(b, i as u32 / cols, i as u32 % cols) as f32);
            }
        }
    }
}

const SMALL: RawLayout = RawLayout {
    cols: 4,
    rows: 3,
    bands: 2,
    format: SampleFormat::I16,
    order: Order::BandSequential,
    big_endian: false,
    skip: 0,
};

#[test]
fn coded_numbers_become_values_and_wide_ones_are_refused() {
    let bytes = file(&SMALL, |_, _, c| [-3000, 5000, 20_000, -1][c as usize]);
    let coding =
        Coding { scale: 1e-4, offset: 0.5, fill: vec![-3000.0], valid: Some((-2000.0, 10_000.0)), unit: Unit::One };
    let got = read(&bytes, &SMALL, 1, Reading::Coded(coding)).unwrap();
    assert!(got[0].is_nan() && got[2].is_nan(), "fill and what is not valid are missing: {got:?}");
    assert_eq!((got[1], got[3]), (1.0, 0.4999));
    let wide = RawLayout { format: SampleFormat::I32, ..SMALL };
    let said = read(&file(&wide, |_, _, _| (1 << 24) + 1), &wide, 0, Reading::Values(Unit::One)).unwrap_err();
    assert!(said.contains("16777217") && said.contains("exactly"), "{said}");
    // what stands for missing may be as wide as it likes
    let fill = Coding { scale: 1.0, offset: 0.0, fill: vec![2_000_000_000.0], valid: None, unit: Unit::One };
    assert!(
        read(&file(&wide, |_, _, _| 2_000_000_000), &wide, 0, Reading::Coded(fill)).unwrap().iter().all(|v| v.is_nan())
    );
    // flags and counts are unsigned
    assert!(read(&bytes, &SMALL, 0, Reading::Flags { outside: 1 }).unwrap_err().contains("int16"));
    assert!(read(&bytes, &SMALL, 2, Reading::Values(Unit::One)).unwrap_err().contains("no band 3"));
    assert!(
        read(&bytes[..40], &SMALL, 0, Reading::Values(Unit::One))
            .unwrap_err()
            .contains("has 40 bytes, its layout needs 48")
    );
}

#[test]
fn what_would_fit_is_told() {
    let fits = |layout: RawLayout, len: u64| layout.fitting(len);
    assert!(fits(SMALL, 24).contains(&"type uint8".to_string()) && fits(SMALL, 24).contains(&"1 bands".to_string()));
    assert!(fits(SMALL, 80).contains(&"5 rows".to_string()));
    assert!(fits(SMALL, 60).contains(&"5 columns".to_string()));
    assert!(fits(SMALL, 148).contains(&"100 bytes before the first sample".to_string()));
    assert!(fits(SMALL, 7).is_empty());
}
