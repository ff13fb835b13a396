//! How two dates are compared: one row a measure. `{x}` stands for the layer.

use super::season::LayerRequest;
use crate::error::{Error, Result};

/// A measure of change.
#[derive(Debug)]
pub struct MeasureDef {
    /// The name it is asked for by.
    pub id: &'static str,
    /// In words.
    pub name: &'static str,
    /// The layer it is made for; empty: any.
    pub of: &'static str,
    /// Name of its layer.
    pub layer: &'static str,
    /// Its formula.
    pub formula: &'static str,
    /// The colour ramp of its pictures.
    pub ramp: &'static str,
    /// Author and year.
    pub source: &'static str,
}

/// Rows sorted by id.
pub const MEASURES: &[MeasureDef] = &[
    MeasureDef {
        id: "difference",
        name: "after less before",
        of: "",
        layer: "{x}_difference",
        formula: "after.{x} - before.{x}",
        ramp: "change",
        source: "definition",
    },
    MeasureDef {
        id: "dnbr",
        name: "burn ratio before less after: high where it burned",
        of: "nbr",
        layer: "dnbr",
        formula: "before.nbr - after.nbr",
        ramp: "severity",
        source: "Key & Benson 2006",
    },
    MeasureDef {
        id: "ratio",
        name: "after over before",
        of: "",
        layer: "{x}_ratio",
        formula: "after.{x} / before.{x}",
        ramp: "slate",
        source: "definition",
    },
    MeasureDef {
        id: "rbr",
        name: "relative burn ratio",
        of: "nbr",
        layer: "rbr",
        formula: "(before.nbr - after.nbr) / (before.nbr + 1.001)",
        ramp: "severity",
        source: "Parks et al. 2014",
    },
    MeasureDef {
        id: "rdnbr",
        name: "relative difference of burn ratios, thousandths",
        of: "nbr",
        layer: "rdnbr",
        formula: "1000 * (before.nbr - after.nbr) / sqrt(abs(before.nbr))",
        ramp: "severity",
        source: "Miller & Thode 2007; other thresholds than dNBR",
    },
    MeasureDef {
        id: "relative",
        name: "after less before, as a share of before",
        of: "",
        layer: "{x}_relative",
        formula: "(after.{x} - before.{x}) / abs(before.{x})",
        ramp: "change",
        source: "definition",
    },
];

/// The row of a measure.
///
/// # Errors
/// [`Error::UnknownName`] with the nearest name.
pub fn find_measure(id: &str) -> Result<&'static MeasureDef> {
    let known = || MEASURES.iter().map(|m| m.id);
    MEASURES.iter().find(|m| m.id == id).ok_or_else(|| Error::unknown("measure of change", id, known()))
}

impl MeasureDef {
    /// The layer that compares `of` before and after.
    ///
    /// # Errors
    /// Where the measure is made for another layer.
    pub fn request(&self, of: &str) -> Result<LayerRequest> {
        if !self.of.is_empty() && self.of != of {
            return Err(Error::Usage(format!("{} compares {}, not {of}", self.id, self.of)));
        }
        let fill = |t: &str| t.replace("{x}", of);
        Ok(LayerRequest { name: fill(self.layer), formula: Some(fill(self.formula)) })
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::index::{Names, Program};
    use crate::units::Unit;
    use crate::worked;

    struct Sides;

    impl Names for Sides {
        fn band(&self, name: &str) -> Option<Unit> {
            let (side, band) = name.split_once('.')?;
            (["before", "after"].contains(&side) && ["nir", "swir22"].contains(&band)).then_some(Unit::Reflectance)
        }
        fn wavelength_um(&self, _: &str) -> Option<f64> {
            None
        }
        fn all(&self) -> Vec<String> {
            vec![]
        }
    }

    #[test]
    fn worked_burn_ratios() {
        assert!(MEASURES.is_sorted_by_key(|m| m.id));
        let e = worked::example("dnbr_from_bands");
        let (pre, post) = (e.numbers("pre_nir_swir22"), e.numbers("post_nir_swir22"));
        for id in ["dnbr", "rdnbr", "rbr"] {
            let request = find_measure(id).unwrap().request("nbr").unwrap();
            let program = Program::compile(request.formula.as_deref().unwrap(), &Sides).unwrap();
            let value = |n: &String| match n.as_str() {
                "before.nir" => pre[0],
                "before.swir22" => pre[1],
                "after.nir" => post[0],
                _ => post[1],
            };
            e.check_one(program.at(&program.inputs().iter().map(value).collect::<Vec<_>>()), e.expected(id));
        }
        assert!(find_measure("rbr").unwrap().request("ndvi").is_err());
        assert_eq!(find_measure("ratio").unwrap().request("ndvi").unwrap().name, "ndvi_ratio");
    }
}
