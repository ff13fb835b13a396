//! The spectral cloud test, cell by cell.

use crate::error::{Error, Result};
use crate::graph::{Inputs, Op, values_row};
use crate::mask::{LookRows, Reasons, SceneLevels};
use crate::tile::{Kind, PlaneSpec, Tile};
use crate::units::Unit;

/// Cloud, cirrus, snow and water by what cells look like. Inputs: blue, green, red, nir, swir16, swir22 as reflectance
/// above the air, then the temperature and the cirrus band where there are such. A cell that lacks one is fill.
#[derive(Debug)]
pub struct CloudTest {
    /// There is a thermal band.
    pub thermal: bool,
    /// There is a cirrus band, and this reflectance of it is cirrus.
    pub cirrus: Option<f64>,
    /// Reflectance from which on blue, green and red are saturated.
    pub saturated: [f32; 3],
    /// What the scene holds.
    pub levels: SceneLevels,
}

/// The rows of a test's inputs, of which the cirrus band is the last where there is one.
pub fn look_rows<'a>(rows: &[&'a [f32]], thermal: bool, saturated: [f32; 3]) -> LookRows<'a> {
    LookRows { bands: std::array::from_fn(|b| rows[b]), kelvin: thermal.then(|| rows[6]), saturated }
}

impl Op for CloudTest {
    fn output(&self, inputs: &[&PlaneSpec]) -> Result<(Kind, Unit)> {
        let wanted = 6 + usize::from(self.thermal) + usize::from(self.cirrus.is_some());
        match inputs.len() == wanted && inputs.iter().all(|i| i.kind == Kind::Values) {
            true => Ok((Kind::Flags { outside: Reasons::FILL.bits() }, Unit::Flags)),
            false => Err(Error::Usage("the cloud test takes six bands of reflectance, and temperature".into())),
        }
    }

    fn compute(&self, inputs: &Inputs, out: &mut Tile) -> Result<()> {
        let window = out.window;
        for row in window.row..window.end_row() {
            let rows: Vec<&[f32]> = (0..inputs.len()).map(|i| values_row(inputs.tile(i), &window, row)).collect();
            let looks = look_rows(&rows, self.thermal, self.saturated);
            let high = self.cirrus.and_then(|least| rows.last().map(|r| (*r, least)));
            let at = out.row_range(&window, row);
            for (i, o) in out.bits_mut()[at].iter_mut().enumerate() {
                let Some(look) = looks.at(i) else {
                    *o = Reasons::FILL.bits();
                    continue;
                };
                let m = look.measures();
                let cirrus = high.is_some_and(|(r, least)| f64::from(r[i]) > least);
                let found = [
                    (self.levels.is_cloud(&look, &m), Reasons::CLOUD),
                    (cirrus, Reasons::CIRRUS),
                    (look.is_snow(&m), Reasons::SNOW),
                    (look.is_water(&m), Reasons::WATER),
                ];
                *o = found.iter().filter(|f| f.0).fold(0, |bits, f| bits | f.1.bits());
            }
        }
        Ok(())
    }

    fn step(&self) -> &'static str {
        "cloud test"
    }
}
