//! One file a command: its arguments, its job, its report.

pub mod calibrate;
pub mod chain;
pub mod completions;
pub mod composite;
pub mod demo;
pub mod draw;
pub mod index;
pub mod indices;
pub mod inspect;
pub mod man;
pub mod mask;
pub mod run;
pub mod sensors;
pub mod summarise;
