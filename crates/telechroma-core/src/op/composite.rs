//! Many dates to one value a cell: the median, or another statistic, over the clear and valid samples.
//!
//! Counts are calibrated on the way in, in vectors: a calibrated copy of every scene's plane would take twice the memory
//! of the counts. Statistics are taken after calibration, since each scene may have its own gain; where all have the same
//! rising line, ranks are found among the counts, and what was found is calibrated: the same bits for half the work.

use std::fmt;

use super::Clear;
use super::calibrate::Rule;
use super::lanes::{LANES, Lanes, Lit, Row, Usable};
use super::median::{Key, Median, Pads, Sort, key, middle, value};
use super::sample::{AHEAD, Plane, Sample, clear_lanes, of_lanes};
use crate::error::{Error, Result};
use crate::graph::{Absence, Inputs, Op, bits_row};
use crate::grid::Window;
use crate::physics::Line;
use crate::tile::{Kind, PlaneSpec, Tile};
use crate::units::Unit;
use crate::wide;

/// What becomes of the samples of a cell.
#[derive(Debug, Clone, Copy, PartialEq)]
pub enum BandRule {
    /// The middle one; of an even number the mean of the two in the middle.
    Median,
    /// Σx/n, in double precision.
    Mean,
    /// The least.
    Min,
    /// The greatest.
    Max,
    /// The value below which this share, 0 to 100 %, lies: type 7 of Hyndman & Fan (1996), linear between neighbours.
    Percentile(f64),
    /// The median of the distances from the median (median absolute deviation), not scaled.
    Spread,
}

/// A band of a composite. Inputs: planes of clear looks ([`Clear`]), sixteen scenes each, then a plane a scene.
///
/// Fewer samples than `at_least`: missing.
pub struct Composite {
    samples: Vec<Sample>,
    unit: Unit,
    at_least: u32,
    ready: Ready,
}

/// A rule with its networks.
#[derive(Debug)]
enum Ready {
    Median(Median),
    Spread(Median),
    Percentile(f64, Sort),
    Mean,
    Min,
    Max,
}

impl Ready {
    fn new(by: BandRule, most: usize) -> Ready {
        match by {
            BandRule::Median => Ready::Median(Median::new(most)),
            BandRule::Spread => Ready::Spread(Median::new(most)),
            BandRule::Percentile(p) => Ready::Percentile(p, Sort::new(most)),
            BandRule::Mean => Ready::Mean,
            BandRule::Min => Ready::Min,
            BandRule::Max => Ready::Max,
        }
    }
}

impl Composite {
    /// For one sample per scene, all in `unit` after calibration.
    pub fn new(by: BandRule, samples: Vec<Sample>, unit: Unit, at_least: u32) -> Composite {
        let ready = Ready::new(by, samples.len());
        Composite { samples, unit, at_least, ready }
    }

    /// The calibration of all samples, if it is one and in the order of the counts.
    fn one_line(&self) -> Option<Line> {
        let mut lines = self.samples.iter().map(|s| match s {
            Sample::Counts(by) => by.line().filter(|l| l.gain > 0.0),
            Sample::Values => None,
        });
        let first = lines.next()??;
        lines.all(|l| l == Some(first)).then_some(first)
    }

    /// A scene's row.
    fn scene<'a>(&'a self, inputs: &Inputs<'a>, i: usize, window: &Window, row: i64) -> Option<Live<'a>> {
        let (plane, clear) = (inputs.get(self.looks() + i)?, inputs.get(i / Clear::SCENES)?);
        Some(Live {
            plane: self.samples[i].row(plane, window, row),
            clear: bits_row(clear, window, row),
            bit: 1 << (i % Clear::SCENES),
        })
    }

    /// A tile by a rule.
    fn tile<R: Rule64>(&self, mut rule: R, inputs: &Inputs, out: &mut Tile) {
        let window = out.window;
        let mut live: Vec<Option<Live>> = Vec::with_capacity(self.samples.len());
        let mut shown = vec![vec![0; (window.cols as usize).div_ceil(LANES)]; self.looks()];
        for row in window.row..window.end_row() {
            live.clear();
            for (looks, shown) in shown.iter_mut().enumerate() {
                if let Some(clear) = inputs.get(looks) {
                    wide::run(Shown { row: bits_row(clear, &window, row), shown });
                }
                let scenes = (looks * Clear::SCENES..self.samples.len()).take(Clear::SCENES);
                live.extend(scenes.map(|i| self.scene(inputs, i, &window, row)));
            }
            let range = out.row_range(&window, row);
            let cells = &mut out.values_mut()[range];
            wide::run(ComposeRow { rule: &mut rule, live: &live, shown: &shown, at_least: self.at_least, cells });
        }
    }

    /// Number of planes of clear looks before the scenes' planes.
    fn looks(&self) -> usize {
        self.samples.len().div_ceil(Clear::SCENES)
    }
}

impl fmt::Debug for Composite {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "Composite {:?} {:?} {:?} {}", self.ready, self.samples, self.unit, self.at_least)
    }
}

/// One scene's rows while a tile row is composed.
struct Live<'a> {
    plane: Plane<'a>,
    clear: &'a [u16],
    /// The scene's bit in `clear`.
    bit: u16,
}

impl Live<'_> {
    /// Which of `n` cells from `at` on may be used, and how many.
    #[inline(always)]
    fn usable(&self, (at, n): (usize, usize), usable: &mut Usable) -> Lit {
        self.plane.ahead(at + AHEAD);
        // lanes beyond the row's end hold nothing
        if !self.counted(at, n, usable) {
            clear_lanes(self.clear, self.bit, at, n, usable);
            self.plane.valid(at, n, usable);
        }
        usable.lit()
    }

    /// The mask of counts in all lanes, at once: one that is stored, loaded and stored again is waited for. False for
    /// anything else.
    #[inline(always)]
    fn counted(&self, at: usize, n: usize, usable: &mut Usable) -> bool {
        let Plane::Counts { row, fill: Some(fill), .. } = &self.plane else { return false };
        let lanes = |row: &[u16]| <[u16; LANES]>::try_from(&row[at..at + n]);
        let (Ok(clear), Ok(counts)) = (lanes(self.clear), lanes(row)) else { return false };
        for l in 0..LANES {
            usable[l] = if (clear[l] & self.bit != 0) & (counts[l] != *fill) { u16::MAX } else { 0 };
        }
        true
    }
}

/// One row of cells, by some rule. Each rule is a loop of its own: several in one are compiled worse.
struct ComposeRow<'a, 'b, R> {
    rule: &'a mut R,
    live: &'a [Option<Live<'b>>],
    shown: &'a [Vec<u16>],
    at_least: u32,
    cells: &'a mut [f32],
}

/// The scenes, and for each plane of clear looks the scenes that show any of 64 cells clearly.
type Shows<'a, 'b> = (&'a [Option<Live<'b>>], &'a [Vec<u16>]);

/// The scenes that show any of the 64 cells from `at` on: bit by bit, since whether a scene is one of them cannot be
/// foreseen, and each time it is guessed wrongly costs as much as a few vectors.
struct Showing<'a, 'b> {
    scenes: &'a [Option<Live<'b>>],
    shown: &'a [Vec<u16>],
    chunk: usize,
    bits: u16,
}

impl<'a, 'b> Showing<'a, 'b> {
    #[inline(always)]
    fn new((scenes, shown): Shows<'a, 'b>, at: usize) -> Showing<'a, 'b> {
        let chunk = at / LANES;
        Showing { scenes, shown, chunk, bits: shown.first().map_or(0, |s| s[chunk]) }
    }
}

impl<'a, 'b> Iterator for Showing<'a, 'b> {
    type Item = &'a Live<'b>;

    #[inline(always)]
    fn next(&mut self) -> Option<&'a Live<'b>> {
        loop {
            while self.bits == 0 {
                self.shown = self.shown.get(1..)?;
                self.scenes = self.scenes.get(Clear::SCENES..)?;
                self.bits = self.shown.first()?[self.chunk];
            }
            let scene = self.scenes.get(self.bits.trailing_zeros() as usize);
            self.bits &= self.bits - 1;
            if let Some(Some(scene)) = scene {
                return Some(scene);
            }
        }
    }
}

/// How samples of up to 64 cells become values, with the space for it.
trait Rule64 {
    /// Of `span.1` cells from `span.0` on; adds each cell's samples to `seen`.
    fn of(&mut self, shows: Shows, span: (usize, usize), seen: &mut Lanes<u16>, out: &mut Row);
}

impl<R: Rule64> wide::Loop for ComposeRow<'_, '_, R> {
    #[inline(always)]
    fn run(self, _: impl wide::Instructions) {
        let ComposeRow { rule, live, shown, at_least, cells } = self;
        let mut result = Row::all(0.0);
        for (chunk, cells) in cells.chunks_mut(LANES).enumerate() {
            let (at, n) = (chunk * LANES, cells.len());
            let mut seen = Lanes::all(0);
            rule.of((live, shown), (at, n), &mut seen, &mut result);
            match <&mut [f32; LANES]>::try_from(&mut *cells) {
                Ok(all) => *all = *result,
                Err(_) => cells.copy_from_slice(&result[..n]),
            }
            if at_least > 1 {
                for (c, s) in cells.iter_mut().zip(*seen) {
                    *c = if u32::from(s) >= at_least { *c } else { f32::NAN };
                }
            }
        }
    }
}

/// Samples that networks sort.
struct Stack<K> {
    rows: Vec<Lanes<K>>,
}

/// Samples as keys of their values, or as counts that one line calibrates.
trait Ranked: Key {
    /// What turns a key into a value.
    type Back: Copy;
    /// The samples of a scene.
    fn load(plane: &Plane, span: (usize, usize), out: &mut Lanes<Self>);
    /// The values.
    fn back(by: Self::Back, keys: &Lanes<Self>, out: &mut Row);
}

impl Ranked for i32 {
    type Back = ();

    #[inline(always)]
    fn load(plane: &Plane, (at, n): (usize, usize), out: &mut Lanes<i32>) {
        plane.each(at, n, out, key);
    }

    #[inline(always)]
    fn back((): (), keys: &Lanes<i32>, out: &mut Row) {
        out.iter_mut().zip(keys.iter()).for_each(|(v, k)| *v = value(*k));
    }
}

impl Ranked for u16 {
    type Back = Line;

    #[inline(always)]
    fn load(plane: &Plane, (at, n): (usize, usize), out: &mut Lanes<u16>) {
        if let Plane::Counts { row, .. } = plane {
            of_lanes(&row[at..at + n], out, |_, c| c);
        }
    }

    #[inline(always)]
    fn back(line: Line, keys: &Lanes<u16>, out: &mut Row) {
        Rule::Line(line).row(&keys[..], &mut out[..]);
    }
}

impl<K: Ranked> Stack<K> {
    fn new(scenes: usize) -> Stack<K> {
        Stack { rows: vec![Lanes::all(K::GREATEST); scenes] }
    }

    /// Loads what may be used; tells how many rows there are.
    #[inline(always)]
    fn fill(
        &mut self,
        shows: Shows,
        (at, n): (usize, usize),
        pads: &mut Pads<K>,
        seen: &mut Lanes<u16>,
        change: impl Fn(&mut Lanes<K>),
    ) -> usize {
        let (mut k, mut usable) = (0, Usable::all(0));
        for scene in Showing::new(shows, at) {
            let lit = scene.usable((at, n), &mut usable);
            if lit != Lit::None {
                K::load(&scene.plane, (at, n), &mut self.rows[k]);
                change(&mut self.rows[k]);
                if lit == Lit::Some {
                    pads.apply(&usable, &mut self.rows[k]);
                }
                k += 1;
                usable.count(seen);
            }
        }
        k
    }

    /// The median of `k` rows.
    #[inline(always)]
    fn median(&mut self, k: usize, by: (&Median, K::Back), pads: &Pads<K>, seen: &Lanes<u16>, out: &mut Row) {
        let (low, high) = by.0.of(&mut self.rows[..k]);
        let (mut a, mut b) = (Row::all(f32::NAN), Row::all(f32::NAN));
        if k > 0 {
            K::back(by.1, &self.rows[low], &mut a);
            K::back(by.1, &self.rows[high], &mut b);
        }
        middle(k, (&a, &b), pads, seen, out);
    }
}

struct Middle<'a, K: Ranked>(&'a Median, K::Back, Stack<K>);
struct Spread<'a>(&'a Median, Stack<i32>);

/// With the ranks below and above, and where between them it lies, by how many samples there are.
struct Percentile<'a, K: Ranked> {
    ranks: Vec<(usize, usize, f64)>,
    sort: &'a Sort,
    back: K::Back,
    stack: Stack<K>,
}

struct Mean;
struct Least;
struct Most;

impl<K: Ranked> Rule64 for Middle<'_, K> {
    #[inline(always)]
    fn of(&mut self, shows: Shows, span: (usize, usize), seen: &mut Lanes<u16>, out: &mut Row) {
        let mut pads = Pads::around();
        let k = self.2.fill(shows, span, &mut pads, seen, |_| ());
        self.2.median(k, (self.0, self.1), &pads, seen, out);
    }
}

impl Rule64 for Spread<'_> {
    #[inline(always)]
    fn of(&mut self, shows: Shows, span: (usize, usize), seen: &mut Lanes<u16>, out: &mut Row) {
        let mut pads = Pads::around();
        let k = self.1.fill(shows, span, &mut pads, seen, |_| ());
        self.1.median(k, (self.0, ()), &pads, seen, out);
        let (centre, mut again, mut pads) = (*out, Lanes::all(0), Pads::around());
        let distance = |keys: &mut Lanes<i32>| {
            keys.iter_mut().zip(centre.iter()).for_each(|(k, c)| *k = key((value(*k) - c).abs()));
        };
        let k = self.1.fill(shows, span, &mut pads, &mut again, distance);
        self.1.median(k, (self.0, ()), &pads, seen, out);
    }
}

impl<'a, K: Ranked> Percentile<'a, K> {
    fn new(p: f64, sort: &'a Sort, back: K::Back, scenes: usize) -> Percentile<'a, K> {
        let rank = |seen: usize| {
            let h = seen.saturating_sub(1) as f64 * p / 100.0;
            let low = h as usize;
            (low, (low + 1).min(seen.saturating_sub(1)), h - low as f64)
        };
        Percentile { ranks: (0..=scenes).map(rank).collect(), sort, back, stack: Stack::new(scenes) }
    }
}

impl<K: Ranked> Rule64 for Percentile<'_, K> {
    /// Samples sorted, those that may not be used last: how many may differs from cell to cell, and so does the rank.
    #[inline(always)]
    fn of(&mut self, shows: Shows, span: (usize, usize), seen: &mut Lanes<u16>, out: &mut Row) {
        let Percentile { ranks, sort, back, stack } = self;
        let k = stack.fill(shows, span, &mut Pads::above(), seen, |_| ());
        let rows = &mut stack.rows[..k];
        sort.of(rows);
        let (mut low, mut high, mut part) = (Lanes::all(K::GREATEST), Lanes::all(K::GREATEST), Lanes::all(0f64));
        let all = seen.iter().fold(0, |differ, s| differ | (s ^ seen[0])) == 0;
        if all && seen[0] > 0 {
            let (a, b, share) = ranks[usize::from(seen[0])];
            (low, high, part) = (rows[a], rows[b], Lanes::all(share));
        } else {
            for l in (0..LANES).filter(|l| seen[*l] > 0) {
                let (a, b, share) = ranks[usize::from(seen[l])];
                (low[l], high[l], part[l]) = (rows[a][l], rows[b][l], share);
            }
        }
        let (mut a, mut b) = (Row::all(0.0), Row::all(0.0));
        K::back(*back, &low, &mut a);
        K::back(*back, &high, &mut b);
        for l in 0..LANES {
            let between = (f64::from(a[l]) + part[l] * (f64::from(b[l]) - f64::from(a[l]))) as f32;
            out[l] = if seen[l] > 0 { between } else { f32::NAN };
        }
    }
}

impl Rule64 for Mean {
    #[inline(always)]
    fn of(&mut self, shows: Shows, span: (usize, usize), seen: &mut Lanes<u16>, out: &mut Row) {
        let mut sums = Lanes::all(0f64);
        fold(shows, span, seen, &mut sums, |sum, v| sum + f64::from(v));
        for l in 0..LANES {
            out[l] = (sums[l] / f64::from(seen[l])) as f32;
        }
    }
}

impl Rule64 for Least {
    #[inline(always)]
    fn of(&mut self, shows: Shows, span: (usize, usize), seen: &mut Lanes<u16>, out: &mut Row) {
        *out = Row::all(f32::NAN);
        fold(shows, span, seen, out, f32::min);
    }
}

impl Rule64 for Most {
    #[inline(always)]
    fn of(&mut self, shows: Shows, span: (usize, usize), seen: &mut Lanes<u16>, out: &mut Row) {
        *out = Row::all(f32::NAN);
        fold(shows, span, seen, out, f32::max);
    }
}

/// Takes each usable sample into the sum of its lane.
#[inline(always)]
fn fold<T: Copy>(
    shows: Shows,
    (at, n): (usize, usize),
    seen: &mut Lanes<u16>,
    sums: &mut Lanes<T>,
    take: impl Fn(T, f32) -> T,
) {
    let (mut usable, mut values) = (Usable::all(0), Row::all(0.0));
    for scene in Showing::new(shows, at) {
        if scene.usable((at, n), &mut usable) != Lit::None {
            scene.plane.values(at, n, &mut values);
            for l in 0..LANES {
                let with = take(sums[l], values[l]);
                sums[l] = if usable[l] != 0 { with } else { sums[l] };
            }
            usable.count(seen);
        }
    }
}

/// All bits that are set in 64 cells of a row, for each 64: what shows nothing is passed over before it is read.
struct Shown<'a> {
    row: &'a [u16],
    shown: &'a mut [u16],
}

impl wide::Loop for Shown<'_> {
    #[inline(always)]
    fn run(self, _: impl wide::Instructions) {
        let (whole, rest) = self.row.as_chunks::<LANES>();
        for (shown, cells) in self.shown.iter_mut().zip(whole) {
            *shown = cells.iter().fold(0, |any, bits| any | bits);
        }
        if let Some(last) = self.shown.get_mut(whole.len()) {
            *last = rest.iter().fold(0, |any, bits| any | bits);
        }
    }
}

impl Op for Composite {
    fn output(&self, inputs: &[&PlaneSpec]) -> Result<(Kind, Unit)> {
        let wrong =
            || Error::Usage("a composite takes planes of clear looks, then a plane in one unit for each scene".into());
        let (clear, planes) = inputs.split_at_checked(self.looks()).ok_or_else(wrong)?;
        let fits = |(s, plane): (&Sample, &&PlaneSpec)| s.fits(plane, self.unit);
        let flags = clear.iter().all(|c| matches!(c.kind, Kind::Flags { .. }));
        match flags && planes.len() == self.samples.len() && self.samples.iter().zip(planes).all(fits) {
            true => Ok((Kind::Values, self.unit)),
            false => Err(wrong()),
        }
    }

    fn absence(&self) -> Absence {
        Absence::IfAll
    }

    fn compute(&self, inputs: &Inputs, out: &mut Tile) -> Result<()> {
        let scenes = self.samples.len();
        match (&self.ready, self.one_line()) {
            (Ready::Median(m), Some(line)) => self.tile(Middle(m, line, Stack::<u16>::new(scenes)), inputs, out),
            (Ready::Median(m), None) => self.tile(Middle(m, (), Stack::<i32>::new(scenes)), inputs, out),
            (Ready::Percentile(p, sort), Some(line)) => {
                self.tile(Percentile::<u16>::new(*p, sort, line, scenes), inputs, out);
            }
            (Ready::Percentile(p, sort), None) => {
                self.tile(Percentile::<i32>::new(*p, sort, (), scenes), inputs, out);
            }
            (Ready::Spread(m), _) => self.tile(Spread(m, Stack::new(scenes)), inputs, out),
            (Ready::Mean, _) => self.tile(Mean, inputs, out),
            (Ready::Min, _) => self.tile(Least, inputs, out),
            (Ready::Max, _) => self.tile(Most, inputs, out),
        }
        Ok(())
    }

    fn step(&self) -> &'static str {
        "composite"
    }
}
