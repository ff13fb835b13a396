//! Features as a file has them, before their shapes are mended or refused.

use std::path::Path;

use telechroma_core::attribute::Value;
use telechroma_core::feature::{Feature, Features, Field, as_kind, kind_of, mend};
use telechroma_core::geo::Crs;
use telechroma_core::plot::{Polygon, Ring, Shape, ring_holds};

use super::{Read, Source};
use crate::error::{Error, Place, Result};

/// A shape as found; the error in words.
pub(super) type Found = std::result::Result<Drawn, String>;

/// A shape, and whether one of its rings was not closed.
pub(super) struct Drawn {
    pub shape: Shape,
    pub unclosed: bool,
}

impl From<Shape> for Drawn {
    fn from(shape: Shape) -> Drawn {
        Drawn { shape, unclosed: false }
    }
}

/// Features of a file.
pub(super) struct Raw {
    pub crs: Crs,
    pub fields: Vec<Field>,
    pub rows: Vec<(Vec<Value>, Found)>,
}

impl Raw {
    /// Columns typed by their values: for files that state no types.
    pub(super) fn guessed(crs: Crs, names: Vec<String>, mut rows: Vec<(Vec<Value>, Found)>) -> Raw {
        let mut fields = vec![];
        for (i, name) in names.into_iter().enumerate() {
            let kind = kind_of(rows.iter().map(|r| &r.0[i]));
            for row in &mut rows {
                let v = std::mem::replace(&mut row.0[i], Value::Missing);
                row.0[i] = as_kind(v, kind);
            }
            fields.push(Field { name, kind });
        }
        Raw { crs, fields, rows }
    }

    /// Sound shapes, with what was mended; `id` is how features are called in messages, if there is such a column.
    pub(super) fn finish(self, path: &Path, id: Option<&str>) -> Result<Read> {
        let mut features = Features { crs: self.crs, fields: self.fields, rows: vec![] };
        let id = features.id_column(id).ok();
        let mut mended = vec![];
        for (n, (values, found)) in self.rows.into_iter().enumerate() {
            let name = match id.map(|i| values[i].to_string()).filter(|t| !t.is_empty()) {
                Some(text) => format!("feature {} ({text})", n + 1),
                None => format!("feature {}", n + 1),
            };
            let refused = |what: String| Error::malformed(Place::part(path.display().to_string(), name.clone()), what);
            let Drawn { shape, unclosed } = found.map_err(refused)?;
            let (shape, what) = mend(shape).map_err(refused)?;
            match (what, unclosed) {
                (Some(what), _) => mended.push(format!("{name}: its shape was mended ({what})")),
                (None, true) => mended.push(format!("{name}: its outline was not closed; it was")),
                (None, false) => {}
            }
            features.rows.push(Feature { values, shape });
        }
        Ok(Read { features, mended })
    }
}

/// The coordinate system: what the file states, or else what the user says.
pub(super) fn stated(source: &Source, own: Option<Crs>, lacks: &str) -> Result<Crs> {
    match (own, source.crs) {
        (Some(own), Some(said)) if own != said => Err(Error::usage(
            Place::file(&source.path),
            format!("states its coordinate system, {own}; {said} was given"),
        )),
        (Some(own), _) => Ok(own),
        (None, Some(said)) => Ok(said),
        (None, None) => {
            Err(Error::usage(Place::file(&source.path), format!("{lacks}: its coordinate system is not known")))
        }
    }
}

/// A ring without its closing position, and whether it had one.
///
/// # Errors
/// In words, where it is no ring.
pub(super) fn ring(positions: impl Iterator<Item = (f64, f64)>) -> std::result::Result<(Ring, bool), String> {
    let mut out: Ring = vec![];
    for (x, y) in positions {
        if !(x.is_finite() && y.is_finite()) {
            return Err("has a position that is not two numbers".into());
        }
        out.push((x, y));
    }
    let closed = out.len() > 1 && out.first() == out.last();
    if closed {
        out.pop();
    }
    if out.len() < 3 { Err("has a ring of fewer than three corners".into()) } else { Ok((out, closed)) }
}

/// Points that are numbers.
pub(super) fn points(all: Vec<(f64, f64)>) -> Found {
    sound(Shape::Points(all))
}

/// Lines whose positions are numbers.
pub(super) fn lines(all: Vec<Vec<(f64, f64)>>) -> Found {
    sound(Shape::Lines(all))
}

fn sound(shape: Shape) -> Found {
    let numbers = shape.positions().all(|(x, y)| x.is_finite() && y.is_finite());
    if numbers { Ok(shape.into()) } else { Err("has a position that is not two numbers".into()) }
}

/// Polygons from rings without regard to the way they run: what lies inside an outline is its hole, what lies inside a
/// hole is an outline again.
pub(super) fn nested(rings: Vec<Ring>) -> Vec<Polygon> {
    let area = |r: &Ring| Polygon { outer: r.clone(), holes: vec![] }.area();
    let mut sized: Vec<(f64, Ring)> = rings.into_iter().map(|r| (area(&r), r)).collect();
    // each comes after all that may hold it; equal ones stay in the file's order
    let mut order: Vec<usize> = (0..sized.len()).collect();
    order.sort_by(|a, b| sized[*b].0.total_cmp(&sized[*a].0));
    let mut parents: Vec<Vec<usize>> = vec![vec![]; sized.len()];
    for (n, i) in order.iter().enumerate() {
        parents[*i] = order[..n].iter().copied().filter(|j| holds(&sized[*j].1, &sized[*i].1)).collect();
    }
    let mut out: Vec<Polygon> = vec![];
    let mut place = vec![usize::MAX; sized.len()];
    for (i, above) in parents.iter().enumerate().filter(|(_, above)| above.len() % 2 == 0) {
        debug_assert!(above.len() < sized.len());
        place[i] = out.len();
        out.push(Polygon { outer: std::mem::take(&mut sized[i].1), holes: vec![] });
    }
    for (i, above) in parents.iter().enumerate().filter(|(_, above)| above.len() % 2 == 1) {
        // the smallest of those that hold it comes last
        let outer = above.last().map_or(usize::MAX, |j| place[*j]);
        let hole = std::mem::take(&mut sized[i].1);
        if let Some(p) = out.get_mut(outer) {
            p.holes.push(hole);
        }
    }
    out
}

/// True where the middle of a ring's first edge lies inside another ring.
fn holds(outer: &Ring, inner: &Ring) -> bool {
    ring_holds(outer, ((inner[0].0 + inner[1].0) / 2.0, (inner[0].1 + inner[1].1) / 2.0))
}

#[cfg(test)]
mod tests {
    use super::*;

    fn square(x: f64, y: f64, side: f64) -> Ring {
        vec![(x, y), (x + side, y), (x + side, y + side), (x, y + side)]
    }

    #[test]
    fn rings_find_their_place_whatever_way_they_run() {
        let mut lake = square(2.0, 2.0, 6.0);
        let island = square(4.0, 4.0, 2.0);
        for _ in 0..2 {
            lake.reverse();
            let all = nested(vec![island.clone(), square(20.0, 0.0, 3.0), lake.clone(), square(0.0, 0.0, 10.0)]);
            let outlines: Vec<(f64, usize)> = all.iter().map(|p| (p.outer[0].0, p.holes.len())).collect();
            assert_eq!(outlines, [(4.0, 0), (20.0, 0), (0.0, 1)]);
            assert_eq!(all[2].area(), 100.0 - 36.0);
        }
    }
}
