//! Shapes mended, drawn in, drawn round and united. The geometry itself is the library's.

use geo::{Area, BooleanOps, Buffer, MakeValid, MultiPolygon, Validation, unary_union};

use crate::error::{Error, Result};
use crate::plot::{Polygon, Ring, Shape};

fn one_to_geo(p: &Polygon) -> geo::Polygon<f64> {
    let line = |r: &Ring| geo::LineString::from(r.clone());
    geo::Polygon::new(line(&p.outer), p.holes.iter().map(line).collect())
}

fn from_geo(all: MultiPolygon<f64>) -> Vec<Polygon> {
    let ring = |l: &geo::LineString<f64>| {
        let mut r: Ring = l.0.iter().map(|c| (c.x, c.y)).collect();
        r.pop(); // the first again
        r
    };
    let one =
        |p: geo::Polygon<f64>| Polygon { outer: ring(p.exterior()), holes: p.interiors().iter().map(ring).collect() };
    all.0.into_iter().map(one).filter(|p| p.outer.len() >= 3).collect()
}

/// Polygons as the library has them.
pub(crate) fn to_geo(all: &[Polygon]) -> MultiPolygon<f64> {
    MultiPolygon(all.iter().map(one_to_geo).collect())
}

/// A sound shape as it is, a broken one mended: outlines that cross themselves become the parts they enclose, overlapping
/// parts one, and what encloses nothing goes. The text says what was mended.
///
/// # Errors
/// In words, where nothing is left.
pub fn mend(shape: Shape) -> std::result::Result<(Shape, Option<String>), String> {
    let Shape::Polygons(all) = &shape else { return Ok((shape, None)) };
    let before = to_geo(all);
    let why = match before.check_validation() {
        // a line there and back is sound to the library, but no area
        Ok(()) if shape.area() == 0.0 => return Err("encloses no area".into()),
        Ok(()) => return Ok((shape, None)),
        Err(e) => e.to_string(),
    };
    // even-odd within a polygon, one union of all: overlapping parts must not cancel each other
    let mut sound = vec![];
    for p in &before.0 {
        sound.extend(p.make_valid().map_err(|e| format!("{why}, and cannot be mended: {e}"))?.0);
    }
    let mended = unary_union(&sound);
    match mended.unsigned_area() > 0.0 {
        true => Ok((Shape::Polygons(from_geo(mended)), Some(why))),
        false => Err(format!("{why}, and encloses no area")),
    }
}

/// Polygons drawn in by a distance, in units of their coordinates; empty where nothing is left.
pub fn inset(shape: &Shape, distance: f64) -> Shape {
    match shape {
        Shape::Polygons(all) if distance != 0.0 => Shape::Polygons(from_geo(to_geo(all).buffer(-distance))),
        other => other.clone(),
    }
}

/// What lies within a distance of points or polygons; with a distance below zero polygons are drawn in.
///
/// # Errors
/// Where points are to be drawn in.
pub fn ring_round(shape: &Shape, distance: f64) -> Result<Shape> {
    match shape {
        Shape::Polygons(_) => Ok(inset(shape, -distance)),
        Shape::Points(all) if distance > 0.0 => {
            let circles: Vec<Polygon> = all.iter().map(|p| circle(*p, distance)).collect();
            Ok(if circles.len() > 1 {
                united([&Shape::Polygons(circles)].into_iter())
            } else {
                Shape::Polygons(circles)
            })
        }
        Shape::Points(_) => Err(Error::Usage("points cannot be drawn in: the distance must be above zero".into())),
        other => {
            let what = other.no_plot().unwrap_or_default();
            Err(Error::Usage(format!("rings are drawn round points and polygons, but a feature is {what}")))
        }
    }
}

/// Corners of a circle.
const CORNERS: u32 = 128;

/// A circle as a polygon of the same area.
fn circle((x, y): (f64, f64), radius: f64) -> Polygon {
    let step = std::f64::consts::TAU / f64::from(CORNERS);
    let r = radius * (step / step.sin()).sqrt(); // its corners lie a little outside
    let corner = |i: u32| {
        let (s, c) = (f64::from(i) * step).sin_cos();
        (x + r * c, y + r * s)
    };
    Polygon { outer: (0..CORNERS).map(corner).collect(), holes: vec![] }
}

/// The union of polygons; points stay beside each other.
pub fn united<'a>(shapes: impl Iterator<Item = &'a Shape>) -> Shape {
    let (mut polygons, mut points) = (vec![], vec![]);
    for s in shapes {
        match s {
            Shape::Polygons(all) => polygons.extend(all.iter().map(one_to_geo)),
            Shape::Points(all) => points.extend(all.iter().copied()),
            Shape::Lines(_) | Shape::Nothing | Shape::Mixture => {}
        }
    }
    match (polygons.is_empty(), points.is_empty()) {
        (true, false) => Shape::Points(points),
        _ => Shape::Polygons(from_geo(unary_union(&polygons))),
    }
}

/// Area that two shapes share, in squares of their coordinates.
pub fn overlap(a: &Shape, b: &Shape) -> f64 {
    let apart = match (a.bounds(), b.bounds()) {
        (Some(a), Some(b)) => a[2] <= b[0] || b[2] <= a[0] || a[3] <= b[1] || b[3] <= a[1],
        _ => true,
    };
    if apart { 0.0 } else { to_geo(a.polygons()).intersection(&to_geo(b.polygons())).unsigned_area() }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::worked;

    fn rectangle(w: f64, h: f64, degrees: f64, at: (f64, f64)) -> Shape {
        let (s, c) = degrees.to_radians().sin_cos();
        let corner = |(x, y): (f64, f64)| (at.0 + c * x - s * y, at.1 + s * x + c * y);
        let outer = [(0.0, 0.0), (w, 0.0), (w, h), (0.0, h)].map(corner).to_vec();
        Shape::Polygons(vec![Polygon { outer, holes: vec![] }])
    }

    #[test]
    fn worked_insets() {
        let e = worked::example("inset_of_rotated_plot");
        let plot = rectangle(e.number("width"), e.number("height"), e.number("rotation_deg"), (500_100.0, 4_800_200.0));
        e.check_one(plot.area(), e.expected("area_before"));
        // the library works on a lattice of integers: coordinates are exact to some micrometres
        let after = inset(&plot, e.number("inset")).area();
        assert!((after - e.expected("area_after")).abs() < 1e-3, "{after}");
        let e = worked::example("inset_empties");
        let plot = rectangle(e.number("width"), e.number("height"), 0.0, (500_100.0, 4_800_200.0));
        assert_eq!(inset(&plot, e.number("inset")).area(), e.expected("area_after"));
    }

    #[test]
    fn broken_shapes_keep_what_they_enclose() {
        let polygon = |outer: &[(f64, f64)]| Polygon { outer: outer.to_vec(), holes: vec![] };
        let bow = Shape::Polygons(vec![polygon(&[(0.0, 0.0), (4.0, 4.0), (4.0, 0.0), (0.0, 4.0)])]);
        let (mended, why) = mend(bow).unwrap();
        assert!((mended.area() - 8.0).abs() < 1e-6 && mended.polygons().len() == 2);
        assert!(why.unwrap().contains("self-intersection"));
        // overlapping parts are one, not none
        let square = |x: f64| polygon(&[(x, 0.0), (x + 2.0, 0.0), (x + 2.0, 2.0), (x, 2.0)]);
        let (mended, why) = mend(Shape::Polygons(vec![square(0.0), square(1.0)])).unwrap();
        assert!((mended.area() - 6.0).abs() < 1e-6 && why.is_some());
        let sound = Shape::Polygons(vec![square(0.0), square(5.0)]);
        assert_eq!(mend(sound.clone()).unwrap(), (sound, None));
        let flat = Shape::Polygons(vec![polygon(&[(0.0, 0.0), (1.0, 1.0), (2.0, 2.0)])]);
        assert!(mend(flat).unwrap_err().contains("encloses no area"));
    }

    #[test]
    fn circles_have_the_area_of_circles_and_overlapping_ones_join() {
        let one = ring_round(&Shape::Points(vec![(5e5, 4e6)]), 10.0).unwrap();
        assert!((one.area() - std::f64::consts::PI * 100.0).abs() < 1e-6, "{}", one.area());
        let two = ring_round(&Shape::Points(vec![(0.0, 0.0), (10.0, 0.0)]), 10.0).unwrap();
        // two circles whose middles are a radius apart share a lens of (2π/3 − √3/2) r²
        let lens = (2.0 * std::f64::consts::PI / 3.0 - 3f64.sqrt() / 2.0) * 100.0;
        assert!((two.area() - (2.0 * one.area() - lens)).abs() < 0.5, "{}", two.area());
        assert!(ring_round(&Shape::Points(vec![(0.0, 0.0)]), -1.0).is_err());
    }
}
