//! Quantities with their unit in the type, and the unit a plane of cells carries.
//!
//! Public signatures take these, never bare floats; row kernels use bare floats with a suffix.

use std::fmt;
use std::str::FromStr;

use serde::{Deserialize, Serialize};

/// A length on the ground.
#[derive(Debug, Clone, Copy, PartialEq, PartialOrd)]
pub struct Metres(pub f64);

/// An angle in degrees, as metadata state it; radians inside formulas.
#[derive(Debug, Clone, Copy, PartialEq, PartialOrd)]
pub struct Degrees(pub f64);

/// A wavelength.
#[derive(Debug, Clone, Copy, PartialEq, PartialOrd, Serialize, Deserialize)]
pub struct Nanometres(pub f64);

impl Degrees {
    /// The angle in radians.
    pub fn radians(self) -> f64 {
        self.0.to_radians()
    }
}

/// Why a text is not a length.
#[derive(Debug, Clone, PartialEq, thiserror::Error)]
pub enum LengthError {
    /// A number without a unit.
    #[error("'{0}' has no unit: write {0}m or {0}km")]
    NoUnit(String),
    /// Not a number, or another unit.
    #[error("'{0}' is not a length: write for example 60m or 1.5km")]
    Malformed(String),
    /// Below zero or not finite.
    #[error("'{0}' is not a usable length: it must be zero or more")]
    Range(String),
}

impl FromStr for Metres {
    type Err = LengthError;

    fn from_str(text: &str) -> Result<Self, LengthError> {
        let t = text.trim();
        let (number, factor) = match t.strip_suffix("km") {
            Some(n) => (n, 1000.0),
            None => match t.strip_suffix('m') {
                Some(n) => (n, 1.0),
                None if t.parse::<f64>().is_ok() => return Err(LengthError::NoUnit(t.into())),
                None => return Err(LengthError::Malformed(t.into())),
            },
        };
        let value: f64 = number.trim().parse().map_err(|_| LengthError::Malformed(t.into()))?;
        if !value.is_finite() || value < 0.0 {
            return Err(LengthError::Range(t.into()));
        }
        Ok(Metres(value * factor))
    }
}

impl fmt::Display for Metres {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "{}m", self.0)
    }
}

/// What the numbers of a plane mean. An index over raw counts is refused by this, when the graph is built.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
pub enum Unit {
    /// Raw sensor counts.
    Counts,
    /// Reflectance, 0 to 1 (values slightly outside are real).
    Reflectance,
    /// Spectral radiance, W m⁻² sr⁻¹ µm⁻¹.
    Radiance,
    /// Temperature in kelvin.
    Kelvin,
    /// Temperature in degrees Celsius.
    Celsius,
    /// Temperature in degrees Fahrenheit.
    Fahrenheit,
    /// A number without unit, such as an index.
    One,
    /// A count of clear looks.
    Looks,
    /// A wavelength, nm.
    Nanometres,
    /// Angles, degrees.
    Degree,
    /// Days since 1970-01-01 (UTC).
    Day,
    /// Flag bits.
    Flags,
    /// Not stated by the file.
    Unknown,
}

/// Every unit with the label it is written and read by.
const LABELS: &[(Unit, &str)] = &[
    (Unit::Counts, "counts"),
    (Unit::Reflectance, "reflectance"),
    (Unit::Radiance, "W m-2 sr-1 um-1"),
    (Unit::Kelvin, "K"),
    (Unit::Celsius, "degC"),
    (Unit::Fahrenheit, "degF"),
    (Unit::One, "1"),
    (Unit::Looks, "looks"),
    (Unit::Nanometres, "nm"),
    (Unit::Degree, "degrees"),
    (Unit::Day, "days since 1970-01-01"),
    (Unit::Flags, "flags"),
    (Unit::Unknown, "unknown"),
];

impl Unit {
    /// The label used in file metadata; [`Unit::from_label`] reads it back.
    pub fn label(self) -> &'static str {
        LABELS.iter().find(|(u, _)| *u == self).map_or("unknown", |(_, l)| l)
    }

    /// The unit of a label, [`Unit::Unknown`] where it is none of ours.
    pub fn from_label(label: &str) -> Unit {
        LABELS.iter().find(|(_, l)| *l == label).map_or(Unit::Unknown, |(u, _)| *u)
    }

    /// The sign shown to people after a number; empty for numbers without unit.
    pub fn sign(self) -> &'static str {
        match self {
            Unit::Counts => "counts",
            Unit::Radiance => "W m⁻² sr⁻¹ µm⁻¹",
            Unit::Kelvin => "K",
            Unit::Celsius => "°C",
            Unit::Fahrenheit => "°F",
            Unit::Looks => "looks",
            Unit::Nanometres => "nm",
            Unit::Degree => "°",
            Unit::Day => "days since 1970-01-01",
            Unit::Reflectance | Unit::One | Unit::Flags | Unit::Unknown => "",
        }
    }
}

/// The unit temperatures are given in at the edge; inside everything is kelvin.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub enum TemperatureUnit {
    /// Kelvin.
    #[default]
    K,
    /// Degrees Celsius.
    C,
    /// Degrees Fahrenheit.
    F,
}

impl TemperatureUnit {
    /// Factor and offset from kelvin: `value = kelvin * factor + offset`.
    pub fn from_kelvin(self) -> (f64, f64) {
        match self {
            TemperatureUnit::K => (1.0, 0.0),
            TemperatureUnit::C => (1.0, -273.15),
            TemperatureUnit::F => (1.8, 32.0 - 1.8 * 273.15),
        }
    }

    /// The unit a plane carries after the conversion.
    pub fn unit(self) -> Unit {
        match self {
            TemperatureUnit::K => Unit::Kelvin,
            TemperatureUnit::C => Unit::Celsius,
            TemperatureUnit::F => Unit::Fahrenheit,
        }
    }
}

impl FromStr for TemperatureUnit {
    type Err = String;

    fn from_str(text: &str) -> Result<Self, String> {
        match text {
            "K" => Ok(TemperatureUnit::K),
            "C" => Ok(TemperatureUnit::C),
            "F" => Ok(TemperatureUnit::F),
            _ => Err(format!("'{text}' is not a temperature unit: write K, C or F")),
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn lengths_need_a_unit() {
        assert_eq!("60m".parse(), Ok(Metres(60.0)));
        assert_eq!("1.5km".parse(), Ok(Metres(1500.0)));
        assert_eq!("60".parse::<Metres>(), Err(LengthError::NoUnit("60".into())));
        assert!(matches!("60ft".parse::<Metres>(), Err(LengthError::Malformed(_))));
        assert!(matches!("-3m".parse::<Metres>(), Err(LengthError::Range(_))));
        assert!(matches!("NaNm".parse::<Metres>(), Err(LengthError::Range(_))));
    }

    #[test]
    fn every_unit_reads_its_own_label() {
        for (unit, label) in LABELS {
            assert_eq!(Unit::from_label(label), *unit);
            assert_eq!(unit.label(), *label);
        }
    }

    #[test]
    fn kelvin_to_the_edge_and_spread_by_the_factor_only() {
        // worked_examples "temperature_units": 273.15 K and 300 K, sd 2.5 K.
        let (f, o) = TemperatureUnit::F.from_kelvin();
        assert!((300.0 * f + o - 80.33).abs() < 1e-9);
        assert!((2.5 * f - 4.5).abs() < 1e-12);
        let (f, o) = TemperatureUnit::C.from_kelvin();
        assert!((300.0 * f + o - 26.85).abs() < 1e-9);
    }
}
