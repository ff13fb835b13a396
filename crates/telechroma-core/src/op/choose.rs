//! One look for each cell, the same for all bands: which scene's values are taken, so that a spectrum was really seen.

use std::fmt;
use std::ops::Range;
use std::str::FromStr;

use super::Clear;
use super::calibrate::Rule;
use super::lanes::{LANES, Lanes, Lit, Row, Usable};
use super::medoid::{Looks, PART, Taken, near_counts};
use super::sample::{AHEAD, Plane, Sample, clear_lanes, of_lanes};
use crate::error::{Error, Result};
use crate::graph::{Absence, Inputs, Op, bits_row, values_row};
use crate::physics::Line;
use crate::tile::{Kind, PlaneSpec, Tile};
use crate::units::Unit;
use crate::wide;

/// Which of the clear looks of a cell is taken.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Choice {
    /// The look with the least sum of distances to all others over the bands (medoid; Flood 2013). Ties: the earliest.
    Medoid,
    /// The look with the highest score; ties: the earliest.
    Best,
    /// The last.
    Latest,
    /// The first.
    Earliest,
}

const NAMES: &[(&str, Choice)] =
    &[("medoid", Choice::Medoid), ("best", Choice::Best), ("latest", Choice::Latest), ("earliest", Choice::Earliest)];

impl Choice {
    /// Its name.
    pub fn name(self) -> &'static str {
        NAMES.iter().find(|(_, c)| *c == self).map_or("", |(n, _)| n)
    }

    /// All names.
    pub fn names() -> impl Iterator<Item = &'static str> {
        NAMES.iter().map(|(n, _)| *n)
    }
}

impl FromStr for Choice {
    type Err = Error;

    fn from_str(text: &str) -> Result<Choice> {
        let found = NAMES.iter().find(|(n, _)| *n == text).map(|(_, c)| *c);
        found.ok_or_else(|| Error::unknown("choice of a look", text, NAMES.iter().map(|(n, _)| n)))
    }
}

/// Chooses a look. Inputs: planes of clear looks ([`Clear`]); the planes of each scene in turn, sorted by time; for
/// [`Choice::Best`] a plane of scores a scene.
///
/// A look counts where every band has a value. Gives 1 + the number of the scene, 0 where fewer than `at_least` looks
/// count.
#[derive(Debug)]
pub struct Choose {
    /// Which is taken.
    pub choice: Choice,
    /// How planes are read, scene by scene.
    pub samples: Vec<Vec<Sample>>,
    /// Bands that the distance is measured over, by their number within a scene.
    pub measured: Vec<usize>,
    /// Looks that a cell needs.
    pub at_least: u32,
}

impl Choose {
    fn looks(&self) -> usize {
        self.samples.len().div_ceil(Clear::SCENES)
    }

    /// Whether all that is measured is counts of one calibration. Distances are then those of the counts, but for a factor:
    /// whole numbers, without what rounding makes of calibrated ones.
    fn is_of_counts(&self) -> bool {
        let line = |sample: &Sample| if let Sample::Counts(by) = sample { by.line() } else { None };
        let mut lines = self.samples.iter().flat_map(|scene| self.measured.iter().map(|band| line(&scene[*band])));
        let first = lines.next().flatten().filter(|line| line.gain != 0.0);
        first.is_some() && lines.all(|line| line == first)
    }
}

/// One scene's rows.
struct Look<'a> {
    /// 1 + its number.
    number: u16,
    clear: &'a [u16],
    bit: u16,
    /// Its planes among all.
    planes: Range<usize>,
    score: Option<&'a [f32]>,
}

struct ChooseRow<'a, 'b> {
    op: &'a Choose,
    looks: &'a [Look<'b>],
    planes: &'a [Plane<'b>],
    of_counts: bool,
    work: &'a mut Work,
    cells: &'a mut [u16],
}

/// Scratch space for the looks of some cells.
struct Work {
    parts: [Looks; LANES / PART],
    values: Row,
    /// Of a pair of bands.
    counts: [Lanes<u16>; 2],
    reach: Reach,
    /// How far apart counts may be to be near.
    near: u16,
    /// Of the looks taken.
    numbers: Vec<u16>,
}

impl Work {
    fn new(looks: usize, bands: usize) -> Work {
        Work {
            parts: std::array::from_fn(|_| Looks::new(looks, bands)),
            values: Row::all(0.0),
            counts: [Lanes::all(0); 2],
            reach: Reach::NONE,
            near: near_counts(bands),
            numbers: vec![],
        }
    }

    /// Where the `k`th look may be used.
    #[inline(always)]
    fn mark(&mut self, k: usize, usable: &Usable) {
        for (part, usable) in self.parts.iter_mut().zip(usable.as_chunks::<PART>().0) {
            part.mark(k, usable);
        }
    }

    /// Takes the values of the `k`th look in a band.
    #[inline(always)]
    fn take(&mut self, with: impl wide::Instructions, k: usize, band: usize) {
        let Work { parts, values, .. } = self;
        for (part, values) in parts.iter_mut().zip(values.as_chunks::<PART>().0) {
            part.take(with, k, band, values);
        }
    }

    /// Takes the counts of the `k`th look in a pair of bands, or in one that is left over.
    #[inline(always)]
    fn take_counts(&mut self, k: usize, pair: usize, usable: &Usable, single: bool) {
        let Work { parts, counts: [first, second], reach, .. } = self;
        reach.extend(first, usable);
        match single {
            true => *second = Lanes::all(0),
            false => reach.extend(second, usable),
        }
        let counts = first.as_chunks::<PART>().0.iter().zip(second.as_chunks::<PART>().0);
        for (part, (first, second)) in parts.iter_mut().zip(counts) {
            part.take_counts(k, pair, first, second);
        }
    }
}

/// The lowest and the highest counts so far.
struct Reach {
    lowest: Lanes<u16>,
    highest: Lanes<u16>,
}

impl Reach {
    const NONE: Reach = Reach { lowest: Lanes::all(u16::MAX), highest: Lanes::all(0) };

    #[inline(always)]
    fn extend(&mut self, counts: &Lanes<u16>, usable: &Usable) {
        for l in 0..LANES {
            self.lowest[l] = self.lowest[l].min(counts[l] | !usable[l]);
            self.highest[l] = self.highest[l].max(counts[l] & usable[l]);
        }
    }

    /// How far apart they are.
    #[inline(always)]
    fn apart(&self) -> u16 {
        let lowest = self.lowest.iter().fold(u16::MAX, |lowest, n| lowest.min(*n));
        let highest = self.highest.iter().fold(0, |highest, n| highest.max(*n));
        highest.saturating_sub(lowest)
    }
}

impl wide::Loop for ChooseRow<'_, '_> {
    #[inline(always)]
    fn run(self, with: impl wide::Instructions) {
        let ChooseRow { op, looks, planes, of_counts, work, cells } = self;
        for (chunk, cells) in cells.chunks_mut(LANES).enumerate() {
            let (at, n) = (chunk * LANES, cells.len());
            let mut seen = Usable::all(0);
            work.numbers.clear();
            work.reach = Reach::NONE;
            let (mut best, mut chosen) = (Row::all(f32::INFINITY), Lanes::all(0u16));
            for look in looks {
                let planes = &planes[look.planes.clone()];
                for plane in planes {
                    plane.ahead(at + AHEAD);
                }
                let mut usable = Usable::all(0);
                clear_lanes(look.clear, look.bit, at, n, &mut usable);
                for plane in planes {
                    plane.valid(at, n, &mut usable);
                }
                if let Some(score) = look.score {
                    Plane::Values(score).valid(at, n, &mut usable);
                }
                if usable.lit() == Lit::None {
                    continue;
                }
                usable.count(&mut seen);
                match (op.choice, look.score) {
                    (Choice::Medoid, _) => {
                        let k = work.numbers.len();
                        work.numbers.push(look.number);
                        work.mark(k, &usable);
                        let measured = |band: usize| &planes[op.measured[band]];
                        if of_counts {
                            for (pair, first) in (0..op.measured.len()).step_by(2).enumerate() {
                                let single = first + 1 == op.measured.len();
                                measured(first).counts(at, n, &mut work.counts[0]);
                                if !single {
                                    measured(first + 1).counts(at, n, &mut work.counts[1]);
                                }
                                work.take_counts(k, pair, &usable, single);
                            }
                        } else {
                            for band in 0..op.measured.len() {
                                measured(band).values(at, n, &mut work.values);
                                work.take(with, k, band);
                            }
                        }
                    }
                    (Choice::Best, Some(score)) => {
                        for (l, v) in score[at..at + n].iter().enumerate() {
                            let better = usable[l] != 0 && -v < best[l];
                            best[l] = if better { -v } else { best[l] };
                            chosen[l] = if better { look.number } else { chosen[l] };
                        }
                    }
                    (Choice::Earliest, _) => {
                        for l in 0..LANES {
                            chosen[l] = if usable[l] != 0 && chosen[l] == 0 { look.number } else { chosen[l] };
                        }
                    }
                    (Choice::Latest | Choice::Best, _) => {
                        for l in 0..LANES {
                            chosen[l] = if usable[l] != 0 { look.number } else { chosen[l] };
                        }
                    }
                }
            }
            if op.choice == Choice::Medoid {
                let taken = match of_counts {
                    true if work.reach.apart() <= work.near => Taken::NearCounts,
                    true => Taken::Counts,
                    false => Taken::Values,
                };
                for (part, chosen) in work.parts.iter_mut().zip(chosen.as_chunks_mut::<PART>().0) {
                    *chosen = part.medoid(with, &work.numbers, taken);
                }
            }
            for ((c, chosen), s) in cells.iter_mut().zip(*chosen).zip(*seen) {
                *c = if u32::from(s) >= op.at_least { chosen } else { 0 };
            }
        }
    }
}

impl Op for Choose {
    fn output(&self, inputs: &[&PlaneSpec]) -> Result<(Kind, Unit)> {
        let wrong = || {
            Error::Usage(
                "a look is chosen from planes of clear looks and the same bands, one at least, of each of at most 1023 scenes"
                    .into(),
            )
        };
        let (clear, planes) = inputs.split_at_checked(self.looks()).ok_or_else(wrong)?;
        let bands: usize = self.samples.iter().map(Vec::len).sum();
        let scores = if self.choice == Choice::Best { self.samples.len() } else { 0 };
        let flags = clear.iter().all(|c| matches!(c.kind, Kind::Flags { .. }));
        let measured = self.choice != Choice::Medoid || !self.measured.is_empty();
        match flags && measured && planes.len() == bands + scores && self.samples.len() < 1 << 10 {
            true => Ok((Kind::Flags { outside: 0 }, Unit::Flags)),
            false => Err(wrong()),
        }
    }

    fn absence(&self) -> Absence {
        Absence::IfAll
    }

    fn compute(&self, inputs: &Inputs, out: &mut Tile) -> Result<()> {
        let window = out.window;
        let scenes = self.samples.len();
        let scores = self.looks() + self.samples.iter().map(Vec::len).sum::<usize>();
        let mut work = Work::new(if self.choice == Choice::Medoid { scenes } else { 0 }, self.measured.len());
        let of_counts = self.is_of_counts();
        let (mut looks, mut planes) = (vec![], vec![]);
        for row in window.row..window.end_row() {
            looks.clear();
            planes.clear();
            let mut next = self.looks();
            for (i, samples) in self.samples.iter().enumerate() {
                let first = next;
                next += samples.len();
                let (Some(clear), true) =
                    (inputs.get(i / Clear::SCENES), (first..next).all(|n| inputs.get(n).is_some()))
                else {
                    continue; // a band without data: no look
                };
                let score = match self.choice {
                    Choice::Best => match inputs.get(scores + i) {
                        Some(tile) => Some(values_row(tile, &window, row)),
                        None => continue,
                    },
                    _ => None,
                };
                let (clear, bit) = (bits_row(clear, &window, row), 1 << (i % Clear::SCENES));
                let before = planes.len();
                let tiles = samples.iter().zip((first..next).filter_map(|n| inputs.get(n)));
                planes.extend(tiles.map(|(sample, tile)| sample.row(tile, &window, row)));
                looks.push(Look { number: 1 + i as u16, clear, bit, planes: before..planes.len(), score });
            }
            let at = out.row_range(&window, row);
            wide::run(ChooseRow {
                op: self,
                looks: &looks,
                planes: &planes,
                of_counts,
                work: &mut work,
                cells: &mut out.bits_mut()[at],
            });
        }
        Ok(())
    }

    fn step(&self) -> &'static str {
        "choose a look"
    }
}

/// One band of the looks chosen. Inputs: the plane of choices ([`Choose`]), then a plane a scene.
#[derive(Debug)]
pub struct Chosen {
    /// How planes are read.
    pub samples: Vec<Sample>,
    /// Unit of the values.
    pub unit: Unit,
}

impl Op for Chosen {
    fn output(&self, inputs: &[&PlaneSpec]) -> Result<(Kind, Unit)> {
        let fits = match inputs {
            [choice, planes @ ..] => {
                matches!(choice.kind, Kind::Flags { .. })
                    && planes.len() == self.samples.len()
                    && self.samples.iter().zip(planes).all(|(s, p)| s.fits(p, self.unit))
            }
            [] => false,
        };
        match fits {
            true => Ok((Kind::Values, self.unit)),
            false => Err(Error::Usage("a band of chosen looks takes the choices, then a plane for each scene".into())),
        }
    }

    fn absence(&self) -> Absence {
        Absence::IfAll
    }

    fn compute(&self, inputs: &Inputs, out: &mut Tile) -> Result<()> {
        let window = out.window;
        let Some(choice) = inputs.get(0) else {
            out.values_mut().fill(f32::NAN);
            return Ok(());
        };
        let tiles = || (1..=self.samples.len()).map(|n| inputs.get(n));
        let (lines, mut rows) = (Lines::of(&self.samples, tiles()), vec![]);
        for row in window.row..window.end_row() {
            let at = out.row_range(&window, row);
            let chosen = bits_row(choice, &window, row);
            let cells = &mut out.values_mut()[at];
            match &lines {
                Some(lines) => {
                    rows.clear();
                    rows.push(None);
                    rows.extend(tiles().map(|tile| Some(bits_row(tile?, &window, row))));
                    wide::run(CountsRow { rows: &rows, lines, chosen, cells });
                }
                None => {
                    let planes = self.samples.iter().zip(tiles());
                    let planes: Vec<_> = planes.map(|(s, tile)| Some(s.row(tile?, &window, row))).collect();
                    wide::run(ChosenRow { planes: &planes, chosen, cells });
                }
            }
        }
        Ok(())
    }

    fn step(&self) -> &'static str {
        "take chosen looks"
    }
}

/// Lines of counts, by number of the look: 0 is none.
struct Lines {
    lines: Vec<Line>,
    /// The line, where all looks share it.
    shared: Option<Line>,
}

/// Without a look there is no value.
const NO_LINE: Line = Line { gain: 0.0, offset: f64::NAN };

impl Lines {
    /// Where all tiles are of counts with lines.
    fn of<'a>(samples: &[Sample], tiles: impl Iterator<Item = Option<&'a Tile>>) -> Option<Lines> {
        let mut lines = vec![None];
        for (sample, tile) in samples.iter().zip(tiles) {
            lines.push(match (tile, sample) {
                (Some(_), Sample::Counts(by)) => Some(by.line()?),
                (Some(_), Sample::Values) => return None,
                (None, _) => None,
            });
        }
        let mut given = lines.iter().flatten();
        let shared = given.next().filter(|first| given.all(|line| line == *first)).copied();
        let lines = lines.into_iter().map(|line| line.unwrap_or(NO_LINE)).collect();
        Some(Lines { lines, shared })
    }
}

/// Up to so many rows it is quicker to place all of them than to find out which are chosen.
const FEW: usize = 32;

/// As [`ChosenRow`], all planes being counts with lines: the counts of each look go where it is chosen, by vectors. That
/// is quicker than to fetch them cell by cell, even from some dozens of looks.
struct CountsRow<'a, 'b> {
    /// By number of the look.
    rows: &'a [Option<&'b [u16]>],
    lines: &'a Lines,
    chosen: &'a [u16],
    cells: &'a mut [f32],
}

impl wide::Loop for CountsRow<'_, '_> {
    #[inline(always)]
    fn run(self, _: impl wide::Instructions) {
        let CountsRow { rows, lines: Lines { lines, shared }, chosen, cells } = self;
        let (mut numbers, mut found) = (Lanes::all(0u16), Lanes::all(0u16));
        for (chunk, (cells, chosen)) in cells.chunks_mut(LANES).zip(chosen.chunks(LANES)).enumerate() {
            let (at, n) = (chunk * LANES, cells.len());
            // lanes from n on are of a look that the others have too
            numbers.fill(chosen[0]);
            of_lanes(chosen, &mut numbers, |_, number| number);
            let least = numbers.iter().fold(u16::MAX, |least, n| least.min(*n));
            let most = numbers.iter().fold(0, |most, n| most.max(*n));
            let mut given = least > 0 && usize::from(most) < rows.len();
            // by bits, that nothing is guessed wrongly: those of looks 1 to 64, that others have again
            let some = match rows.len() {
                0..=FEW => ((1 << FEW) - 1) >> (FEW + 1 - rows.len()),
                _ => numbers.iter().fold(0u64, |some, n| some | 1 << (n.wrapping_sub(1) & 63)),
            };
            for first in (1..=most).step_by(64) {
                let mut some = some;
                while some != 0 {
                    let number = first + some.trailing_zeros() as u16;
                    some &= some - 1;
                    match rows.get(usize::from(number)) {
                        Some(Some(row)) => {
                            wide::ahead(row, at + AHEAD);
                            wide::ahead(row, at + AHEAD + 32);
                            place(&row[at..at + n], number, &numbers, &mut found)
                        }
                        Some(None) => given = false,
                        None => {}
                    }
                }
            }
            match shared {
                Some(line) if given => Rule::Line(*line).row(&found[..n], cells),
                _ => {
                    for (cell, (count, number)) in cells.iter_mut().zip(found.iter().zip(chosen)) {
                        let line = lines.get(usize::from(*number)).copied().unwrap_or(NO_LINE);
                        *cell = Rule::Line(line).of(*count);
                    }
                }
            }
        }
    }
}

/// Puts a look's counts where its number is chosen.
#[inline(always)]
fn place(row: &[u16], number: u16, numbers: &Lanes<u16>, found: &mut Lanes<u16>) {
    // by bits: of a choice the compiler would make a branch for each cell
    let place = |found: u16, count: u16, n: u16| found ^ (found ^ count) & if n == number { u16::MAX } else { 0 };
    match <&[u16; LANES]>::try_from(row) {
        Ok(row) => {
            for l in 0..LANES {
                found[l] = place(found[l], row[l], numbers[l]);
            }
        }
        Err(_) => {
            for (l, count) in row.iter().enumerate() {
                found[l] = place(found[l], *count, numbers[l]);
            }
        }
    }
}

/// A row of cells, each of the look chosen for it.
struct ChosenRow<'a, 'b> {
    planes: &'a [Option<Plane<'b>>],
    chosen: &'a [u16],
    cells: &'a mut [f32],
}

impl wide::Loop for ChosenRow<'_, '_> {
    #[inline(always)]
    fn run(self, _: impl wide::Instructions) {
        let ChosenRow { planes, chosen, cells } = self;
        let plane = |number: u16| usize::from(number).checked_sub(1).and_then(|i| planes.get(i)?.as_ref());
        let mut values = Row::all(0.0);
        for (chunk, (cells, chosen)) in cells.chunks_mut(LANES).zip(chosen.chunks(LANES)).enumerate() {
            let (at, n) = (chunk * LANES, cells.len());
            let one = chosen.iter().fold(0, |differ, number| differ | number ^ chosen[0]) == 0;
            match plane(chosen[0]) {
                Some(plane) if one => {
                    plane.values(at, n, &mut values);
                    cells.copy_from_slice(&values[..n]);
                }
                _ => {
                    for (l, (cell, number)) in cells.iter_mut().zip(chosen).enumerate() {
                        *cell = plane(*number).map_or(f32::NAN, |plane| plane.value(at + l));
                    }
                }
            }
        }
    }
}

/// A number for each scene chosen, such as its day.
pub struct OfChosen {
    /// By number of the scene.
    pub numbers: Vec<f32>,
    /// Their unit.
    pub unit: Unit,
}

impl fmt::Debug for OfChosen {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "OfChosen {:?} {:?}", self.numbers, self.unit)
    }
}

impl Op for OfChosen {
    fn output(&self, inputs: &[&PlaneSpec]) -> Result<(Kind, Unit)> {
        match inputs {
            [choice] if matches!(choice.kind, Kind::Flags { .. }) => Ok((Kind::Values, self.unit)),
            _ => Err(Error::Usage("a number of the looks chosen takes the plane of choices".into())),
        }
    }

    fn compute(&self, inputs: &Inputs, out: &mut Tile) -> Result<()> {
        let (choice, window) = (inputs.tile(0), out.window);
        for row in window.row..window.end_row() {
            let at = out.row_range(&window, row);
            for (o, c) in out.values_mut()[at].iter_mut().zip(bits_row(choice, &window, row)) {
                *o = usize::from(*c).checked_sub(1).and_then(|i| self.numbers.get(i)).copied().unwrap_or(f32::NAN);
            }
        }
        Ok(())
    }

    fn step(&self) -> &'static str {
        "take chosen looks"
    }
}
