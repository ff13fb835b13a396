//! Indices and formulas: the catalogue, the small language, and the program a formula becomes.

mod catalogue;
mod language;
mod program;

pub use catalogue::{INDICES, IndexDef, find};
pub use language::{Expr, Function, parse};
pub use program::{Names, Program, Resolved, Work};
