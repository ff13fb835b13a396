//! Plots: polygons, the share of each cell that lies inside, and the sink that gathers their statistics.

mod coverage;
mod sink;

pub use coverage::{Coverage, Run, Weighting, cover};
pub use sink::{PlotRow, PlotSink, PlotTable};

/// A ring of positions; the last may repeat the first.
pub type Ring = Vec<(f64, f64)>;

/// An outer ring and holes.
#[derive(Debug, Clone, PartialEq, Default)]
pub struct Polygon {
    /// The outline.
    pub outer: Ring,
    /// What is cut out.
    pub holes: Vec<Ring>,
}

/// A polygon or several, with an id that is unique among its plots.
#[derive(Debug, Clone, PartialEq)]
pub struct Plot {
    /// The id.
    pub id: String,
    /// Its parts, in the coordinates of the run's grid.
    pub parts: Vec<Polygon>,
}

impl Plot {
    /// The same with every position changed.
    ///
    /// # Errors
    /// The first error of `f`.
    pub fn map<E>(&self, mut f: impl FnMut(f64, f64) -> Result<(f64, f64), E>) -> Result<Plot, E> {
        let mut ring = |r: &Ring| r.iter().map(|p| f(p.0, p.1)).collect::<Result<Ring, E>>();
        let mut parts = vec![];
        for p in &self.parts {
            let outer = ring(&p.outer)?;
            let holes = p.holes.iter().map(&mut ring).collect::<Result<Vec<_>, E>>()?;
            parts.push(Polygon { outer, holes });
        }
        Ok(Plot { id: self.id.clone(), parts })
    }
}
