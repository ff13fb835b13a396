//! A sowing-date × nitrogen trial of sixty plots, and a drone's mosaic of it with cells of 10 cm.
//!
//! The plots as they are handed out lie some metres beside where they were sown, as often happens: `truth` says where.

use crate::CORNER;
use crate::noise;
use crate::tiff::{Options, Samples, encode};

/// Cell of the mosaic, metres.
pub const MOSAIC_CELL: f64 = 0.1;
/// Columns and rows of plots.
pub const PLOTS: (usize, usize) = (12, 5);
/// Size of a plot and alleys, metres.
pub const SIZE: (f64, f64) = (1.5, 6.0);
/// Alleys between columns and between rows, metres.
pub const ALLEY: (f64, f64) = (0.5, 1.0);
/// Degrees counter-clockwise from east.
pub const ANGLE: f64 = 11.0;
/// East, north (metres) and turn (degrees, about the middle of the plots) from the handed-out place to the true one.
pub const OFFSET: (f64, f64, f64) = (1.7, -0.9, 0.6);
/// Corner of the first plot as handed out, metres east and north of the estate's corner; in the moor.
const ORIGIN: (f64, f64) = (14_400.0, -8_700.0);
/// Room round the plots, metres.
const ROOM: f64 = 9.0;

/// A plot of the trial.
#[derive(Debug, Clone, PartialEq)]
pub struct TrialPlot {
    /// Its number, row by row from the origin.
    pub number: usize,
    /// Sowing date.
    pub sown: &'static str,
    /// Nitrogen, kg per hectare.
    pub nitrogen: u32,
    /// Cover at the flight, 0–1.
    pub cover: f64,
    /// Harvest, tonnes per hectare.
    pub harvest: f64,
}

const SOWN: [(&str, f64); 4] = [("2031-04-02", 1.0), ("2031-04-16", 0.92), ("2031-04-30", 0.80), ("2031-05-14", 0.62)];
const NITROGEN: [(u32, f64); 5] = [(0, 0.55), (40, 0.72), (80, 0.85), (120, 0.95), (160, 1.0)];

/// The corner of the first plot as handed out, easting and northing.
pub fn origin() -> (f64, f64) {
    (CORNER.0 + ORIGIN.0, CORNER.1 + ORIGIN.1)
}

/// The plots: four sowing dates by five amounts of nitrogen, three times, at random within each third of the columns.
pub fn plots(seed: u64) -> Vec<TrialPlot> {
    let (cols, rows) = PLOTS;
    let mut all = vec![];
    let mut order: Vec<Vec<usize>> = vec![];
    for block in 0..3i64 {
        // the treatments of a block in the order of a random number each
        let mut of_block: Vec<usize> = (0..20).collect();
        of_block.sort_by(|a, b| {
            noise::at(seed ^ 0x7A1A, *a as i64, block).total_cmp(&noise::at(seed ^ 0x7A1A, *b as i64, block))
        });
        order.push(of_block);
    }
    for row in 0..rows {
        for col in 0..cols {
            let treatment = order[col / 4][row * 4 + col % 4];
            let ((sown, early), (nitrogen, fed)) = (SOWN[treatment % 4], NITROGEN[treatment / 4]);
            let luck = |k: i64| 2.0 * noise::at(seed ^ 0x1AC4, (row * cols + col) as i64, k) - 1.0;
            let cover = (0.92 * early * (0.45 + 0.55 * fed) * (1.0 + 0.05 * luck(1))).clamp(0.1, 0.96);
            let harvest = 5.6 * early.sqrt() * fed * (1.0 + 0.06 * luck(2));
            all.push(TrialPlot { number: row * cols + col + 1, sown, nitrogen, cover, harvest });
        }
    }
    all
}

/// Metres east and north on the trial's own axes, as handed out: (0, 0) is the first plot's corner.
fn own_axes((x, y): (f64, f64)) -> (f64, f64) {
    let (o, (s, c)) = (origin(), ANGLE.to_radians().sin_cos());
    let (dx, dy) = (x - o.0, y - o.1);
    (c * dx + s * dy, c * dy - s * dx)
}

/// Extent of the plots along and across their axes, metres.
fn extent() -> (f64, f64) {
    let side = |n: usize, size: f64, alley: f64| n as f64 * (size + alley) - alley;
    (side(PLOTS.0, SIZE.0, ALLEY.0), side(PLOTS.1, SIZE.1, ALLEY.1))
}

/// The plot that truly grows at a place, if one does.
fn grows_at((x, y): (f64, f64)) -> Option<usize> {
    // back from the true place to the handed-out one
    let (w, h) = extent();
    let (s, c) = ANGLE.to_radians().sin_cos();
    let o = origin();
    let middle = (o.0 + c * w / 2.0 - s * h / 2.0, o.1 + s * w / 2.0 + c * h / 2.0);
    let (dx, dy) = (x - OFFSET.0 - middle.0, y - OFFSET.1 - middle.1);
    let (s, c) = (-OFFSET.2).to_radians().sin_cos();
    let (u, v) = own_axes((middle.0 + c * dx - s * dy, middle.1 + s * dx + c * dy));
    let place = |t: f64, size: f64, alley: f64, n: usize| {
        let i = (t / (size + alley)).floor();
        (t >= 0.0 && i < n as f64 && t - i * (size + alley) < size).then_some(i as usize)
    };
    Some(place(v, SIZE.1, ALLEY.1, PLOTS.1)? * PLOTS.0 + place(u, SIZE.0, ALLEY.0, PLOTS.0)?)
}

/// Reflectance of the drone's five bands: soil, leaves.
const SOIL: [f64; 5] = [0.075, 0.105, 0.145, 0.175, 0.225];
const LEAVES: [f64; 5] = [0.028, 0.075, 0.032, 0.240, 0.490];

/// The mosaic: five bands of reflectance, 32768 a whole one, 65535 where nothing was flown.
pub fn mosaic(seed: u64) -> Vec<u8> {
    let all = plots(seed);
    let (w, h) = extent();
    let corners: Vec<(f64, f64)> = [(0.0, 0.0), (w, 0.0), (w, h), (0.0, h)]
        .iter()
        .map(|(u, v)| {
            let (s, c) = ANGLE.to_radians().sin_cos();
            (origin().0 + c * u - s * v, origin().1 + s * u + c * v)
        })
        .collect();
    let fold =
        |pick: fn(&(f64, f64)) -> f64, best: fn(f64, f64) -> f64| corners.iter().map(pick).reduce(best).unwrap_or(0.0);
    let west = ((fold(|p| p.0, f64::min) - ROOM) / MOSAIC_CELL).floor() * MOSAIC_CELL;
    let north = ((fold(|p| p.1, f64::max) + ROOM) / MOSAIC_CELL).ceil() * MOSAIC_CELL;
    let cols = ((fold(|p| p.0, f64::max) + ROOM - west) / MOSAIC_CELL).ceil() as usize;
    let rows = ((north - fold(|p| p.1, f64::min) + ROOM) / MOSAIC_CELL).ceil() as usize;
    let mut bands = vec![vec![65_535u16; cols * rows]; 5];
    for r in 0..rows {
        for c in 0..cols {
            let (x, y) = (west + (c as f64 + 0.5) * MOSAIC_CELL, north - (r as f64 + 0.5) * MOSAIC_CELL);
            // the flight's edge is ragged
            let edge = [c, cols - 1 - c, r, rows - 1 - r].into_iter().min().unwrap_or(0) as f64;
            if edge < 12.0 + 8.0 * noise::cloudy(seed ^ 0xED6E, c as f64 / 30.0, r as f64 / 30.0) {
                continue;
            }
            let leaf = noise::at(seed ^ 0x1EAF, c as i64, r as i64);
            let patch = noise::cloudy(seed ^ 0x9A7C, c as f64 / 25.0, r as f64 / 25.0);
            let cover = match grows_at((x, y)) {
                // leaves and gaps between them
                Some(i) => (all[i].cover * (1.0 + 0.10 * patch) + 0.30 * (leaf - 0.5)).clamp(0.0, 1.0),
                // weeds here and there
                None => (0.06 + 0.10 * patch.max(0.0) + 0.10 * (leaf - 0.5)).clamp(0.0, 1.0),
            };
            let light = 1.0 + 0.05 * noise::smooth(seed ^ 0x5EED, c as f64 / 9.0, r as f64 / 9.0);
            for (b, band) in bands.iter_mut().enumerate() {
                let v = light * (SOIL[b] * (1.0 + 0.08 * patch) * (1.0 - cover) + LEAVES[b] * cover);
                band[r * cols + c] = (v * 32_768.0).round().clamp(1.0, 65_534.0) as u16;
            }
        }
    }
    let o = Options {
        cols,
        rows,
        bands: 5,
        planar: true,
        tile: Some((128, 128)),
        predictor: 2,
        corner: (west, north),
        cell: MOSAIC_CELL,
        point: false,
        nodata: Some("65535".into()),
        ..Options::default()
    };
    encode(&Samples::U16(bands.concat()), &o)
}

/// What is said beside the mosaic.
pub const SIDECAR: &str = "sensor = \"drone-5band\"\n";

/// The design: which plot has which treatment.
pub fn design(seed: u64) -> String {
    let row = |p: &TrialPlot| format!("{},{},{}\n", p.number, p.sown, p.nitrogen);
    "plot,sown,nitrogen_kg_ha\n".to_string() + &plots(seed).iter().map(row).collect::<String>()
}

/// The harvest of each plot; two were lost.
pub fn harvest(seed: u64) -> String {
    let kept = |p: &&TrialPlot| ![17, 44].contains(&p.number);
    let row = |p: &TrialPlot| format!("{},{:.2}\n", p.number, p.harvest);
    "plot,harvest_t_ha\n".to_string() + &plots(seed).iter().filter(kept).map(row).collect::<String>()
}
