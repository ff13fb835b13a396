//! The samples of a scene's plane: counts that are calibrated on the way, or values as they are.

use super::calibrate::{Calibrator, Rule};
use super::lanes::{LANES, Lanes, Row, Usable};
use crate::graph::{bits_row, values_row};
use crate::grid::Window;
use crate::tile::{Kind, PlaneSpec, Tile};
use crate::units::Unit;
use crate::wide;

/// How one scene's plane is read.
#[derive(Debug)]
pub enum Sample {
    /// Raw counts with their calibration.
    Counts(Calibrator),
    /// Values as they are; NaN is not valid.
    Values,
}

/// A row of a scene's plane.
pub(super) enum Plane<'a> {
    Counts { row: &'a [u16], rule: Rule<'a>, fill: Option<u16> },
    Values(&'a [f32]),
}

impl Sample {
    /// A row of a plane that is read so.
    pub(super) fn row<'a>(&'a self, tile: &'a Tile, window: &Window, row: i64) -> Plane<'a> {
        match self {
            Sample::Counts(by) => Plane::Counts { row: bits_row(tile, window, row), rule: by.rule(), fill: by.fill() },
            Sample::Values => Plane::Values(values_row(tile, window, row)),
        }
    }

    /// True for a plane that can be read so, in a unit.
    pub(super) fn fits(&self, plane: &PlaneSpec, unit: Unit) -> bool {
        match self {
            Sample::Counts(_) => matches!(plane.kind, Kind::Counts { .. }),
            Sample::Values => plane.kind == Kind::Values && plane.unit == unit,
        }
    }
}

/// How many cells ahead planes are asked for: a few vectors.
pub(super) const AHEAD: usize = 4 * LANES;

impl Plane<'_> {
    /// Asks for the cells of a chunk from `at` on.
    #[inline(always)]
    pub(super) fn ahead(&self, at: usize) {
        match self {
            Plane::Counts { row, .. } => (0..LANES).step_by(32).for_each(|c| wide::ahead(row, at + c)),
            Plane::Values(row) => (0..LANES).step_by(16).for_each(|c| wide::ahead(row, at + c)),
        }
    }

    /// Leaves in `usable` only those of `n` cells from `at` on that hold a value.
    #[inline(always)]
    pub(super) fn valid(&self, at: usize, n: usize, usable: &mut Usable) {
        match self {
            Plane::Counts { row, fill, .. } => {
                if let Some(fill) = fill {
                    of_lanes(&row[at..at + n], usable, |u, c| if c != *fill { u } else { 0 });
                }
            }
            Plane::Values(row) => of_lanes(&row[at..at + n], usable, |u, v| if v.is_finite() { u } else { 0 }),
        }
    }

    /// The counts, of a plane that holds such.
    #[inline(always)]
    pub(super) fn counts(&self, at: usize, n: usize, out: &mut Lanes<u16>) {
        if let Plane::Counts { row, .. } = self {
            of_lanes(&row[at..at + n], out, |_, count| count);
        }
    }

    /// The calibrated value of one cell.
    #[inline(always)]
    pub(super) fn value(&self, at: usize) -> f32 {
        match self {
            Plane::Counts { row, rule, .. } => rule.of(row[at]),
            Plane::Values(row) => row[at],
        }
    }

    /// The calibrated values.
    #[inline(always)]
    pub(super) fn values(&self, at: usize, n: usize, out: &mut Row) {
        self.each(at, n, out, |v| v);
    }

    /// The same, in another form.
    #[inline(always)]
    pub(super) fn each<T: Copy>(&self, at: usize, n: usize, out: &mut Lanes<T>, form: impl Fn(f32) -> T) {
        match self {
            Plane::Counts { row, rule, .. } => match <&[u16; LANES]>::try_from(&row[at..at + n]) {
                Ok(counts) => rule.each(counts, &mut out[..], form),
                Err(_) => rule.each(&row[at..at + n], &mut out[..n], form),
            },
            Plane::Values(row) => of_lanes(&row[at..at + n], out, |_, v| form(v)),
        }
    }
}

/// Changes lanes by cells. Nearly always all of them: a loop whose length the compiler knows is a few vectors.
#[inline(always)]
pub(super) fn of_lanes<T: Copy, U: Copy>(cells: &[T], lanes: &mut Lanes<U>, change: impl Fn(U, T) -> U) {
    match <&[T; LANES]>::try_from(cells) {
        Ok(cells) => {
            for l in 0..LANES {
                lanes[l] = change(lanes[l], cells[l]);
            }
        }
        Err(_) => lanes.iter_mut().zip(cells).for_each(|(l, c)| *l = change(*l, *c)),
    }
}

/// Which of `n` cells from `at` on a scene shows clearly. Lanes from `n` on are left as they are.
#[inline(always)]
pub(super) fn clear_lanes(clear: &[u16], bit: u16, at: usize, n: usize, usable: &mut Usable) {
    of_lanes(&clear[at..at + n], usable, |_, m| if m & bit != 0 { u16::MAX } else { 0 });
}
