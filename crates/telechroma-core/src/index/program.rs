//! A formula made ready for rows of cells: a list of steps over short vectors in double precision.
//!
//! Equal steps are done once, constants are computed when the program is made. Missing is NaN and travels through
//! every step; a zero denominator, a root or logarithm of what has none, and an infinite result are missing.

use std::collections::HashMap;

use super::language::{Expr, ExprKind, Function, parse};
use crate::error::{Error, Result, nearest};
use crate::index::{ASKED, INDICES, SETTINGS};
use crate::physics::planck;
use crate::units::Unit;
use crate::wide;

/// What names in a formula mean here.
pub trait Names {
    /// The unit of a band or layer that can be read.
    fn band(&self, name: &str) -> Option<Unit>;

    /// A formula of the user's under this name.
    fn formula(&self, _name: &str) -> Option<String> {
        None
    }

    /// Effective wavelength of a band, micrometres.
    fn wavelength_um(&self, band: &str) -> Option<f64>;

    /// The thermal constants K1 and K2 of a band.
    fn thermal(&self, _band: &str) -> Option<(f64, f64)> {
        None
    }

    /// All readable names, for messages.
    fn all(&self) -> Vec<String>;
}

/// What a name in a formula turned out to be.
#[derive(Debug, Clone, PartialEq)]
pub enum Resolved {
    /// A band or layer.
    Band(Unit),
    /// A formula, of the user's or of the catalogue.
    Formula(String),
}

/// Names resolve to bands first, then to the user's formulas, then to the catalogue. Behind an alias (`after.nbr`) stands
/// what is meant of that input.
pub(crate) fn resolve(name: &str, names: &dyn Names) -> Option<Resolved> {
    if let Some(unit) = names.band(name) {
        return Some(Resolved::Band(unit));
    }
    let plain = name.rsplit('.').next().unwrap_or(name);
    let catalogue = || INDICES.iter().find(|d| d.id == plain).map(|d| d.formula.to_string());
    let setting = || SETTINGS.iter().find(|(n, _)| *n == plain).map(|(_, v)| v.to_string());
    names.formula(name).or_else(catalogue).or_else(setting).map(Resolved::Formula)
}

#[derive(Debug, Clone, Copy, PartialEq)]
enum Step {
    Input(usize),
    Constant(f64),
    Call(Function, [usize; 3]),
}

/// Cells computed at once.
const LANES: usize = 128;

/// A compiled formula.
#[derive(Debug, Clone)]
pub struct Program {
    inputs: Vec<String>,
    steps: Vec<Step>,
}

struct Compiler<'a> {
    names: &'a dyn Names,
    program: Program,
    known: HashMap<String, usize>,
    inside: Vec<String>,
    /// Whose bands the formula at hand is about.
    alias: Option<String>,
}

impl Program {
    /// Compiles a formula whose names are bands, indices or formulas known to `names`.
    ///
    /// # Errors
    /// [`Error::Formula`] with the place of a trouble in `text`; [`Error::MissingBand`] where an index named in it
    /// needs a band that is not there.
    pub fn compile(text: &str, names: &dyn Names) -> Result<Program> {
        let program = Program { inputs: vec![], steps: vec![] };
        let mut c = Compiler { names, program, known: HashMap::new(), inside: vec![], alias: None };
        let last = c.expr(&parse(text)?, text)?;
        if last + 1 != c.program.steps.len() {
            let zero = c.step(Step::Constant(0.0));
            c.program.steps.push(Step::Call(Function::Add, [last, zero, 0]));
        }
        Ok(c.program)
    }

    /// `band · factor + offset`.
    pub fn line(band: &str, factor: f64, offset: f64) -> Program {
        let constant = |c| Step::Constant(c);
        let steps = vec![
            Step::Input(0),
            constant(factor),
            Step::Call(Function::Multiply, [0, 1, 0]),
            constant(offset),
            Step::Call(Function::Add, [2, 3, 0]),
        ];
        Program { inputs: vec![band.into()], steps }
    }

    /// The same, then `value · factor + offset`.
    #[must_use]
    pub fn then_line(mut self, factor: f64, offset: f64) -> Program {
        if (factor, offset) != (1.0, 0.0) {
            let last = self.steps.len() - 1;
            self.steps.push(Step::Constant(factor));
            self.steps.push(Step::Call(Function::Multiply, [last, last + 1, 0]));
            self.steps.push(Step::Constant(offset));
            self.steps.push(Step::Call(Function::Add, [last + 2, last + 3, 0]));
        }
        self
    }

    /// The bands it reads, in the order in which [`Program::run`] wants them.
    pub fn inputs(&self) -> &[String] {
        &self.inputs
    }

    /// One cell, in double precision.
    pub fn at(&self, inputs: &[f64]) -> f64 {
        let mut registers: Vec<f64> = Vec::with_capacity(self.steps.len());
        for step in &self.steps {
            registers.push(match step {
                Step::Input(i) => inputs[*i],
                Step::Constant(c) => *c,
                Step::Call(f, a) => f.of(a.map(|i| registers.get(i).copied().unwrap_or(f64::NAN))),
            });
        }
        registers.last().copied().filter(|v| v.is_finite()).unwrap_or(f64::NAN)
    }

    /// A row of cells: `inputs` are rows of the same length as `out`.
    pub fn run(&self, inputs: &[&[f32]], out: &mut [f32], work: &mut Work) {
        wide::run(ProgramRow { program: self, inputs, out, work });
    }
}

/// One row of cells.
struct ProgramRow<'a> {
    program: &'a Program,
    inputs: &'a [&'a [f32]],
    out: &'a mut [f32],
    work: &'a mut Work,
}

impl wide::Loop for ProgramRow<'_> {
    #[inline(always)]
    fn run(self, _: impl wide::Instructions) {
        let ProgramRow { program: Program { steps, .. }, inputs, out, work } = self;
        work.registers.resize(steps.len(), [0.0; LANES]);
        for (n, step) in steps.iter().enumerate() {
            if let Step::Constant(c) = step {
                work.registers[n] = [*c; LANES];
            }
        }
        for (chunk, out) in out.chunks_mut(LANES).enumerate() {
            let at = chunk * LANES;
            for (n, step) in steps.iter().enumerate() {
                match step {
                    Step::Constant(_) => {}
                    Step::Input(i) => {
                        for (r, v) in work.registers[n].iter_mut().zip(&inputs[*i][at..at + out.len()]) {
                            *r = f64::from(*v);
                        }
                    }
                    Step::Call(f, [a, b, c]) => {
                        let (done, rest) = work.registers.split_at_mut(n);
                        f.of_rows(&done[*a], &done[*b], &done[*c], &mut rest[0]);
                    }
                }
            }
            for (o, v) in out.iter_mut().zip(&work.registers[steps.len() - 1]) {
                let v = *v as f32;
                *o = if v.is_finite() { v } else { f32::NAN };
            }
        }
    }
}

/// Scratch space of [`Program::run`], kept between rows.
#[derive(Default)]
pub struct Work {
    registers: Vec<[f64; LANES]>,
}

impl Compiler<'_> {
    fn step(&mut self, step: Step) -> usize {
        let key = format!("{step:?}");
        if let Some(n) = self.known.get(&key) {
            return *n;
        }
        self.program.steps.push(step);
        self.known.insert(key, self.program.steps.len() - 1);
        self.program.steps.len() - 1
    }

    fn expr(&mut self, e: &Expr, text: &str) -> Result<usize> {
        Ok(match &e.kind {
            ExprKind::Number(n) => self.step(Step::Constant(*n)),
            ExprKind::Name(name) => self.name(name, e.at, text)?,
            ExprKind::Wavelength(band) => match self.names.wavelength_um(&self.full(band)) {
                Some(um) => self.step(Step::Constant(um)),
                None => return Err(no_wavelength(text, e.at, band)),
            },
            ExprKind::Radiance(band) => {
                let (k1, k2) = self.constants(band, e.at, text)?;
                let kelvin = self.name(band, e.at, text)?;
                let [k1, k2, one] = [k1, k2, 1.0].map(|c| self.step(Step::Constant(c)));
                let power = self.step(Step::Call(Function::Divide, [k2, kelvin, 0]));
                let rise = self.step(Step::Call(Function::Exp, [power, 0, 0]));
                let below = self.step(Step::Call(Function::Subtract, [rise, one, 0]));
                self.step(Step::Call(Function::Divide, [k1, below, 0]))
            }
            ExprKind::Kelvin(band, radiance) => {
                let (k1, k2) = self.constants(band, e.at, text)?;
                let radiance = self.expr(radiance, text)?;
                let [k1, k2, one] = [k1, k2, 1.0].map(|c| self.step(Step::Constant(c)));
                let share = self.step(Step::Call(Function::Divide, [k1, radiance, 0]));
                let above = self.step(Step::Call(Function::Add, [share, one, 0]));
                let log = self.step(Step::Call(Function::Ln, [above, 0, 0]));
                self.step(Step::Call(Function::Divide, [k2, log, 0]))
            }
            ExprKind::Call(f, parts) => {
                let mut operands = [0; 3];
                for (o, part) in operands.iter_mut().zip(parts) {
                    *o = self.expr(part, text)?;
                }
                let constants: Vec<f64> = operands[..parts.len()]
                    .iter()
                    .filter_map(|o| match self.program.steps[*o] {
                        Step::Constant(c) => Some(c),
                        _ => None,
                    })
                    .collect();
                if constants.len() == parts.len() {
                    let at = |i: usize| constants.get(i).copied().unwrap_or(f64::NAN);
                    self.step(Step::Constant(f.of([at(0), at(1), at(2)])))
                } else {
                    self.step(Step::Call(*f, operands))
                }
            }
        })
    }

    /// K1 and K2 of a band: those of its metadata, else of its wavelength.
    fn constants(&self, band: &str, at: usize, text: &str) -> Result<(f64, f64)> {
        let full = self.full(band);
        let stated = self.names.thermal(&full).or_else(|| self.names.wavelength_um(&full).map(planck));
        stated.ok_or_else(|| no_wavelength(text, at, band))
    }

    /// A name as the inputs know it: with the alias of the formula it stands in, unless it has its own.
    fn full(&self, name: &str) -> String {
        match &self.alias {
            Some(alias) if !name.contains('.') => format!("{alias}.{name}"),
            _ => name.into(),
        }
    }

    fn name(&mut self, name: &str, at: usize, text: &str) -> Result<usize> {
        let full = self.full(name);
        // what the user names means the same in every formula
        let own = || self.names.formula(name).map(Resolved::Formula);
        match resolve(&full, self.names).filter(|r| matches!(r, Resolved::Band(_))).or_else(own) {
            found @ Some(_) => found,
            None => resolve(&full, self.names),
        }
        .map_or_else(|| Err(self.unknown(name, at, text)), Ok)
        .and_then(|found| match found {
            Resolved::Band(_) => {
                let i = self.program.inputs.iter().position(|n| *n == full).unwrap_or_else(|| {
                    self.program.inputs.push(full.clone());
                    self.program.inputs.len() - 1
                });
                Ok(self.step(Step::Input(i)))
            }
            Resolved::Formula(formula) => {
                if self.inside.contains(&full) {
                    let message = format!("'{name}' is defined by itself");
                    return Err(Error::Formula { formula: text.into(), at, message });
                }
                let outer = full.rsplit_once('.').map(|(alias, _)| alias.to_string());
                let outer = std::mem::replace(&mut self.alias, outer);
                self.inside.push(full);
                let n = self.expr(&parse(&formula)?, &formula)?;
                self.inside.pop();
                self.alias = outer;
                Ok(n)
            }
        })
    }

    fn unknown(&self, name: &str, at: usize, text: &str) -> Error {
        let have = self.names.all();
        if let Some((_, what)) = ASKED.iter().find(|(n, _)| *n == name) {
            let for_what = self.inside.first().map_or("this formula", String::as_str);
            return Error::NotGiven { layer: for_what.into(), name: name.into(), what: (*what).into() };
        }
        if crate::scene::BandRole::from_name(name).is_some() {
            let for_what = self.inside.first().map_or(String::new(), |i| format!(" (needed by {i})"));
            return Error::MissingBand { scene: "this input".into(), role: name.into(), for_what, have };
        }
        let mut known = have.clone();
        known.extend(INDICES.iter().map(|d| d.id.to_string()));
        let hint = nearest(name, &known).map_or(String::new(), |n| format!(": did you mean '{n}'?"));
        Error::Formula {
            formula: text.into(),
            at,
            message: format!("unknown band '{name}'{hint} (this input has {})", have.join(", ")),
        }
    }
}

fn no_wavelength(text: &str, at: usize, band: &str) -> Error {
    Error::Formula { formula: text.into(), at, message: format!("the wavelength of band '{band}' is not known") }
}

fn truth(b: bool) -> f64 {
    if b { 1.0 } else { 0.0 }
}

fn known(v: f64, a: f64, b: f64) -> f64 {
    if a.is_nan() || b.is_nan() { f64::NAN } else { v }
}

impl Function {
    /// One cell. Unused operands are ignored. What grows past all numbers is missing at once: one divided by it must not
    /// come out as zero.
    #[inline(always)]
    fn of(self, operands: [f64; 3]) -> f64 {
        let v = self.unbounded(operands);
        if v.is_infinite() { f64::NAN } else { v }
    }

    #[inline(always)]
    fn unbounded(self, [a, b, c]: [f64; 3]) -> f64 {
        match self {
            Function::Add => a + b,
            Function::Subtract => a - b,
            Function::Multiply => a * b,
            Function::Divide => {
                if b == 0.0 {
                    f64::NAN
                } else {
                    a / b
                }
            }
            Function::Power => {
                if b == 2.0 {
                    a * a
                } else {
                    known(a.powf(b), a, b) // a missing number to the power of zero is not one
                }
            }
            Function::Negate => -a,
            Function::Equal => known(truth(a == b), a, b),
            Function::Unequal => known(truth(a != b), a, b),
            Function::Less => known(truth(a < b), a, b),
            Function::LessEqual => known(truth(a <= b), a, b),
            Function::Greater => known(truth(a > b), a, b),
            Function::GreaterEqual => known(truth(a >= b), a, b),
            Function::And => known(truth(a != 0.0 && b != 0.0), a, b),
            Function::Or => known(truth(a != 0.0 || b != 0.0), a, b),
            Function::Not => known(truth(a == 0.0), a, a),
            Function::IsMissing => truth(a.is_nan()),
            Function::IsKnown => truth(!a.is_nan()),
            Function::Where => {
                if b.is_nan() {
                    f64::NAN
                } else if b != 0.0 {
                    a
                } else {
                    c
                }
            }
            Function::Sqrt => a.sqrt(),
            Function::Abs => a.abs(),
            // bit number b of the whole number a, as in planes of flags
            Function::Bit => match a >= 0.0 && (0.0..63.0).contains(&b) {
                true => f64::from((a as u64 >> b as u32 & 1) as u8),
                false => f64::NAN,
            },
            Function::Ln => {
                if a > 0.0 {
                    a.ln()
                } else {
                    f64::NAN
                }
            }
            Function::Log10 => {
                if a > 0.0 {
                    a.log10()
                } else {
                    f64::NAN
                }
            }
            Function::Exp => a.exp(),
            Function::Min => known(a.min(b), a, b),
            Function::Max => known(a.max(b), a, b),
            Function::Sin => a.sin(),
            Function::Cos => a.cos(),
            Function::Tan => a.tan(),
            Function::Asin => a.asin(),
            Function::Acos => a.acos(),
            Function::Atan => a.atan(),
            Function::Tanh => a.tanh(),
            Function::Floor => a.floor(),
            Function::Ceil => a.ceil(),
            Function::Round => a.round_ties_even(),
            Function::Clip => {
                if b.is_nan() || c.is_nan() || a.is_nan() {
                    f64::NAN
                } else {
                    a.max(b).min(c)
                }
            }
        }
    }

    #[inline(always)]
    fn of_rows(self, a: &[f64; LANES], b: &[f64; LANES], c: &[f64; LANES], out: &mut [f64; LANES]) {
        // one loop per common function, so that each becomes vector code; the rest share one
        macro_rules! row {
            ($f:expr) => {
                for l in 0..LANES {
                    out[l] = $f.of([a[l], b[l], c[l]]);
                }
            };
        }
        match self {
            Function::Add => row!(Function::Add),
            Function::Subtract => row!(Function::Subtract),
            Function::Multiply => row!(Function::Multiply),
            Function::Divide => row!(Function::Divide),
            Function::Clip => row!(Function::Clip),
            Function::Where => row!(Function::Where),
            Function::Greater => row!(Function::Greater),
            Function::Less => row!(Function::Less),
            other => row!(other),
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    struct Few;

    impl Names for Few {
        fn band(&self, name: &str) -> Option<Unit> {
            ["red", "nir", "green"].contains(&name).then_some(Unit::Reflectance)
        }
        fn formula(&self, name: &str) -> Option<String> {
            (name == "loop_a").then(|| "loop_a + 1".into())
        }
        fn wavelength_um(&self, _: &str) -> Option<f64> {
            None
        }
        fn all(&self) -> Vec<String> {
            ["red", "nir", "green"].map(String::from).to_vec()
        }
    }

    fn value(text: &str, red: f64, nir: f64) -> f64 {
        let p = Program::compile(text, &Few).unwrap();
        let get = |n: &String| if n == "red" { red } else { nir };
        p.at(&p.inputs().iter().map(get).collect::<Vec<_>>())
    }

    #[test]
    fn precedence_and_missing() {
        assert_eq!(value("-2 ^ 2 + 3 * 4", 0.0, 0.0), 8.0);
        assert_eq!(value("nir / red where red > 0 else 7", 0.0, 1.0), 7.0);
        assert_eq!(value("1 where red in (0.25, 0.5) and not nir < 1 else 0", 0.5, 2.0), 1.0);
        assert_eq!(value("0 where red = missing else red", f64::NAN, 0.0), 0.0);
        assert_eq!(value("max(red, nir, 3)", 1.0, 2.0), 3.0);
        for text in [
            "nir / red",
            "ln(red)",
            "sqrt(red - 1)",
            "nir where red > 5",
            "red * missing",
            "nir where missing",
            "exp(1000)",
        ] {
            assert!(value(text, 0.0, 1.0).is_nan(), "{text}");
        }
        assert_eq!(value("ndvi", 0.1, 0.5), 0.4 / 0.6);
    }

    #[test]
    fn unknown_names_are_pointed_at_with_the_nearest() {
        let e = Program::compile("red + nri", &Few).unwrap_err().to_string();
        assert_eq!(
            e,
            "unknown band 'nri': did you mean 'nir'? (this input has red, nir, green)\n  red + nri\n        ^"
        );
        let e = Program::compile("lst", &Few).unwrap_err().to_string();
        assert_eq!(e, "this input has no band 'lwir11' (needed by lst); it has red, nir, green");
        assert!(Program::compile("loop_a", &Few).unwrap_err().to_string().contains("defined by itself"));
    }

    proptest! {
        #[test]
        fn rows_equal_single_cells(values in proptest::collection::vec((-1.0f32..2.0, -1.0f32..2.0), 1..400)) {
            let p = Program::compile("sqrt(ndvi ^ 2 + 0.5) where nir > red and nir != 0 else max(red, green)", &Few).unwrap();
            let rows: Vec<Vec<f32>> = p.inputs().iter().map(|n| values.iter().map(|v| if n == "nir" { v.1 } else { v.0 }).collect()).collect();
            let mut out = vec![0f32; values.len()];
            p.run(&rows.iter().map(Vec::as_slice).collect::<Vec<_>>(), &mut out, &mut Work::default());
            for (i, o) in out.iter().enumerate() {
                let cell: Vec<f64> = rows.iter().map(|r| f64::from(r[i])).collect();
                prop_assert_eq!((p.at(&cell) as f32).to_bits(), o.to_bits());
            }
        }
    }
}
