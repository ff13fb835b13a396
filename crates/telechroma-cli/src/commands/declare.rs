//! `declare`: what a raster without a header is.

use std::path::PathBuf;

use serde_json::json;
use telechroma_core::error::Error;
use telechroma_core::geo::Crs;
use telechroma_io::delivery::{RawDef, Sidecar, beside};
use telechroma_io::error::Place;
use telechroma_io::publish::Publisher;
use telechroma_io::raster::raw::ORDERS;
use telechroma_io::raster::samples::SampleFormat;

use crate::context::Context;
use crate::report::Report;

/// Declare the layout of a headerless binary raster: the file beside it, after which every command reads it
///
/// Example: telechroma declare tarn.bin --rows 600 --cols 700 --bands 3 --type int16 --names green,red,nir
#[derive(clap::Args)]
pub struct Args {
    /// The raster
    #[arg(value_name = "RAWFILE")]
    pub file: PathBuf,
    /// Rows
    #[arg(long, value_name = "N")]
    pub rows: u32,
    /// Columns
    #[arg(long, value_name = "N")]
    pub cols: u32,
    /// Bands
    #[arg(long, value_name = "N", default_value_t = 1)]
    pub bands: u32,
    /// Type of a number: uint8, int8, uint16, int16, uint32, int32, float32 or float64
    #[arg(long = "type", value_name = "TYPE")]
    pub format: String,
    /// Order of the numbers: band-sequential, line-interleaved or pixel-interleaved
    #[arg(long, value_name = "ORDER", default_value = "band-sequential")]
    pub order: String,
    /// Order of the bytes of a number: little (lowest first) or big
    #[arg(long, value_name = "ORDER", default_value = "little", value_parser = ["little", "big"])]
    pub byte_order: String,
    /// Bytes before the first number
    #[arg(long, value_name = "BYTES", default_value_t = 0)]
    pub skip: u64,
    /// Names of the bands, in order: what they see (red, nir …) or any other
    #[arg(long, value_name = "LIST", value_delimiter = ',')]
    pub names: Vec<String>,
    /// Sensor that describes the bands: an id or a .toml file, seen from the raster's folder
    #[arg(long, value_name = "SENSOR", conflicts_with = "names")]
    pub sensor: Option<String>,
    /// Number that means missing
    #[arg(long, value_name = "NUMBER", allow_hyphen_values = true)]
    pub missing: Option<f64>,
    /// Value of a step of the numbers
    #[arg(long, value_name = "NUMBER")]
    pub scale: Option<f64>,
    /// Value of a zero
    #[arg(long, value_name = "NUMBER", allow_hyphen_values = true)]
    pub offset: Option<f64>,
    /// Unit of the values: reflectance, K, degC, 1 …
    #[arg(long, value_name = "UNIT")]
    pub unit: Option<String>,
    /// Day it was acquired
    #[arg(long, value_name = "DATE")]
    pub date: Option<jiff::civil::Date>,
    /// Coordinate system, such as EPSG:32625
    #[arg(long, value_name = "CRS")]
    pub crs: Option<String>,
    /// x and y of the outer corner of the first cell
    #[arg(long, value_name = "X,Y", value_parser = pair, allow_hyphen_values = true, requires = "cell")]
    pub corner: Option<[f64; 2]>,
    /// Width and height of a cell, or its side, in units of the coordinate system
    #[arg(long, value_name = "W,H", value_parser = pair, requires = "corner")]
    pub cell: Option<[f64; 2]>,
}

/// Two numbers, or one for both.
fn pair(text: &str) -> Result<[f64; 2], String> {
    let numbers: Vec<f64> =
        text.split(',').map_while(|n| n.trim().parse().ok()).filter(|n: &f64| n.is_finite()).collect();
    match numbers[..] {
        [a, b] => Ok([a, b]),
        [a] => Ok([a, a]),
        _ => Err("write two numbers, such as 489585,4409415".into()),
    }
}

pub fn run(args: Args, ctx: &Context) -> Result<(), Report> {
    let len = std::fs::metadata(&args.file).map_err(|e| telechroma_io::Error::io(&args.file, e))?.len();
    if SampleFormat::from_name(&args.format).is_none() {
        return Err(Error::unknown("type", &args.format, SampleFormat::all().map(SampleFormat::name)).into());
    }
    if !ORDERS.iter().any(|o| o.0 == args.order) {
        return Err(Error::unknown("order", &args.order, ORDERS.iter().map(|o| o.0)).into());
    }
    if !args.names.is_empty() && args.names.len() != args.bands as usize {
        return Err(Report::usage(format!("--names names {} bands, the raster has {}", args.names.len(), args.bands)));
    }
    args.crs.as_deref().map(Crs::from_text).transpose()?;
    let sidecar = Sidecar {
        sensor: args.sensor,
        names: args.names,
        date: args.date.map(|d| d.to_string()),
        crs: args.crs,
        corner: args.corner,
        cell: args.cell,
        missing: args.missing,
        scale: args.scale,
        offset: args.offset,
        unit: args.unit,
        raw: Some(RawDef {
            rows: args.rows,
            cols: args.cols,
            bands: args.bands,
            format: args.format,
            order: args.order,
            byte_order: args.byte_order,
            skip: args.skip,
        }),
    };
    let place = Place::file(&args.file);
    let layout = sidecar.layout(&place)?;
    sidecar.grid(&place)?;
    sidecar.reading(&place)?;
    if layout.bytes() != Some(len) {
        let fits = layout.fitting(len);
        let needed = layout.bytes().map_or("more bytes than any file has".into(), |n| format!("{n} bytes"));
        let report = Report::usage(format!(
            "{}: {} rows x {} columns x {} bands of {} {}need {needed}, the file has {len}",
            args.file.display(),
            layout.rows,
            layout.cols,
            layout.bands,
            layout.format.name(),
            if layout.skip > 0 { format!("after {} bytes ", layout.skip) } else { String::new() },
        ));
        return Err(match fits.as_slice() {
            [] => report.hint("no single change makes it fit: check rows and columns both"),
            some => report.hint(format!("it would fit with {}", some.join(", or with "))),
        });
    }
    let path = beside(&args.file);
    let folder = path.parent().filter(|p| !p.as_os_str().is_empty()).unwrap_or(std::path::Path::new("."));
    let name = path.file_name().map_or(String::new(), |n| n.to_string_lossy().into_owned());
    let mut publisher = Publisher::new(folder, ctx.overwrite)?;
    let staged = publisher.stage(&name)?;
    std::fs::write(&staged, sidecar.to_text()).map_err(|e| telechroma_io::Error::io(&staged, e))?;
    publisher.publish()?;
    match ctx.json {
        true => ctx.print_json(&json!({"written": path.display().to_string(), "bytes": len})),
        false => ctx.progress.say(&format!(
            "{}: {len} bytes fit; every command reads {} now",
            path.display(),
            args.file.display()
        )),
    }
    Ok(())
}
