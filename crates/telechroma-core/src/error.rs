//! The one public error of the core, by whose fault it is, with the facts as fields.
//!
//! No flag of the command line is named here: hints are added at the edge.

use std::sync::Arc;

/// What went wrong in planning or computing.
#[derive(Debug, thiserror::Error)]
#[non_exhaustive]
pub enum Error {
    /// A name that is in no catalogue or no input.
    #[error("unknown {kind} '{name}'{}; {}", nearest_text(.nearest), known_text(.kind, .known))]
    UnknownName {
        /// What kind of name was looked up: "index", "band", "statistic" …
        kind: &'static str,
        /// As given.
        name: String,
        /// The nearest known name, if any is near.
        nearest: Option<String>,
        /// What there is.
        known: Vec<String>,
    },
    /// A formula that cannot be read.
    #[error("{message}\n  {formula}\n  {:>width$}", "^", width = char_column(.formula, *.at))]
    Formula {
        /// The formula as given.
        formula: String,
        /// Byte offset of the trouble.
        at: usize,
        /// What is wrong, what was expected.
        message: String,
    },
    /// Two planes that should lie on one grid do not.
    #[error("{first} and {second} do not share a grid: {difference}")]
    GridMismatch {
        /// The one.
        first: String,
        /// The other.
        second: String,
        /// In what they differ, in metres and words.
        difference: String,
    },
    /// A unit that makes no sense here.
    #[error("{what} is in {found}, but {wants} is needed")]
    UnitMismatch {
        /// Which plane.
        what: String,
        /// Its unit.
        found: String,
        /// The unit needed.
        wants: String,
    },
    /// A scene without flags, and nothing is looked for in its cells.
    #[error("scene {scene} has no mask: nothing says which of its cells are cloud")]
    Unmasked {
        /// Which scene.
        scene: String,
    },
    /// Reflectance of a scene taken at night.
    #[error("scene {scene}: the sun stood {elevation}° above the horizon, so reflectance is undefined")]
    NightScene {
        /// Which scene.
        scene: String,
        /// Degrees; zero or negative.
        elevation: f64,
    },
    /// A band that the input lacks.
    #[error("{scene} has no band '{role}'{for_what}; it has {}", .have.join(", "))]
    MissingBand {
        /// Scene or raster.
        scene: String,
        /// The band asked for.
        role: String,
        /// " (needed by lst)" or empty.
        for_what: String,
        /// The bands there are.
        have: Vec<String>,
    },
    /// A number that only the user can know.
    #[error("{layer} needs {what} ({name}), for which there is no sound default")]
    NotGiven {
        /// The layer asked for.
        layer: String,
        /// Name of the number.
        name: String,
        /// In words, with its unit.
        what: String,
    },
    /// The metadata lack what a calibration needs.
    #[error("{scene}: the metadata have no {key}, which calibrating band '{role}' to {target} needs")]
    MissingCalibration {
        /// Which scene.
        scene: String,
        /// Which band.
        role: String,
        /// The calibration target.
        target: String,
        /// The metadata key.
        key: String,
    },
    /// The plan does not fit the memory allowed.
    #[error("this needs {needed} of memory at least, {allowed} are allowed", needed = bytes_text(*.needed), allowed = bytes_text(*.allowed))]
    OverBudget {
        /// Bytes the smallest plan needs.
        needed: u64,
        /// Bytes allowed.
        allowed: u64,
    },
    /// A request that contradicts itself or the inputs.
    #[error("{0}")]
    Usage(String),
    /// Coordinates or a coordinate system that cannot be used.
    #[error("{0}")]
    Coordinates(String),
    /// Reading a source or feeding a sink failed; the cause carries the place.
    #[error(transparent)]
    Outside(Arc<dyn std::error::Error + Send + Sync>),
    /// The caller asked to stop.
    #[error("interrupted")]
    Cancelled,
    /// A worker thread panicked: a defect of the program, not of the data.
    #[error("internal error while computing tile {tile}: {text}")]
    Defect {
        /// Number of the tile in the plan's order.
        tile: usize,
        /// What the panic said.
        text: String,
    },
}

/// The core's result.
pub type Result<T> = std::result::Result<T, Error>;

impl Error {
    /// Wraps an error of a source or sink.
    pub fn outside(e: impl std::error::Error + Send + Sync + 'static) -> Error {
        Error::Outside(Arc::new(e))
    }

    /// An unknown name with the nearest known one.
    pub fn unknown<S: AsRef<str>>(kind: &'static str, name: &str, known: impl IntoIterator<Item = S>) -> Error {
        let known: Vec<String> = known.into_iter().map(|s| s.as_ref().to_string()).collect();
        Error::UnknownName { kind, name: name.into(), nearest: nearest(name, &known), known }
    }
}

/// The known name most like `name`, if one is near enough to be a slip.
pub fn nearest<S: AsRef<str>>(name: &str, known: &[S]) -> Option<String> {
    let name = name.to_lowercase();
    let slips = 1.max(name.chars().count() / 3);
    known
        .iter()
        .map(|k| (strsim::osa_distance(&name, &k.as_ref().to_lowercase()), k.as_ref()))
        .filter(|(distance, _)| *distance <= slips)
        .min_by_key(|(distance, _)| *distance)
        .map(|(_, k)| k.to_string())
}

fn nearest_text(nearest: &Option<String>) -> String {
    nearest.as_ref().map_or(String::new(), |n| format!(": did you mean '{n}'?"))
}

fn known_text(kind: &str, known: &[String]) -> String {
    match known.len() {
        0 => format!("there is no {kind} here"),
        _ => format!("known: {}", known.join(", ")),
    }
}

fn char_column(text: &str, at: usize) -> usize {
    text.char_indices().take_while(|(i, _)| *i < at).count() + 1
}

/// Bytes for people: MB and GB of 10⁶ and 10⁹ bytes.
pub fn bytes_text(n: u64) -> String {
    match n {
        0..1_000_000 => format!("{} kB", n.div_ceil(1000)),
        1_000_000..10_000_000_000 => format!("{} MB", n.div_ceil(1_000_000)),
        _ => format!("{:.1} GB", n as f64 / 1e9),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_caret_stands_under_the_character_even_after_wide_text() {
        let e = Error::Formula { formula: "µ + ?".into(), at: "µ + ".len(), message: "unexpected '?'".into() };
        assert_eq!(e.to_string(), "unexpected '?'\n  µ + ?\n      ^");
    }

    #[test]
    fn near_names_are_suggested_and_far_ones_are_not() {
        let e = Error::unknown("band", "nri", ["red", "nir"]).to_string();
        assert_eq!(e, "unknown band 'nri': did you mean 'nir'?; known: red, nir");
        assert_eq!(nearest("zzzzz", &["red", "nir"]), None);
    }
}
