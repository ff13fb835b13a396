//! Running a plan: tile by tile, in a fixed order, on several threads, into sinks.
//!
//! Workers take tiles in the plan's order, at most a few ahead of the merge; each tile's cells are computed, handed
//! to the sinks' [`Prepare`] halves at once and freed after their last use. The calling thread merges the prepared
//! parts in tile order, so that results do not depend on the number of threads.

mod execute;
mod feed;
mod observe;
mod plan;
mod pool;
mod sink;

pub use execute::{RunReport, run};
pub use observe::{Note, Observer, Silent, listed};
pub use plan::{Budget, Plan, Tiling};
pub use sink::{Absorb, Part, Prepare, Sink};
