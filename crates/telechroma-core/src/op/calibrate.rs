//! Counts to a quantity, cell by cell.

use std::fmt;
use std::sync::OnceLock;

use crate::error::{Error, Result};
use crate::graph::{Inputs, Op, bits_row};
use crate::physics::{Calibration, Line};
use crate::tile::{Kind, PlaneSpec, Tile};
use crate::units::Unit;

/// A calibration ready to be applied to counts: computed in double precision, rounded once to f32.
pub struct Calibrator {
    calibration: Calibration,
    /// The count that means missing.
    fill: Option<u16>,
    table: OnceLock<Box<[f32; 65536]>>,
}

impl Calibrator {
    /// For counts whose fill count is `fill`.
    pub fn new(calibration: Calibration, fill: Option<u16>) -> Calibrator {
        Calibrator { calibration, fill, table: OnceLock::new() }
    }

    /// The same once more.
    pub fn again(&self) -> Calibrator {
        Calibrator::new(self.calibration, self.fill)
    }

    /// The count that means missing.
    pub fn fill(&self) -> Option<u16> {
        self.fill
    }

    /// The line, if it is one.
    pub(crate) fn line(&self) -> Option<Line> {
        if let Calibration::Line(line) = self.calibration { Some(line) } else { None }
    }

    /// The line, or the table of every count's value: a logarithm for each sample would cost more than all else.
    pub(crate) fn rule(&self) -> Rule<'_> {
        match self.calibration {
            Calibration::Line(line) => Rule::Line(line),
            curve @ Calibration::Brightness { .. } => Rule::Table(self.table.get_or_init(|| {
                let mut table = Box::new([0f32; 65536]);
                table.iter_mut().enumerate().for_each(|(count, v)| *v = curve.at(count as f64) as f32);
                table
            })),
        }
    }
}

impl fmt::Debug for Calibrator {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "{:?} fill {:?}", self.calibration, self.fill)
    }
}

/// How a row is calibrated.
pub(crate) enum Rule<'a> {
    Line(Line),
    Table(&'a [f32; 65536]),
}

impl Rule<'_> {
    /// The value of one count.
    #[inline(always)]
    pub(crate) fn of(&self, count: u16) -> f32 {
        match self {
            Rule::Line(Line { gain, offset }) => (f64::from(count) * gain + offset) as f32,
            Rule::Table(table) => table[usize::from(count)],
        }
    }

    /// Calibrates a row; fill is not looked at.
    #[inline(always)]
    pub(crate) fn row(&self, counts: &[u16], out: &mut [f32]) {
        self.each(counts, out, |v| v);
    }

    /// The same, in another form.
    #[inline(always)]
    pub(crate) fn each<T>(&self, counts: &[u16], out: &mut [T], form: impl Fn(f32) -> T) {
        match self {
            Rule::Line(Line { gain, offset }) => {
                for (o, c) in out.iter_mut().zip(counts) {
                    *o = form((f64::from(*c) * gain + offset) as f32);
                }
            }
            Rule::Table(table) => {
                for (o, c) in out.iter_mut().zip(counts) {
                    *o = form(table[usize::from(*c)]);
                }
            }
        }
    }
}

/// One band's counts to a quantity of `unit`; fill becomes missing.
#[derive(Debug)]
pub struct Calibrate {
    /// Counts to the quantity.
    pub by: Calibrator,
    /// The quantity's unit.
    pub unit: Unit,
}

impl Op for Calibrate {
    fn output(&self, inputs: &[&PlaneSpec]) -> Result<(Kind, Unit)> {
        match inputs {
            [one] if matches!(one.kind, Kind::Counts { .. }) => Ok((Kind::Values, self.unit)),
            _ => Err(Error::UnitMismatch {
                what: "the plane to calibrate".into(),
                found: inputs.first().map_or("nothing".into(), |i| i.unit.label().into()),
                wants: Unit::Counts.label().into(),
            }),
        }
    }

    fn compute(&self, inputs: &Inputs, out: &mut Tile) -> Result<()> {
        let (source, window, rule) = (inputs.tile(0), out.window, self.by.rule());
        for row in window.row..window.end_row() {
            let counts = bits_row(source, &window, row);
            let at = out.row_range(&window, row);
            let cells = &mut out.values_mut()[at];
            rule.row(counts, cells);
            if let Some(fill) = self.by.fill {
                for (o, c) in cells.iter_mut().zip(counts) {
                    if *c == fill {
                        *o = f32::NAN;
                    }
                }
            }
        }
        Ok(())
    }

    fn step(&self) -> &'static str {
        "calibrate"
    }
}
