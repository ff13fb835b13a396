//! What Telechroma's tests share: planes in memory, the check that tiles do not matter, small deliveries with known
//! cells, damaged files, and the built program.

pub mod archive;
pub mod hostile;
pub mod jp2;
pub mod memory;
pub mod names;
pub mod program;
pub mod tiling;
pub mod tiny;
