//! Tables out.

pub mod csv;
