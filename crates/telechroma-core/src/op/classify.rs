//! Values to the numbers of their classes.

use std::sync::Arc;

use crate::class::Classes;
use crate::error::{Error, Result};
use crate::graph::{Inputs, Op, values_row};
use crate::tile::{Kind, PlaneSpec, Tile};
use crate::units::Unit;

/// 1 for the lowest class and so on; missing where a value is missing or in no class.
#[derive(Debug)]
pub struct Classify {
    /// The classes.
    pub classes: Classes,
}

impl Op for Classify {
    fn output(&self, inputs: &[&PlaneSpec]) -> Result<(Kind, Unit)> {
        match inputs {
            [one] if one.kind == Kind::Values => Ok((Kind::Values, Unit::One)),
            _ => Err(Error::Usage("only a plane of values can be put into classes".into())),
        }
    }

    fn compute(&self, inputs: &Inputs, out: &mut Tile) -> Result<()> {
        let (values, window) = (inputs.tile(0), out.window);
        for row in window.row..window.end_row() {
            let at = out.row_range(&window, row);
            for (o, v) in out.values_mut()[at].iter_mut().zip(values_row(values, &window, row)) {
                *o = self.classes.of(f64::from(*v)).map_or(f32::NAN, |c| (c + 1) as f32);
            }
        }
        Ok(())
    }

    fn step(&self) -> &'static str {
        "put into classes"
    }
}

/// How much of a cell belongs to a class: 1, or its area, where a plane of class numbers holds it; 0 in other classes.
#[derive(Debug)]
pub struct OfClass {
    /// The class's number, from 1.
    pub class: u16,
    /// Area of the cells of each row of the grid; none: 1.
    pub areas: Option<Arc<Vec<f32>>>,
}

impl Op for OfClass {
    fn output(&self, inputs: &[&PlaneSpec]) -> Result<(Kind, Unit)> {
        match inputs {
            [one] if one.kind == Kind::Values => Ok((Kind::Values, Unit::One)),
            _ => Err(Error::Usage("the share of a class takes a plane of class numbers".into())),
        }
    }

    fn compute(&self, inputs: &Inputs, out: &mut Tile) -> Result<()> {
        let (classes, window, class) = (inputs.tile(0), out.window, f32::from(self.class));
        for row in window.row..window.end_row() {
            let row_area = |areas: &Arc<Vec<f32>>| usize::try_from(row).ok().and_then(|r| areas.get(r)).copied();
            let area = self.areas.as_ref().map_or(Some(1.0), row_area).unwrap_or(f32::NAN);
            let at = out.row_range(&window, row);
            for (o, c) in out.values_mut()[at].iter_mut().zip(values_row(classes, &window, row)) {
                *o = match () {
                    () if c.is_nan() => f32::NAN,
                    () if *c == class => area,
                    () => 0.0,
                };
            }
        }
        Ok(())
    }

    fn step(&self) -> &'static str {
        "put into classes"
    }
}
