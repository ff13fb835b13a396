//! Statistics of weighted cells: the catalogue, exact sums, quantiles.

mod catalogue;
mod exact;
mod gather;
mod quantile;

pub use catalogue::{DEFAULT_STATS, STATS, Stat, StatDef, histogram};
pub use exact::ExactSum;
pub use gather::{Bins, Cells, Gather, Needs, Parts};
pub use quantile::median;
