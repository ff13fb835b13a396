//! Random points in polygons, the same for the same seed.

use rand_chacha::ChaCha12Rng;
use rand_chacha::rand_core::{Rng, SeedableRng};

use crate::error::{Error, Result};
use crate::plot::Polygon;

/// Tries for each point before it is said that no more fit.
const TRIES: u32 = 2000;

/// `count` points spread evenly at random over polygons that do not overlap, each pair at least `apart` from each other
/// and from the points `taken`, in units of the coordinates.
///
/// # Errors
/// Where there is no area, or so many points do not fit.
pub fn scatter(
    polygons: &[Polygon],
    count: usize,
    apart: f64,
    seed: u64,
    taken: &[(f64, f64)],
) -> Result<Vec<(f64, f64)>> {
    let areas: Vec<f64> = polygons.iter().map(Polygon::area).collect();
    let all: f64 = areas.iter().sum();
    if all <= 0.0 || all.is_nan() {
        return Err(Error::Usage("there is no area to put points in".into()));
    }
    let mut random = ChaCha12Rng::seed_from_u64(seed);
    let mut unit = move || (random.next_u64() >> 11) as f64 / (1u64 << 53) as f64;
    let mut near = Near::new(apart);
    taken.iter().for_each(|p| near.add(*p));
    let mut points = vec![];
    while points.len() < count {
        let mut found = None;
        for _ in 0..TRIES {
            let mut at = unit() * all;
            let i = areas.iter().position(|a| {
                at -= a;
                at < 0.0
            });
            let polygon = &polygons[i.unwrap_or(polygons.len() - 1)];
            let point = inside(polygon, &mut unit);
            if near.is_free(point) {
                found = Some(point);
                break;
            }
        }
        let Some(point) = found else {
            return Err(Error::Usage(format!(
                "{count} points do not fit at this distance from each other: after {} no place was found in {TRIES} tries",
                points.len()
            )));
        };
        near.add(point);
        points.push(point);
    }
    Ok(points)
}

/// A random position in a polygon.
fn inside(p: &Polygon, unit: &mut impl FnMut() -> f64) -> (f64, f64) {
    let fold = |pick: fn(&(f64, f64)) -> f64, best: fn(f64, f64) -> f64| p.outer.iter().map(pick).reduce(best);
    let ends =
        |pick: fn(&(f64, f64)) -> f64| (fold(pick, f64::min).unwrap_or(0.0), fold(pick, f64::max).unwrap_or(0.0));
    let ((w, e), (s, n)) = (ends(|p| p.0), ends(|p| p.1));
    // the polygon has an area, so this ends
    loop {
        let at = (w + unit() * (e - w), s + unit() * (n - s));
        if p.holds(at) {
            return at;
        }
    }
}

/// Points by squares as wide as their distance.
struct Near {
    apart: f64,
    squares: std::collections::BTreeMap<(i64, i64), Vec<(f64, f64)>>,
}

impl Near {
    fn new(apart: f64) -> Near {
        Near { apart, squares: Default::default() }
    }

    fn square(&self, (x, y): (f64, f64)) -> (i64, i64) {
        ((x / self.apart).floor() as i64, (y / self.apart).floor() as i64)
    }

    fn add(&mut self, p: (f64, f64)) {
        if self.apart > 0.0 {
            self.squares.entry(self.square(p)).or_default().push(p);
        }
    }

    fn is_free(&self, p: (f64, f64)) -> bool {
        if self.apart <= 0.0 {
            return true;
        }
        let (c, r) = self.square(p);
        let around = (-1..=1).flat_map(|i| (-1..=1).map(move |j| (c + i, r + j)));
        !around.filter_map(|k| self.squares.get(&k)).flatten().any(|q| (q.0 - p.0).hypot(q.1 - p.1) < self.apart)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn points_are_inside_apart_even_and_the_same_again() {
        let square = |x: f64, side: f64| vec![(x, 0.0), (x + side, 0.0), (x + side, side), (x, side)];
        let all = [
            Polygon {
                outer: square(0.0, 100.0),
                holes: vec![vec![(20.0, 20.0), (80.0, 20.0), (80.0, 80.0), (20.0, 80.0)]],
            },
            Polygon { outer: square(1000.0, 60.0), holes: vec![] },
        ];
        let points = scatter(&all, 200, 3.0, 7, &[]).unwrap();
        assert_eq!(points, scatter(&all, 200, 3.0, 7, &[]).unwrap());
        assert_ne!(points, scatter(&all, 200, 3.0, 8, &[]).unwrap());
        let inside = |p: &(f64, f64)| all.iter().any(|a| a.holds(*p));
        assert!(points.iter().all(inside));
        for (i, a) in points.iter().enumerate() {
            assert!(points[..i].iter().all(|b| (a.0 - b.0).hypot(a.1 - b.1) >= 3.0));
        }
        // 6400 of 10000 are in the first: its share of 200 points lies within four standard deviations
        let first = points.iter().filter(|p| p.0 < 500.0).count() as f64;
        assert!((first - 128.0).abs() < 4.0 * (200.0f64 * 0.64 * 0.36).sqrt(), "{first}");
        assert!(scatter(&all, 5000, 3.0, 7, &[]).unwrap_err().to_string().contains("do not fit"));
        assert!(scatter(&[], 1, 0.0, 7, &[]).is_err());
    }
}
