//! One acquisition: what the sensor would have measured, and the truth behind it.

use crate::sky::Sky;
use crate::{COLS, Estate, ROWS, noise, relief, sun};

/// When and under what sky a scene was taken.
#[derive(Debug, Clone, PartialEq)]
pub struct Acquisition {
    /// From 0, in order of time.
    pub number: usize,
    /// 8 or 9.
    pub satellite: u8,
    /// Year, month, day.
    pub date: (u16, u8, u8),
    /// Day of the year.
    pub day: f64,
    /// Share of the scene under cloud, 0–1.
    pub cloud_share: f64,
    /// Thin cirrus too.
    pub cirrus: bool,
    /// Degrees above the horizon.
    pub sun_elevation: f64,
    /// Degrees clockwise from north, towards the sun.
    pub sun_azimuth: f64,
    /// Astronomical units.
    pub sun_distance: f64,
    /// The air: how it scatters, how high its clouds are.
    pub air: Air,
}

/// What the air is like.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Air {
    /// Light scattered, as a multiple of that of clear air.
    pub haze: f64,
    /// Height of the clouds above ground, metres.
    pub cloud_height: f64,
    /// How soft the clouds' edges are, in units of their noise.
    pub softness: f64,
    /// Grain of the counts: the width of its even spread.
    pub grain: f64,
    /// Height of the hills, metres; 0 is flat.
    pub relief: f64,
}

impl Air {
    /// Clear air with clouds of a height, over flat land.
    pub fn clear(cloud_height: f64) -> Air {
        Air { haze: 1.0, cloud_height, softness: 0.10, grain: 6.0, relief: 0.0 }
    }

    /// Light that the air adds to band `b` of the seven, as reflectance.
    pub fn path(&self, b: usize) -> f64 {
        HAZE[b] * self.haze
    }

    /// Share of the ground's light that comes through in band `b`, down and up.
    pub fn transmittance(&self, b: usize) -> f64 {
        1.0 - 1.2 * HAZE[b] * self.haze
    }

    /// How much colder than the ground a cloud's top looks, kelvin: it is 600 m thick, and 7 K go with a kilometre.
    pub fn cloud_chill(&self) -> f64 {
        7.0e-3 * (self.cloud_height + 600.0)
    }
}

/// What is between the sensor and a cell.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
#[repr(u8)]
pub enum Cover {
    /// Nothing.
    Clear = 0,
    /// Cloud.
    Cloud = 1,
    /// A cloud's shadow.
    Shadow = 2,
    /// Thin cirrus.
    Cirrus = 3,
    /// No data.
    Fill = 255,
}

/// What is true of a scene, cell by cell.
#[derive(Debug, Clone)]
pub struct Truth {
    /// What is between.
    pub cover: Vec<Cover>,
    /// Top-of-atmosphere reflectance of a clear sky over flat land: coastal, blue, green, red, nir, swir16, swir22.
    pub toa: Vec<[f32; 7]>,
    /// Reflectance of the ground in the same bands.
    pub ground: Vec<[f32; 7]>,
    /// Temperature of the surface, kelvin.
    pub kelvin: Vec<f32>,
}

/// The counts of a scene by band: 1–7, 9, 10, 11, with its quality planes.
pub(crate) struct Counts {
    pub bands: Vec<(u8, Vec<u16>)>,
    pub quality: Vec<u16>,
    pub saturation: Vec<u16>,
}

/// Light scattered by clear air into bands 1–7.
const HAZE: [f64; 7] = [0.055, 0.040, 0.020, 0.012, 0.004, 0.001, 0.001];
/// A cloud's reflectance in bands 1–7.
const CLOUD: [f64; 7] = [0.62, 0.62, 0.61, 0.62, 0.65, 0.45, 0.36];
/// Reflectance is coded as 2·10⁻⁵ a count with an offset of −0.1.
pub(crate) const MULT: f64 = 2.0e-5;
pub(crate) const ADD: f64 = -0.1;

/// Thermal calibration of a satellite: radiance per count and offset, K1 and K2, for bands 10 and 11.
pub(crate) fn thermal(satellite: u8) -> [(f64, f64, f64, f64); 2] {
    match satellite {
        8 => [(3.3420e-4, 0.1, 774.8853, 1321.0789), (3.3420e-4, 0.1, 480.8883, 1201.1442)],
        _ => [(3.8000e-4, 0.1, 799.0284, 1329.2405), (3.4900e-4, 0.1, 475.6581, 1198.3494)],
    }
}

impl Estate {
    /// Ten acquisitions from April to October 2031, two satellites in turn.
    pub fn acquisitions(&self) -> Vec<Acquisition> {
        // month, day, day of the year, share of cloud, cirrus, height of the clouds
        let plan = [
            (4, 14, 104, 0.12, false, 1800.0),
            (5, 8, 128, 0.35, false, 2300.0),
            (5, 24, 144, 0.05, true, 1600.0),
            (6, 9, 160, 0.55, false, 3100.0),
            (6, 25, 176, 0.08, false, 2000.0),
            (7, 11, 192, 0.22, true, 2700.0),
            (7, 27, 208, 0.02, false, 1500.0),
            (8, 20, 232, 0.30, false, 2900.0),
            (9, 13, 256, 0.10, true, 1900.0),
            (10, 15, 288, 0.42, false, 1700.0),
        ];
        plan.iter()
            .enumerate()
            .map(|(number, (month, day_of_month, day, cloud_share, cirrus, height))| {
                let day = f64::from(*day);
                let (sun_elevation, sun_azimuth, sun_distance) = sun::position(day);
                Acquisition {
                    number,
                    satellite: 8 + (number % 2) as u8,
                    date: (2031, *month, *day_of_month),
                    day,
                    cloud_share: *cloud_share,
                    cirrus: *cirrus,
                    sun_elevation,
                    sun_azimuth,
                    sun_distance,
                    air: Air::clear(*height),
                }
            })
            .collect()
    }

    /// The truth of an acquisition.
    pub fn truth(&self, a: &Acquisition) -> Truth {
        self.truth_under(a, &Sky::new(self, a))
    }

    pub(crate) fn truth_under(&self, a: &Acquisition, sky: &Sky) -> Truth {
        let looks = (0..COLS * ROWS).map(|i| self.land.look(i, a.day));
        let (mut toa, mut ground, mut kelvin) = (vec![], vec![], vec![]);
        for look in looks {
            toa.push(std::array::from_fn(|b| (look.reflectance[b] * a.air.transmittance(b) + a.air.path(b)) as f32));
            ground.push(look.reflectance.map(|v| v as f32));
            kelvin.push(look.kelvin as f32);
        }
        Truth { cover: (0..COLS * ROWS).map(|i| sky.cover(i)).collect(), toa, ground, kelvin }
    }

    pub(crate) fn counts_under(&self, a: &Acquisition, sky: &Sky) -> Counts {
        let n = COLS * ROWS;
        let sine = a.sun_elevation.to_radians().sin();
        let light = relief::Light::new(self, a);
        let numbers = [1u8, 2, 3, 4, 5, 6, 7, 9, 10, 11];
        let mut bands: Vec<(u8, Vec<u16>)> = numbers.iter().map(|b| (*b, vec![0u16; n])).collect();
        let (mut quality, mut saturation) = (vec![1u16; n], vec![0u16; n]);
        for i in 0..n {
            if sky.fill[i] {
                continue;
            }
            let (c, r) = ((i % COLS) as i64, (i / COLS) as i64);
            let grain = |b: u8| a.air.grain * (noise::at(self.seed ^ u64::from(b) << 8 ^ a.number as u64, c, r) - 0.5);
            let look = self.land.look(i, a.day);
            let (cloud, shadow, cirrus) = (f64::from(sky.cloud[i]), f64::from(sky.shadow[i]), f64::from(sky.cirrus[i]));
            for b in 0..7 {
                let lit = look.reflectance[b] * light.on(i, b) * a.air.transmittance(b) + a.air.path(b);
                let ground = lit * (1.0 - 0.55 * shadow);
                let seen = ground + cloud * (CLOUD[b] - ground) + 0.05 * cirrus;
                let count = ((seen * sine - ADD) / MULT + grain(b as u8)).round();
                if count >= 65535.0 {
                    saturation[i] |= 1 << b;
                }
                bands[b].1[i] = count.clamp(1.0, 65535.0) as u16;
            }
            let high = 0.0008 + 0.045 * cirrus + 0.002 * cloud;
            bands[7].1[i] = ((high * sine - ADD) / MULT + grain(9)).round().clamp(1.0, 65535.0) as u16;
            let kelvin =
                seen_kelvin(look.kelvin, look.emissivity) - a.air.cloud_chill() * cloud - 5.0 * cirrus - 2.0 * shadow;
            for (k, (mult, add, k1, k2)) in thermal(a.satellite).into_iter().enumerate() {
                let radiance = k1 / ((k2 / kelvin).exp() - 1.0);
                bands[8 + k].1[i] = ((radiance - add) / mult + grain(10 + k as u8)).round().clamp(1.0, 65535.0) as u16;
            }
            quality[i] = 21824 | u16::from(look.reflectance[4] < 0.03) << 7;
        }
        self.flag(sky, &mut quality);
        Counts { bands, quality, saturation }
    }

    /// The quality plane as a delivery would have it: cores of clouds and shadows found, thin edges half missed.
    fn flag(&self, sky: &Sky, quality: &mut [u16]) {
        for r in 0..ROWS {
            for c in 0..COLS {
                let i = r * COLS + c;
                if sky.fill[i] {
                    continue;
                }
                let near = |reach: usize| {
                    let rows = r.saturating_sub(reach)..(r + reach + 1).min(ROWS);
                    rows.flat_map(|y| (c.saturating_sub(reach)..(c + reach + 1).min(COLS)).map(move |x| y * COLS + x))
                        .any(|j| sky.cloud[j] > 0.20)
                };
                quality[i] = match () {
                    () if sky.cloud[i] > 0.20 => 22280,
                    () if sky.cloud[i] > 0.0 && near(2) => 21762,
                    () if sky.shadow[i] > 0.20 => 23888,
                    () if sky.cirrus[i] > 0.03 => 54596,
                    () => quality[i],
                };
            }
        }
    }
}

/// The temperature a black body would need to look like a surface, for a wavelength of 10.895 µm and dry air.
fn seen_kelvin(kelvin: f64, emissivity: f64) -> f64 {
    // T/(1 + a·T·ln ε) = Ts solved for T
    let a = 10.895e-6 / 0.014_387_768_8;
    kelvin / (1.0 - a * kelvin * emissivity.ln())
}
