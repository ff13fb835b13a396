//! A JPEG 2000 image as a source of planes: its code tiles are the blocks.

use std::fmt;
use std::sync::Arc;

use hayro_jpeg2000::{DecodeSettings, DecoderContext, Image};
use telechroma_core::grid::Grid;
use telechroma_core::tile::{BlockShape, PlaneSource, PlaneSpec, Tile, block_window};

use super::Jp2;
use crate::error::{Error, Result};
use crate::raster::samples::{Laid, Reading, SampleFormat, Samples};

/// The one component of an image.
pub struct Jp2Plane {
    jp2: Arc<Jp2>,
    reading: Reading,
    spec: PlaneSpec,
}

/// The largest code tile that is decoded: an image in one piece must be decoded whole.
const LARGEST_TILE: u64 = 1 << 27;

impl Jp2Plane {
    /// The image on a grid, which must have its size.
    ///
    /// # Errors
    /// Where the grid has another size, or the samples cannot be read so.
    pub fn new(jp2: &Arc<Jp2>, grid: Arc<Grid>, reading: Reading) -> Result<Jp2Plane> {
        let place = || jp2.bytes.place("");
        if (grid.cols, grid.rows) != (jp2.cols, jp2.rows) {
            let what = format!("has {} x {} cells, the metadata say {} x {}", jp2.cols, jp2.rows, grid.cols, grid.rows);
            return Err(Error::malformed(place(), what));
        }
        if u64::from(jp2.tile_cols) * u64::from(jp2.tile_rows) > LARGEST_TILE {
            return Err(Error::unsupported(
                place(),
                format!("a code tile of {} x {} cells", jp2.tile_cols, jp2.tile_rows),
                &[],
            ));
        }
        let Some((kind, unit)) = reading.cells(jp2.format) else {
            return Err(Error::unsupported(
                place(),
                format!("an image of {} samples here", jp2.format.name()),
                &["uint8", "uint16"],
            ));
        };
        Ok(Jp2Plane { jp2: jp2.clone(), reading, spec: PlaneSpec { grid, kind, unit } })
    }

    fn decode(&self, tile: u32, out: &mut Tile) -> Result<()> {
        let there = block_window(&self.spec.grid, self.block(), tile);
        let Some(part) = there.intersect(&out.window) else { return Ok(()) };
        let (place, jp2) = (|| self.jp2.bytes.place(format!("code tile {tile}")), &self.jp2);
        let stream = jp2.alone(tile)?;
        let settings = DecodeSettings { resolve_palette_indices: false, strict: true, target_resolution: None };
        let damaged = |e: hayro_jpeg2000::DecodeError| Error::malformed(place(), format!("cannot be decoded: {e}"));
        let image = Image::new(&stream, &settings).map_err(damaged)?;
        let mut context = DecoderContext::default();
        let decoded = image.decode(&mut context).map_err(damaged)?;
        let component = decoded.components().first().ok_or_else(|| Error::malformed(place(), "holds nothing"))?;
        let (w, h) = jp2.tile_size(tile);
        let samples = component.samples();
        if samples.len() != w as usize * h as usize {
            return Err(Error::malformed(
                place(),
                format!("has {} samples instead of {}", samples.len(), w as usize * h as usize),
            ));
        }
        let most = if jp2.format == SampleFormat::U8 { 255.0 } else { 65_535.0 };
        let whole: Vec<u16> = samples.iter().map(|s| s.round().clamp(0.0, most) as u16).collect();
        let laid = Laid { window: there, first: 0, step: 1 };
        let stored = self.reading.store(Samples::U16(&whole), None, laid, part, out);
        stored.map_err(|what| Error::unsupported(place(), what, &[]))
    }
}

impl fmt::Debug for Jp2Plane {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "{} as {:?} on {:?}", self.jp2.bytes.name(), self.reading, self.spec.grid)
    }
}

impl PlaneSource for Jp2Plane {
    fn spec(&self) -> &PlaneSpec {
        &self.spec
    }

    fn block(&self) -> BlockShape {
        BlockShape { cols: self.jp2.tile_cols, rows: self.jp2.tile_rows }
    }

    fn decode_bytes(&self) -> u64 {
        // packed bytes, wavelet coefficients and samples, by measurement
        24 * u64::from(self.jp2.tile_cols) * u64::from(self.jp2.tile_rows)
    }

    fn read_block(&self, index: u32, out: &mut Tile) -> telechroma_core::Result<()> {
        Ok(self.decode(index, out)?)
    }

    fn name(&self) -> String {
        self.jp2.bytes.name()
    }
}
