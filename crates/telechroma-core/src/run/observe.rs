//! What a run tells while it goes on, and how it is stopped.

/// Something found that does not stop the run. `--strict` turns notes into a failure at the edge.
#[derive(Debug, Clone, PartialEq)]
#[non_exhaustive]
pub enum Note {
    /// The sun stood low: reflectance is uncertain.
    LowSun {
        /// Scene.
        scene: String,
        /// Degrees.
        elevation: f64,
    },
    /// Plots that lie wholly off the scenes; their rows are kept.
    PlotsOutside(Vec<String>),
    /// Plots so narrow that edge cells dominate them.
    PlotsNarrow(Vec<String>),
    /// Something about plots.
    Plots(String),
    /// The same scene was given twice and counted once.
    SceneTwice(String),
    /// A delivery's metadata lack what only a check needs.
    Metadata(String),
    /// Something about a layer or a period.
    Layer(String),
    /// Something about grids and coordinate systems.
    Coordinates(String),
    /// Part of the work that the plan does in a costlier way.
    Costly(String),
}

impl std::fmt::Display for Note {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        match self {
            Note::Metadata(t) | Note::Plots(t) | Note::Layer(t) | Note::Coordinates(t) | Note::Costly(t) => {
                f.write_str(t)
            }
            Note::LowSun { scene, elevation } => {
                write!(f, "{scene}: the sun stood only {elevation:.1}° high; reflectance is uncertain below 15°")
            }
            Note::PlotsOutside(ids) => {
                write!(f, "outside the scenes, with rows that are all missing: {}", listed(ids))
            }
            Note::PlotsNarrow(ids) => {
                write!(f, "narrower than two cells, so that values mix with the neighbours': {}", listed(ids))
            }
            Note::SceneTwice(id) => write!(f, "scene {id} was given twice; it is counted once"),
        }
    }
}

/// How many names a note lists.
const LISTED: usize = 8;

/// Plots, the first few by name.
pub fn listed(ids: &[String]) -> String {
    let names = ids[..ids.len().min(LISTED)].join(", ");
    match ids.len() {
        1 => format!("plot {names}"),
        n if n <= LISTED => format!("{n} plots ({names})"),
        n => format!("{n} plots ({names} …)"),
    }
}

/// Listens to a run.
pub trait Observer: Sync {
    /// A stage begins, with its number of tiles.
    fn stage(&self, name: &str, tiles: usize);
    /// So many tiles are merged.
    fn tile_done(&self, done: usize, total: usize);
    /// Something to know.
    fn note(&self, note: Note);
    /// True once the run should stop.
    fn cancelled(&self) -> bool;
}

/// Says nothing and never stops.
pub struct Silent;

impl Observer for Silent {
    fn stage(&self, _: &str, _: usize) {}
    fn tile_done(&self, _: usize, _: usize) {}
    fn note(&self, _: Note) {}
    fn cancelled(&self) -> bool {
        false
    }
}
