//! Indices and formulas: the catalogue, the small language, and the program a formula becomes.

mod catalogue;
mod language;
mod program;

pub use catalogue::{ASKED, INDICES, IndexDef, SETTINGS, Wants, find, settings_of};
pub use language::{Expr, Function, parse};
pub use program::{Names, Program, Resolved, Work};
