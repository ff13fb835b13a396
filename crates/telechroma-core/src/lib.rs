//! The science and the engine of Telechroma.
//!
//! **Open** scenes, **plan** a graph of planes, **run** it tile by tile into sinks, **report**. This crate plans and
//! runs; opening and writing files is `telechroma-io`, talking to people is `telechroma-cli`. It opens no path, reads no
//! environment and prints nothing.
//!
//! A graph of two planes and a formula, computed tile by tile:
//!
//! ```
//! use telechroma_core::graph::Graph;
//! use telechroma_core::index::Program;
//! use telechroma_core::op::Compute;
//! use telechroma_core::tile::{Cells, Kind};
//! use telechroma_core::units::Unit;
//! use telechroma_testkit::memory::{MemoryPlane, compute, grid};
//! use telechroma_testkit::names::NIR_RED;
//!
//! # fn main() -> telechroma_core::Result<()> {
//! let (red, nir) = (vec![0.1f32, 0.2, f32::NAN], vec![0.5f32, 0.2, 0.4]);
//! let mut graph = Graph::new(grid(0, 0, 3, 1));
//! let program = Program::compile("ndvi", &NIR_RED)?; // an index of the catalogue
//! let mut inputs = vec![];
//! for name in program.inputs() {
//!     let cells = Cells::Values(if name == "red" { red.clone() } else { nir.clone() });
//!     let plane = MemoryPlane::shared(name, grid(0, 0, 3, 1), Kind::Values, Unit::Reflectance, (2, 1), cells);
//!     inputs.push(graph.source(plane, None)?);
//! }
//! let ndvi = graph.add(Compute { program, unit: Unit::One }, &inputs)?;
//! let (planes, report) = compute(graph, &[ndvi], None, 2)?;
//! let Cells::Values(ndvi) = &planes[0] else { unreachable!("ndvi is a plane of values") };
//! assert!((ndvi[0] - 2.0 / 3.0).abs() < 1e-6 && ndvi[1] == 0.0 && ndvi[2].is_nan());
//! assert_eq!(report.decoded, 4); // two blocks of each band, each once
//! # Ok(())
//! # }
//! ```

pub mod area;
pub mod attribute;
pub mod class;
pub mod error;
pub mod feature;
pub mod geo;
pub mod graph;
pub mod grid;
pub mod held;
pub mod index;
pub mod layout;
pub mod mask;
pub mod method;
pub mod op;
pub mod physics;
pub mod plot;
pub mod run;
pub mod scene;
pub mod sensor;
pub mod series;
pub mod stat;
pub mod survey;
pub mod tile;
pub mod units;
pub mod wide;

#[cfg(test)]
mod worked;

pub use error::{Error, Result};
