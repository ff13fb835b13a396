//! One file a command: its arguments, its job, its report.

pub mod assemble;
pub mod calibrate;
pub mod chain;
pub mod classify;
pub mod compare;
pub mod completions;
pub mod composite;
pub mod declare;
pub mod demo;
pub mod draw;
pub mod frame;
pub mod index;
pub mod indices;
pub mod inspect;
pub mod man;
pub mod mask;
pub mod plots;
pub mod plotted;
pub mod probe;
pub mod run;
pub mod scenes;
pub mod sensors;
pub mod series;
pub mod slopes;
pub mod summarise;
pub mod text;
