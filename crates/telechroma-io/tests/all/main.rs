//! Files read and written: one file a format or a danger.
#![allow(clippy::unwrap_used)] // tests

mod archives;
mod areas;
mod deliveries;
mod geotiff;
mod hostile;
mod jpeg2000;
mod plots;
mod raw;
mod tables;
