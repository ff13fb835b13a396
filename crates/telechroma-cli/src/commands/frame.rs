//! Arguments that say where: the area a run is limited to, and the grid its results lie on.

use std::path::{Path, PathBuf};
use std::sync::Arc;

use clap::Args;
use telechroma_core::area::{Edge, Outline};
use telechroma_core::attribute::Condition;
use telechroma_core::geo::Crs;
use telechroma_core::method::{Frame, GridRequest};
use telechroma_core::op::Resample;
use telechroma_io::bytes::ByteRange;
use telechroma_io::raster::tiff::Tiff;
use telechroma_io::vector;

use crate::report::Report;

/// An area.
#[derive(Args, Clone, Default)]
pub struct AreaArgs {
    /// Limit to the polygons of a file, as one: GeoJSON, Shapefile or GeoPackage
    #[arg(long, value_name = "FILE", help_heading = "Where")]
    pub area: Option<PathBuf>,
    /// The layer of a GeoPackage that holds the area
    #[arg(long, value_name = "NAME", requires = "area", help_heading = "Where")]
    pub layer: Option<String>,
    /// Polygons of the area file that meet a condition, such as 'kind = "estate"'
    #[arg(long, value_name = "COND", requires = "area", help_heading = "Where")]
    pub only: Option<String>,
    /// Limit to a box in longitude and latitude, or in another system: W,S,E,N@EPSG:32625
    #[arg(
        long = "box",
        value_name = "W,S,E,N",
        conflicts_with = "area",
        allow_hyphen_values = true,
        help_heading = "Where"
    )]
    pub bounds: Option<String>,
    /// Cells on the edge of the area: centre (those whose centre is inside) or touch (any overlap)
    #[arg(long, value_name = "RULE", default_value = "centre", help_heading = "Where")]
    pub edge: Edge,
}

impl AreaArgs {
    pub fn outline(&self) -> Result<Option<Outline>, Report> {
        match (&self.area, &self.bounds) {
            (Some(file), _) => area(file, self.layer.as_deref(), self.only.as_deref(), self.edge).map(Some),
            (None, Some(text)) => Ok(Some(Outline { edge: self.edge, ..bounds(text)? })),
            (None, None) => Ok(None),
        }
    }
}

/// An area, and the grid of the results.
#[derive(Args, Clone, Default)]
pub struct FrameArgs {
    #[command(flatten)]
    pub area: AreaArgs,
    /// Cell size of the results, with a coordinate system if it is another, such as 10m@EPSG:32633; or a raster whose
    /// grid is taken
    #[arg(long, value_name = "GRID", help_heading = "Where")]
    pub grid: Option<String>,
    /// How values are brought to the grid: nearest, bilinear, cubic, mean, median, mode, min, max; default: repeated
    /// where exact, averaged where coarser, else bilinear
    #[arg(long, value_name = "RULE", help_heading = "Where")]
    pub resample: Option<Resample>,
}

impl FrameArgs {
    pub fn frame(&self) -> Result<Frame, Report> {
        let grid = self.grid.as_deref().map(|g| grid(g, Path::new(""))).transpose()?;
        Ok(Frame { grid, resample: self.resample, area: self.area.outline()? })
    }
}

/// The area in a file.
pub fn area(file: &Path, layer: Option<&str>, only: Option<&str>, edge: Edge) -> Result<Outline, Report> {
    let only = only.map(Condition::parse).transpose()?;
    Ok(vector::area(file, layer, only.as_ref(), edge)?)
}

/// A box from text: four numbers, and a coordinate system behind them unless they are degrees.
pub fn bounds(text: &str) -> Result<Outline, Report> {
    let (numbers, crs) = match text.split_once('@') {
        Some((n, crs)) => (n, Some(Crs::from_text(crs)?)),
        None => (text, None),
    };
    let four: Vec<f64> =
        numbers.split(',').filter_map(|n| n.trim().parse().ok()).filter(|n: &f64| n.is_finite()).collect();
    let [w, s, e, n] = four[..] else {
        return Err(Report::usage(format!(
            "'{text}' is no box: write west,south,east,north, such as -33.1,39.7,-33.0,39.8"
        )));
    };
    if w >= e || s >= n {
        return Err(Report::usage(format!(
            "'{text}' is an empty box: west must be less than east, south less than north"
        )));
    }
    let degrees = w >= -180.0 && e <= 360.0 && s >= -90.0 && n <= 90.0;
    match crs {
        None if !degrees => Err(Report::usage(format!("'{text}' is not in degrees"))
            .hint(format!("name the coordinate system: {numbers}@EPSG:32625"))),
        crs => Ok(Outline::of_box(crs.unwrap_or(Crs::LONGITUDE_LATITUDE), [w, s, e, n])),
    }
}

/// A grid from text, or that of a raster.
pub fn grid(text: &str, base: &Path) -> Result<GridRequest, Report> {
    let path = base.join(text);
    if path.is_file() {
        return Ok(GridRequest::Like(Arc::clone(&Tiff::open(ByteRange::whole(&path)?)?.grid)));
    }
    Ok(text.parse()?)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn boxes_are_degrees_unless_a_system_is_named() {
        assert_eq!(bounds("-33.1,39.7,-33,39.8").unwrap().crs, Crs::LONGITUDE_LATITUDE);
        assert_eq!(bounds("500000,4400000,501000,4401000@EPSG:32625").unwrap().crs.epsg(), Some(32625));
        let hint = bounds("500000,4400000,501000,4401000").unwrap_err().hint.unwrap();
        assert!(hint.contains("@EPSG:"), "{hint}");
        assert!(bounds("2,1,1,3").unwrap_err().message.contains("empty box"));
        assert!(bounds("1,2,3").is_err());
    }
}
