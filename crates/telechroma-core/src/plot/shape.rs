//! Where a plot is.

use super::{Polygon, Ring, densify};

/// Polygons, lines or points; the parts of a plot are one.
#[derive(Debug, Clone, PartialEq)]
pub enum Shape {
    /// Polygons that do not overlap.
    Polygons(Vec<Polygon>),
    /// Lines, which are no plots but directions to lay some along.
    Lines(Vec<Vec<(f64, f64)>>),
    /// Positions.
    Points(Vec<(f64, f64)>),
    /// Nothing.
    Nothing,
    /// Shapes of several kinds in one.
    Mixture,
}

impl Shape {
    /// The polygons; none of any other shape.
    pub fn polygons(&self) -> &[Polygon] {
        match self {
            Shape::Polygons(all) => all,
            Shape::Lines(_) | Shape::Points(_) | Shape::Nothing | Shape::Mixture => &[],
        }
    }

    /// The outlines and holes of the polygons.
    pub fn rings(&self) -> impl Iterator<Item = &Ring> {
        self.polygons().iter().flat_map(|p| std::iter::once(&p.outer).chain(&p.holes))
    }

    /// The lines; none of any other shape.
    pub fn lines(&self) -> &[Vec<(f64, f64)>] {
        if let Shape::Lines(all) = self { all } else { &[] }
    }

    /// What it is, in words, where it is no plot.
    pub fn no_plot(&self) -> Option<&'static str> {
        match self {
            Shape::Polygons(_) | Shape::Points(_) => None,
            Shape::Lines(_) => Some("a line"),
            Shape::Nothing => Some("without a shape"),
            Shape::Mixture => Some("a mixture of shapes"),
        }
    }

    /// All positions.
    pub fn positions(&self) -> impl Iterator<Item = (f64, f64)> + '_ {
        let points: &[(f64, f64)] = if let Shape::Points(p) = self { p } else { &[] };
        self.rings().chain(self.lines()).flatten().chain(points).copied()
    }

    /// Least and greatest coordinates: west, south, east, north; none where there is no position.
    pub fn bounds(&self) -> Option<[f64; 4]> {
        self.positions()
            .map(|(x, y)| [x, y, x, y])
            .reduce(|a, b| [a[0].min(b[0]), a[1].min(b[1]), a[2].max(b[2]), a[3].max(b[3])])
    }

    /// The same with every position changed.
    ///
    /// # Errors
    /// The first error of `f`.
    pub fn map<E>(&self, mut f: impl FnMut(f64, f64) -> Result<(f64, f64), E>) -> Result<Shape, E> {
        Ok(match self {
            Shape::Polygons(all) => Shape::Polygons(all.iter().map(|p| p.map(&mut f)).collect::<Result<_, E>>()?),
            Shape::Points(all) => Shape::Points(all.iter().map(|p| f(p.0, p.1)).collect::<Result<_, E>>()?),
            Shape::Lines(all) => {
                Shape::Lines(all.iter().map(|l| l.iter().map(|p| f(p.0, p.1)).collect()).collect::<Result<_, E>>()?)
            }
            Shape::Nothing => Shape::Nothing,
            Shape::Mixture => Shape::Mixture,
        })
    }

    /// The same with corners added along its long edges, to be projected.
    pub fn dense(&self, degrees: bool) -> Shape {
        match self {
            Shape::Polygons(all) => Shape::Polygons(all.iter().map(|p| densify(p, degrees)).collect()),
            other => other.clone(),
        }
    }

    /// True where a position lies in one of the polygons, holes out.
    pub fn holds(&self, at: (f64, f64)) -> bool {
        self.polygons().iter().any(|p| p.holds(at))
    }

    /// Area in squares of its coordinates, holes out.
    pub fn area(&self) -> f64 {
        self.polygons().iter().map(Polygon::area).sum()
    }

    /// The middle: of all positions' bounds.
    pub fn middle(&self) -> Option<(f64, f64)> {
        self.bounds().map(|b| ((b[0] + b[2]) / 2.0, (b[1] + b[3]) / 2.0))
    }
}

impl Polygon {
    /// True where a position lies inside, holes out.
    pub fn holds(&self, at: (f64, f64)) -> bool {
        ring_holds(&self.outer, at) && !self.holes.iter().any(|h| ring_holds(h, at))
    }

    /// Area in squares of its coordinates, holes out.
    pub fn area(&self) -> f64 {
        ring_area(&self.outer).abs() - self.holes.iter().map(|h| ring_area(h).abs()).sum::<f64>()
    }
}

/// True where a position lies inside a ring, even-odd.
pub fn ring_holds(ring: &Ring, (x, y): (f64, f64)) -> bool {
    let edges = ring.iter().zip(ring.iter().cycle().skip(1));
    let crossed = edges.filter(|(a, b)| (a.1 > y) != (b.1 > y) && x < (b.0 - a.0) * (y - a.1) / (b.1 - a.1) + a.0);
    crossed.count() % 2 == 1
}

/// Signed area of a ring, positive where it runs counter-clockwise with y upwards.
pub(super) fn ring_area(ring: &Ring) -> f64 {
    // from the first corner: coordinates far from the origin would lose digits
    let Some(&(ox, oy)) = ring.first() else { return 0.0 };
    let edges = ring.iter().zip(ring.iter().cycle().skip(1));
    edges.map(|((ax, ay), (bx, by))| ((ax - ox) * (by - oy) - (bx - ox) * (ay - oy)) / 2.0).sum()
}
