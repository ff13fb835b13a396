//! One look for each cell, the same for all bands: which scene's values are taken, so that a spectrum was really seen.

use std::fmt;
use std::str::FromStr;

use super::Clear;
use super::calibrate::Rule;
use super::lanes::{LANES, Lanes, Lit, Row, Usable};
use super::medoid::{Looks, PART};
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
}

/// One scene's rows.
struct Look<'a> {
    /// 1 + its number.
    number: u16,
    clear: &'a [u16],
    bit: u16,
    planes: Vec<Plane<'a>>,
    score: Option<&'a [f32]>,
}

struct ChooseRow<'a, 'b> {
    op: &'a Choose,
    looks: &'a [Look<'b>],
    work: &'a mut Work,
    cells: &'a mut [u16],
}

/// Scratch space for the looks of some cells.
struct Work {
    parts: [Looks; LANES / PART],
    values: Row,
}

impl Work {
    fn new(looks: usize, bands: usize) -> Work {
        Work { parts: std::array::from_fn(|_| Looks::new(looks, bands)), values: Row::all(0.0) }
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
        let Work { parts, values } = self;
        for (part, values) in parts.iter_mut().zip(values.as_chunks::<PART>().0) {
            part.take(with, k, band, values);
        }
    }
}

impl wide::Loop for ChooseRow<'_, '_> {
    #[inline(always)]
    fn run(self, with: impl wide::Instructions) {
        let ChooseRow { op, looks, work, cells } = self;
        for (chunk, cells) in cells.chunks_mut(LANES).enumerate() {
            let (at, n) = (chunk * LANES, cells.len());
            let (mut k, mut seen) = (0, Usable::all(0));
            let mut numbers = [0u16; 1 << 10];
            let (mut best, mut chosen) = (Row::all(f32::INFINITY), Lanes::all(0u16));
            for look in looks {
                for plane in &look.planes {
                    plane.ahead(at + AHEAD);
                }
                let mut usable = Usable::all(0);
                clear_lanes(look.clear, look.bit, at, n, &mut usable);
                for plane in &look.planes {
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
                        work.mark(k, &usable);
                        for (band, i) in op.measured.iter().enumerate() {
                            look.planes[*i].values(at, n, &mut work.values);
                            work.take(with, k, band);
                        }
                        numbers[k] = look.number;
                        k += 1;
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
                for (part, chosen) in work.parts.iter_mut().zip(chosen.as_chunks_mut::<PART>().0) {
                    *chosen = part.medoid(with, &numbers[..k]);
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
        for row in window.row..window.end_row() {
            let (mut looks, mut next) = (vec![], self.looks());
            for (i, samples) in self.samples.iter().enumerate() {
                let first = next;
                next += samples.len();
                let planes = samples.iter().zip(first..).map(|(s, n)| Some(s.row(inputs.get(n)?, &window, row)));
                let (Some(clear), Some(planes)) = (inputs.get(i / Clear::SCENES), planes.collect::<Option<Vec<_>>>())
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
                looks.push(Look { number: 1 + i as u16, clear, bit, planes, score });
            }
            let at = out.row_range(&window, row);
            wide::run(ChooseRow { op: self, looks: &looks, work: &mut work, cells: &mut out.bits_mut()[at] });
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
        for row in window.row..window.end_row() {
            let at = out.row_range(&window, row);
            let chosen = bits_row(choice, &window, row);
            let planes: Vec<Option<Plane>> =
                self.samples.iter().zip(1..).map(|(s, n)| Some(s.row(inputs.get(n)?, &window, row))).collect();
            let cells = &mut out.values_mut()[at];
            match counted(&planes) {
                Some(counted) => wide::run(CountsRow { counted: &counted, chosen, cells }),
                None => wide::run(ChosenRow { planes: &planes, chosen, cells }),
            }
        }
        Ok(())
    }

    fn step(&self) -> &'static str {
        "take chosen looks"
    }
}

/// Rows of counts.
struct Counted<'a> {
    /// By look.
    rows: Vec<Option<&'a [u16]>>,
    /// By number: look 0 is none.
    lines: Vec<Line>,
    /// The line, where all looks share it.
    shared: Option<Line>,
}

/// Where all rows are counts with lines.
fn counted<'a>(planes: &[Option<Plane<'a>>]) -> Option<Counted<'a>> {
    let none = Line { gain: 0.0, offset: f64::NAN };
    let (mut rows, mut lines) = (vec![], vec![none]);
    for plane in planes {
        let (row, line) = match plane {
            Some(Plane::Counts { row, rule: Rule::Line(line), .. }) => (Some(*row), *line),
            Some(_) => return None,
            None => (None, none),
        };
        rows.push(row);
        lines.push(line);
    }
    let mut given = lines[1..].iter().zip(&rows).filter_map(|(line, row)| row.and(Some(*line)));
    let shared = given.next().filter(|first| given.all(|line| line == *first));
    Some(Counted { rows, lines, shared })
}

/// As [`ChosenRow`], all planes being counts with lines: the counts of each look go where it is chosen, by vectors. That
/// is quicker than to fetch them cell by cell, even from some dozens of looks.
struct CountsRow<'a, 'b> {
    counted: &'a Counted<'b>,
    chosen: &'a [u16],
    cells: &'a mut [f32],
}

impl wide::Loop for CountsRow<'_, '_> {
    #[inline(always)]
    fn run(self, _: impl wide::Instructions) {
        let CountsRow { counted: Counted { rows, lines, shared }, chosen, cells } = self;
        let none = lines[0];
        let (mut numbers, mut found) = (Lanes::all(0u16), Lanes::all(0u16));
        for (chunk, (cells, chosen)) in cells.chunks_mut(LANES).zip(chosen.chunks(LANES)).enumerate() {
            let (at, n) = (chunk * LANES, cells.len());
            // lanes from n on are of a look that the others have too
            numbers.fill(chosen[0]);
            of_lanes(chosen, &mut numbers, |_, number| number);
            let least = numbers.iter().fold(u16::MAX, |least, n| least.min(*n));
            let most = numbers.iter().fold(0, |most, n| most.max(*n));
            let mut given = least > 0 && usize::from(most) <= rows.len();
            for (number, row) in (1..).zip(rows).take(usize::from(most)).skip(usize::from(least).saturating_sub(1)) {
                match row {
                    Some(row) => place(&row[at..at + n], number, &numbers, &mut found),
                    None => given = false,
                }
            }
            match shared {
                Some(line) if given => Rule::Line(*line).row(&found[..n], cells),
                _ => {
                    for (cell, (count, number)) in cells.iter_mut().zip(found.iter().zip(chosen)) {
                        let line = lines.get(usize::from(*number)).copied().unwrap_or(none);
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
