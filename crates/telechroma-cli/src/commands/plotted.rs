//! Arguments about plots that several commands share: the file, what is computed, how a table is written.

use std::path::{Path, PathBuf};

use clap::Args;
use telechroma_core::geo::Crs;
use telechroma_core::plot::Weighting;
use telechroma_core::stat::{DEFAULT_STATS, Stat, histogram};
use telechroma_core::units::Metres;
use telechroma_io::table::csv;
use telechroma_io::vector::Source;

use crate::job::{Job, PlotJob, RowsBy};
use crate::report::Report;

/// A file of plots.
#[derive(Args, Clone)]
pub struct PlotFileArgs {
    /// Polygons or points with a unique id: .geojson, .gpkg, .shp, .parquet, or points as .csv
    #[arg(long, value_name = "FILE", help_heading = "Plots")]
    pub plots: Option<PathBuf>,
    /// The attribute that is the plots' id; default: the first of id, plot, plot_id, field, field_id, name
    #[arg(long, value_name = "FIELD", help_heading = "Plots")]
    pub id: Option<String>,
    #[command(flatten)]
    pub unsaid: Unsaid,
}

/// What a file of plots does not say itself.
#[derive(Args, Clone)]
pub struct Unsaid {
    /// Which layer of a GeoPackage
    #[arg(long, value_name = "NAME", help_heading = "Plots")]
    pub plots_layer: Option<String>,
    /// Columns of a CSV that hold x and y (longitude and latitude), such as east,north
    #[arg(long, value_name = "X,Y", value_parser = two_names, help_heading = "Plots")]
    pub plots_xy: Option<(String, String)>,
    /// Coordinate system of a plot file that states none, such as EPSG:32633
    #[arg(long, value_name = "CRS", value_parser = |t: &str| Crs::from_text(t), help_heading = "Plots")]
    pub plots_crs: Option<Crs>,
}

impl Unsaid {
    /// A file of plots with what it does not say.
    pub fn source(&self, path: &Path) -> Source {
        Source {
            path: path.to_path_buf(),
            layer: self.plots_layer.clone(),
            xy: self.plots_xy.clone(),
            crs: self.plots_crs,
        }
    }
}

/// Two names with a comma between.
fn two_names(text: &str) -> Result<(String, String), String> {
    match text.split_once(',').map(|(x, y)| (x.trim(), y.trim())) {
        Some((x, y)) if !x.is_empty() && !y.is_empty() => Ok((x.into(), y.into())),
        _ => Err("write the names of two columns, such as east,north".into()),
    }
}

impl PlotFileArgs {
    /// The file, if one was named.
    pub fn source(&self) -> Option<Source> {
        self.plots.as_deref().map(|p| self.unsaid.source(p))
    }

    /// A job that only needs to know where the plots are, if there are any.
    pub fn outlines(&self, weight: Weighting) -> Option<PlotJob> {
        let source = self.source()?;
        Some(PlotJob { source, id: self.id.clone(), weight, inset: None, stats: vec![] })
    }

    /// The file that must be named.
    pub fn required(&self) -> Result<Source, Report> {
        self.source().ok_or_else(|| Report::usage("no plots: name their file").hint("--plots fields.geojson"))
    }
}

/// Plots and statistics.
#[derive(Args, Clone)]
pub struct PlotArgs {
    #[command(flatten)]
    pub file: PlotFileArgs,
    /// Statistics: count, valid_share, kept_share, mean, sd, variance, cv, min, max, range, sum, median, p10 (any
    /// percentile), area (hectares); of classes majority, minority, variety, class_3 (the share of class 3)
    #[arg(long, value_name = "LIST", value_delimiter = ',', help_heading = "Plots")]
    pub stats: Vec<String>,
    /// Also the share of cells in each of N equal bins between two values, such as 0,1,10
    #[arg(long, value_name = "LOW,HIGH,N", value_parser = bins, allow_hyphen_values = true, help_heading = "Plots")]
    pub histogram: Option<(f64, f64, u32)>,
    /// How cells on the edge count: share (exact covered share), centre, touch
    #[arg(long, value_name = "RULE", default_value = "share", help_heading = "Plots")]
    pub weight: Weighting,
    /// Draw plots in by this length first, such as 5m: cells on the edge are mixed with the neighbours
    #[arg(long, value_name = "LENGTH", help_heading = "Plots")]
    pub inset: Option<Metres>,
    /// Cells that count, such as 'ndvi > 0.3'
    #[arg(long, value_name = "COND", help_heading = "Plots")]
    pub keep: Option<String>,
}

fn bins(text: &str) -> Result<(f64, f64, u32), String> {
    let parts: Vec<&str> = text.split(',').map(str::trim).collect();
    let three = match parts.as_slice() {
        [a, b, n] => a.parse().ok().zip(b.parse().ok()).zip(n.parse().ok()).map(|((a, b), n)| (a, b, n)),
        _ => None,
    };
    three.ok_or_else(|| "write two values and the number of bins between them, such as 0,1,10".into())
}

impl PlotArgs {
    pub fn job(&self) -> Result<PlotJob, Report> {
        let names: Vec<&str> = if self.stats.is_empty() && self.histogram.is_none() {
            DEFAULT_STATS.to_vec()
        } else {
            self.stats.iter().map(String::as_str).collect()
        };
        let mut stats = names.iter().map(|s| s.trim().parse()).collect::<Result<Vec<Stat>, _>>()?;
        if let Some((low, high, n)) = self.histogram {
            stats.extend(histogram(low, high, n)?);
        }
        let source = self.file.required()?;
        Ok(PlotJob { source, id: self.file.id.clone(), weight: self.weight, inset: self.inset, stats })
    }
}

/// How a table is written.
#[derive(Args, Clone)]
pub struct TableArgs {
    /// What one row stands for: plot (periods side by side), period (a plot and period), layer (a plot, period and layer)
    #[arg(long, value_name = "WHAT", default_value = "period", help_heading = "Table")]
    pub rows: RowsBy,
    /// Between the fields of a .csv: ',' ';' or tab
    #[arg(long, value_name = "CHAR", default_value = ",", value_parser = separator, help_heading = "Table")]
    pub separator: u8,
    /// Before the fraction of numbers in a .csv: '.' or ','
    #[arg(long, value_name = "CHAR", default_value = ".", value_parser = decimal, help_heading = "Table")]
    pub decimal: char,
}

fn separator(text: &str) -> Result<u8, String> {
    match text {
        "," => Ok(b','),
        ";" => Ok(b';'),
        "tab" | "\t" => Ok(b'\t'),
        _ => Err("write ',' ';' or tab".into()),
    }
}

fn decimal(text: &str) -> Result<char, String> {
    match text {
        "." => Ok('.'),
        "," => Ok(','),
        _ => Err("write '.' or ','".into()),
    }
}

impl TableArgs {
    /// Sets how a job's table is written.
    ///
    /// # Errors
    /// Where fields and fractions would be parted by the same character.
    pub fn set(&self, job: &mut Job) -> Result<(), Report> {
        job.rows = self.rows;
        job.csv = self.style()?;
        Ok(())
    }

    /// How CSV is written.
    pub fn style(&self) -> Result<csv::Style, Report> {
        if self.separator == b',' && self.decimal == ',' {
            return Err(Report::usage("a comma cannot part both fields and fractions").hint("add --separator ';'"));
        }
        Ok(csv::Style { separator: self.separator, decimal: self.decimal })
    }
}
