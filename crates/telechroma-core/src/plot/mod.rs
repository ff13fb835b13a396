//! Plots: polygons or points, the share of each cell that lies inside, and the sink that gathers their statistics.

mod coverage;
mod laid;
mod shape;
mod sink;

pub use coverage::{Coverage, Run, Weighting, cover};
pub use laid::{Laid, Lying};
pub use shape::{Shape, ring_holds};
pub use sink::{PlotSink, PlotTable};

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

impl Polygon {
    /// The same with every position changed.
    ///
    /// # Errors
    /// The first error of `f`.
    pub fn map<E>(&self, mut f: impl FnMut(f64, f64) -> Result<(f64, f64), E>) -> Result<Polygon, E> {
        let mut ring = |r: &Ring| r.iter().map(|p| f(p.0, p.1)).collect::<Result<Ring, E>>();
        Ok(Polygon { outer: ring(&self.outer)?, holes: self.holes.iter().map(&mut ring).collect::<Result<_, E>>()? })
    }
}

/// Longest edge that is projected as one piece, in degrees or a hundred thousand times as many metres; the bend of
/// longer ones would be lost.
const LONGEST_EDGE: f64 = 0.01;

/// A polygon with corners added along its long edges, to be projected.
pub fn densify(p: &Polygon, degrees: bool) -> Polygon {
    let longest = if degrees { LONGEST_EDGE } else { LONGEST_EDGE * 1e5 };
    let ring = |r: &Ring| {
        let mut out = vec![];
        for (a, b) in r.iter().zip(r.iter().cycle().skip(1)) {
            let n = ((b.0 - a.0).hypot(b.1 - a.1) / longest).ceil().clamp(1.0, 1000.0) as u32;
            out.extend((0..n).map(|i| {
                let t = f64::from(i) / f64::from(n);
                (a.0 + t * (b.0 - a.0), a.1 + t * (b.1 - a.1))
            }));
        }
        out
    };
    Polygon { outer: ring(&p.outer), holes: p.holes.iter().map(ring).collect() }
}

/// A shape with an id that is unique among its plots.
#[derive(Debug, Clone, PartialEq)]
pub struct Plot {
    /// The id.
    pub id: String,
    /// Where it is, in the coordinates of the run's grid.
    pub shape: Shape,
}
