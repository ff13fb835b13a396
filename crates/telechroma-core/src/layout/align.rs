//! The shift and turn by which plots fit the imagery best.
//!
//! A plot fits where its inside differs from the alley round it. For each place that is tried, the mean over points
//! inside each plot less the mean over points on a line half an alley outside it is formed; the score is the root of the
//! mean square of these contrasts, over the spread of all values. Slow changes over the field do not count, since they
//! are the same on all sides of a plot, and neither does the sign: alleys may be brighter or darker. The whole reach is
//! searched in steps that no peak can hide between, and the best places are refined.

use geo::{Distance, Euclidean};

use super::check::short_side;
use super::field::Field;
use crate::error::{Error, Result};
use crate::feature::{inset, ring_round, to_geo};
use crate::plot::{Plot, Ring, Shape};

/// How far is looked.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Search {
    /// Largest shift east or north, in units of the map.
    pub reach: f64,
    /// Largest turn, degrees.
    pub turn: f64,
    /// Threads that work.
    pub threads: usize,
}

/// A place that was tried.
#[derive(Debug, Clone, Copy, PartialEq, Default)]
pub struct Trial {
    /// East and north, in units of the map.
    pub shift: (f64, f64),
    /// Degrees counter-clockwise, about the middle of all plots.
    pub turn: f64,
    /// How well plots fit there.
    pub score: f64,
}

/// Why a fit is not to be trusted.
#[derive(Debug, Clone, PartialEq)]
pub enum Doubt {
    /// Too little of the plots lies on cells with values.
    NoValues,
    /// No place stands out from the others: so many times the usual spread of scores, where it should be more.
    Flat(f64),
    /// Another place fits nearly as well.
    Twin(Trial),
    /// The best place lies at the end of the reach.
    AtTheEnd,
    /// The reach is shorter than a plot and its alley, this long: one plot farther on would not be noticed.
    ShortReach(f64),
    /// Two halves of the plots say different things, so far apart.
    HalvesDiffer(f64),
}

/// What was found.
#[derive(Debug, Clone, PartialEq)]
pub struct Alignment {
    /// The plots as they are.
    pub before: Trial,
    /// The best place.
    pub best: Trial,
    /// The middle of all plots, about which they are turned.
    pub pivot: (f64, f64),
    /// Mean inside less mean outside at the best place, in the layer's unit.
    pub contrast: f64,
    /// How many times the usual spread of scores the best one lies above the middle one.
    pub prominence: f64,
    /// The two halves of the plots: what each says alone.
    pub halves: [Trial; 2],
    /// Why it should not be trusted; empty where it may.
    pub doubts: Vec<Doubt>,
}

/// Points of one plot, relative to the pivot.
struct Template {
    inside: Vec<(f64, f64)>,
    outside: Vec<(f64, f64)>,
}

/// Points inside a plot, and along its outline.
const POINTS: (usize, usize) = (40, 32);
/// Most plots that are looked at.
const MOST_PLOTS: usize = 400;
/// Share of points that must have a value.
const VALID: f64 = 0.7;
/// A best place stands out if it lies so many spreads above the middle one.
const STANDS_OUT: f64 = 6.0;
/// Another place may be a twin if it scores so much of the best one, and is told from it by so many plots that fit there
/// no more: a place one plot farther on loses those of one edge.
const TWIN: (f64, i64) = (0.9, 2);

/// The place where plots, in the field's coordinates, fit it best.
///
/// # Errors
/// Where there are fewer than four polygons.
pub fn align(plots: &[Plot], field: &Field, search: Search) -> Result<Alignment> {
    let polygons: Vec<&Shape> =
        plots.iter().map(|p| &p.shape).filter(|s| s.polygons().iter().any(|p| p.area() > 0.0)).collect();
    if polygons.len() < 4 {
        return Err(Error::Usage(format!("{} plots: at least four polygons are needed to fit them", polygons.len())));
    }
    let every = polygons.len().div_ceil(MOST_PLOTS);
    let side = middle(polygons.iter().map(|s| short_side(s)).collect());
    let gap = middle(gaps(&polygons, side));
    let bounds = polygons
        .iter()
        .filter_map(|s| s.bounds())
        .reduce(|a, b| [a[0].min(b[0]), a[1].min(b[1]), a[2].max(b[2]), a[3].max(b[3])]);
    let [w, s, e, n] = bounds.unwrap_or_default();
    let pivot = ((w + e) / 2.0, (s + n) / 2.0);
    let cell = field.grid.transform.cell().0;
    // half an alley outside, where there are alleys, but not within the cells of the plot's own edge
    let outside = (gap / 2.0).max(0.75 * cell).min(side / 2.0);
    let templates: Vec<Template> =
        polygons.iter().step_by(every).map(|s| template(s, side, outside, pivot)).collect::<Result<_>>()?;
    let scorer = Scorer::new(field, pivot);
    let reach = ((e - w).hypot(n - s) / 2.0).max(side);
    let step = (gap.max(cell) / 2.0).max(0.4 * cell).min(side / 3.0);
    let coarse = scorer.everywhere(&templates, search, (step, (step / reach).to_degrees()));
    let all: Vec<&Template> = templates.iter().collect();
    // points in the middle of plots and alleys find the place from afar, points along both sides of the edges fix it
    let near_edge = (0.2 * gap).max(0.6 * cell).min(outside).min(side / 4.0);
    let edges: Vec<Template> =
        polygons.iter().step_by(every).map(|s| edge_template(s, near_edge, pivot)).collect::<Result<_>>()?;
    let edges: Vec<&Template> = edges.iter().collect();
    let fixed = |edges: &[&Template], t: Trial| {
        let found = scorer.refine(edges, t, step / 2.0, (step / reach / 2.0).to_degrees());
        Trial { score: scorer.score(&all, found.shift, found.turn).0, ..found }
    };
    let refined = |t: Trial| fixed(&edges, scorer.refine(&all, t, step, (step / reach).to_degrees()));
    let best = coarse.iter().copied().reduce(|a, b| if b.score > a.score { b } else { a }).unwrap_or_default();
    let best = refined(best);
    let apart = |t: &Trial| far(t, &best, reach) > (side / 2.0).max(2.0 * step);
    let twin = coarse.iter().copied().filter(apart).reduce(|a, b| if b.score > a.score { b } else { a });
    let twin = twin.map(refined).filter(|t| far(t, &best, reach) > (side / 2.0).max(2.0 * step));
    let scores: Vec<f64> = coarse.iter().map(|t| t.score).collect();
    let usual = middle(scores.clone());
    let spread = 1.4826 * middle(scores.iter().map(|s| (s - usual).abs()).collect());
    let halves = [0, 1].map(|half| {
        let some: Vec<&Template> = edges.iter().copied().skip(half).step_by(2).collect();
        fixed(&some, best)
    });
    let before = Trial { score: scorer.score(&all, (0.0, 0.0), 0.0).0, ..Trial::default() };
    let prominence = if spread > 0.0 { (best.score - usual) / spread } else { 0.0 };
    let contrast = scorer.score(&all, best.shift, best.turn).1;
    let mut doubts = vec![];
    if best.score <= 0.0 {
        doubts.push(Doubt::NoValues);
    } else if prominence < STANDS_OUT {
        doubts.push(Doubt::Flat(prominence));
    }
    let fits = |t: &Trial| scorer.fitting(&all, t, contrast.abs() / 2.0);
    if let Some(twin) = twin.filter(|t| t.score > TWIN.0 * best.score && fits(&best) - fits(t) < TWIN.1) {
        doubts.push(Doubt::Twin(twin));
    }
    if search.reach < side + gap {
        doubts.push(Doubt::ShortReach(side + gap));
    }
    let near_end = |v: f64, most: f64, step: f64| most > 0.0 && v.abs() > most - step / 2.0;
    if near_end(best.shift.0, search.reach, step)
        || near_end(best.shift.1, search.reach, step)
        || near_end(best.turn, search.turn, (step / reach).to_degrees())
    {
        doubts.push(Doubt::AtTheEnd);
    }
    let differ = far(&halves[0], &halves[1], reach);
    if differ > gap.max(2.0 * cell) {
        doubts.push(Doubt::HalvesDiffer(differ));
    }
    Ok(Alignment { before, best, pivot, contrast, prominence, halves, doubts })
}

/// A plot's shape moved as was found.
pub fn moved(shape: &Shape, found: &Trial, pivot: (f64, f64)) -> Shape {
    let (s, c) = found.turn.to_radians().sin_cos();
    let at = |x: f64, y: f64| {
        let (x, y) = (x - pivot.0, y - pivot.1);
        (pivot.0 + found.shift.0 + c * x - s * y, pivot.1 + found.shift.1 + s * x + c * y)
    };
    let Ok(shape) = shape.map(|x, y| Ok::<_, std::convert::Infallible>(at(x, y)));
    shape
}

/// How far apart two trials put a plot at the end of the field.
fn far(a: &Trial, b: &Trial, reach: f64) -> f64 {
    (a.shift.0 - b.shift.0).hypot(a.shift.1 - b.shift.1) + (a.turn - b.turn).to_radians().abs() * reach
}

/// The middle value; 0 of none.
fn middle(mut values: Vec<f64>) -> f64 {
    values.retain(|v| v.is_finite());
    values.sort_by(f64::total_cmp);
    values.get(values.len() / 2).copied().unwrap_or(0.0)
}

/// From each plot to the nearest other one.
fn gaps(shapes: &[&Shape], side: f64) -> Vec<f64> {
    let all: Vec<geo::MultiPolygon<f64>> = shapes.iter().map(|s| to_geo(s.polygons())).collect();
    let bounds: Vec<[f64; 4]> = shapes.iter().map(|s| s.bounds().unwrap_or([f64::NAN; 4])).collect();
    let step = shapes.len().div_ceil(60);
    let near = |i: usize| {
        let (a, room) = (bounds[i], 3.0 * side);
        let close = |b: &[f64; 4]| b[0] < a[2] + room && b[2] > a[0] - room && b[1] < a[3] + room && b[3] > a[1] - room;
        let others = (0..all.len()).filter(|j| *j != i && close(&bounds[*j]));
        others.map(|j| Euclidean.distance(&all[i], &all[j])).reduce(f64::min)
    };
    (0..all.len()).step_by(step).filter_map(near).collect()
}

fn template(shape: &Shape, side: f64, outside: f64, pivot: (f64, f64)) -> Result<Template> {
    let from = |(x, y): (f64, f64)| (x - pivot.0, y - pivot.1);
    let inner = inset(shape, 0.15 * side);
    let inner = if inner.area() > 0.0 { inner } else { shape.clone() };
    let [w, s, e, n] = inner.bounds().unwrap_or_default();
    // on a lattice, about so many in all, but some across the shorter side
    let step = (inner.area() / POINTS.0 as f64).sqrt().min(side * 0.7 / 3.0).max((e - w).max(n - s) / 60.0);
    let (cols, rows) = (((e - w) / step).ceil() as usize, ((n - s) / step).ceil() as usize);
    let lattice = (0..cols).flat_map(|c| (0..rows).map(move |r| (c as f64 + 0.5, r as f64 + 0.5)));
    let inside = lattice.map(|(c, r)| (w + c * step, s + r * step)).filter(|p| inner.holds(*p)).map(from).collect();
    let around = ring_round(shape, outside)?;
    let outside = around.polygons().iter().flat_map(|p| along(&p.outer)).map(from).collect();
    Ok(Template { inside, outside })
}

/// Points along both sides of a plot's outline.
fn edge_template(shape: &Shape, distance: f64, pivot: (f64, f64)) -> Result<Template> {
    let from = |(x, y): (f64, f64)| (x - pivot.0, y - pivot.1);
    let line = |s: Shape| s.polygons().iter().flat_map(|p| along(&p.outer)).map(from).collect();
    Ok(Template { inside: line(inset(shape, distance)), outside: line(ring_round(shape, distance)?) })
}

/// Evenly spaced points along a ring.
fn along(ring: &Ring) -> Vec<(f64, f64)> {
    let edges: Vec<((f64, f64), (f64, f64))> = ring.iter().copied().zip(ring.iter().copied().cycle().skip(1)).collect();
    let length = |e: &((f64, f64), (f64, f64))| (e.1.0 - e.0.0).hypot(e.1.1 - e.0.1);
    let step = edges.iter().map(length).sum::<f64>() / POINTS.1 as f64;
    let (mut out, mut next, mut passed) = (vec![], step / 2.0, 0.0);
    for e in &edges {
        let l = length(e);
        while next < passed + l {
            let t = (next - passed) / l;
            out.push((e.0.0 + t * (e.1.0 - e.0.0), e.0.1 + t * (e.1.1 - e.0.1)));
            next += step;
        }
        passed += l;
    }
    out
}

/// Points in cells of a field.
type Spots = Vec<(f32, f32)>;

/// Scores places on a field.
struct Scorer<'a> {
    field: &'a Field,
    /// Cells of the pivot, and per unit of the map east and north.
    origin: (f64, f64),
    east: (f64, f64),
    north: (f64, f64),
    spread: f64,
}

impl Scorer<'_> {
    fn new(field: &Field, pivot: (f64, f64)) -> Scorer<'_> {
        let at = |x: f64, y: f64| field.grid.transform.to_cells(pivot.0 + x, pivot.1 + y);
        let ((c, r), (ce, re), (cn, rn)) = (at(0.0, 0.0), at(1.0, 0.0), at(0.0, 1.0));
        let known: Vec<f64> = field.values.iter().filter(|v| v.is_finite()).map(|v| f64::from(*v)).collect();
        let mean = known.iter().sum::<f64>() / known.len().max(1) as f64;
        let spread = (known.iter().map(|v| (v - mean).powi(2)).sum::<f64>() / known.len().max(1) as f64).sqrt();
        Scorer { field, origin: (c, r), east: (ce - c, re - r), north: (cn - c, rn - r), spread }
    }

    /// The value at a position from the pivot, between the four nearest middles.
    fn value(&self, (x, y): (f64, f64)) -> f64 {
        let c = self.origin.0 + x * self.east.0 + y * self.north.0;
        let r = self.origin.1 + x * self.east.1 + y * self.north.1;
        let (cols, rows) = (i64::from(self.field.grid.cols), i64::from(self.field.grid.rows));
        let cell = |c: i64, r: i64| match (0..cols).contains(&c) && (0..rows).contains(&r) {
            true => f64::from(self.field.values[(r * cols + c) as usize]),
            false => f64::NAN,
        };
        let (c, r) = (c - 0.5, r - 0.5);
        let (c0, r0) = (c.floor(), r.floor());
        let (u, v, i, j) = (c - c0, r - r0, c0 as i64, r0 as i64);
        (1.0 - v) * ((1.0 - u) * cell(i, j) + u * cell(i + 1, j))
            + v * ((1.0 - u) * cell(i, j + 1) + u * cell(i + 1, j + 1))
    }

    /// Mean inside less mean outside of a plot at a place, and how many of its points have a value.
    fn contrast(&self, t: &Template, shift: (f64, f64), turn: f64) -> (f64, usize) {
        let (s, c) = turn.to_radians().sin_cos();
        let at = |(x, y): (f64, f64)| (shift.0 + c * x - s * y, shift.1 + s * x + c * y);
        let mean = |points: &[(f64, f64)]| {
            let (mut sum, mut n) = (0.0, 0usize);
            for v in points.iter().map(|p| self.value(at(*p))).filter(|v| v.is_finite()) {
                (sum, n) = (sum + v, n + 1);
            }
            (sum / n as f64, n)
        };
        let ((inside, a), (outside, b)) = (mean(&t.inside), mean(&t.outside));
        (inside - outside, a + b)
    }

    /// The score of a place, and the mean contrast there; 0 where too little has a value.
    fn score(&self, templates: &[&Template], shift: (f64, f64), turn: f64) -> (f64, f64) {
        let (mut squares, mut sum, mut plots, mut valid, mut all) = (0.0, 0.0, 0u32, 0usize, 0usize);
        for t in templates {
            let (d, n) = self.contrast(t, shift, turn);
            (valid, all) = (valid + n, all + t.inside.len() + t.outside.len());
            if d.is_finite() {
                (squares, sum, plots) = (squares + d * d, sum + d, plots + 1);
            }
        }
        if plots == 0 || (valid as f64) < VALID * all as f64 || self.spread <= 0.0 {
            return (0.0, 0.0);
        }
        ((squares / f64::from(plots)).sqrt() / self.spread, sum / f64::from(plots))
    }

    /// How many plots have at least a contrast at a place.
    fn fitting(&self, templates: &[&Template], at: &Trial, least: f64) -> i64 {
        templates.iter().filter(|t| self.contrast(t, at.shift, at.turn).0.abs() > least).count() as i64
    }

    /// The score of all places on a lattice, in its order.
    fn everywhere(&self, templates: &[Template], search: Search, (step, turn): (f64, f64)) -> Vec<Trial> {
        let all: Vec<&Template> = templates.iter().collect();
        let marks = |most: f64, step: f64| -> Vec<f64> {
            let n = if most > 0.0 { (most / step).ceil() as i64 } else { 0 };
            (-n..=n).map(|i| if n == 0 { 0.0 } else { most * i as f64 / n as f64 }).collect()
        };
        let (places, turns) = (marks(search.reach, step), marks(search.turn, turn));
        let next = std::sync::atomic::AtomicUsize::new(0);
        let work = || {
            let mut found = vec![];
            loop {
                let i = next.fetch_add(1, std::sync::atomic::Ordering::Relaxed);
                let Some(turn) = turns.get(i) else { return found };
                // turned once, each shift then only adds to them
                let cells: Vec<(Spots, Spots)> =
                    all.iter().map(|t| (self.cells(&t.inside, *turn), self.cells(&t.outside, *turn))).collect();
                for y in &places {
                    for x in &places {
                        let score = self.quick_score(&cells, (*x, *y));
                        found.push((i, Trial { shift: (*x, *y), turn: *turn, score }));
                    }
                }
            }
        };
        let mut found: Vec<(usize, Trial)> = std::thread::scope(|s| {
            let handles: Vec<_> = (0..search.threads.clamp(1, turns.len())).map(|_| s.spawn(work)).collect();
            handles.into_iter().flat_map(|h| h.join().unwrap_or_default()).collect()
        });
        found.sort_by_key(|f| f.0); // stable: within a turn the order is that of the lattice
        found.into_iter().map(|f| f.1).collect()
    }

    /// Points in cells of the field, turned about the pivot.
    fn cells(&self, points: &[(f64, f64)], turn: f64) -> Spots {
        let (s, c) = turn.to_radians().sin_cos();
        let at = |(x, y): &(f64, f64)| {
            let (x, y) = (c * x - s * y, s * x + c * y);
            let col = self.origin.0 + x * self.east.0 + y * self.north.0;
            let row = self.origin.1 + x * self.east.1 + y * self.north.1;
            (col as f32, row as f32)
        };
        points.iter().map(at).collect()
    }

    /// As [`Scorer::score`] of the cells that points lie in.
    fn quick_score(&self, cells: &[(Spots, Spots)], shift: (f64, f64)) -> f64 {
        let by = (
            (shift.0 * self.east.0 + shift.1 * self.north.0) as f32,
            (shift.0 * self.east.1 + shift.1 * self.north.1) as f32,
        );
        let (cols, rows) = (self.field.grid.cols as usize, self.field.grid.rows as usize);
        let mean = |points: &[(f32, f32)]| {
            let (mut sum, mut n) = (0.0f64, 0usize);
            for (c, r) in points {
                let (c, r) = (c + by.0, r + by.1);
                // below zero and NaN would become the first cell
                if c < 0.0 || r < 0.0 || c.is_nan() || r.is_nan() {
                    continue;
                }
                let (c, r) = (c as usize, r as usize);
                if c < cols && r < rows {
                    let v = self.field.values[r * cols + c];
                    if v.is_finite() {
                        (sum, n) = (sum + f64::from(v), n + 1);
                    }
                }
            }
            (sum / n as f64, n)
        };
        let (mut squares, mut plots, mut valid, mut all) = (0.0, 0u32, 0usize, 0usize);
        for (inside, outside) in cells {
            let ((a, na), (b, nb)) = (mean(inside), mean(outside));
            (valid, all) = (valid + na + nb, all + inside.len() + outside.len());
            if (a - b).is_finite() {
                (squares, plots) = (squares + (a - b).powi(2), plots + 1);
            }
        }
        if plots == 0 || (valid as f64) < VALID * all as f64 || self.spread <= 0.0 {
            return 0.0;
        }
        (squares / f64::from(plots)).sqrt() / self.spread
    }

    /// Climbs to the top near a place, by ever smaller steps.
    fn refine(&self, templates: &[&Template], from: Trial, step: f64, turn: f64) -> Trial {
        let score = |shift, turn| self.score(templates, shift, turn).0;
        let mut best = Trial { score: score(from.shift, from.turn), ..from };
        let (mut step, mut turn) = (step, turn);
        for _ in 0..9 {
            for _ in 0..20 {
                let around = (-1..=1).flat_map(|t| (-1..=1).flat_map(move |y| (-1..=1).map(move |x| (x, y, t))));
                let tried = around.map(|(x, y, t)| {
                    let shift = (best.shift.0 + f64::from(x) * step, best.shift.1 + f64::from(y) * step);
                    let turn = best.turn + f64::from(t) * turn;
                    Trial { shift, turn, score: score(shift, turn) }
                });
                match tried.reduce(|a, b| if b.score > a.score { b } else { a }) {
                    Some(better) if better.score > best.score => best = better,
                    _ => break,
                }
            }
            (step, turn) = (step / 2.0, turn / 2.0);
        }
        best
    }
}
