//! Slopes from heights, and values on slopes as on level ground.

use crate::error::{Error, Result};
use crate::graph::{Inputs, Op, values_row};
use crate::grid::Window;
use crate::physics::{gradient, illumination, slope_aspect, terrain_factor};
use crate::tile::{Kind, PlaneSpec, Tile};
use crate::units::Unit;

/// What is computed of a cell's rise.
#[derive(Debug, Clone, Copy, PartialEq)]
pub enum Facet {
    /// Degrees from level.
    Slope,
    /// Direction of the fall, degrees clockwise from grid north; missing on level ground.
    Aspect,
    /// Cosine of the angle between the sun and the slope.
    Light {
        /// Of the sun above the horizon, degrees.
        elevation: f64,
        /// Of the sun, degrees clockwise from grid north.
        azimuth: f64,
    },
}

/// A facet of heights in metres. A cell that lacks one of its eight neighbours is missing.
#[derive(Debug)]
pub struct Terrain {
    /// What.
    pub facet: Facet,
    /// Cell width and height, metres.
    pub cell_m: (f64, f64),
}

impl Op for Terrain {
    fn output(&self, inputs: &[&PlaneSpec]) -> Result<(Kind, Unit)> {
        match (inputs, self.facet) {
            ([one], _) if one.kind != Kind::Values => Err(Error::Usage("slopes are computed of heights".into())),
            ([_], Facet::Light { .. }) => Ok((Kind::Values, Unit::One)),
            ([_], _) => Ok((Kind::Values, Unit::Degree)),
            _ => Err(Error::Usage("slopes are computed of one plane of heights".into())),
        }
    }

    fn needs(&self, out: Window) -> Window {
        out.grown(1, 1)
    }

    fn compute(&self, inputs: &Inputs, out: &mut Tile) -> Result<()> {
        let (heights, window) = (inputs.tile(0), out.window);
        let need = self.needs(window);
        for row in window.row..window.end_row() {
            let rows = [row - 1, row, row + 1].map(|r| values_row(heights, &need, r));
            let at = out.row_range(&window, row);
            for (i, o) in out.values_mut()[at].iter_mut().enumerate() {
                let z: [f64; 9] = std::array::from_fn(|k| f64::from(rows[k / 3][i + k % 3]));
                // the middle does not enter a gradient, but a missing one is no place for it
                let g = if z[4].is_nan() { (f64::NAN, f64::NAN) } else { gradient(z, self.cell_m.0, self.cell_m.1) };
                *o = match self.facet {
                    Facet::Slope => slope_aspect(g).0,
                    Facet::Aspect => slope_aspect(g).1,
                    Facet::Light { elevation, azimuth } => illumination(g, elevation, azimuth),
                } as f32;
            }
        }
        Ok(())
    }

    fn step(&self) -> &'static str {
        "terrain"
    }
}

/// Values of a band, then the light on the slope ([`Facet::Light`]): the values as on level ground.
#[derive(Debug)]
pub struct Relight {
    /// Of the sun above the horizon, degrees.
    pub elevation: f64,
    /// The constant c of the band; 0 for the cosine correction.
    pub c: f64,
}

impl Op for Relight {
    fn output(&self, inputs: &[&PlaneSpec]) -> Result<(Kind, Unit)> {
        match inputs {
            [band, light] if band.kind == Kind::Values && light.kind == Kind::Values => Ok((Kind::Values, band.unit)),
            _ => Err(Error::Usage("a band on slopes is corrected by the light on them".into())),
        }
    }

    fn compute(&self, inputs: &Inputs, out: &mut Tile) -> Result<()> {
        let (band, light, window) = (inputs.tile(0), inputs.tile(1), out.window);
        for row in window.row..window.end_row() {
            let (v, l) = (values_row(band, &window, row), values_row(light, &window, row));
            let at = out.row_range(&window, row);
            for ((o, v), l) in out.values_mut()[at].iter_mut().zip(v).zip(l) {
                *o = (f64::from(*v) * terrain_factor(f64::from(*l), self.elevation, self.c)) as f32;
            }
        }
        Ok(())
    }

    fn step(&self) -> &'static str {
        "terrain"
    }
}

/// Reflectance not yet divided by the sun's height, then the sun's zenith angle in degrees: divided by its cosine; missing
/// where the sun is down.
#[derive(Debug)]
pub struct BySunAngle;

impl Op for BySunAngle {
    fn output(&self, inputs: &[&PlaneSpec]) -> Result<(Kind, Unit)> {
        match inputs {
            [band, angle] if band.kind == Kind::Values && angle.kind == Kind::Values => Ok((Kind::Values, band.unit)),
            _ => Err(Error::Usage("a band is divided by the cosine of one plane of angles".into())),
        }
    }

    fn compute(&self, inputs: &Inputs, out: &mut Tile) -> Result<()> {
        let (band, angle, window) = (inputs.tile(0), inputs.tile(1), out.window);
        for row in window.row..window.end_row() {
            let (v, a) = (values_row(band, &window, row), values_row(angle, &window, row));
            let at = out.row_range(&window, row);
            for ((o, v), a) in out.values_mut()[at].iter_mut().zip(v).zip(a) {
                let cosine = f64::from(*a).to_radians().cos();
                *o = if cosine > 0.0 { (f64::from(*v) / cosine) as f32 } else { f32::NAN };
            }
        }
        Ok(())
    }

    fn step(&self) -> &'static str {
        "sun angle of each cell"
    }
}
