//! The header of a Cloud Optimized GeoTIFF: one directory a level, full resolution first, all before the data.

use telechroma_core::tile::Kind;

use super::SIDE;
use super::pyramid::Level;
use super::sink::{CogOptions, Packing};
use crate::raster::geokeys::keys_of;

/// The header's bytes, and the tiles in the order in which their data follow.
pub(crate) struct Layout {
    pub header: Vec<u8>,
    pub order: Vec<(usize, u32, u32)>,
}

/// A value of a tag: its type, the number of values, their little-endian bytes.
struct Value {
    kind: u16,
    count: u64,
    bytes: Vec<u8>,
}

impl Value {
    fn shorts(v: &[u16]) -> Value {
        Value { kind: 3, count: v.len() as u64, bytes: v.iter().flat_map(|x| x.to_le_bytes()).collect() }
    }

    fn long(v: u32) -> Value {
        Value { kind: 4, count: 1, bytes: v.to_le_bytes().to_vec() }
    }

    fn doubles(v: &[f64]) -> Value {
        Value { kind: 12, count: v.len() as u64, bytes: v.iter().flat_map(|x| x.to_le_bytes()).collect() }
    }

    fn text(t: &str) -> Value {
        let mut bytes = t.as_bytes().to_vec();
        bytes.push(0);
        Value { kind: 2, count: bytes.len() as u64, bytes }
    }

    /// Offsets or sizes: 8 bytes each in a big file, else 4.
    fn places(v: &[u64], big: bool) -> Value {
        let bytes =
            v.iter().flat_map(|x| if big { x.to_le_bytes().to_vec() } else { (*x as u32).to_le_bytes().to_vec() });
        Value { kind: if big { 16 } else { 4 }, count: v.len() as u64, bytes: bytes.collect() }
    }
}

/// Lays the file out, given each tile's packed size.
pub(crate) fn layout(options: &CogOptions, levels: &[Level], size: impl Fn(usize, u32, u32) -> u64) -> Layout {
    let tiles = |level: usize| {
        let l: Level = levels[level];
        (0..options.bands).flat_map(move |b| (0..l.tiles()).map(move |t| (level, b, t)))
    };
    let order: Vec<(usize, u32, u32)> = (0..levels.len()).rev().flat_map(tiles).collect();
    let data: u64 = order.iter().map(|(l, b, t)| size(*l, *b, *t)).sum();
    let places = order.len() as u64;
    let big = data + places * 16 + (1 << 20) > u64::from(u32::MAX);
    // the header's length does not depend on the offsets in it: make it once to measure, once to keep
    let build = |start: u64| {
        let mut at = start;
        let mut offsets = vec![vec![]; levels.len()];
        for (l, b, t) in &order {
            offsets[*l].push((at, size(*l, *b, *t)));
            at += size(*l, *b, *t);
        }
        directories(options, levels, &offsets, big)
    };
    let header = build(0);
    let header = build(header.len() as u64);
    Layout { header, order }
}

fn directories(options: &CogOptions, levels: &[Level], places: &[Vec<(u64, u64)>], big: bool) -> Vec<u8> {
    let mut out: Vec<u8> = b"II".to_vec();
    match big {
        true => out.extend([43, 0, 8, 0, 0, 0, 16, 0, 0, 0, 0, 0, 0, 0]),
        false => out.extend([42, 0, 8, 0, 0, 0]),
    }
    for (i, level) in levels.iter().enumerate() {
        let entries = entries(options, *level, i, &places[i], big);
        directory(&entries, big, i + 1 == levels.len(), &mut out);
    }
    out
}

fn entries(options: &CogOptions, level: Level, number: usize, places: &[(u64, u64)], big: bool) -> Vec<(u16, Value)> {
    let n = options.bands as usize;
    let (bits, predictor, format, nodata) = match (options.kind, options.packing) {
        (Kind::Values, Packing::Float) => (32, 3, 3, Some("nan".to_string())),
        (Kind::Values, Packing::Coded { format, missing, .. }) => {
            (8 * format.bytes() as u16, 2, format.tag(), missing.map(|m| m.to_string()))
        }
        (Kind::Counts { .. } | Kind::Flags { .. }, _) => (16, 2, 1, None),
    };
    let (packed, predictor) = if options.packed { (8, predictor) } else { (1, 1) };
    let side = SIDE as u16;
    let mut e = vec![
        (254, Value::long(u32::from(number > 0))),
        (256, Value::long(level.cols)),
        (257, Value::long(level.rows)),
        (258, Value::shorts(&vec![bits; n])),
        (259, Value::shorts(&[packed])),
        (262, Value::shorts(&[1])),
        (277, Value::shorts(&[n as u16])),
        (284, Value::shorts(&[if n > 1 { 2 } else { 1 }])),
        (317, Value::shorts(&[predictor])),
        (322, Value::shorts(&[side])),
        (323, Value::shorts(&[side])),
        (324, Value::places(&places.iter().map(|p| p.0).collect::<Vec<_>>(), big)),
        (325, Value::places(&places.iter().map(|p| p.1).collect::<Vec<_>>(), big)),
        (339, Value::shorts(&vec![format; n])),
    ];
    if n > 1 {
        e.push((338, Value::shorts(&vec![0; n - 1])));
    }
    if let Some(text) = nodata {
        e.push((42113, Value::text(&text)));
    }
    if number == 0 {
        e.push((270, Value::text(&options.description)));
        e.extend(geo_entries(options));
    }
    e.sort_by_key(|(tag, _)| *tag);
    e
}

fn geo_entries(options: &CogOptions) -> Vec<(u16, Value)> {
    let t = options.grid.transform;
    let mut e = match (t.b, t.d) {
        (0.0, 0.0) if t.e < 0.0 => {
            vec![(33550, Value::doubles(&[t.a, -t.e, 0.0])), (33922, Value::doubles(&[0.0, 0.0, 0.0, t.c, t.f, 0.0]))]
        }
        _ => vec![(
            34264,
            Value::doubles(&[t.a, t.b, 0.0, t.c, t.d, t.e, 0.0, t.f, 0.0, 0.0, 0.0, 0.0, 0.0, 0.0, 0.0, 1.0]),
        )],
    };
    if let Some(crs) = options.grid.crs {
        let keys = keys_of(crs);
        e.push((34735, Value::shorts(&keys.directory)));
        if !keys.doubles.is_empty() {
            e.push((34736, Value::doubles(&keys.doubles)));
        }
        e.push((34737, Value::text(&keys.text)));
    }
    e
}

/// Appends one directory with its values behind it.
fn directory(entries: &[(u16, Value)], big: bool, last: bool, out: &mut Vec<u8>) {
    let word = |n: u64| if big { n.to_le_bytes().to_vec() } else { (n as u32).to_le_bytes().to_vec() };
    let width = if big { 8 } else { 4 };
    let head = if big { 8 } else { 2 } + entries.len() * if big { 20 } else { 12 } + width;
    let mut at = out.len() + head;
    let (mut table, mut values) = (vec![], vec![]);
    for (tag, v) in entries {
        table.extend(tag.to_le_bytes());
        table.extend(v.kind.to_le_bytes());
        table.extend(word(v.count));
        if v.bytes.len() <= width {
            let mut inline = v.bytes.clone();
            inline.resize(width, 0);
            table.extend(inline);
        } else {
            table.extend(word(at as u64));
            values.extend(&v.bytes);
            values.resize(values.len().next_multiple_of(8), 0);
            at = out.len() + head + values.len();
        }
    }
    match big {
        true => out.extend((entries.len() as u64).to_le_bytes()),
        false => out.extend((entries.len() as u16).to_le_bytes()),
    }
    out.extend(table);
    out.extend(word(if last { 0 } else { at as u64 }));
    out.extend(values);
}

#[cfg(test)]
mod tests {
    use std::io::Write;
    use std::sync::Arc;

    use telechroma_core::geo::{Affine, Crs};
    use telechroma_core::grid::Grid;

    use super::*;
    use crate::bytes::ByteRange;
    use crate::raster::cog::pyramid::levels;
    use crate::raster::tiff::Tiff;

    fn options(cols: u32, rows: u32, transform: Affine, epsg: u32) -> CogOptions {
        let grid = Grid { crs: Crs::from_epsg(epsg).ok(), transform, cols, rows };
        CogOptions { bands: 3, ..CogOptions::new(Arc::new(grid), Kind::Values, "what it is".into()) }
    }

    /// The header with a hole behind it where the data would be: gigabytes that take no room on the disk.
    fn file(options: &CogOptions, size: u64) -> (tempfile::TempDir, std::path::PathBuf, Layout) {
        let layout = layout(options, &levels(&options.grid), |_, _, _| size);
        let dir = tempfile::tempdir().unwrap();
        let path = dir.path().join("big.tif");
        let mut f = std::fs::File::create(&path).unwrap();
        f.write_all(&layout.header).unwrap();
        f.set_len(layout.header.len() as u64 + size * layout.order.len() as u64).unwrap();
        (dir, path, layout)
    }

    #[test]
    fn files_past_four_gigabytes_are_big_and_offsets_lie_end_to_end() {
        for (size, magic) in [(2000u64, 42u16), (40_000_000, 43)] {
            let o = options(5000, 3000, Affine::north_up(5e5, 4e6, 30.0, 30.0), 32625);
            let (_dir, path, layout) = file(&o, size);
            assert_eq!(u16::from_le_bytes([layout.header[2], layout.header[3]]), magic);
            let tiff = Tiff::open(ByteRange::whole(&path).unwrap()).unwrap();
            assert_eq!(*tiff.grid, *o.grid);
            // the smallest level's first tile follows the header, each tile the one before it
            let mut other = tiff::decoder::Decoder::new(std::fs::File::open(&path).unwrap()).unwrap();
            let mut all = vec![];
            loop {
                let offsets = other.get_tag_u64_vec(tiff::tags::Tag::TileOffsets).unwrap();
                assert!(other.get_tag_u64_vec(tiff::tags::Tag::TileByteCounts).unwrap().iter().all(|n| *n == size));
                all.extend(offsets);
                if !other.more_images() {
                    break;
                }
                other.next_image().unwrap();
            }
            all.sort_unstable();
            let want: Vec<u64> =
                (0..layout.order.len() as u64).map(|i| layout.header.len() as u64 + i * size).collect();
            assert_eq!(all, want);
        }
    }

    #[test]
    fn turned_grids_degrees_and_no_system_at_all_come_back() {
        let turned = Affine { a: 20.0, b: 10.0, c: 5e5, d: 10.0, e: -20.0, f: 4e6 };
        let degrees = Affine::north_up(-33.0, 40.0, 0.001, 0.001);
        for (transform, epsg) in [(turned, 32625), (degrees, 4326), (Affine::north_up(0.0, 0.0, 1.0, 1.0), 0)] {
            let o = options(100, 80, transform, epsg);
            let (_dir, path, _) = file(&o, 2000);
            let tiff = Tiff::open(ByteRange::whole(&path).unwrap()).unwrap();
            assert_eq!((*tiff.grid).clone(), (*o.grid).clone(), "{epsg}");
            assert_eq!(tiff.header.description.as_deref(), Some("what it is"));
        }
    }
}
