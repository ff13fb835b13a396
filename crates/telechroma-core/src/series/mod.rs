//! Values through time: gaps filled, curves smoothed, seasons measured, years compared.
//!
//! Curves live on days: looks come on any days, smoothing needs even steps, so that values are brought onto every day
//! from the first to the last look. Nothing is extrapolated.

mod anomaly;
mod daily;
mod season;
mod smooth;
mod trend;

pub use anomaly::{Anomaly, LEAST_YEARS, anomaly};
pub use daily::{Curve, Smoothing, curve};
pub use season::{LEAST_AMPLITUDE, Season, SeasonError, season};
pub use smooth::{lambda_for_step, leave_one_out, savitzky_golay, whittaker};
pub use trend::{LEAST_VALUES, Trend, trend};
