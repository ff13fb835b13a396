//! Options of the steps.
