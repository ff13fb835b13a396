//! A part of the estate as any sensor could see it: what is true, and what the sky makes of it.

use crate::scene::{Acquisition, Cover};
use crate::sky::Sky;
use crate::{CELL, COLS, CORNER, Estate};

/// A part of the estate.
#[derive(Debug, Clone)]
pub struct Part {
    /// Columns.
    pub cols: usize,
    /// Rows.
    pub rows: usize,
    /// Outer corner of the first cell, UTM.
    pub corner: (f64, f64),
    /// What is between the sensor and a cell.
    pub cover: Vec<Cover>,
    /// Reflectance of a clear sky: coastal, blue, green, red, nir, swir16, swir22.
    pub clear: Vec<[f64; 7]>,
    /// What the sensor sees.
    pub seen: Vec<[f64; 7]>,
    /// Temperature of the surface, kelvin; of the cloud's top where there is one.
    pub kelvin: Vec<f64>,
}

/// Places of the seven bands.
pub const BANDS: [&str; 7] = ["coastal", "blue", "green", "red", "nir", "swir16", "swir22"];

impl Part {
    /// The place of a band among the seven.
    pub fn band(role: &str) -> Option<usize> {
        BANDS.iter().position(|b| *b == role)
    }

    /// Red edge: between red and near infrared, nearer to red.
    pub fn rededge(look: &[f64; 7]) -> f64 {
        0.65 * look[3] + 0.35 * look[4]
    }

    /// True where there are data.
    pub fn has(&self, cell: usize) -> bool {
        self.cover[cell] != Cover::Fill
    }
}

impl Estate {
    /// A part under the sky of an acquisition, its first column and row, its size.
    pub fn part(&self, a: &Acquisition, (col, row): (usize, usize), (cols, rows): (usize, usize)) -> Part {
        let sky = Sky::new(self, a);
        let truth = self.truth_under(a, &sky);
        let cells: Vec<usize> = (row..row + rows).flat_map(|r| (col..col + cols).map(move |c| r * COLS + c)).collect();
        let clear: Vec<[f64; 7]> = cells.iter().map(|i| truth.toa[*i].map(f64::from)).collect();
        let seen = cells.iter().zip(&clear).map(|(i, look)| match truth.cover[*i] {
            Cover::Cloud => [0.6; 7],
            Cover::Shadow => look.map(|v| 0.5 * v),
            Cover::Cirrus => look.map(|v| v + 0.04),
            Cover::Clear | Cover::Fill => *look,
        });
        Part {
            cols,
            rows,
            corner: (CORNER.0 + CELL * col as f64, CORNER.1 - CELL * row as f64),
            cover: cells.iter().map(|i| truth.cover[*i]).collect(),
            seen: seen.collect(),
            kelvin: cells
                .iter()
                .map(|i| f64::from(truth.kelvin[*i]) - a.air.cloud_chill() * f64::from(sky.cloud[*i]))
                .collect(),
            clear,
        }
    }
}
