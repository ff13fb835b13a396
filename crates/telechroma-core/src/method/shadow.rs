//! The shadows of clouds: each cloud's shape, moved along the sun's azimuth, lies where it matches dark cells best.

use std::sync::atomic::{AtomicUsize, Ordering};

use crate::error::{Error, Result};
use crate::graph::{Inputs, NodeId};
use crate::grid::{Grid, Window};
use crate::held::{Span, Spans};
use crate::mask::{
    Bitmap, DARKER, HEIGHTS, LEAST_MATCH, Object, Reasons, fill_holes, height_step, heights, objects, offset,
};
use crate::run::{Absorb, Part, Prepare, Sink};
use crate::scene::{Scene, Sun};
use crate::tile::Tile;

/// Steps of reflectance that the sheet of near infrared tells apart.
const STEPS: f64 = 20_000.0;
/// A cell of the sheet that is not known.
const UNKNOWN: u16 = u16::MAX;
/// Most cells of the sheet: larger scenes are thinned out.
const MOST_CELLS: u64 = 70_000_000;
/// Level of clear land that lies beyond a scene's edge.
const BEYOND: f64 = 0.175;
/// Cells by which shadows are widened into dark cells beside them.
const FRINGE: u32 = 2;
/// Share of a cloud's cells whose shadow must fall on the scene.
const LEAST_SEEN: f64 = 0.05;

/// The near infrared of a scene in 16 bits a cell, every `thin`th cell of every `thin`th row.
pub(super) struct Sheet {
    thin: u32,
    cols: u32,
    rows: u32,
    cells: Vec<u16>,
}

/// What the second pass takes: the sheet, and how warm the clouds are.
pub(super) struct Taken {
    sheet: Sheet,
    /// Spans of cloud: row, first column, cells, and the sum of their temperatures in hundredths of a kelvin.
    warmth: Vec<(u32, u32, u32, u64)>,
}

/// The workers' half.
pub(super) struct Taker {
    thin: u32,
}

impl Taker {
    /// For scenes on a grid.
    pub fn new(grid: &Grid) -> (Taker, Taken) {
        let mut thin = 1;
        while grid.cells() / u64::from(thin * thin) > MOST_CELLS {
            thin += 1;
        }
        let (cols, rows) = (grid.cols.div_ceil(thin), grid.rows.div_ceil(thin));
        (Taker { thin }, Taken { sheet: Sheet { thin, cols, rows, cells: vec![] }, warmth: vec![] })
    }

    /// The sink: flags, near infrared, and the temperature where it is known.
    pub fn sink<'a>(&'a self, taken: &'a mut Taken, planes: Vec<NodeId>) -> Sink<'a> {
        taken.sheet.cells = vec![UNKNOWN; taken.sheet.cols as usize * taken.sheet.rows as usize];
        Sink { groups: vec![planes], prepare: self, absorb: taken }
    }
}

/// Rows of a tile: row and first column on the sheet, cells.
type SheetRows = Vec<(u32, u32, Vec<u16>)>;

impl Prepare for Taker {
    fn prepare(&self, _: usize, window: Window, planes: &Inputs) -> Result<Part> {
        let (mut rows, mut warmth): (SheetRows, Vec<(u32, u32, u32, u64)>) = (vec![], vec![]);
        let thin = i64::from(self.thin);
        if let Some(nir) = planes.get(1) {
            let first = window.col.div_euclid(thin) + i64::from(window.col.rem_euclid(thin) != 0);
            for row in (window.row..window.end_row()).filter(|r| r % thin == 0) {
                let values = &nir.values()[nir.row_range(&window, row)];
                let cells = values.iter().skip((first * thin - window.col) as usize).step_by(self.thin as usize);
                rows.push(((row / thin) as u32, first as u32, cells.map(|v| level(*v)).collect()));
            }
        }
        if let (Some(flags), true) = (planes.get(0), planes.len() > 2) {
            planes.get(2).into_iter().for_each(|kelvin| warmth_of(flags, kelvin, window, &mut warmth));
        }
        Ok(Box::new((rows, warmth)))
    }

    fn holds(&self, tile: Window, in_flight: usize) -> u64 {
        4 * tile.len() as u64 * in_flight as u64
    }
}

fn level(reflectance: f32) -> u16 {
    match reflectance.is_nan() {
        true => UNKNOWN,
        false => (f64::from(reflectance) * STEPS).round().clamp(0.0, f64::from(UNKNOWN - 1)) as u16,
    }
}

fn warmth_of(flags: &Tile, kelvin: &Tile, window: Window, found: &mut Vec<(u32, u32, u32, u64)>) {
    for row in window.row..window.end_row() {
        let cloud = &flags.bits()[flags.row_range(&window, row)];
        let kelvin = &kelvin.values()[kelvin.row_range(&window, row)];
        let mut open = false;
        for (i, (bits, k)) in cloud.iter().zip(kelvin).enumerate() {
            let here = bits & Reasons::CLOUD.bits() != 0 && k.is_finite();
            if here && !open {
                found.push((row as u32, (window.col + i as i64) as u32, 0, 0));
            }
            open = here;
            if let (true, Some(last)) = (here, found.last_mut()) {
                // whole hundredths: sums do not depend on how the scene was cut into tiles
                *last = (last.0, last.1, last.2 + 1, last.3 + (f64::from(*k) * 100.0).round() as u64);
            }
        }
    }
}

impl Absorb for Taken {
    fn absorb(&mut self, _: usize, part: Part) -> Result<()> {
        let Ok(part) = part.downcast::<(SheetRows, Vec<(u32, u32, u32, u64)>)>() else {
            unreachable!("parts come back to the sink that made them")
        };
        let (rows, warmth) = *part;
        for (row, col, cells) in rows {
            let at = row as usize * self.sheet.cols as usize + col as usize;
            self.sheet.cells[at..at + cells.len()].copy_from_slice(&cells);
        }
        self.warmth.extend(warmth);
        Ok(())
    }
}

/// The shadows of a scene.
pub(super) struct Shadows {
    /// Where.
    pub spans: Spans,
    clouds: usize,
    matched: usize,
    heights: Option<(f64, f64)>,
}

impl Shadows {
    /// How many were found, for people.
    pub fn text(&self) -> String {
        let heights = self.heights.map_or(String::new(), |(a, b)| format!(", clouds {a:.0} to {b:.0} m high"));
        format!("shadows of {} of {} clouds found{heights}", self.matched, self.clouds)
    }
}

/// Where shadows fall from, in cells of a grid.
struct Light {
    sun: Sun,
    azimuth: f64,
    /// Cell width and height, metres.
    cell: (f64, f64),
}

impl Light {
    fn of(scene: &Scene) -> Result<Light> {
        const SO: &str = "the shadows of clouds cannot be looked for";
        let sun = scene.sunlight(SO)?;
        let metres = scene.grid.crs.and_then(|c| c.metres()).filter(|_| scene.grid.is_metric());
        let metres =
            metres.ok_or_else(|| Error::Usage(format!("scene {}: its grid is not in metres, so {SO}", scene.id)))?;
        let (w, h) = scene.grid.transform.cell();
        let azimuth = sun.azimuth.0 + scene.grid.true_north()?;
        Ok(Light { sun, azimuth, cell: (w * metres, h * metres) })
    }

    /// The shift of a shadow in whole columns and rows.
    fn shift(&self, height: f64) -> (i64, i64) {
        let (east, north) = offset(height, self.azimuth, self.sun.elevation.0);
        ((east / self.cell.0).round() as i64, (-north / self.cell.1).round() as i64)
    }
}

/// Finds the shadows of the clouds among `sky`. `land`: low and high temperatures of clear land, kelvin.
///
/// # Errors
/// Where the sun's place is not known, or the grid is not in metres.
pub(super) fn find_shadows(
    scene: &Scene,
    sky: &Spans,
    taken: Taken,
    land: Option<(f64, f64)>,
    threads: usize,
) -> Result<Shadows> {
    let light = Light::of(scene)?;
    let (cols, rows) = (scene.grid.cols, scene.grid.rows);
    let mut runs: Vec<(u32, u32, u32)> = vec![];
    let mut seen = Bitmap::new(cols, rows);
    let mut cloud = Bitmap::new(cols, rows);
    let mut water = Bitmap::new(cols, rows);
    for (row, spans) in (0u32..).zip(&sky.rows) {
        let mut from = 0;
        for s in spans.iter().filter(|s| s.bits & Reasons::FILL.bits() != 0) {
            seen.set_span(row, from, s.col);
            from = s.end;
        }
        seen.set_span(row, from, cols);
        for s in spans.iter().filter(|s| s.bits & Reasons::WATER.bits() != 0) {
            water.set_span(row, s.col, s.end);
        }
        for s in spans.iter().filter(|s| s.bits & Reasons::CLOUD.bits() != 0) {
            cloud.set_span(row, s.col, s.end);
            match runs.last_mut() {
                Some(last) if last.0 == row && last.2 == s.col => last.2 = s.end,
                _ => runs.push((row, s.col, s.end)),
            }
        }
    }
    let dark = dark_cells(taken.sheet, &cloud, (cols, rows));
    let clouds = objects(&runs);
    let warmth = mean_warmth(&clouds, &taken.warmth);
    let mut found = Shadows { spans: Spans::new(rows), clouds: clouds.len(), matched: 0, heights: None };
    let maps = Maps { seen: &seen, cloud: &cloud, water: &water, dark: &dark };
    let mut matched: Vec<(f64, u64)> = vec![];
    let mut shadow = Bitmap::new(cols, rows);
    let range = |kelvin: &Option<f64>| land.zip(*kelvin).map_or(HEIGHTS, |(land, cloud)| heights(land, cloud));
    let tasks: Vec<(&Object, (f64, f64))> = clouds.iter().zip(warmth.iter().map(range)).collect();
    let mut unmatched = vec![];
    for (object, height) in clouds.iter().zip(best_heights(&tasks, &light, &maps, threads)) {
        let Some(height) = height else {
            unmatched.push(object);
            continue;
        };
        found.matched += 1;
        found.heights = Some(found.heights.map_or((height, height), |(a, b)| (a.min(height), b.max(height))));
        let size = (cols, rows);
        maps.cast(object, light.shift(height), size, false, &mut shadow);
        matched.push((height, object.cells()));
    }
    if let Some(height) = usual_height(matched) {
        let (shift, size) = (light.shift(height), (cols, rows));
        // where no height matches well, the usual one may still point at dark cells
        unmatched.into_iter().for_each(|o| maps.cast(o, shift, size, true, &mut shadow));
        maps.beyond_the_edge(shift, size, &mut shadow);
    }
    for _ in 0..FRINGE {
        shadow = maps.widened(&shadow, (cols, rows));
    }
    for (row, spans) in (0..rows).zip(&mut found.spans.rows) {
        let runs = shadow.runs(row);
        spans.extend(runs.map(|(col, end)| Span { col, end, bits: Reasons::SHADOW.bits() }));
    }
    Ok(found)
}

/// The height that half of the clouds' cells lie below; none without clouds.
fn usual_height(mut matched: Vec<(f64, u64)>) -> Option<f64> {
    matched.sort_by(|a, b| a.0.total_cmp(&b.0));
    let half = matched.iter().map(|m| m.1).sum::<u64>() / 2;
    let mut below = 0;
    matched.iter().find_map(|(height, cells)| {
        below += cells;
        (below > half).then_some(*height)
    })
}

/// Cells that are set where something is.
struct Maps<'a> {
    seen: &'a Bitmap,
    cloud: &'a Bitmap,
    water: &'a Bitmap,
    /// Dark in the near infrared, or cloud.
    dark: &'a Bitmap,
}

/// The best height of each cloud, several at a time.
fn best_heights(tasks: &[(&Object, (f64, f64))], light: &Light, maps: &Maps, threads: usize) -> Vec<Option<f64>> {
    let next = AtomicUsize::new(0);
    let work = || {
        let mut done = vec![];
        while let Some((number, (object, range))) =
            Some(next.fetch_add(1, Ordering::Relaxed)).and_then(|i| Some((i, tasks.get(i)?)))
        {
            done.push((number, best_height(object, *range, light, maps)));
        }
        done
    };
    let mut heights = vec![None; tasks.len()];
    std::thread::scope(|s| {
        let workers: Vec<_> = (0..threads.max(1)).map(|_| s.spawn(work)).collect();
        for worker in workers {
            match worker.join() {
                Ok(done) => done.into_iter().for_each(|(number, height)| heights[number] = height),
                Err(panic) => std::panic::resume_unwind(panic),
            }
        }
    });
    heights
}

/// The height at which a cloud's shadow matches best: the lowest of equals; none where no match is good.
fn best_height(object: &Object, (from, to): (f64, f64), light: &Light, maps: &Maps) -> Option<f64> {
    let step = height_step(light.cell.0.min(light.cell.1), light.sun.elevation.0);
    let least = (object.cells() as f64 * LEAST_SEEN).max(1.0);
    let mut best: Option<(f64, f64)> = None;
    let mut height = from;
    let mut last = None;
    while height <= to {
        let shift = light.shift(height);
        if last.replace(shift) != Some(shift) {
            let own = object.overlap(shift.0, shift.1);
            let count = |map: &Bitmap| {
                let one = |(row, a, b): &(u32, u32, u32)| {
                    map.count(i64::from(*row) + shift.1, i64::from(*a) + shift.0, i64::from(*b) + shift.0)
                };
                object.runs.iter().map(|r| u64::from(one(r))).sum::<u64>()
            };
            // the cloud's own cells are seen, and cloud
            let (considered, dark) = (count(maps.seen).saturating_sub(own), count(maps.dark).saturating_sub(own));
            let score = dark as f64 / considered as f64;
            if considered as f64 >= least && best.is_none_or(|(s, _)| score > s) {
                best = Some((score, height));
            }
        }
        height += step;
    }
    best.filter(|(score, _)| *score >= LEAST_MATCH).map(|(_, height)| height)
}

impl Maps<'_> {
    /// Shadows of clouds that hang beyond the scene's edge: no cloud can be matched there, so dark cells that are not water
    /// are taken for shadow where what would throw it, at the scene's usual height of clouds, is not seen.
    fn beyond_the_edge(&self, (across, down): (i64, i64), (cols, rows): (u32, u32), onto: &mut Bitmap) {
        for row in 0..i64::from(rows) {
            let above = self.seen.count(row - down, -across, i64::from(cols) - across);
            if above == cols {
                continue; // what throws shadows on this row is all seen
            }
            for c in (0..i64::from(cols)).filter(|c| self.may_darken(*c, row)) {
                if !self.seen.has(c - across, row - down) {
                    onto.set(c as u32, row as u32);
                }
            }
        }
    }

    /// True for dark cells on which a shadow may lie: seen, neither cloud nor water.
    fn may_darken(&self, c: i64, row: i64) -> bool {
        self.dark.has(c, row) && self.seen.has(c, row) && !self.cloud.has(c, row) && !self.water.has(c, row)
    }

    /// Shadows with the dark cells beside them: a cloud's soft edge is missed more easily than its shadow's.
    fn widened(&self, shadow: &Bitmap, (cols, rows): (u32, u32)) -> Bitmap {
        let mut wide = shadow.clone();
        for row in 0..rows {
            for (from, to) in shadow.runs(row) {
                let beside = i64::from(from) - 1..(i64::from(to) + 1).min(i64::from(cols));
                for r in (i64::from(row) - 1..=i64::from(row) + 1).filter(|r| *r < i64::from(rows)) {
                    for c in beside.clone().filter(|c| !shadow.has(*c, r) && self.may_darken(*c, r)) {
                        wide.set(c as u32, r as u32);
                    }
                }
            }
        }
        wide
    }

    /// The shadow of an object on cells that are seen and not cloud themselves; of these only the dark ones, if so wanted.
    fn cast(
        &self,
        object: &Object,
        (across, down): (i64, i64),
        (cols, rows): (u32, u32),
        only_dark: bool,
        onto: &mut Bitmap,
    ) {
        for (row, from, to) in &object.runs {
            let row = i64::from(*row) + down;
            if !(0..i64::from(rows)).contains(&row) {
                continue;
            }
            let (from, to) = ((i64::from(*from) + across).max(0), (i64::from(*to) + across).min(i64::from(cols)));
            let shaded = |c: &i64| match only_dark {
                true => self.may_darken(*c, row),
                false => self.seen.has(*c, row) && !self.cloud.has(*c, row),
            };
            (from..to).filter(shaded).for_each(|c| onto.set(c as u32, row as u32));
        }
    }
}

/// Cells darker in the near infrared than the rim of the hole they lie in, and clouds.
fn dark_cells(mut sheet: Sheet, cloud: &Bitmap, (cols, rows): (u32, u32)) -> Bitmap {
    let thin = sheet.thin as usize;
    let mut histogram = vec![0u64; usize::from(UNKNOWN) + 1];
    for (i, v) in sheet.cells.iter().enumerate() {
        let (c, r) = (i % sheet.cols as usize * thin, i / sheet.cols as usize * thin);
        if !cloud.has(c as i64, r as i64) {
            histogram[usize::from(*v)] += 1;
        }
    }
    histogram.pop();
    let rank = (histogram.iter().sum::<u64>() as f64 * BEYOND) as u64;
    let mut below = 0;
    let reached = histogram.iter().position(|n| {
        below += n;
        below > rank
    });
    let background = reached.unwrap_or(0) as u16;
    // beyond the edge, and where nothing is seen, lies ordinary land
    sheet.cells.iter_mut().filter(|v| **v == UNKNOWN).for_each(|v| *v = background);
    let filled = fill_holes(&sheet.cells, sheet.cols as usize, background);
    let darker = (DARKER * STEPS) as u16;
    let mut dark = cloud.clone();
    for (r, row) in (0..rows).zip((0..rows as usize).map(|r| r / thin * sheet.cols as usize)) {
        for c in 0..cols {
            let i = row + c as usize / thin;
            if filled[i] - sheet.cells[i] > darker {
                dark.set(c, r);
            }
        }
    }
    dark
}

/// The mean temperature of each cloud, kelvin; none where none is known.
fn mean_warmth(clouds: &[Object], warmth: &[(u32, u32, u32, u64)]) -> Vec<Option<f64>> {
    let mut starts: Vec<(u32, u32, usize)> = vec![];
    for (number, o) in clouds.iter().enumerate() {
        starts.extend(o.runs.iter().map(|r| (r.0, r.1, number)));
    }
    starts.sort_unstable();
    let mut sums = vec![(0u64, 0u64); clouds.len()];
    for (row, col, cells, heat) in warmth {
        let behind = starts.partition_point(|s| (s.0, s.1) <= (*row, *col));
        if let Some((_, _, number)) = behind.checked_sub(1).map(|i| starts[i]) {
            sums[number].0 += u64::from(*cells);
            sums[number].1 += heat;
        }
    }
    sums.into_iter().map(|(n, heat)| (n > 0).then(|| heat as f64 / n as f64 / 100.0)).collect()
}
