//! Files of features that the commands about plots read and write.

use std::path::{Path, PathBuf};

use clap::Args;
use serde_json::json;
use telechroma_core::feature::Features;
use telechroma_core::geo::{Crs, Projector};
use telechroma_core::run::{Note, Observer};
use telechroma_io::publish::Publisher;
use telechroma_io::vector::{self, Source};

use crate::commands::plotted::Unsaid;
use crate::context::Context;
use crate::report::Report;

/// The file that is read.
#[derive(Args, Clone)]
pub struct From {
    /// Polygons or points: .geojson, .gpkg, .shp, .parquet, or points as .csv
    #[arg(value_name = "PLOTS")]
    pub plots: PathBuf,
    #[command(flatten)]
    pub unsaid: Unsaid,
}

impl From {
    pub fn source(&self) -> Source {
        self.unsaid.source(&self.plots)
    }

    /// The features; what was mended is noted.
    pub fn read(&self, ctx: &Context) -> Result<Features, Report> {
        let read = vector::read(&self.source())?;
        read.mended.into_iter().for_each(|t| ctx.progress.note(Note::Plots(t)));
        Ok(read.features)
    }
}

/// Writes features under their name, and says so.
pub fn write(path: &Path, features: &Features, what: &str, ctx: &Context) -> Result<(), Report> {
    let name = path.file_name().map(|n| n.to_string_lossy().into_owned());
    let Some(name) = name else { return Err(Report::usage(format!("{}: is no file's name", path.display()))) };
    let root = path.parent().filter(|p| !p.as_os_str().is_empty()).unwrap_or(Path::new("."));
    let mut publisher = Publisher::new(root, ctx.overwrite)?;
    let staged = vector::parts(&name).iter().map(|n| publisher.stage(n)).collect::<Result<Vec<_>, _>>()?;
    for note in vector::write(&staged[0], features)? {
        ctx.progress.note(Note::Plots(note));
    }
    publisher.publish()?;
    ctx.progress.clear();
    if ctx.json {
        ctx.print_json(&json!({
            "outputs": [{"kind": "plots", "path": path.display().to_string(), "features": features.rows.len()}],
            "notes": ctx.progress.notes().iter().map(ToString::to_string).collect::<Vec<_>>(),
        }));
    } else {
        ctx.progress.say(&format!("{what}, in {}", path.display()));
    }
    Ok(())
}

/// The UTM zone of a place in longitude and latitude.
pub fn zone_of((lon, lat): (f64, f64)) -> Result<Crs, Report> {
    if !(lon.abs() <= 180.0 && lat.abs() <= 84.0) {
        return Err(Report::usage(format!(
            "no UTM zone holds longitude {lon}, latitude {lat}: name a system with --crs"
        )));
    }
    Ok(Crs::utm((((lon + 180.0) / 6.0).floor() as u32).min(59) + 1, lat >= 0.0)?)
}

/// A system in which lengths are metres: the features' own, or the UTM zone of their middle.
pub fn metric(features: &Features) -> Result<Crs, Report> {
    if features.crs.metres().is_some() {
        return Ok(features.crs);
    }
    let [w, s, e, n] = features.bounds().ok_or_else(|| Report::usage("there is no shape"))?;
    let to_degrees = Projector::new(features.crs, Crs::LONGITUDE_LATITUDE)?;
    zone_of(to_degrees.project((w + e) / 2.0, (s + n) / 2.0)?)
}

/// Units of a system's coordinates for a length in metres.
pub fn units(crs: Crs, metres: f64) -> f64 {
    metres / crs.metres().unwrap_or(1.0)
}
