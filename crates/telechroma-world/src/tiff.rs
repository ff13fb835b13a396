//! A TIFF writer for made-up data, whole images in memory, in every variant that a reader should know.

use std::io::Write;

use flate2::Compression as Level;
use flate2::write::ZlibEncoder;

/// The samples of an image, band after band, row after row.
#[derive(Debug, Clone, PartialEq)]
pub enum Samples {
    /// 8-bit.
    U8(Vec<u8>),
    /// 16-bit.
    U16(Vec<u16>),
    /// 16-bit with sign.
    I16(Vec<i16>),
    /// 32-bit floating point.
    F32(Vec<f32>),
}

/// How blocks are packed.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Packing {
    /// Not at all.
    None,
    /// LZW.
    Lzw,
    /// Deflate.
    Deflate,
}

/// Everything about an image but its samples.
#[derive(Debug, Clone)]
pub struct Options {
    /// Columns.
    pub cols: usize,
    /// Rows.
    pub rows: usize,
    /// Bands.
    pub bands: usize,
    /// Bands one after the other in the file.
    pub planar: bool,
    /// Tile columns and rows; none: strips of so many rows.
    pub tile: Option<(usize, usize)>,
    /// Rows of a strip.
    pub strip: usize,
    /// Packing.
    pub packing: Packing,
    /// 1, 2 or 3.
    pub predictor: u16,
    /// 64-bit offsets.
    pub big: bool,
    /// Highest byte first.
    pub big_endian: bool,
    /// EPSG code.
    pub epsg: u16,
    /// Outer corner of the first cell.
    pub corner: (f64, f64),
    /// Cell size.
    pub cell: f64,
    /// Tie the centre of the first cell, as point rasters do, instead of its corner.
    pub point: bool,
    /// Declared missing value.
    pub nodata: Option<String>,
}

impl Default for Options {
    fn default() -> Options {
        Options {
            cols: 0,
            rows: 0,
            bands: 1,
            planar: false,
            tile: Some((256, 256)),
            strip: 16,
            packing: Packing::Deflate,
            predictor: 1,
            big: false,
            big_endian: false,
            epsg: 32600 + crate::ZONE,
            corner: crate::CORNER,
            cell: crate::CELL,
            point: true,
            nodata: None,
        }
    }
}

impl Samples {
    fn width(&self) -> usize {
        match self {
            Samples::U8(_) => 1,
            Samples::U16(_) | Samples::I16(_) => 2,
            Samples::F32(_) => 4,
        }
    }

    /// The bits of sample `i`.
    fn bits(&self, i: usize) -> u32 {
        match self {
            Samples::U8(v) => u32::from(v[i]),
            Samples::U16(v) => u32::from(v[i]),
            Samples::I16(v) => u32::from(v[i] as u16),
            Samples::F32(v) => v[i].to_bits(),
        }
    }
}

/// The file's bytes.
pub fn encode(samples: &Samples, o: &Options) -> Vec<u8> {
    let (block_cols, block_rows) = o.tile.unwrap_or((o.cols, o.strip));
    let (across, down) = (o.cols.div_ceil(block_cols), o.rows.div_ceil(block_rows));
    let planes = if o.planar { o.bands } else { 1 };
    let together = if o.planar { 1 } else { o.bands };
    let mut blocks = vec![];
    for plane in 0..planes {
        for b in 0..across * down {
            let (c0, r0) = (b % across * block_cols, b / across * block_rows);
            let rows = if o.tile.is_some() { block_rows } else { block_rows.min(o.rows - r0) };
            let mut raw = vec![];
            for r in r0..r0 + rows {
                let mut row = Vec::with_capacity(block_cols * together);
                for c in c0..c0 + block_cols {
                    for k in 0..together {
                        let band = if o.planar { plane } else { k };
                        let there = r < o.rows && c < o.cols;
                        row.push(if there { samples.bits(band * o.cols * o.rows + r * o.cols + c) } else { 0 });
                    }
                }
                raw.extend(row_bytes(&row, samples.width(), together, o));
            }
            blocks.push(pack(&raw, o.packing));
        }
    }
    assemble(samples, o, &blocks, block_cols, block_rows)
}

fn row_bytes(row: &[u32], width: usize, stride: usize, o: &Options) -> Vec<u8> {
    let mut row = row.to_vec();
    if o.predictor == 3 {
        let mut bytes: Vec<u8> =
            (0..4).flat_map(|k| row.iter().map(move |v| (v >> (24 - 8 * k)) as u8).collect::<Vec<_>>()).collect();
        for i in (stride..bytes.len()).rev() {
            bytes[i] = bytes[i].wrapping_sub(bytes[i - stride]);
        }
        return bytes;
    }
    if o.predictor == 2 {
        for i in (stride..row.len()).rev() {
            row[i] = row[i].wrapping_sub(row[i - stride]);
        }
    }
    let mut bytes = Vec::with_capacity(row.len() * width);
    for v in row {
        let (little, big) = (v.to_le_bytes(), v.to_be_bytes());
        bytes.extend_from_slice(if o.big_endian { &big[4 - width..] } else { &little[..width] });
    }
    bytes
}

fn number(v: u64, width: usize, big_endian: bool) -> Vec<u8> {
    let bytes = v.to_le_bytes();
    if big_endian { bytes[..width].iter().rev().copied().collect() } else { bytes[..width].to_vec() }
}

fn pack(raw: &[u8], packing: Packing) -> Vec<u8> {
    match packing {
        Packing::None => raw.to_vec(),
        Packing::Deflate => {
            let mut z = ZlibEncoder::new(vec![], Level::new(1));
            let done = z.write_all(raw).and_then(|()| z.finish());
            done.unwrap_or_else(|e| panic!("writing into memory cannot fail: {e}"))
        }
        Packing::Lzw => {
            let mut lzw = weezl::encode::Configuration::with_tiff_size_switch(weezl::BitOrder::Msb, 8).build();
            lzw.encode(raw).unwrap_or_else(|e| panic!("any bytes can be packed: {e}"))
        }
    }
}

fn assemble(samples: &Samples, o: &Options, blocks: &[Vec<u8>], block_cols: usize, block_rows: usize) -> Vec<u8> {
    let (offset_width, header) = if o.big { (8, 16) } else { (4, 8) };
    let n = |v: u64, w: usize| number(v, w, o.big_endian);
    let mut out = if o.big_endian { b"MM".to_vec() } else { b"II".to_vec() };
    out.extend(n(if o.big { 43 } else { 42 }, 2));
    if o.big {
        out.extend(n(8, 2));
        out.extend(n(0, 2));
    }
    let directory_at = out.len();
    out.resize(header, 0);
    let mut places = vec![];
    for b in blocks {
        places.push((out.len() as u64, b.len() as u64));
        out.extend(b);
        out.resize(out.len().next_multiple_of(2), 0);
    }
    let shorts = |v: &[u16]| (3u16, v.len(), v.iter().flat_map(|x| n(u64::from(*x), 2)).collect::<Vec<u8>>());
    let long = |v: u64| (4u16, 1, n(v, 4));
    let doubles = |v: &[f64]| (12u16, v.len(), v.iter().flat_map(|x| n(x.to_bits(), 8)).collect::<Vec<u8>>());
    let text = |t: &str| (2u16, t.len() + 1, [t.as_bytes(), &[0]].concat());
    let offsets = |v: Vec<u64>| {
        (if o.big { 16u16 } else { 4 }, v.len(), v.iter().flat_map(|x| n(*x, offset_width)).collect::<Vec<u8>>())
    };
    let format = match samples {
        Samples::U8(_) | Samples::U16(_) => 1,
        Samples::I16(_) => 2,
        Samples::F32(_) => 3,
    };
    let half = if o.point { o.cell / 2.0 } else { 0.0 };
    let name = format!("WGS 84 / UTM zone {}N|", crate::ZONE);
    let keys = [
        1,
        1,
        0,
        4,
        1024,
        0,
        1,
        1,
        1025,
        0,
        1,
        if o.point { 2 } else { 1 },
        1026,
        34737,
        name.len() as u16,
        0,
        3072,
        0,
        1,
        o.epsg,
    ];
    let mut entries = vec![
        (256u16, long(o.cols as u64)),
        (257, long(o.rows as u64)),
        (258, shorts(&vec![8 * samples.width() as u16; o.bands])),
        (
            259,
            shorts(&[match o.packing {
                Packing::None => 1,
                Packing::Lzw => 5,
                Packing::Deflate => 8,
            }]),
        ),
        (262, shorts(&[1])),
        (277, shorts(&[o.bands as u16])),
        (284, shorts(&[if o.planar { 2 } else { 1 }])),
        (317, shorts(&[o.predictor])),
        (339, shorts(&vec![format; o.bands])),
        (33550, doubles(&[o.cell, o.cell, 0.0])),
        (33922, doubles(&[0.0, 0.0, 0.0, o.corner.0 + half, o.corner.1 - half, 0.0])),
        (34735, shorts(&keys)),
        (34737, text(&name)),
    ];
    let (at, len): (Vec<u64>, Vec<u64>) = places.into_iter().unzip();
    match o.tile {
        Some(_) => entries.extend([
            (322, shorts(&[block_cols as u16])),
            (323, shorts(&[block_rows as u16])),
            (324, offsets(at)),
            (325, offsets(len)),
        ]),
        None => entries.extend([(273, offsets(at)), (278, long(block_rows as u64)), (279, offsets(len))]),
    }
    if let Some(nodata) = &o.nodata {
        entries.push((42113, text(nodata)));
    }
    entries.sort_by_key(|e| e.0);
    let directory = out.len() as u64;
    let (count_width, entry_width) = if o.big { (8, 20) } else { (2, 12) };
    let mut values_at = out.len() + count_width + entries.len() * entry_width + offset_width;
    let (mut table, mut values) = (n(entries.len() as u64, count_width), vec![]);
    for (tag, (kind, count, bytes)) in entries {
        table.extend(n(u64::from(tag), 2));
        table.extend(n(u64::from(kind), 2));
        table.extend(n(count as u64, offset_width));
        if bytes.len() <= offset_width {
            let mut inline = bytes;
            inline.resize(offset_width, 0);
            table.extend(inline);
        } else {
            table.extend(n(values_at as u64, offset_width));
            values_at += bytes.len();
            values.extend(bytes);
        }
    }
    table.extend(n(0, offset_width));
    out.extend(table);
    out.extend(values);
    let first = n(directory, offset_width);
    out[directory_at..][..offset_width].copy_from_slice(&first);
    out
}
