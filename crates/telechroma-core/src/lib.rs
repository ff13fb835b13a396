//! The science and the engine of Telechroma.
//!
//! **Open** scenes, **plan** a graph of planes, **run** it tile by tile into sinks, **report**. This crate plans and
//! runs; opening and writing files is `telechroma-io`, talking to people is `telechroma-cli`. It opens no path, reads no
//! environment and prints nothing.
//!
//! ```
//! use std::sync::Arc;
//! use telechroma_core::geo::Affine;
//! use telechroma_core::graph::Graph;
//! use telechroma_core::grid::Grid;
//! use telechroma_core::index::Program;
//!
//! let grid = Grid { crs: None, transform: Affine::north_up(0.0, 0.0, 30.0, 30.0), cols: 700, rows: 600 };
//! assert_eq!(grid.bounds(), [0.0, -18_000.0, 21_000.0, 0.0]);
//! let graph = Graph::new(grid);
//! assert!(graph.nodes().is_empty());
//! # let _: Option<Program> = None;
//! # let _ = Arc::new(());
//! ```

pub mod error;
pub mod geo;
pub mod graph;
pub mod grid;
pub mod index;
pub mod mask;
pub mod method;
pub mod op;
pub mod physics;
pub mod plot;
pub mod run;
pub mod scene;
pub mod sensor;
pub mod stat;
pub mod survey;
pub mod tile;
pub mod units;
pub mod wide;

#[cfg(test)]
mod worked;

pub use error::{Error, Result};
