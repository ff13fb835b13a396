//! Hills under the estate, and how the sun lights their slopes.

use crate::scene::Acquisition;
use crate::{CELL, COLS, Estate, ROWS, noise};

/// Share of the light that comes from the whole sky, by band: coastal, blue, green, red, nir, swir16, swir22.
const DIFFUSE: [f64; 7] = [0.24, 0.20, 0.15, 0.12, 0.08, 0.05, 0.04];

/// Height above the plain at a place in cells, as a share of the hills' height.
fn height(seed: u64, x: f64, y: f64) -> f64 {
    0.7 * noise::smooth(seed ^ 0x4E11, x / 45.0, y / 45.0) + 0.3 * noise::smooth(seed ^ 0x4E12, x / 21.0, y / 21.0)
}

/// Light on the cells of a scene.
pub(crate) struct Light {
    /// Cosine of the angle between the sun and the ground, by that of flat land; empty on flat land.
    direct: Vec<f32>,
}

impl Light {
    pub(crate) fn new(estate: &Estate, a: &Acquisition) -> Light {
        if a.air.relief == 0.0 {
            return Light { direct: vec![] };
        }
        let (sin_el, cos_el) = a.sun_elevation.to_radians().sin_cos();
        let (sin_az, cos_az) = a.sun_azimuth.to_radians().sin_cos();
        let sun = (cos_el * sin_az, cos_el * cos_az, sin_el);
        let cell = |i: usize| {
            let (x, y) = ((i % COLS) as f64 + 0.5, (i / COLS) as f64 + 0.5);
            // the gradient over a fifth of a cell: of the ground itself, not of a grid of heights
            let h = |dx: f64, dy: f64| a.air.relief * height(estate.seed, x + dx, y + dy);
            let east = (h(0.1, 0.0) - h(-0.1, 0.0)) / (0.2 * CELL);
            let north = (h(0.0, -0.1) - h(0.0, 0.1)) / (0.2 * CELL);
            let up = (1.0 + east * east + north * north).sqrt();
            ((sun.2 - east * sun.0 - north * sun.1) / up / sun.2).max(0.0) as f32
        };
        Light { direct: (0..COLS * ROWS).map(cell).collect() }
    }

    /// Light on a cell in a band, by that on flat land.
    pub(crate) fn on(&self, cell: usize, band: usize) -> f64 {
        let direct = self.direct.get(cell).map_or(1.0, |d| f64::from(*d));
        (1.0 - DIFFUSE[band]) * direct + DIFFUSE[band]
    }
}

impl Estate {
    /// Height of each cell's centre above the plain, metres, for hills of a height.
    pub fn elevation(&self, relief: f64) -> Vec<f32> {
        let cell = |i: usize| height(self.seed, (i % COLS) as f64 + 0.5, (i / COLS) as f64 + 0.5);
        (0..COLS * ROWS).map(|i| (500.0 + relief * cell(i)) as f32).collect()
    }
}
