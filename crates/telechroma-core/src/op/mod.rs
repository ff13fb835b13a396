//! The pixel work, one op a file. Ops contain no constants of science: they are given numbers.

mod calibrate;
mod clear;
mod composite;
mod extent;
mod grow;
mod looks;
mod mask;
mod median;
mod program;

pub use calibrate::{Calibrate, Calibrator};
pub use clear::Clear;
pub use composite::{Composite, Sample};
pub use extent::Extent;
pub use grow::Grow;
pub use looks::Looks;
pub use mask::{FlagRule, Mask};
pub use program::Compute;
