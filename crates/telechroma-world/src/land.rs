//! What lies where on the estate, and how it looks through the year.

use crate::noise;
use crate::{COLS, ROWS};

/// A kind of ground.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Ground {
    /// A crop in a field.
    Flax,
    /// A crop in a field.
    Buckwheat,
    /// A crop in a field.
    Lupin,
    /// Mown grass in a field.
    Hay,
    /// Rough grass and heather.
    Moor,
    /// Trees.
    Wood,
    /// Roofs and streets.
    Town,
    /// A large metal roof.
    MetalRoof,
    /// The reservoir's bed: water while it is full.
    Reservoir,
    /// The hillside that burns in August.
    Hillside,
}

impl Ground {
    /// The name of a crop.
    pub fn crop(self) -> Option<&'static str> {
        match self {
            Ground::Flax => Some("flax"),
            Ground::Buckwheat => Some("buckwheat"),
            Ground::Lupin => Some("lupin"),
            Ground::Hay => Some("hay"),
            _ => None,
        }
    }
}

/// A field: its corner positions in cells (column, row), and what grows there.
#[derive(Debug, Clone, PartialEq)]
pub struct Field {
    /// Its name.
    pub id: String,
    /// Outline and holes of each part.
    pub parts: Vec<Vec<Vec<(f64, f64)>>>,
    /// What grows there.
    pub ground: Ground,
}

/// The estate's ground.
#[derive(Debug, Clone)]
pub struct Land {
    /// Kind of each cell, row by row.
    pub ground: Vec<Ground>,
    /// The fields.
    pub fields: Vec<Field>,
    /// Depth of the reservoir's bed, 0 at the rim to 1.
    depth: Vec<f32>,
    /// Texture of each cell, about −1…1.
    texture: Vec<f32>,
    /// Vigour of each cell's plants, about 1.
    vigour: Vec<f32>,
}

/// The day of the year on which the hillside burns.
pub const FIRE: f64 = 224.0;
/// Direction of the fields' grid, radians.
const TILT: f64 = 0.19;

/// Light and warmth of a kind of ground: reflectance of the seven bands of reflected light, and kelvin.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Look {
    /// coastal, blue, green, red, nir, swir16, swir22.
    pub reflectance: [f64; 7],
    /// Temperature of the surface, kelvin.
    pub kelvin: f64,
    /// Emissivity of the surface.
    pub emissivity: f64,
}

const SOIL: [f64; 7] = [0.070, 0.085, 0.115, 0.155, 0.235, 0.305, 0.250];
const PLANTS: [f64; 7] = [0.025, 0.030, 0.065, 0.030, 0.470, 0.190, 0.085];
const WATER: [f64; 7] = [0.045, 0.048, 0.050, 0.032, 0.014, 0.006, 0.004];
const TOWN: [f64; 7] = [0.125, 0.135, 0.150, 0.165, 0.215, 0.255, 0.235];
/// Sheets that mirror the sun: bright enough to saturate the detectors in summer.
const ROOF: [f64; 7] = [1.38, 1.44, 1.50, 1.52, 1.49, 1.41, 1.31];
const CHAR: [f64; 7] = [0.035, 0.038, 0.042, 0.052, 0.085, 0.170, 0.210];

fn inside(ring: &[(f64, f64)], x: f64, y: f64) -> bool {
    let edges = ring.iter().zip(ring.iter().cycle().skip(1));
    edges.filter(|(a, b)| (a.1 > y) != (b.1 > y) && x < (b.0 - a.0) * (y - a.1) / (b.1 - a.1) + a.0).count() % 2 == 1
}

/// A rectangle turned with the fields' grid, in cells.
fn rectangle(cx: f64, cy: f64, w: f64, h: f64) -> Vec<(f64, f64)> {
    let (s, c) = TILT.sin_cos();
    let corner = |(u, v): (f64, f64)| (cx + c * u * w / 2.0 - s * v * h / 2.0, cy + s * u * w / 2.0 + c * v * h / 2.0);
    [(-1.0, -1.0), (1.0, -1.0), (1.0, 1.0), (-1.0, 1.0)].map(corner).to_vec()
}

fn fields(seed: u64) -> Vec<Field> {
    let grounds = [Ground::Flax, Ground::Buckwheat, Ground::Lupin, Ground::Hay];
    let (s, c) = TILT.sin_cos();
    let mut fields: Vec<Field> = vec![];
    for row in 0..5i64 {
        for col in 0..8i64 {
            let n = fields.len();
            let jitter = |k: i64| noise::at(seed, col * 11 + k, row * 7 + k);
            let (u, v) = (col as f64 * 46.0 - 160.0, row as f64 * 44.0 - 88.0);
            let (cx, cy) = (430.0 + c * u - s * v, 330.0 + s * u + c * v);
            let (w, h) = (24.0 + 14.0 * jitter(1), 20.0 + 16.0 * jitter(2));
            let ground = grounds[(jitter(3) * 4.0) as usize % 4];
            fields.push(Field { id: format!("TH-{:02}", n + 1), parts: vec![vec![rectangle(cx, cy, w, h)]], ground });
        }
    }
    // one in two parts, one round a pond, two across the edge of the scenes
    let second = fields[3].parts[0][0].iter().map(|p| (p.0 + 12.0, p.1 - 58.0)).collect();
    fields[3].parts.push(vec![second]);
    let centre = |f: &Field| {
        let ring = &f.parts[0][0];
        (ring.iter().map(|p| p.0).sum::<f64>() / 4.0, ring.iter().map(|p| p.1).sum::<f64>() / 4.0)
    };
    let (px, py) = centre(&fields[20]);
    fields[20].parts[0].push(rectangle(px, py, 8.0, 6.0));
    fields[7].parts = vec![vec![rectangle(COLS as f64 - 8.0, 300.0, 30.0, 26.0)]];
    fields[39].parts = vec![vec![rectangle(COLS as f64 - 4.0, 470.0, 28.0, 30.0)]];
    fields
}

impl Land {
    pub(crate) fn new(seed: u64) -> Land {
        let fields = fields(seed);
        let cells = || (0..ROWS).flat_map(|r| (0..COLS).map(move |c| (c as f64 + 0.5, r as f64 + 0.5)));
        let texture: Vec<f32> = cells().map(|(x, y)| noise::cloudy(seed ^ 0x7EC5, x / 40.0, y / 40.0) as f32).collect();
        let depth: Vec<f32> = cells()
            .map(|(x, y)| {
                let ragged = 1.0 + 0.18 * noise::cloudy(seed ^ 0xA7E5, x / 60.0, y / 60.0);
                let d = ((x - 150.0) / 82.0).powi(2) + ((y - 210.0) / 58.0).powi(2);
                (1.0 - d.sqrt() / ragged).max(0.0) as f32
            })
            .collect();
        let mut ground = vec![Ground::Moor; COLS * ROWS];
        for (i, (x, y)) in cells().enumerate() {
            let wood = noise::cloudy(seed ^ 0x30D5, x / 90.0, y / 90.0);
            let town = ((x - 560.0) / 60.0).powi(2) + ((y - 105.0) / 44.0).powi(2) < 1.0 + 0.3 * f64::from(texture[i]);
            let hill = ((x - 190.0) / 110.0).powi(2) + ((y - 440.0) / 70.0).powi(2) < 1.0 + 0.4 * f64::from(texture[i]);
            ground[i] = match () {
                () if depth[i] > 0.0 => Ground::Reservoir,
                () if town => {
                    if (x as i64 / 5) % 6 == 2 && (y as i64 / 4) % 7 == 3 {
                        Ground::MetalRoof
                    } else {
                        Ground::Town
                    }
                }
                () if hill => Ground::Hillside,
                () if wood > 0.28 => Ground::Wood,
                () => Ground::Moor,
            };
        }
        for f in &fields {
            for part in &f.parts {
                for (i, (x, y)) in cells().enumerate() {
                    if inside(&part[0], x, y) && !part[1..].iter().any(|hole| inside(hole, x, y)) {
                        ground[i] = f.ground;
                    }
                }
            }
        }
        let vigour =
            cells().map(|(x, y)| (1.0 + 0.10 * noise::cloudy(seed ^ 0xF1E1, x / 25.0, y / 25.0)) as f32).collect();
        Land { ground, fields, depth, texture, vigour }
    }

    /// How a cell looks on a day of the year, without any sky between.
    pub fn look(&self, cell: usize, day: f64) -> Look {
        let (texture, vigour) = (f64::from(self.texture[cell]), f64::from(self.vigour[cell]));
        let ground = self.ground[cell];
        let season = 286.0 + 14.0 * ((day - 105.0) / 365.0 * std::f64::consts::TAU).sin();
        if ground == Ground::Reservoir && f64::from(self.depth[cell]) > drawn_down(day) {
            let reflectance = WATER.map(|w| w * (1.0 + 0.08 * texture));
            return Look { reflectance, kelvin: season - 3.0, emissivity: 0.99 };
        }
        let (under, kelvin_bare) = match ground {
            Ground::Town => (TOWN, season + 11.0),
            Ground::MetalRoof => (ROOF, season + 6.0),
            _ => (SOIL, season + 9.0),
        };
        let mut cover = cover(ground, day, vigour);
        let mut reflectance: [f64; 7] = std::array::from_fn(|b| {
            let bare = under[b] * (1.0 + 0.07 * texture);
            bare + cover * (PLANTS[b] * (1.0 + 0.03 * texture) - bare)
        });
        let mut kelvin = kelvin_bare - 10.5 * cover + 0.8 * texture;
        if ground == Ground::Hillside && day >= FIRE {
            let scar = 0.85 * (-(day - FIRE) / 260.0).exp();
            (0..7).for_each(|b| reflectance[b] += scar * (CHAR[b] - reflectance[b]));
            kelvin += 5.0 * scar;
            cover *= 1.0 - scar;
        }
        Look { reflectance, kelvin, emissivity: 0.97 + 0.02 * cover.clamp(0.0, 1.0) }
    }
}

/// The depth down to which the reservoir is dry on a day.
fn drawn_down(day: f64) -> f64 {
    0.05 + 0.50 * (1.0 / (1.0 + (-(day - 205.0) / 22.0).exp()))
}

/// Share of green cover on a day.
fn cover(ground: Ground, day: f64, vigour: f64) -> f64 {
    let rise = |mid: f64, days: f64| 1.0 / (1.0 + (-(day - mid) / days).exp());
    let share = match ground {
        Ground::Flax => 0.90 * rise(128.0, 7.0) * (1.0 - rise(206.0, 7.0)),
        Ground::Buckwheat => 0.86 * rise(168.0, 7.0) * (1.0 - rise(248.0, 8.0)),
        Ground::Lupin => 0.93 * rise(118.0, 9.0) * (1.0 - rise(228.0, 9.0)),
        Ground::Hay => {
            0.84 - 0.55
                * [165.0, 215.0]
                    .iter()
                    .map(|mown| if day < *mown { 0.0 } else { (-(day - mown) / 16.0).exp() })
                    .sum::<f64>()
        }
        Ground::Moor => 0.42 + 0.16 * rise(125.0, 12.0) - 0.20 * rise(262.0, 12.0),
        Ground::Hillside => 0.50 + 0.18 * rise(122.0, 12.0) - 0.20 * rise(265.0, 12.0),
        Ground::Wood => 0.40 + 0.52 * rise(118.0, 8.0) - 0.42 * rise(282.0, 9.0),
        Ground::Town => 0.12,
        Ground::MetalRoof => 0.0,
        Ground::Reservoir => 0.04,
    };
    (share * vigour).clamp(0.0, 0.98)
}
