//! The index catalogue: `catalogue.toml`, one row each. A formula may name bands, other indices and `wavelength(band)` in
//! micrometres.

use std::collections::BTreeMap;
use std::sync::LazyLock;

use serde::de::Error as _;
use serde::{Deserialize, Deserializer};

use crate::error::{Error, Result};
use crate::scene::BandRole;
use crate::units::Unit;

/// A text of the catalogue, which lives as long as the program.
type Text = &'static str;

/// One index.
#[derive(Debug, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct IndexDef {
    /// The name it is asked for by.
    #[serde(deserialize_with = "kept")]
    pub id: Text,
    /// In words.
    #[serde(deserialize_with = "kept")]
    pub name: Text,
    /// In the formula language.
    #[serde(deserialize_with = "kept")]
    pub formula: Text,
    /// Of the result, by its label; none where it is left out.
    #[serde(default = "none", deserialize_with = "labelled")]
    pub unit: Unit,
    /// The range pictures are drawn over and values are expected in.
    pub typical: (f64, f64),
    /// The colour ramp of its pictures, by name.
    #[serde(deserialize_with = "kept")]
    pub ramp: Text,
    /// What its bands must hold.
    pub wants: Wants,
    /// Bands that must have a wavelength within these limits, micrometres: the coefficients hold for no other.
    #[serde(default)]
    pub valid: BTreeMap<String, (f64, f64)>,
    /// Author and year.
    #[serde(deserialize_with = "kept")]
    pub source: Text,
    /// A worked value.
    pub check: Check,
}

/// A worked value of an index.
#[derive(Debug, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Check {
    /// Its inputs; `wavelength` stands for the wavelength of every band, micrometres.
    pub of: BTreeMap<String, f64>,
    /// The result.
    pub gives: f64,
}

fn none() -> Unit {
    Unit::One
}

fn kept<'de, D: Deserializer<'de>>(from: D) -> std::result::Result<Text, D::Error> {
    Ok(String::deserialize(from)?.leak())
}

fn labelled<'de, D: Deserializer<'de>>(from: D) -> std::result::Result<Unit, D::Error> {
    match Unit::from_label(&String::deserialize(from)?) {
        Unit::Unknown => Err(D::Error::custom("no unit of ours")),
        unit => Ok(unit),
    }
}

/// What the bands of an index must hold for its number to mean anything.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum Wants {
    /// A common gain cancels, an offset does not.
    Ratio,
    /// True reflectance, 0 to 1: scaled counts give nonsense.
    Reflectance,
    /// Reflectance at the surface.
    Surface,
}

impl Wants {
    /// For people.
    pub fn text(self) -> &'static str {
        match self {
            Wants::Ratio => "reflectance; a common factor cancels, an offset does not",
            Wants::Reflectance => "true reflectance, 0 to 1",
            Wants::Surface => "surface reflectance, 0 to 1",
        }
    }
}

/// Numbers that formulas use and the user may set, with their defaults.
pub const SETTINGS: &[(&str, f64)] = &[("cavity", 0.0)];

/// Numbers that formulas use and the user must give: there is no sound default.
pub const ASKED: &[(&str, &str)] = &[
    ("water_vapour", "the water vapour of the air, g cm⁻²"),
    ("transmittance", "the transmittance of the air for the band, 0 to 1"),
    ("upwelling", "the radiance that the air sends up, W m⁻² sr⁻¹ µm⁻¹"),
    ("downwelling", "the radiance that the air sends down, W m⁻² sr⁻¹ µm⁻¹"),
];

/// Rows sorted by id.
pub static INDICES: LazyLock<Vec<IndexDef>> = LazyLock::new(|| {
    #[derive(Deserialize)]
    struct Table {
        index: Vec<IndexDef>,
    }
    match toml::from_str::<Table>(include_str!("catalogue.toml")) {
        Ok(table) => table.index,
        Err(e) => unreachable!("the catalogue is read by a test: {e}"),
    }
});

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

/// Names in an index's formula that are no bands: numbers that the user sets.
pub fn settings_of(d: &IndexDef) -> Vec<String> {
    let mut found = vec![];
    collect(d.formula, &mut found);
    found.retain(|n| BandRole::from_name(n).is_none());
    found.sort();
    found.dedup();
    found
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

    impl Worked<'_> {
        fn number(&self, name: &str) -> Option<f64> {
            // examples name red edges by their wavelength alone
            let short = name.strip_prefix("rededge0").map(|nm| format!("re{nm}"));
            let short = if name == "rededge" { Some("re71".to_string()) } else { short };
            self.0.iter().find(|(n, _)| n == name || Some(n) == short.as_ref()).map(|(_, v)| *v)
        }
    }

    impl Names for Worked<'_> {
        fn band(&self, name: &str) -> Option<Unit> {
            self.number(name).map(|_| Unit::Reflectance)
        }
        fn wavelength_um(&self, _: &str) -> Option<f64> {
            self.number("wavelength")
        }
        fn thermal(&self, _: &str) -> Option<(f64, f64)> {
            self.number("k1").zip(self.number("k2"))
        }
        fn all(&self) -> Vec<String> {
            self.0.iter().map(|(n, _)| n.clone()).collect()
        }
    }

    fn value(formula: &str, inputs: &[(String, f64)]) -> f64 {
        let program = Program::compile(formula, &Worked(inputs)).unwrap();
        let get = |n: &String| Worked(inputs).number(n).unwrap();
        program.at(&program.inputs().iter().map(get).collect::<Vec<_>>())
    }

    #[test]
    fn every_row_parses_is_sorted_and_meets_its_worked_value() {
        assert!(INDICES.is_sorted_by_key(|d| d.id));
        for d in INDICES.iter() {
            let inputs: Vec<(String, f64)> = d.check.of.iter().map(|(k, v)| (k.to_string(), *v)).collect();
            let got = value(d.formula, &inputs);
            assert!((got - d.check.gives).abs() < 1e-9 * (1.0 + d.check.gives.abs()), "{}: {got}", d.id);
            assert!(!d.source.is_empty() && !d.bands().is_empty() && d.typical.0 < d.typical.1, "{}", d.id);
            // what is delivered under an index's name stands for it
            assert!(BandRole::from_name(d.id).is_none_or(BandRole::is_product), "{} is also a band", d.id);
        }
    }

    #[test]
    fn worked_examples_of_the_catalogue() {
        let mut checked = 0;
        for d in INDICES.iter() {
            for e in worked::starting_with(&format!("index_{}_", d.id)) {
                if e.name()[6 + d.id.len() + 1..].contains('_') {
                    continue; // another index's longer name
                }
                e.check(value(d.formula, &e.all_numbers()));
                checked += 1;
            }
        }
        assert!(checked >= 100, "only {checked} worked values met the catalogue");
    }

    fn inputs(of: &[(&str, f64)]) -> Vec<(String, f64)> {
        of.iter().map(|(k, v)| (k.to_string(), *v)).collect()
    }

    /// Red and near infrared of an NDVI.
    fn bands(ndvi: f64, red: f64) -> Vec<(String, f64)> {
        inputs(&[("nir", red * (1.0 + ndvi) / (1.0 - ndvi)), ("red", red)])
    }

    #[test]
    fn worked_cover_and_emissivity() {
        for (index, name) in [("pv", "vegetation_cover"), ("emissivity", "emissivity_continuous_default")] {
            let e = worked::example(name);
            for (ndvi, expected) in e.numbers("ndvi").iter().zip(e.expected_numbers()) {
                e.check_one(value(find(index).unwrap().formula, &bands(*ndvi, 0.1)), expected);
            }
        }
        let e = worked::example("emissivity_tirs10_thresholds");
        let pairs = e.value("/inputs/ndvi_red").as_array().unwrap();
        for (pair, expected) in pairs.iter().zip(e.expected_numbers()) {
            let [ndvi, red] = [0, 1].map(|i| pair[i].as_f64().unwrap());
            e.check_one(value("emissivity_tirs10", &bands(ndvi, red)), expected);
        }
        let e = worked::example("emissivity_tirs10_cavity");
        let mut with_cavity = bands(e.number("ndvi"), 0.12);
        with_cavity.extend(inputs(&[("cavity", e.number("cavity"))]));
        e.check(value("emissivity_tirs10", &with_cavity));
        let e = worked::example("emissivity_tm_mixed");
        e.check(value("emissivity_tm", &bands(e.number("ndvi"), 0.12)));
    }

    #[test]
    fn worked_temperatures() {
        let number = |e: &worked::Example, names: &[(&'static str, &str)]| {
            names.iter().map(|(k, from)| (k.to_string(), e.number(from))).collect::<Vec<_>>()
        };
        for name in ["lst_emissivity_tirs10", "lst_emissivity_tm", "lst_emissivity_one"] {
            let e = worked::example(name);
            let mut at = number(&e, &[("lwir11", "bt_k"), ("emissivity", "emissivity")]);
            at.extend(inputs(&[("wavelength", e.number("wavelength_m") * 1e6)]));
            e.check(value("lst", &at));
        }
        // the examples give the radiance beside the temperature: constants that make the one of the other
        let planck = |radiance: f64, kelvin: f64, k2: f64| [("k1", radiance * ((k2 / kelvin).exp() - 1.0)), ("k2", k2)];
        for name in ["lst_single_channel_moist", "lst_single_channel_dry"] {
            let e = worked::example(name);
            let vapour = ("water_vapour", "water_vapour_g_cm2");
            let mut at = number(&e, &[("lwir11", "bt_k"), ("emissivity", "emissivity"), vapour]);
            at.extend(inputs(&planck(e.number("radiance"), e.number("bt_k"), 1321.0789)));
            e.check(value("lst_single_channel", &at));
        }
        // its three functions of the water vapour, as they stand in the formula
        let formula = find("lst_single_channel").unwrap().formula;
        let (_, from) = formula.split_once("(((").unwrap();
        let (first, from) = from.split_once(") * radiance(lwir11) + (").unwrap();
        let (second, from) = from.split_once(")) / emissivity + (").unwrap();
        let third = from.strip_suffix("))").unwrap();
        let e = worked::example("psi_functions_tirs10");
        let vapour = inputs(&[("water_vapour", e.number("water_vapour_g_cm2"))]);
        for (part, expected) in [first, second, third].iter().zip(e.expected_numbers()) {
            e.check_one(value(part, &vapour), expected);
        }
        for name in ["lst_split_window_crop", "lst_split_window_dry_soil"] {
            let e = worked::example(name);
            e.check(value(
                "lst_split_window",
                &number(
                    &e,
                    &[
                        ("lwir11", "t10_k"),
                        ("lwir12", "t11_k"),
                        ("emissivity_tirs10", "e10"),
                        ("emissivity_tirs11", "e11"),
                        ("water_vapour", "water_vapour_g_cm2"),
                    ],
                ),
            ));
        }
        let e = worked::example("lst_radiative_transfer");
        let names = ["transmittance", "upwelling", "downwelling", "emissivity", "k1", "k2"].map(|n| (n, n));
        let mut at = number(&e, &names);
        let kelvin = e.number("k2") / (e.number("k1") / e.number("radiance") + 1.0).ln();
        at.extend(inputs(&[("lwir11", kelvin)]));
        e.check(value("lst_radiative_transfer", &at));
    }

    #[test]
    fn worked_linear_transforms() {
        for sensor in ["oli", "tm"] {
            let e = worked::example(&format!("linear_transform_{sensor}"));
            let names = ["blue", "green", "red", "nir", "swir16", "swir22"];
            let at: Vec<(&str, f64)> = names.into_iter().zip(e.numbers("bands")).collect();
            for axis in ["brightness", "greenness", "wetness"] {
                e.check_one(value(&format!("{axis}_{sensor}"), &inputs(&at)), e.expected(axis));
            }
        }
    }

    #[test]
    fn worked_trouble() {
        let e = worked::example("index_zero_denominator");
        for ((nir, red), expected) in e.numbers("nir").iter().zip(e.numbers("red")).zip(e.expected_numbers()) {
            e.check_one(value("ndvi", &inputs(&[("nir", *nir), ("red", red)])), expected);
        }
        let e = worked::example("index_outside_unit_range");
        e.check(value("ndvi", &e.all_numbers()));
        let e = worked::example("offset_breaks_ratio");
        let of = |key: &str, offset: f64| (e.number(key) + offset) / e.number("quantification");
        let at = |offset: f64| inputs(&[("nir", of("nir_dn", offset)), ("red", of("red_dn", offset))]);
        e.check_one(value("ndvi", &at(e.number("offset"))), e.expected("right"));
        e.check_one(value("ndvi", &at(0.0)), e.expected("without_offset"));
    }

    #[test]
    fn bands_are_found_through_other_indices() {
        let names: Vec<&str> = find("lst").unwrap().bands().iter().map(|r| r.name()).collect();
        assert_eq!(names, ["red", "nir", "lwir11"]);
    }
}
