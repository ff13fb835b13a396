//! Classes of values: breaks, named schemes, an automatic threshold, and the area of each.

mod otsu;
mod scheme;
mod tally;

pub use otsu::{Otsu, otsu};
pub use scheme::{SCHEMES, SchemeDef, find_scheme};
pub use tally::{Areas, Tally, Tallying};

use crate::error::{Error, Result};

/// One class: values from a break up to the next.
#[derive(Debug, Clone, PartialEq)]
pub struct Class {
    /// For people.
    pub name: String,
    /// Its colour, where one was chosen.
    pub colour: Option<[u8; 3]>,
    /// Least value.
    pub from: f64,
    /// Where the next class begins; the last class holds this value too.
    pub to: f64,
}

/// Classes that follow on each other, lowest first.
#[derive(Debug, Clone, PartialEq)]
pub struct Classes {
    list: Vec<Class>,
    /// Values are multiplied by this and rounded, half away from zero, before they are compared: no gap is left between
    /// classes that are published as ranges of whole numbers.
    pub rounded: Option<f64>,
}

/// Most classes: they are numbered in eight bits, of which 0 means none.
pub const MOST_CLASSES: usize = 255;

impl Classes {
    /// Classes between breaks, which must rise; −∞ and ∞ are allowed at the ends.
    ///
    /// # Errors
    /// For fewer than two breaks, breaks that do not rise, too many classes, or a number of names other than that of the
    /// classes.
    pub fn between(breaks: &[f64], names: &[String]) -> Result<Classes> {
        let classes = breaks.len().saturating_sub(1);
        if classes == 0 || classes > MOST_CLASSES {
            return Err(Error::Usage(format!(
                "1 to {MOST_CLASSES} classes need one break more; found {}",
                breaks.len()
            )));
        }
        if let Some(p) = breaks.windows(2).find(|p| p[0] >= p[1] || p[0].is_nan() || p[1].is_nan()) {
            return Err(Error::Usage(format!("breaks must rise, and {} is not below {}", p[0], p[1])));
        }
        if !names.is_empty() && names.len() != classes {
            return Err(Error::Usage(format!("{classes} classes need {classes} names; found {}", names.len())));
        }
        let list = breaks.windows(2).enumerate().map(|(i, p)| Class {
            name: names.get(i).cloned().unwrap_or_else(|| range_name(p[0], p[1])),
            colour: None,
            from: p[0],
            to: p[1],
        });
        Ok(Classes { list: list.collect(), rounded: None })
    }

    /// The classes, lowest first.
    pub fn list(&self) -> &[Class] {
        &self.list
    }

    /// The classes with their limits in the layer's own values, where they are published as whole numbers.
    pub fn in_values(&self) -> Vec<Class> {
        let by = self.rounded.unwrap_or(1.0);
        self.list.iter().map(|c| Class { from: c.from / by, to: c.to / by, ..c.clone() }).collect()
    }

    /// The same with a colour for each.
    ///
    /// # Errors
    /// Where their number is another than that of the classes.
    pub fn coloured(mut self, colours: &[[u8; 3]]) -> Result<Classes> {
        if colours.len() != self.list.len() {
            let n = self.list.len();
            return Err(Error::Usage(format!("{n} classes need {n} colours; found {}", colours.len())));
        }
        self.list.iter_mut().zip(colours).for_each(|(c, colour)| c.colour = Some(*colour));
        Ok(self)
    }

    /// Number of a value's class, from 0; none for missing values and those in no class.
    pub fn of(&self, value: f64) -> Option<usize> {
        let v = self.rounded.map_or(value, |by| (value * by).round());
        let below = self.list.partition_point(|c| c.from <= v); // NaN: none
        let class = below.checked_sub(1)?;
        let last = class + 1 == self.list.len();
        (v < self.list[class].to || (last && v == self.list[class].to)).then_some(class)
    }
}

/// A range in words.
fn range_name(from: f64, to: f64) -> String {
    let n = |v: f64| format!("{}", (v * 1e4).round() / 1e4);
    match (from == f64::NEG_INFINITY, to == f64::INFINITY) {
        (true, true) => "all".into(),
        (true, false) => format!("below {}", n(to)),
        (false, true) => format!("{} and above", n(from)),
        (false, false) => format!("{} to {}", n(from), n(to)),
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::worked;

    #[test]
    fn worked_breaks_and_severity() {
        let e = worked::example("classes_by_breaks");
        let classes = Classes::between(&e.numbers("breaks"), &[]).unwrap();
        let got: Vec<f64> = e.numbers("values").iter().map(|v| classes.of(*v).map_or(-1.0, |c| c as f64)).collect();
        let want: Vec<f64> =
            e.value("/expected/class_index").as_array().unwrap().iter().map(|v| v.as_f64().unwrap()).collect();
        assert_eq!(got, want);
        let e = worked::example("dnbr_classes");
        let scheme = find_scheme("burn_severity").unwrap().classes();
        for (v, want) in e.numbers("dnbr").iter().zip(e.value("/expected").as_array().unwrap()) {
            let name = scheme.of(*v).map_or("outside", |c| scheme.list()[c].name.as_str());
            let want = want.as_str().unwrap();
            assert!(name == want || name == format!("{want} severity"), "{v}: {name}, not {want}");
        }
    }

    #[test]
    fn breaks_must_rise_and_names_must_fit() {
        let said = |b: &[f64]| Classes::between(b, &[]).unwrap_err().to_string();
        assert_eq!(said(&[0.0, 0.0]), "breaks must rise, and 0 is not below 0");
        assert!(said(&[1.0]).contains("found 1"));
        let open = Classes::between(&[f64::NEG_INFINITY, 0.2, f64::INFINITY], &[]).unwrap();
        assert_eq!((open.of(-1e9), open.of(0.2), open.of(f64::NAN)), (Some(0), Some(1), None));
        assert_eq!(open.list()[1].name, "0.2 and above");
        assert!(Classes::between(&[0.0, 1.0], &["a".into(), "b".into()]).is_err());
    }
}
