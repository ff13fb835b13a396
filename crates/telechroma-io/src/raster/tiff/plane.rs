//! One band of a GeoTIFF as a source of planes.

use std::fmt;
use std::sync::Arc;

use telechroma_core::grid::Grid;
use telechroma_core::tile::{BlockShape, Cells, PlaneSource, PlaneSpec};

use super::Tiff;
use crate::error::{Error, Result};
use crate::raster::samples::Reading;

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

    fn read_block(&self, index: u32, out: &mut Cells) -> telechroma_core::Result<()> {
        if let Cells::Bits(bits) = out
            && !matches!(self.reading, Reading::Classes(_))
            && self.tiff.read_words(self.band, index, bits)?
        {
            return Ok(());
        }
        let h = &self.tiff.header;
        let (step, first) = if h.planar { (1, 0) } else { (h.samples as usize, self.band as usize) };
        let stored = self.tiff.read_samples(self.band, index, |samples| match samples {
            None => {
                self.spec.kind.fill_missing(out);
                Ok(())
            }
            Some(samples) => self.reading.store(samples, h.nodata, first, step, out),
        })?;
        stored.map_err(|what| {
            Error::unsupported(self.tiff.bytes.place(format!("band {}", self.band + 1)), what, &[]).into()
        })
    }

    fn name(&self) -> String {
        let name = self.tiff.bytes.name();
        if self.tiff.header.samples == 1 { name } else { format!("{name}, band {}", self.band + 1) }
    }
}
