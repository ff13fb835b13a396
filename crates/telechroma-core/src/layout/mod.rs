//! Where plots are put: trial grids laid, points scattered, and how plots fit a raster.

mod align;
mod check;
mod field;
mod lay;
mod scatter;

pub use align::{Alignment, Doubt, Search, Trial, align, moved};
pub use check::{Checked, FEW, check_plots, overlaps};
pub use field::{Field, FieldReader};
pub use lay::{Corner, Layout, Numbering, Order, Part, Place, Shift, corners, id_of, lay, treatments};
pub use scatter::scatter;
