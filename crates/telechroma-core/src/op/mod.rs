//! The pixel work, one op a file. Ops contain no constants of science: they are given numbers.

mod calibrate;
mod choose;
mod classify;
mod clear;
mod composite;
mod extent;
mod grow;
mod join;
mod looks;
mod mask;
mod median;
mod program;
mod warp;
mod within;

pub use calibrate::{Calibrate, Calibrator};
pub use choose::{Choice, Choose, Chosen, OfChosen};
pub use classify::{Classify, OfClass};
pub use clear::Clear;
pub use composite::{Composite, Reduce, Sample};
pub use extent::Extent;
pub use grow::Grow;
pub use join::{Gather, Join, Overlap, Pick};
pub use looks::Looks;
pub use mask::{FlagRule, Mask};
pub use program::Compute;
pub use warp::{FlagResample, How, Resample, Warp, align};
pub use within::{Within, limit};
