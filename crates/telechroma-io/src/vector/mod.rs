//! Plots in.

pub mod geojson;
