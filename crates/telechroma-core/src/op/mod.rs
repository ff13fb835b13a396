//! The pixel work, one op a file. Ops contain no constants of science: they are given numbers.

mod calibrate;
mod choose;
mod classify;
mod clear;
mod cloud;
mod composite;
mod extent;
mod grow;
mod join;
mod looks;
mod majority;
mod mark;
mod mask;
mod median;
mod outlier;
mod program;
mod warp;
mod within;

pub use calibrate::{Calibrate, Calibrator};
pub use choose::{Choice, Choose, Chosen, OfChosen};
pub use classify::{Classify, OfClass};
pub use clear::Clear;
pub use cloud::{CloudTest, look_rows};
pub use composite::{Composite, Reduce, Sample};
pub use extent::Extent;
pub use grow::Grow;
pub use join::{Gather, Join, Overlap, Pick};
pub use looks::Looks;
pub use majority::Majority;
pub use mark::Mark;
pub use mask::{FlagRule, FlagTest, Mask};
pub use outlier::Outliers;
pub use program::Compute;
pub use warp::{FlagResample, How, Resample, Warp, align};
pub use within::{Within, limit};
