//! Why a cell is dropped: our own reasons, into which every delivery's flags are translated, and the tests that find
//! clouds, shadows and outliers where no flag tells of them.

mod bitmap;
mod cloud;
mod object;
mod series;
mod shadow;
mod validation;

pub use bitmap::Bitmap;
pub use cloud::{CIRRUS, Look, LookRows, Measures, SceneLevels};
pub use object::{Object, objects};
pub use series::{LEAST_LOOKS, highest, is_blue_jump, robust};
pub use shadow::{DARKER, HEIGHTS, LEAST_MATCH, fill_holes, height_step, heights, offset};
pub use validation::Agreement;

use crate::error::{Error, Result};

/// A set of reasons; the empty set is a clear cell.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default, Hash)]
pub struct Reasons(u16);

/// A reason with its name, its meaning, and whether it grows.
pub struct ReasonDef {
    /// Name on the command line and in files.
    pub name: &'static str,
    /// The bit.
    pub reason: Reasons,
    /// For people.
    pub doc: &'static str,
    /// Dropped if nothing else is said.
    pub default: bool,
    /// Widened by `grow`.
    pub grows: bool,
}

macro_rules! reason {
    ($bit:expr) => {
        Reasons(1 << $bit)
    };
}

impl Reasons {
    /// No data.
    pub const FILL: Reasons = reason!(0);
    /// The delivery's own margin round clouds.
    pub const DILATED: Reasons = reason!(1);
    /// Thin high cloud.
    pub const CIRRUS: Reasons = reason!(2);
    /// Cloud.
    pub const CLOUD: Reasons = reason!(3);
    /// Cloud shadow.
    pub const SHADOW: Reasons = reason!(4);
    /// Snow or ice.
    pub const SNOW: Reasons = reason!(5);
    /// Open water.
    pub const WATER: Reasons = reason!(6);
    /// A saturated detector in some band.
    pub const SATURATED: Reasons = reason!(7);
    /// Far above its own series.
    pub const OUTLIER: Reasons = reason!(8);
    /// In the user's polygons or raster, or by the user's condition.
    pub const GIVEN: Reasons = reason!(9);
    /// Reached by growing one of the others.
    pub const GROWN: Reasons = reason!(15);
    /// Reasons that are there only if they were asked for: always dropped, never named.
    pub const ASKED: Reasons = Reasons::OUTLIER.and(Reasons::GIVEN);

    /// The bits.
    pub const fn bits(self) -> u16 {
        self.0
    }

    /// The set of some bits.
    pub const fn from_bits(bits: u16) -> Reasons {
        Reasons(bits)
    }

    /// Both.
    pub const fn and(self, other: Reasons) -> Reasons {
        Reasons(self.0 | other.0)
    }

    /// True where all of `other` are in this set.
    pub const fn has(self, other: Reasons) -> bool {
        self.0 & other.0 == other.0
    }

    /// The reasons dropped if nothing else is said.
    pub fn default_drop() -> Reasons {
        REASONS.iter().filter(|d| d.default).fold(Reasons(0), |s, d| s.and(d.reason))
    }

    /// Those of this set that grow.
    pub fn growing(self) -> Reasons {
        REASONS.iter().filter(|d| d.grows && self.has(d.reason)).fold(Reasons(0), |s, d| s.and(d.reason))
    }

    /// A set from names.
    ///
    /// # Errors
    /// [`Error::UnknownName`] for a name that is no reason.
    pub fn from_names<S: AsRef<str>>(names: &[S]) -> Result<Reasons> {
        names.iter().try_fold(Reasons(0), |set, name| {
            let name = name.as_ref().trim();
            let known = REASONS.iter().filter(|d| !Reasons::GROWN.and(Reasons::ASKED).has(d.reason));
            match known.clone().find(|d| d.name == name) {
                Some(d) => Ok(set.and(d.reason)),
                None => Err(Error::unknown("reason to drop", name, known.map(|d| d.name))),
            }
        })
    }

    /// The names in the set, in bit order.
    pub fn names(self) -> Vec<&'static str> {
        REASONS.iter().filter(|d| self.has(d.reason)).map(|d| d.name).collect()
    }
}

/// Every reason, in bit order.
pub const REASONS: &[ReasonDef] = &[
    ReasonDef { name: "fill", reason: Reasons::FILL, doc: "no data", default: true, grows: false },
    ReasonDef {
        name: "dilated",
        reason: Reasons::DILATED,
        doc: "the delivery's margin round clouds",
        default: true,
        grows: true,
    },
    ReasonDef { name: "cirrus", reason: Reasons::CIRRUS, doc: "thin high cloud", default: true, grows: true },
    ReasonDef { name: "cloud", reason: Reasons::CLOUD, doc: "cloud", default: true, grows: true },
    ReasonDef { name: "shadow", reason: Reasons::SHADOW, doc: "cloud shadow", default: true, grows: true },
    ReasonDef { name: "snow", reason: Reasons::SNOW, doc: "snow or ice", default: false, grows: false },
    ReasonDef { name: "water", reason: Reasons::WATER, doc: "open water", default: false, grows: false },
    ReasonDef { name: "saturated", reason: Reasons::SATURATED, doc: "a saturated band", default: false, grows: false },
    ReasonDef {
        name: "outlier",
        reason: Reasons::OUTLIER,
        doc: "far above its own series",
        default: false,
        grows: false,
    },
    ReasonDef {
        name: "given",
        reason: Reasons::GIVEN,
        doc: "in the user's polygons or raster, or by the user's condition",
        default: false,
        grows: false,
    },
    ReasonDef {
        name: "grown",
        reason: Reasons::GROWN,
        doc: "within the growth radius of one of the above",
        default: false,
        grows: false,
    },
];

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn names_and_bits_agree_and_snow_and_water_are_kept_unasked() {
        for d in REASONS.iter().take(8) {
            assert_eq!(Reasons::from_names(&[d.name]).unwrap(), d.reason);
            assert_eq!(d.reason.names(), [d.name]);
        }
        assert_eq!(Reasons::default_drop().bits(), 0x1F);
        assert!(!Reasons::default_drop().growing().has(Reasons::FILL));
        assert!(Reasons::from_names(&["given"]).is_err());
        assert!(Reasons::from_names(&["clod"]).unwrap_err().to_string().contains("did you mean 'cloud'"));
    }
}
