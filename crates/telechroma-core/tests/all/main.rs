//! The core, driven as its users drive it: one file a theme. What counts its memory stands by itself.
#![allow(clippy::unwrap_used)] // tests

mod align;
mod composites;
mod coverage;
mod executor;
mod formulas;
mod grids;
mod mixed;
mod plots;
mod projections;
mod season;
mod sky;
mod tiling;
mod worked;
