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
    /// A plot lies wholly off the scenes; its row is kept.
    PlotOutside(String),
    /// A plot's outline crosses itself.
    PlotCrosses(String),
    /// A plot is so narrow that edge cells dominate it.
    PlotNarrow(String),
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
            Note::Metadata(t) | Note::Layer(t) | Note::Coordinates(t) | Note::Costly(t) => f.write_str(t),
            Note::LowSun { scene, elevation } => {
                write!(f, "{scene}: the sun stood only {elevation:.1}° high; reflectance is uncertain below 15°")
            }
            Note::PlotOutside(id) => write!(f, "plot {id} lies outside the scenes; its row is kept, all missing"),
            Note::PlotCrosses(id) => {
                write!(f, "the outline of plot {id} crosses itself; each enclosed part was counted once")
            }
            Note::PlotNarrow(id) => {
                write!(f, "plot {id} is narrower than two cells: its values mix with its neighbours'")
            }
            Note::SceneTwice(id) => write!(f, "scene {id} was given twice; it is counted once"),
        }
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
