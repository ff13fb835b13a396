//! Surface reflectance by dark-object subtraction: what light the air itself sends to the sensor is read from the darkest
//! cells of a scene and taken off every cell.
//!
//! Sources: Chavez 1988 (the subtraction), Chavez 1996 (COST), in the forms compared by Song et al. 2001, on
//! top-of-atmosphere reflectance, which needs neither the solar irradiance nor the Earth–Sun distance.

use std::str::FromStr;

use super::radiometry::Line;
use crate::error::{Error, Result};
use crate::units::{Degrees, Nanometres};

/// Reflectance that the darkest object is taken to have.
pub const ASSUMED_DARK: f64 = 0.01;
/// COST grows as one over the cosine of the sun's zenith angle: below this elevation it is refused.
pub const LOWEST_SUN: Degrees = Degrees(15.0);
/// COST takes the path's transmittance as the cosine of the sun's zenith angle below this wavelength, as 1 above.
const SHORT: Nanometres = Nanometres(1000.0);
/// Cells that a dark object has at least.
const LEAST_CELLS: f64 = 1000.0;
/// Share of the valid cells that it has at least.
const LEAST_SHARE: f64 = 1e-4;

/// The form of the subtraction.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub enum DarkMethod {
    /// No loss of light on the way down: `ρ − ρ_dark + 0.01`.
    #[default]
    Dos1,
    /// Loss by the sun's zenith angle θ, below 1 µm: `(ρ − ρ_dark) / cos θ + 0.01`.
    Cost,
}

impl DarkMethod {
    /// Its name.
    pub fn name(self) -> &'static str {
        match self {
            DarkMethod::Dos1 => "dos1",
            DarkMethod::Cost => "cost",
        }
    }
}

impl FromStr for DarkMethod {
    type Err = Error;

    fn from_str(text: &str) -> Result<DarkMethod> {
        let all = [DarkMethod::Dos1, DarkMethod::Cost];
        all.into_iter()
            .find(|m| m.name() == text)
            .ok_or_else(|| Error::unknown("form of dark-object subtraction", text, all.map(DarkMethod::name)))
    }
}

/// Cells that the darkest counts must reach together before the count is taken for the dark object: a bare minimum would
/// let one bad cell decide. The literature uses about 1000 cells.
pub fn wanted_cells(valid: u64) -> u64 {
    LEAST_CELLS.max((LEAST_SHARE * valid as f64).ceil()) as u64
}

/// Top-of-atmosphere reflectance to surface reflectance.
pub fn surface_line(method: DarkMethod, dark: f64, centre: Option<Nanometres>, sun_elevation: Degrees) -> Line {
    let short = centre.is_none_or(|c| c.0 < SHORT.0);
    let loss = match method {
        DarkMethod::Cost if short => sun_elevation.radians().sin(),
        DarkMethod::Cost | DarkMethod::Dos1 => 1.0,
    };
    Line { gain: 1.0 / loss, offset: ASSUMED_DARK - dark / loss }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::worked;

    #[test]
    fn worked_forms() {
        let e = worked::example("dos1_blue");
        let line = surface_line(DarkMethod::Dos1, e.number("dark"), Some(Nanometres(480.0)), Degrees(50.0));
        for (toa, expected) in e.numbers("toa").iter().zip(e.expected_numbers()) {
            e.check_one(line.at(*toa), expected);
        }
        let e = worked::example("cost_green");
        let sun = Degrees(e.number("sun_elevation_deg"));
        e.check(surface_line(DarkMethod::Cost, e.number("dark"), Some(Nanometres(560.0)), sun).at(e.number("toa")));
        let e = worked::example("cost_swir16");
        e.check(surface_line(DarkMethod::Cost, e.number("dark"), Some(Nanometres(1610.0)), sun).at(e.number("toa")));
    }

    #[test]
    fn worked_radiance_form_is_the_same() {
        for (name, method) in
            [("dos_radiance_form_general", DarkMethod::Cost), ("dos_radiance_form_dos1", DarkMethod::Dos1)]
        {
            let e = worked::example(name);
            let sun = Degrees(90.0 - e.number("zenith_deg"));
            // reflectance of a radiance: pi L d^2 / (ESUN cos)
            let toa =
                |l: f64| std::f64::consts::PI * l * e.number("d").powi(2) / (e.number("esun") * sun.radians().sin());
            let line = surface_line(method, toa(e.number("dark_radiance")), Some(Nanometres(560.0)), sun);
            e.check(line.at(toa(e.number("radiance"))));
        }
    }

    #[test]
    fn a_dark_object_has_a_thousand_cells_or_a_ten_thousandth() {
        assert_eq!((wanted_cells(10), wanted_cells(10_000_000), wanted_cells(40_000_001)), (1000, 1000, 4001));
        assert_eq!("cost".parse::<DarkMethod>().unwrap(), DarkMethod::Cost);
        assert!("dos2".parse::<DarkMethod>().unwrap_err().to_string().contains("did you mean 'dos1'"));
    }
}
