//! methods
