//! Planes of one kind joined side by side: what counts where they overlap.

use std::str::FromStr;

use crate::error::{Error, Result};
use crate::graph::{Absence, Inputs, Op, bits_row, values_row};
use crate::tile::{Kind, PlaneSpec, Tile};
use crate::units::Unit;

/// What counts where planes overlap.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub enum Overlap {
    /// The first plane with a value.
    #[default]
    First,
    /// The last plane with a value.
    Last,
    /// The mean of all values.
    Mean,
    /// The plane whose score is greatest, one choice for all bands.
    Best,
}

const NAMES: &[(&str, Overlap)] =
    &[("first", Overlap::First), ("last", Overlap::Last), ("mean", Overlap::Mean), ("best", Overlap::Best)];

impl FromStr for Overlap {
    type Err = Error;

    fn from_str(text: &str) -> Result<Overlap> {
        let found = NAMES.iter().find(|(n, _)| *n == text).map(|(_, o)| *o);
        found.ok_or_else(|| Error::unknown("overlap rule", text, NAMES.iter().map(|(n, _)| n)))
    }
}

fn all_values(inputs: &[&PlaneSpec], unit: Unit) -> Result<(Kind, Unit)> {
    match inputs.iter().all(|i| i.kind == Kind::Values) {
        true => Ok((Kind::Values, unit)),
        false => Err(Error::Usage("only planes of values can be joined".into())),
    }
}

/// Planes of values in one unit, by [`Overlap::First`], [`Overlap::Last`] or [`Overlap::Mean`].
#[derive(Debug)]
pub struct Join {
    /// The rule.
    pub overlap: Overlap,
}

impl Op for Join {
    fn output(&self, inputs: &[&PlaneSpec]) -> Result<(Kind, Unit)> {
        let unit = inputs.first().map_or(Unit::Unknown, |i| i.unit);
        if let Some(other) = inputs.iter().find(|i| i.unit != unit) {
            return Err(Error::UnitMismatch {
                what: "a plane to join".into(),
                found: other.unit.label().into(),
                wants: format!("{}, as in the first,", Unit::label(unit)),
            });
        }
        all_values(inputs, unit)
    }

    fn absence(&self) -> Absence {
        Absence::IfAll
    }

    fn compute(&self, inputs: &Inputs, out: &mut Tile) -> Result<()> {
        let window = out.window;
        let mut order: Vec<usize> = (0..inputs.len()).collect();
        if self.overlap == Overlap::Last {
            order.reverse();
        }
        let mut sums = vec![(0.0f64, 0u32); window.cols as usize];
        for row in window.row..window.end_row() {
            let at = out.row_range(&window, row);
            let cells = &mut out.values_mut()[at];
            cells.fill(f32::NAN);
            sums.fill((0.0, 0));
            for tile in order.iter().filter_map(|i| inputs.get(*i)) {
                let from = values_row(tile, &window, row);
                if self.overlap == Overlap::Mean {
                    for (s, v) in sums.iter_mut().zip(from).filter(|(_, v)| !v.is_nan()) {
                        *s = (s.0 + f64::from(*v), s.1 + 1);
                    }
                } else {
                    cells.iter_mut().zip(from).filter(|(o, _)| o.is_nan()).for_each(|(o, v)| *o = *v);
                }
            }
            if self.overlap == Overlap::Mean {
                for (o, (sum, n)) in cells.iter_mut().zip(&sums).filter(|(_, s)| s.1 > 0) {
                    *o = (sum / f64::from(*n)) as f32;
                }
            }
        }
        Ok(())
    }

    fn step(&self) -> &'static str {
        "join"
    }
}

/// The number, from 1, of the plane of scores that is greatest; of equal ones the first. 0 where none has a value.
#[derive(Debug)]
pub struct Pick;

impl Op for Pick {
    fn output(&self, inputs: &[&PlaneSpec]) -> Result<(Kind, Unit)> {
        all_values(inputs, Unit::Flags).map(|_| (Kind::Flags { outside: 0 }, Unit::Flags))
    }

    fn absence(&self) -> Absence {
        Absence::IfAll
    }

    fn compute(&self, inputs: &Inputs, out: &mut Tile) -> Result<()> {
        let window = out.window;
        let mut best = vec![f32::NEG_INFINITY; window.cols as usize];
        for row in window.row..window.end_row() {
            let at = out.row_range(&window, row);
            let cells = &mut out.bits_mut()[at];
            cells.fill(0);
            best.fill(f32::NEG_INFINITY);
            for (n, tile) in (0..inputs.len()).filter_map(|i| Some((i as u16 + 1, inputs.get(i)?))) {
                for ((o, b), v) in cells.iter_mut().zip(&mut best).zip(values_row(tile, &window, row)) {
                    if *v > *b {
                        (*o, *b) = (n, *v); // NaN is greater than nothing
                    }
                }
            }
        }
        Ok(())
    }

    fn step(&self) -> &'static str {
        "pick the best"
    }
}

/// The value of the plane that was picked: the first input is the plane of numbers, from 1.
#[derive(Debug)]
pub struct Gather {
    /// The unit of the planes.
    pub unit: Unit,
}

impl Op for Gather {
    fn output(&self, inputs: &[&PlaneSpec]) -> Result<(Kind, Unit)> {
        all_values(&inputs[1..], self.unit)
    }

    fn absence(&self) -> Absence {
        Absence::IfAll
    }

    fn compute(&self, inputs: &Inputs, out: &mut Tile) -> Result<()> {
        let window = out.window;
        for row in window.row..window.end_row() {
            let at = out.row_range(&window, row);
            let cells = &mut out.values_mut()[at];
            cells.fill(f32::NAN);
            let Some(picked) = inputs.get(0) else { continue };
            let picked = bits_row(picked, &window, row);
            for (n, tile) in (1..inputs.len()).filter_map(|i| Some((i as u16, inputs.get(i)?))) {
                let from = values_row(tile, &window, row);
                cells.iter_mut().zip(picked).zip(from).filter(|((_, p), _)| **p == n).for_each(|((o, _), v)| *o = *v);
            }
        }
        Ok(())
    }

    fn step(&self) -> &'static str {
        "gather"
    }
}
