//! The index catalogue, one row each. A formula may name bands, other indices and `wavelength(band)` in micrometres.

use crate::error::{Error, Result};
use crate::scene::BandRole;
use crate::units::Unit;

/// One index.
#[derive(Debug)]
pub struct IndexDef {
    /// The name it is asked for by.
    pub id: &'static str,
    /// In words.
    pub name: &'static str,
    /// In the formula language.
    pub formula: &'static str,
    /// Of the result.
    pub unit: Unit,
    /// The range pictures are drawn over and values are expected in.
    pub typical: (f64, f64),
    /// The colour ramp of its pictures, by name.
    pub ramp: &'static str,
    /// Author and year.
    pub source: &'static str,
    /// Inputs and result of a worked value; `wavelength` stands for the wavelength of every band, micrometres.
    pub check: (&'static [(&'static str, f64)], f64),
}

/// Rows sorted by id.
pub const INDICES: &[IndexDef] = &[
    IndexDef {
        id: "bsi",
        name: "bare soil index",
        formula: "((swir16 + red) - (nir + blue)) / ((swir16 + red) + (nir + blue))",
        unit: Unit::One,
        typical: (-0.6, 0.4),
        ramp: "soil",
        source: "Rikimaru et al. 2002",
        check: (&[("swir16", 0.3), ("red", 0.2), ("nir", 0.25), ("blue", 0.1)], 0.15 / 0.85),
    },
    IndexDef {
        id: "emissivity",
        name: "surface emissivity from NDVI thresholds",
        formula: "0.97 * (1 - pv) + 0.99 * pv",
        unit: Unit::One,
        typical: (0.97, 0.99),
        ramp: "slate",
        source: "Sobrino et al. 2004, with continuous ends 0.97 and 0.99",
        check: (&[("nir", 0.27), ("red", 0.13)], 0.975),
    },
    IndexDef {
        id: "lst",
        name: "land surface temperature, one channel, emissivity only",
        formula: "lwir11 / (1 + wavelength(lwir11) * 1e-6 * lwir11 / 0.0143877688 * ln(emissivity))",
        unit: Unit::Kelvin,
        typical: (280.0, 320.0),
        ramp: "heat",
        source: "Artis & Carnahan 1982; reads some kelvin low in moist air",
        check: (&[("lwir11", 303.15), ("nir", 0.27), ("red", 0.13), ("wavelength", 10.895)], 304.922_174_432_372_5),
    },
    IndexDef {
        id: "nbr",
        name: "normalised burn ratio",
        formula: "(nir - swir22) / (nir + swir22)",
        unit: Unit::One,
        typical: (-0.5, 0.8),
        ramp: "burn",
        source: "López García & Caselles 1991; Key & Benson 2006",
        check: (&[("nir", 0.3), ("swir22", 0.1)], 0.5),
    },
    IndexDef {
        id: "ndmi",
        name: "normalised difference moisture index",
        formula: "(nir - swir16) / (nir + swir16)",
        unit: Unit::One,
        typical: (-0.4, 0.6),
        ramp: "water",
        source: "Hardisky et al. 1983; Gao 1996",
        check: (&[("nir", 0.362), ("swir16", 0.205)], 0.157 / 0.567),
    },
    IndexDef {
        id: "ndvi",
        name: "normalised difference vegetation index",
        formula: "(nir - red) / (nir + red)",
        unit: Unit::One,
        typical: (-0.2, 0.9),
        ramp: "plants",
        source: "Rouse et al. 1974; Tucker 1979",
        check: (&[("nir", 0.5), ("red", 0.1)], 0.4 / 0.6),
    },
    IndexDef {
        id: "ndwi",
        name: "normalised difference water index (open water above 0)",
        formula: "(green - nir) / (green + nir)",
        unit: Unit::One,
        typical: (-0.8, 0.6),
        ramp: "water",
        source: "McFeeters 1996",
        check: (&[("green", 0.06), ("nir", 0.02)], 0.5),
    },
    IndexDef {
        id: "pv",
        name: "share of green cover from NDVI",
        formula: "clip((ndvi - 0.2) / (0.5 - 0.2), 0, 1) ^ 2",
        unit: Unit::One,
        typical: (0.0, 1.0),
        ramp: "plants",
        source: "Carlson & Ripley 1997",
        check: (&[("nir", 0.27), ("red", 0.13)], 0.25),
    },
];

/// The row of an index.
///
/// # Errors
/// [`Error::UnknownName`] with the nearest name.
pub fn find(id: &str) -> Result<&'static IndexDef> {
    INDICES.iter().find(|d| d.id == id).ok_or_else(|| Error::unknown("index", id, INDICES.iter().map(|d| d.id)))
}

impl IndexDef {
    /// The bands it needs, through other indices too, in catalogue order of roles.
    pub fn bands(&self) -> Vec<BandRole> {
        let mut found = vec![];
        collect(self.formula, &mut found);
        let mut roles: Vec<BandRole> = found.iter().filter_map(|n| BandRole::from_name(n)).collect();
        roles.sort();
        roles.dedup();
        roles
    }
}

fn collect(formula: &str, found: &mut Vec<String>) {
    for name in super::parse(formula).map(|e| e.names()).unwrap_or_default() {
        match INDICES.iter().find(|d| d.id == name) {
            Some(other) => collect(other.formula, found),
            None => found.push(name),
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::index::{Names, Program};
    use crate::worked;

    struct Worked<'a>(&'a [(String, f64)]);

    impl Names for Worked<'_> {
        fn band(&self, name: &str) -> Option<Unit> {
            self.0.iter().any(|(n, _)| n == name).then_some(match name {
                "lwir11" => Unit::Kelvin,
                _ => Unit::Reflectance,
            })
        }
        fn wavelength_um(&self, _: &str) -> Option<f64> {
            self.0.iter().find(|(n, _)| n == "wavelength").map(|(_, v)| *v)
        }
        fn all(&self) -> Vec<String> {
            self.0.iter().map(|(n, _)| n.clone()).collect()
        }
    }

    fn value(formula: &str, inputs: &[(String, f64)]) -> f64 {
        let program = Program::compile(formula, &Worked(inputs)).unwrap();
        let get = |n: &String| inputs.iter().find(|(k, _)| k == n).unwrap().1;
        program.at(&program.inputs().iter().map(get).collect::<Vec<_>>())
    }

    #[test]
    fn every_row_parses_is_sorted_and_meets_its_worked_value() {
        assert!(INDICES.is_sorted_by_key(|d| d.id));
        for d in INDICES {
            let inputs: Vec<(String, f64)> = d.check.0.iter().map(|(k, v)| (k.to_string(), *v)).collect();
            let got = value(d.formula, &inputs);
            assert!((got - d.check.1).abs() < 1e-6, "{}: {got}", d.id);
            assert!(!d.source.is_empty() && !d.bands().is_empty(), "{}", d.id);
            assert!(BandRole::from_name(d.id).is_none(), "{} is also a band", d.id);
        }
    }

    #[test]
    fn worked_examples_of_the_catalogue() {
        let mut checked = 0;
        for d in INDICES {
            for e in worked::starting_with(&format!("index_{}_", d.id)) {
                if e.name()[6 + d.id.len() + 1..].contains('_') {
                    continue; // another index's longer name
                }
                e.check(value(d.formula, &e.all_numbers()));
                checked += 1;
            }
        }
        assert!(checked >= 10, "only {checked} worked values met the catalogue");
    }

    #[test]
    fn worked_cover_emissivity_and_temperature() {
        // NDVI as (nir - red)/(nir + red) with nir + red = 1
        let bands = |ndvi: f64| vec![("nir".to_string(), 0.5 + ndvi / 2.0), ("red".to_string(), 0.5 - ndvi / 2.0)];
        for (index, name) in [("pv", "vegetation_cover"), ("emissivity", "emissivity_continuous_default")] {
            let e = worked::example(name);
            for (ndvi, expected) in e.numbers("ndvi").iter().zip(e.expected_numbers()) {
                e.check_one(value(find(index).unwrap().formula, &bands(*ndvi)), expected);
            }
        }
        // the published inversion for a given emissivity, Planck constants as in the row
        let inversion = find("lst").unwrap().formula.replace("emissivity", "green");
        for name in ["lst_emissivity_tirs10", "lst_emissivity_tm", "lst_emissivity_one"] {
            let e = worked::example(name);
            let inputs = [
                ("lwir11", e.number("bt_k")),
                ("green", e.number("emissivity")),
                ("wavelength", e.number("wavelength_m") * 1e6),
            ];
            e.check(value(&inversion, &inputs.map(|(k, v)| (k.to_string(), v))));
        }
    }

    #[test]
    fn bands_are_found_through_other_indices() {
        let names: Vec<&str> = find("lst").unwrap().bands().iter().map(|r| r.name()).collect();
        assert_eq!(names, ["red", "nir", "lwir11"]);
    }
}
