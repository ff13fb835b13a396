//! Arguments that several commands share: which inputs, and how the earlier steps are done when inputs are raw scenes.

use std::path::{Path, PathBuf};

use clap::Args;
use jiff::civil::Date;
use telechroma_core::mask::Reasons;
use telechroma_core::method::{BandChoice, Every, LayerRequest, MaskOptions, Recipe, Target};
use telechroma_core::plot::Weighting;
use telechroma_core::stat::{DEFAULT_STATS, Stat};
use telechroma_core::units::{Metres, TemperatureUnit};

use crate::campaign::layer;
use crate::context::{Context, listed};
use crate::job::{Filter, Job, Naming, PlotJob, Style, Wanted};
use crate::report::Report;

/// Which scenes of the inputs.
#[derive(Args, Clone)]
pub struct Selection {
    /// First day, such as 2031-04-01
    #[arg(long, value_name = "DATE", help_heading = "Which scenes")]
    pub since: Option<Date>,
    /// Last day, inclusive
    #[arg(long, value_name = "DATE", help_heading = "Which scenes")]
    pub until: Option<Date>,
    /// Most cloud by the metadata, in percent
    #[arg(long, value_name = "PCT", help_heading = "Which scenes")]
    pub max_cloud: Option<f64>,
}

impl Selection {
    pub fn filter(&self) -> Filter {
        Filter { since: self.since, until: self.until, max_cloud: self.max_cloud }
    }
}

/// How a mask is made.
#[derive(Args, Clone)]
pub struct MaskArgs {
    /// Reasons to drop a cell: fill, dilated, cirrus, cloud, shadow, snow, water, saturated
    #[arg(
        long,
        value_name = "LIST",
        value_delimiter = ',',
        default_value = "fill,dilated,cirrus,cloud,shadow",
        help_heading = "Mask"
    )]
    pub drop: Vec<String>,
    /// Grow clouds and shadows by this length, such as 60m
    #[arg(long, value_name = "LENGTH", help_heading = "Mask")]
    pub grow: Option<Metres>,
    /// Use scenes that have no mask as they are
    #[arg(long, help_heading = "Mask")]
    pub unmasked: bool,
}

impl MaskArgs {
    pub fn options(&self) -> Result<MaskOptions, Report> {
        Ok(MaskOptions { drop: Reasons::from_names(&self.drop)?, grow: self.grow, unmasked: self.unmasked })
    }
}

/// The steps before a layer.
#[derive(Args, Clone)]
pub struct Chain {
    /// What counts become: toa (reflectance; thermal bands as brightness temperature) or radiance
    #[arg(long, value_name = "TARGET", default_value = "toa", help_heading = "Calibrate")]
    pub to: Target,
    #[command(flatten)]
    pub mask: MaskArgs,
    /// One composite for all scenes, or one a year, season, month, '16 days' or scene
    #[arg(long, value_name = "PERIOD", default_value = "all", help_heading = "Composite")]
    pub every: Every,
    /// How the dates of a period become one value
    #[arg(long, value_name = "RULE", default_value = "median", value_parser = ["median"], help_heading = "Composite")]
    pub by: String,
    /// Clear looks that a cell needs
    #[arg(long, value_name = "N", default_value_t = 1, help_heading = "Composite")]
    pub at_least: u32,
    #[command(flatten)]
    pub selection: Selection,
}

impl Chain {
    pub fn recipe(
        &self,
        layers: Vec<LayerRequest>,
        bands: BandChoice,
        unit: TemperatureUnit,
    ) -> Result<Recipe, Report> {
        Ok(Recipe {
            target: self.to,
            mask: self.mask.options()?,
            every: self.every,
            at_least: self.at_least,
            bands,
            layers,
            temperature: unit,
            keep: None,
        })
    }

    /// Says which earlier steps are done because the inputs are raw scenes.
    pub fn say(&self, inputs: &[PathBuf], ctx: &Context, job: &Job) {
        let raw = inputs
            .iter()
            .any(|p| !p.extension().is_some_and(|e| e.eq_ignore_ascii_case("tif") || e.eq_ignore_ascii_case("tiff")));
        if raw {
            let steps = format!(
                "raw scenes: calibrated to {}, masked ({}{}), median of {}",
                job.recipe.target.name(),
                job.recipe.mask.drop.names().join(", "),
                job.recipe.mask.grow.map_or(String::new(), |g| format!(", grown {g}")),
                match job.recipe.every {
                    Every::All => "all dates".to_string(),
                    other => format!("each {}", other.name()),
                },
            );
            ctx.progress.say(&steps);
        }
    }
}

/// Where results go.
#[derive(Args, Clone)]
pub struct Out {
    /// Folder of the results, or the file if there is one result; default: the current folder
    #[arg(long, value_name = "PATH")]
    pub out: Option<PathBuf>,
}

impl Out {
    /// A path with one of `endings` is the one result's name; else it is a folder.
    pub fn naming(&self, endings: &[&str]) -> Naming {
        let Some(path) = &self.out else { return Naming { root: ".".into(), folders: false, single: None } };
        let ends = path.extension().is_some_and(|e| endings.iter().any(|x| e.eq_ignore_ascii_case(x)));
        match (ends, path.file_name()) {
            (true, Some(name)) => {
                let root = path.parent().filter(|p| !p.as_os_str().is_empty()).unwrap_or(Path::new("."));
                Naming { root: root.into(), folders: false, single: Some(name.to_string_lossy().into_owned()) }
            }
            _ => Naming { root: path.clone(), folders: false, single: None },
        }
    }
}

/// Plots and statistics.
#[derive(Args, Clone)]
pub struct PlotArgs {
    /// Polygons with a unique id, GeoJSON
    #[arg(long, value_name = "FILE", help_heading = "Plots")]
    pub plots: PathBuf,
    /// The attribute that is the plots' id
    #[arg(long, value_name = "FIELD", help_heading = "Plots")]
    pub id: Option<String>,
    /// Statistics: count, valid_share, mean, sd, min, max, median, sum, range, kept_share, p10 …
    #[arg(long, value_name = "LIST", value_delimiter = ',', help_heading = "Plots")]
    pub stats: Vec<String>,
    /// How cells on the edge count: share (exact covered share), centre, touch
    #[arg(long, value_name = "RULE", default_value = "share", help_heading = "Plots")]
    pub weight: Weighting,
    /// Cells that count, such as 'ndvi > 0.3'
    #[arg(long, value_name = "COND", help_heading = "Plots")]
    pub keep: Option<String>,
}

impl PlotArgs {
    pub fn job(&self) -> Result<PlotJob, Report> {
        let names: Vec<&str> = if self.stats.is_empty() {
            DEFAULT_STATS.to_vec()
        } else {
            self.stats.iter().map(String::as_str).collect()
        };
        let stats = names.iter().map(|s| s.trim().parse()).collect::<Result<Vec<Stat>, _>>()?;
        Ok(PlotJob { file: self.plots.clone(), id: self.id.clone(), weight: self.weight, stats })
    }
}

/// Layers from names and from formulas `name = …`.
pub fn layers(names: &[String], formulas: &[String]) -> Result<Vec<LayerRequest>, Report> {
    let mut all: Vec<LayerRequest> = names.iter().map(|n| LayerRequest { name: n.clone(), formula: None }).collect();
    for f in formulas {
        // the first single equals sign parts name and formula
        let (name, formula) = f
            .split_once('=')
            .filter(|(n, _)| !n.trim().is_empty() && n.trim().chars().all(|c| c.is_alphanumeric() || c == '_'))
            .ok_or_else(|| {
                Report::usage(format!("--formula '{f}': write 'name = formula', such as 'green_red = green / red'"))
            })?;
        all.push(layer(name.trim(), formula.trim())?);
    }
    Ok(all)
}

/// A job over inputs, to be filled in.
pub fn job(name: &str, inputs: &[String], filter: Filter, recipe: Recipe, naming: Naming) -> Result<Job, Report> {
    Ok(Job {
        name: name.into(),
        inputs: listed(inputs)?,
        filter,
        recipe,
        plots: None,
        wanted: Wanted::default(),
        naming,
        style: Style::default(),
    })
}

/// Splits words into inputs (what exists) and names (the rest).
pub fn inputs_and_names(words: &[String]) -> (Vec<String>, Vec<String>) {
    words.iter().cloned().partition(|w| {
        w.starts_with('@') || Path::new(w).exists() || w.contains(['/', '\\']) || Path::new(w).extension().is_some()
    })
}

/// Notes what is worth knowing of a layer asked for.
pub fn advise(layers: &[LayerRequest], ctx: &Context) {
    if layers.iter().any(|l| l.name == "ndwi" && l.formula.is_none()) && !layers.iter().any(|l| l.name == "ndmi") {
        ctx.progress.say("ndwi is McFeeters' open-water index; for the moisture of plants use ndmi");
    }
    if layers.iter().any(|l| l.name == "lst" && l.formula.is_none()) {
        ctx.progress.say("lst is corrected for emissivity only: in moist air it reads some kelvin low");
    }
}
