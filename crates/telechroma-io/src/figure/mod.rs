//! Pictures: cells gathered at the picture's size while a run passes, a frame with coordinates, scale and legend
//! drawn as SVG round them, and PNG bytes.

mod chart;
mod frame;
mod page;
mod picture;
mod ramp;
mod scale;

pub use chart::{Chart, ChartLine};
pub use page::{ClassFigure, Entry, Legend, MapFigure, MaskFigure, NOTHING, SceneFigure, Shown};
pub use picture::{Picture, PictureEncoder, PictureFile};
pub use ramp::{Colour, RAMPS, Ramp};
pub use scale::ends;
