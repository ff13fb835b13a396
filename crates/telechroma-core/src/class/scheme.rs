//! Named classes of the trade, one row each.

use super::{Class, Classes};
use crate::error::{Error, Result};

/// A scheme.
#[derive(Debug)]
pub struct SchemeDef {
    /// The name it is asked for by.
    pub id: &'static str,
    /// In words.
    pub name: &'static str,
    /// The layer it is made for.
    pub of: &'static str,
    /// Author and year.
    pub source: &'static str,
    /// Values are multiplied by this and rounded first; 0: they are taken as they are.
    pub rounded: f64,
    /// Name, colour and lowest value of each class, lowest first.
    pub classes: &'static [(&'static str, u32, f64)],
    /// The end of the last class, which holds it too.
    pub end: f64,
}

/// Rows sorted by id.
pub const SCHEMES: &[SchemeDef] = &[
    SchemeDef {
        id: "burn_severity",
        name: "burn severity from dNBR, an initial assessment",
        of: "dnbr",
        source: "Key & Benson 2006; severity needs field data",
        rounded: 1000.0,
        classes: &[
            ("enhanced regrowth, high", 0x2C6E49, -500.0),
            ("enhanced regrowth, low", 0x8DB580, -250.0),
            ("unburned", 0xEDE3B4, -100.0),
            ("low severity", 0xE9C46A, 100.0),
            ("moderate-low severity", 0xE08E45, 270.0),
            ("moderate-high severity", 0xB8433F, 440.0),
            ("high severity", 0x5C1A33, 660.0),
        ],
        end: 1300.0,
    },
    SchemeDef {
        id: "open_water",
        name: "open water from NDWI",
        of: "ndwi",
        source: "McFeeters 1996: water above 0",
        rounded: 0.0,
        classes: &[("not water", 0xD9D2C0, f64::NEG_INFINITY), ("water", 0x2F6690, 0.0)],
        end: f64::INFINITY,
    },
    SchemeDef {
        id: "snow",
        name: "snow from NDSI",
        of: "ndsi",
        source: "Hall et al. 1995: snow above 0.4 (where nir is above 0.11)",
        rounded: 0.0,
        classes: &[("not snow", 0xB5A993, f64::NEG_INFINITY), ("snow", 0x9CC5E0, 0.4)],
        end: f64::INFINITY,
    },
];

/// The row of a scheme.
///
/// # Errors
/// [`Error::UnknownName`] with the nearest name.
pub fn find_scheme(id: &str) -> Result<&'static SchemeDef> {
    SCHEMES.iter().find(|s| s.id == id).ok_or_else(|| Error::unknown("class scheme", id, SCHEMES.iter().map(|s| s.id)))
}

impl SchemeDef {
    /// Its classes.
    pub fn classes(&self) -> Classes {
        let ends = self.classes.iter().skip(1).map(|c| c.2).chain([self.end]);
        let list = self.classes.iter().zip(ends).map(|((name, hex, from), to)| Class {
            name: (*name).into(),
            colour: Some([(hex >> 16) as u8, (hex >> 8) as u8, *hex as u8]),
            from: *from,
            to,
        });
        Classes { list: list.collect(), rounded: (self.rounded != 0.0).then_some(self.rounded) }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn rows_are_sorted_and_their_classes_follow_on_each_other() {
        assert!(SCHEMES.is_sorted_by_key(|s| s.id));
        for s in SCHEMES {
            let classes = s.classes();
            assert!(classes.list().iter().all(|c| c.from < c.to), "{}", s.id);
            assert!(classes.list().windows(2).all(|p| p[0].to == p[1].from && p[0].name != p[1].name), "{}", s.id);
            assert!(!s.source.is_empty());
        }
        assert!(find_scheme("burn").unwrap_err().to_string().contains("burn_severity"));
    }
}
