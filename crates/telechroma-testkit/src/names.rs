//! The names a formula may use, as a list.

use telechroma_core::index::Names;
use telechroma_core::units::Unit;

/// Bands by name, all in one unit.
#[derive(Debug, Clone, Copy)]
pub struct Bands(pub &'static [&'static str], pub Unit);

/// Near infrared and red, as reflectance.
pub const NIR_RED: Bands = Bands(&["red", "nir"], Unit::Reflectance);

impl Names for Bands {
    fn band(&self, name: &str) -> Option<Unit> {
        self.0.contains(&name).then_some(self.1)
    }

    fn wavelength_um(&self, _: &str) -> Option<f64> {
        None
    }

    fn all(&self) -> Vec<String> {
        self.0.iter().map(|n| (*n).to_string()).collect()
    }
}
