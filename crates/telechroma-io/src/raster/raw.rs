//! Headerless binary rasters: rows of samples, laid out as a file beside them says.

use std::fmt;
use std::sync::Arc;

use telechroma_core::grid::{Grid, Window};
use telechroma_core::tile::{BlockShape, PlaneSource, PlaneSpec, Tile, block_window};

use super::WIDEST_IN_PARTS;
use super::samples::{Laid, Reading, SampleFormat, Samples};
use crate::bytes::ByteRange;
use crate::error::{Error, Result};

/// In which order samples follow each other.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Order {
    /// All rows of the first band, then of the second.
    BandSequential,
    /// Row by row, in each the bands one after the other.
    LineInterleaved,
    /// Cell by cell, in each the bands one after the other.
    PixelInterleaved,
}

/// Orders by name.
pub const ORDERS: &[(&str, Order)] = &[
    ("band-sequential", Order::BandSequential),
    ("line-interleaved", Order::LineInterleaved),
    ("pixel-interleaved", Order::PixelInterleaved),
];

/// The layout of a headerless raster.
#[derive(Debug, Clone, PartialEq)]
pub struct RawLayout {
    /// Columns.
    pub cols: u32,
    /// Rows.
    pub rows: u32,
    /// Bands.
    pub bands: u32,
    /// How a sample is stored.
    pub format: SampleFormat,
    /// In which order samples follow.
    pub order: Order,
    /// The highest byte comes first.
    pub big_endian: bool,
    /// Bytes before the first sample.
    pub skip: u64,
}

impl RawLayout {
    /// Bytes a file of this layout has.
    pub fn bytes(&self) -> Option<u64> {
        let cells = u64::from(self.cols).checked_mul(u64::from(self.rows))?.checked_mul(u64::from(self.bands))?;
        cells.checked_mul(self.format.bytes() as u64)?.checked_add(self.skip)
    }

    /// Layouts like this one, one figure changed, that have exactly `len` bytes: in words, the likeliest first.
    pub fn fitting(&self, len: u64) -> Vec<String> {
        let mut fits = vec![];
        let Some(body) = len.checked_sub(self.skip) else { return fits };
        let size = self.format.bytes() as u64;
        let (c, r, b) = (u64::from(self.cols), u64::from(self.rows), u64::from(self.bands));
        let whole = |of: u64| (of > 0 && body.is_multiple_of(of) && body / of > 0).then(|| body / of);
        for f in SampleFormat::all().filter(|f| f.bytes() as u64 != size) {
            if whole(c * r * b) == Some(f.bytes() as u64) {
                fits.push(format!("type {}", f.name()));
            }
        }
        whole(c * r * size).into_iter().for_each(|n| fits.push(format!("{n} bands")));
        whole(c * b * size).into_iter().for_each(|n| fits.push(format!("{n} rows")));
        whole(r * b * size).into_iter().for_each(|n| fits.push(format!("{n} columns")));
        if let Some(head) =
            self.bytes().and_then(|n| (len + self.skip).checked_sub(n)).filter(|h| *h < 65_536 && *h != self.skip)
        {
            fits.push(format!("{head} bytes before the first sample"));
        }
        fits
    }
}

/// Bytes aimed at in a block.
const BLOCK_BYTES: u64 = 1 << 19;

/// A band of a headerless raster.
pub struct RawPlane {
    bytes: ByteRange,
    layout: RawLayout,
    band: u32,
    reading: Reading,
    spec: PlaneSpec,
    rows: u32,
}

impl RawPlane {
    /// Band number `band`, from 0.
    ///
    /// # Errors
    /// Where the file does not have the layout's size, has no such band, or cannot be read so.
    pub fn new(bytes: ByteRange, layout: RawLayout, grid: Arc<Grid>, band: u32, reading: Reading) -> Result<RawPlane> {
        if layout.bytes() != Some(bytes.len()) {
            let want = layout.bytes().map_or("too many".to_string(), |n| n.to_string());
            return Err(Error::malformed(
                bytes.place(""),
                format!("has {} bytes, its layout needs {want}", bytes.len()),
            ));
        }
        if band >= layout.bands {
            return Err(Error::usage(bytes.place(""), format!("has {} bands, so no band {}", layout.bands, band + 1)));
        }
        let Some((kind, unit)) = reading.cells(layout.format) else {
            return Err(Error::unsupported(
                bytes.place(""),
                format!("a raster of {} samples here", layout.format.name()),
                &["uint8", "uint16"],
            ));
        };
        let row = u64::from(layout.cols) * layout.format.bytes() as u64;
        let rows = (BLOCK_BYTES / row.max(1)).clamp(1, u64::from(layout.rows.max(1))) as u32;
        Ok(RawPlane { bytes, layout, band, reading, spec: PlaneSpec { grid, kind, unit }, rows })
    }

    /// Samples between two of the band, and the place of the band's first in a row; for all but band-sequential order.
    fn step(&self) -> (usize, usize) {
        match self.layout.order {
            Order::PixelInterleaved => (self.layout.bands as usize, self.band as usize),
            Order::BandSequential | Order::LineInterleaved => (1, 0),
        }
    }

    fn fetch(&self, first: u32, rows: u32) -> Result<Vec<u8>> {
        let l = &self.layout;
        let size = l.format.bytes() as u64;
        let (row, b) = (u64::from(l.cols) * size, u64::from(self.band));
        let read = |at: u64, n: u64| {
            let mut out = vec![0; n as usize];
            self.bytes.read_at(l.skip + at, &mut out).map(|()| out)
        };
        match l.order {
            Order::BandSequential => read((b * u64::from(l.rows) + u64::from(first)) * row, u64::from(rows) * row),
            Order::PixelInterleaved => {
                let wide = row * u64::from(l.bands);
                read(u64::from(first) * wide, u64::from(rows) * wide)
            }
            Order::LineInterleaved => {
                let mut all = vec![];
                for r in first..first + rows {
                    all.extend(read((u64::from(r) * u64::from(l.bands) + b) * row, row)?);
                }
                Ok(all)
            }
        }
    }
}

impl fmt::Debug for RawPlane {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "{} band {} of {:?} as {:?}", self.bytes.name(), self.band + 1, self.layout, self.reading)
    }
}

/// Samples of a type from bytes in either order.
macro_rules! samples {
    ($bytes:expr, $big:expr, $($format:ident => $t:ty),*; $wanted:expr, $with:expr) => {
        match $wanted {
            $(SampleFormat::$format => {
                let one = |c: &[u8]| {
                    let mut b = [0u8; size_of::<$t>()];
                    b.copy_from_slice(c);
                    if $big { <$t>::from_be_bytes(b) } else { <$t>::from_le_bytes(b) }
                };
                let all: Vec<$t> = $bytes.chunks_exact(size_of::<$t>()).map(one).collect();
                $with(Samples::$format(&all))
            })*
        }
    };
}

impl PlaneSource for RawPlane {
    fn spec(&self) -> &PlaneSpec {
        &self.spec
    }

    fn block(&self) -> BlockShape {
        BlockShape { cols: self.layout.cols, rows: self.rows }
    }

    fn read_block(&self, index: u32, out: &mut Tile) -> telechroma_core::Result<()> {
        let there = block_window(&self.spec.grid, self.block(), index);
        let Some(part) = there.intersect(&out.window) else { return Ok(()) };
        let bytes = self.fetch(part.row as u32, part.rows)?;
        let (step, first) = self.step();
        let laid = Laid { window: Window { row: part.row, rows: part.rows, ..there }, first, step };
        let stored = samples!(bytes, self.layout.big_endian, U8 => u8, I8 => i8, U16 => u16, I16 => i16, U32 => u32, I32 => i32, F32 => f32, F64 => f64;
            self.layout.format, |s| self.reading.store(s, None, laid, part, out));
        stored.map_err(|what| Error::unsupported(self.bytes.place(format!("band {}", self.band + 1)), what, &[]).into())
    }

    fn in_parts(&self) -> bool {
        self.layout.cols <= WIDEST_IN_PARTS
    }

    fn name(&self) -> String {
        format!("{}, band {}", self.bytes.name(), self.band + 1)
    }
}
