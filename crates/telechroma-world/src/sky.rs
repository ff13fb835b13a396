//! The sky of an acquisition: drifting clouds, the shadows they throw, thin cirrus, and the ragged edge of the scene.

use crate::noise;
use crate::scene::{Acquisition, Cover};
use crate::{CELL, COLS, Estate, ROWS};

/// The sky over each cell.
pub(crate) struct Sky {
    /// Share of light that cloud adds, 0–1.
    pub cloud: Vec<f32>,
    /// Share of direct light that a cloud takes away, 0–1.
    pub shadow: Vec<f32>,
    /// Thin cirrus, 0–1.
    pub cirrus: Vec<f32>,
    /// No data.
    pub fill: Vec<bool>,
}

impl Sky {
    pub(crate) fn new(estate: &Estate, a: &Acquisition) -> Sky {
        let seed = estate.seed ^ (a.number as u64 + 1).wrapping_mul(0x51F7_0C1D);
        let all = || (0..ROWS).flat_map(|r| (0..COLS).map(move |c| (c as f64, r as f64)));
        let drift = 37.0 * a.number as f64;
        let field = |x: f64, y: f64| noise::cloudy(seed, (x + drift) / 120.0, y / 95.0);
        // the threshold that leaves the wanted share of cloud
        let mut sample: Vec<f64> = (0..ROWS)
            .step_by(6)
            .flat_map(|r| (0..COLS).step_by(6).map(move |c| (c, r)))
            .map(|(c, r)| field(c as f64, r as f64))
            .collect();
        sample.sort_by(f64::total_cmp);
        let share = a.cloud_share.clamp(0.0, 0.999);
        let at = ((1.0 - share) * (sample.len() - 1) as f64) as usize;
        let threshold = if share == 0.0 { f64::INFINITY } else { sample[at] };
        let thick = |x: f64, y: f64| ((field(x, y) - threshold) / a.air.softness + 0.15).clamp(0.0, 1.0);
        let cloud: Vec<f32> = all().map(|(x, y)| thick(x, y) as f32).collect();
        let reach = a.air.cloud_height / a.sun_elevation.to_radians().tan() / CELL;
        let (east, south) = (-reach * a.sun_azimuth.to_radians().sin(), reach * a.sun_azimuth.to_radians().cos());
        let shadow = all().map(|(x, y)| thick(x - east, y - south) as f32).collect();
        let cirrus = all()
            .map(|(x, y)| match a.cirrus {
                true => ((noise::cloudy(seed ^ 0xC1, x / 210.0, y / 60.0) - 0.18) * 2.2).clamp(0.0, 1.0) as f32,
                false => 0.0,
            })
            .collect();
        let fill = all()
            .map(|(x, y)| {
                let wobble = 2.0 * noise::at(seed ^ 0xF1, (y / 3.0) as i64, 5);
                let left = 6.0 + a.number as f64 * 1.5 + y * 0.035 + wobble;
                let right = COLS as f64 - 9.0 - a.number as f64 - (ROWS as f64 - y) * 0.03 + wobble;
                x < left || x > right
            })
            .collect();
        Sky { cloud, shadow, cirrus, fill }
    }

    /// What is between the sensor and a cell.
    pub(crate) fn cover(&self, cell: usize) -> Cover {
        match () {
            () if self.fill[cell] => Cover::Fill,
            () if self.cloud[cell] > 0.02 => Cover::Cloud,
            () if self.shadow[cell] > 0.05 => Cover::Shadow,
            () if self.cirrus[cell] > 0.03 => Cover::Cirrus,
            () => Cover::Clear,
        }
    }
}
