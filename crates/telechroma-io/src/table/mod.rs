//! Tables out, and in.

pub mod csv;
pub mod parquet;
