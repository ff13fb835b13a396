//! One band of a GeoTIFF as a source of planes.

use std::fmt;
use std::sync::Arc;

use telechroma_core::grid::{Grid, Window};
use telechroma_core::tile::{BlockShape, Cells, PlaneSource, PlaneSpec, Tile, block_window};

use super::Tiff;
use crate::error::{Error, Result};
use crate::raster::WIDEST_IN_PARTS;
use crate::raster::samples::{Laid, Reading};

/// A band of a file.
pub struct TiffPlane {
    tiff: Arc<Tiff>,
    band: u32,
    reading: Reading,
    spec: PlaneSpec,
}

impl TiffPlane {
    /// Band number `band`, from 0.
    ///
    /// # Errors
    /// Where the file has no such band, or its type cannot be read so.
    pub fn new(tiff: &Arc<Tiff>, band: u32, reading: Reading) -> Result<TiffPlane> {
        let h = &tiff.header;
        if band >= h.samples {
            return Err(Error::usage(
                tiff.bytes.place(""),
                format!("has {} bands, so no band {}", h.samples, band + 1),
            ));
        }
        let Some((kind, unit)) = reading.cells(h.format) else {
            return Err(Error::unsupported(
                tiff.bytes.place(""),
                format!("a raster of {} samples here", h.format.name()),
                &["uint8", "uint16"],
            ));
        };
        let spec = PlaneSpec { grid: tiff.grid.clone(), kind, unit };
        Ok(TiffPlane { tiff: tiff.clone(), band, reading, spec })
    }

    /// The same cells on a grid that is stated better elsewhere, of the same size.
    #[must_use]
    pub fn on(mut self, grid: Arc<Grid>) -> TiffPlane {
        self.spec.grid = grid;
        self
    }
}

impl fmt::Debug for TiffPlane {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        // two readings of one band differ by their kind; the same reading is the same plane
        // the same file may be laid on a better grid
        let crs = self.spec.grid.crs;
        write!(f, "{} band {} as {:?} in {crs:?}", self.tiff.bytes.name(), self.band + 1, self.reading)
    }
}

impl PlaneSource for TiffPlane {
    fn spec(&self) -> &PlaneSpec {
        &self.spec
    }

    fn block(&self) -> BlockShape {
        BlockShape { cols: self.tiff.header.block_cols, rows: self.tiff.header.block_rows }
    }

    fn read_block(&self, index: u32, out: &mut Tile) -> telechroma_core::Result<()> {
        let h = &self.tiff.header;
        let (there, shape) = (block_window(&self.spec.grid, self.block(), index), self.block());
        let Some(part) = there.intersect(&out.window) else { return Ok(()) };
        let whole = (out.window.cols, out.window.rows) == (shape.cols, shape.rows) && part == out.window;
        if let Cells::Bits(bits) = &mut out.cells
            && whole
            && !matches!(self.reading, Reading::Classes(_))
            && self.tiff.read_words(self.band, index, bits)?
        {
            return Ok(());
        }
        let (step, first) = if h.planar { (1, 0) } else { (h.samples as usize, self.band as usize) };
        let (from, end) = ((part.row - there.row) as u32, (part.end_row() - there.row) as u32);
        let stored = self.tiff.read_samples(self.band, index, from..end, |samples, row| match samples {
            None => {
                self.spec.kind.fill_missing(part, out);
                Ok(())
            }
            Some(samples) => {
                let window = Window::new(there.col, there.row + i64::from(row), shape.cols, shape.rows);
                self.reading.store(samples, h.nodata, Laid { window, first, step }, part, out)
            }
        })?;
        stored.map_err(|what| {
            Error::unsupported(self.tiff.bytes.place(format!("band {}", self.band + 1)), what, &[]).into()
        })
    }

    fn in_parts(&self) -> bool {
        self.tiff.rows_alone() && self.tiff.header.block_cols <= WIDEST_IN_PARTS
    }

    fn name(&self) -> String {
        let name = self.tiff.bytes.name();
        if self.tiff.header.samples == 1 { name } else { format!("{name}, band {}", self.band + 1) }
    }
}
