//! Features in and out: polygons, lines and points with attributes, from and to GeoJSON, GeoPackage, Shapefile, GeoParquet
//! and (points) CSV.
//!
//! One file a format: each reads into `Raw`, whose shapes are then mended or refused in one place, and writes
//! [`Features`].

mod geojson;
mod geopackage;
mod geoparquet;
mod points;
mod raw;
mod shapefile;
mod wkb;

use std::path::{Path, PathBuf};

use telechroma_core::area::{Edge, Outline};
use telechroma_core::attribute::Condition;
use telechroma_core::feature::{self, Features};
use telechroma_core::geo::Crs;
use telechroma_core::plot::{Plot, Shape};

pub(crate) use geojson::json;
use raw::Raw;

use crate::error::{Error, Place, Result};

/// A file of features, and what it does not say itself.
#[derive(Debug, Clone, Default)]
pub struct Source {
    /// The file.
    pub path: PathBuf,
    /// Which of several layers.
    pub layer: Option<String>,
    /// Names of the columns of a CSV that hold x (longitude) and y (latitude).
    pub xy: Option<(String, String)>,
    /// The coordinate system of a file that states none.
    pub crs: Option<Crs>,
}

impl Source {
    /// A file that says all that is needed.
    pub fn of(path: &Path) -> Source {
        Source { path: path.to_path_buf(), ..Source::default() }
    }
}

/// A format of features: its ending, its name, and whether it can be written under that ending.
struct Format {
    ending: &'static str,
    name: &'static str,
    read: fn(&Source) -> Result<Raw>,
    write: fn(&Path, &Features) -> Result<Vec<String>>,
}

/// The endings that are known.
const FORMATS: &[Format] = &[
    Format { ending: "geojson", name: "GeoJSON (.geojson, .json)", read: geojson::read, write: geojson::write },
    Format { ending: "json", name: "", read: geojson::read, write: geojson::write },
    Format { ending: "gpkg", name: "GeoPackage (.gpkg)", read: geopackage::read, write: geopackage::write },
    Format { ending: "shp", name: "Shapefile (.shp)", read: shapefile::read, write: shapefile::write },
    Format { ending: "parquet", name: "GeoParquet (.parquet)", read: geoparquet::read, write: geoparquet::write },
    Format { ending: "geoparquet", name: "", read: geoparquet::read, write: geoparquet::write },
    Format { ending: "csv", name: "points as CSV (.csv)", read: points::read, write: points::write },
];

/// Endings of files that features with shapes can be written to.
pub const WRITTEN: &[&str] = &["geojson", "json", "gpkg", "shp", "parquet", "geoparquet"];

fn format_of(path: &Path) -> Result<&'static Format> {
    let ending = path.extension().map_or(String::new(), |e| e.to_string_lossy().to_lowercase());
    FORMATS.iter().find(|f| f.ending == ending).ok_or_else(|| {
        let known: Vec<&str> = FORMATS.iter().map(|f| f.name).filter(|n| !n.is_empty()).collect();
        Error::unsupported(Place::file(path), format!("a file of features of the kind '{ending}'"), &known)
    })
}

/// Features of a file, and what was mended in them.
#[derive(Debug, Clone)]
pub struct Read {
    /// The features, in the file's order.
    pub features: Features,
    /// What was mended, one text a feature.
    pub mended: Vec<String>,
}

/// Reads a file of features.
///
/// # Errors
/// Where it cannot be read, which layer is meant is not clear, its coordinate system is not known, or a shape is broken
/// beyond mending.
pub fn read(source: &Source) -> Result<Read> {
    opened(source)?.finish(&source.path, None)
}

fn opened(source: &Source) -> Result<Raw> {
    let path = &source.path;
    if !path.exists() {
        return Err(Error::usage(Place::file(path), "does not exist"));
    }
    let format = format_of(path)?;
    if let Some(layer) = source.layer.as_ref().filter(|_| format.ending != "gpkg") {
        return Err(Error::usage(Place::file(path), format!("is one table, which has no layer '{layer}'")));
    }
    if source.xy.is_some() && format.ending != "csv" {
        return Err(Error::usage(Place::file(path), "has shapes of its own: columns of x and y are for CSV"));
    }
    (format.read)(source)
}

/// Writes features under the format of the path's ending; returns what the format could not hold as it was, such as
/// long names. A Shapefile is several files.
///
/// # Errors
/// Where the ending is not known, the format cannot hold the features, or writing fails.
pub fn write(path: &Path, features: &Features) -> Result<Vec<String>> {
    if let Some(n) = features.rows.iter().position(|r| r.shape == Shape::Mixture) {
        let place = Place::part(path.display().to_string(), format!("feature {}", n + 1));
        return Err(Error::usage(place, "is a mixture of shapes, which cannot be written"));
    }
    (format_of(path)?.write)(path, features)
}

/// All files that writing to a path makes, by their names.
pub fn parts(name: &str) -> Vec<String> {
    match name.rsplit_once('.') {
        Some((stem, ending)) if ending.eq_ignore_ascii_case("shp") => {
            ["shp", "shx", "dbf", "prj", "cpg"].iter().map(|e| format!("{stem}.{e}")).collect()
        }
        _ => vec![name.to_string()],
    }
}

/// Plots with their attributes.
#[derive(Debug, Clone)]
pub struct PlotFile {
    /// Name of the file without folder and ending.
    pub stem: String,
    /// The plots with their attributes.
    pub features: Features,
    /// The column that is the id.
    pub id: usize,
    /// The plots, in the file's order and coordinate system.
    pub plots: Vec<Plot>,
    /// What was mended, one text a plot.
    pub mended: Vec<String>,
    /// Fingerprint of the file.
    pub digest: String,
}

impl PlotFile {
    /// Reads plots. `id` names the attribute that is unique; without it, one of the usual names is looked for.
    ///
    /// # Errors
    /// As [`read`], and where ids are missing or double.
    pub fn read(source: &Source, id: Option<&str>) -> Result<PlotFile> {
        let path = &source.path;
        let Read { features, mended } = opened(source)?.finish(path, id)?;
        let bytes = crate::bytes::ByteRange::whole(path)?.read_all(LARGEST)?;
        let stem = path.file_stem().map_or("plots".into(), |s| s.to_string_lossy().into_owned());
        let usage = |what: String| Error::usage(Place::file(path), what);
        if features.rows.is_empty() {
            return Err(usage("holds no plot".into()));
        }
        let id = features.id_column(id).map_err(|e| usage(e.to_string()))?;
        let plots = features.plots(id).map_err(|e| Error::malformed(Place::file(path), e.to_string()))?;
        let digest = crate::delivery::digest(&bytes, std::iter::empty());
        Ok(PlotFile { stem, features, id, plots, mended, digest })
    }

    /// The name of the id.
    pub fn id_name(&self) -> &str {
        &self.features.fields[self.id].name
    }

    /// The plots in another coordinate system. Long edges get corners in between first.
    ///
    /// # Errors
    /// Where a position has no coordinates there.
    pub fn in_crs(&self, crs: Crs) -> Result<Vec<Plot>> {
        let moved = self.features.in_crs(crs).map_err(|e| Error::usage(Place::part(&self.stem, ""), e.to_string()))?;
        Ok(self.plots.iter().zip(moved.rows).map(|(p, r)| Plot { id: p.id.clone(), shape: r.shape }).collect())
    }
}

/// The most a file of features may have: it is held in memory.
const LARGEST: u64 = 1 << 32;

/// The area that the polygons of a file make, those that meet a condition.
///
/// # Errors
/// As [`read`]; where the condition asks for an attribute that is not there, or no polygon is left.
pub fn area(path: &Path, layer: Option<&str>, only: Option<&Condition>, edge: Edge) -> Result<Outline> {
    let source = Source { layer: layer.map(Into::into), ..Source::of(path) };
    let mut features = read(&source)?.features;
    let total = features.rows.len();
    if let Some(condition) = only {
        features = feature::pick(features, condition).map_err(|e| Error::usage(Place::file(path), e.to_string()))?;
    }
    let polygons: Vec<_> = features.rows.iter().flat_map(|r| r.shape.polygons()).cloned().collect();
    if polygons.is_empty() {
        let what = match only {
            Some(_) => format!("none of its {total} features meets the condition and is a polygon"),
            None => "holds no polygon".into(),
        };
        return Err(Error::usage(Place::file(path), what));
    }
    let name = path.file_name().map_or(String::new(), |n| n.to_string_lossy().into_owned());
    Ok(Outline { name, crs: features.crs, polygons, edge })
}
