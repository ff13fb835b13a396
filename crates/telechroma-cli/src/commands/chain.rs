//! Arguments that several commands share: which inputs, and how the earlier steps are done when inputs are raw scenes.

use std::path::{Path, PathBuf};
use std::sync::Arc;

use clap::Args;
use jiff::civil::Date;
use telechroma_core::area::{Edge, Outline};
use telechroma_core::mask::Reasons;
use telechroma_core::method::{
    BandChoice, By, Confidence, Every, Find, LayerRequest, Light, MaskOptions, Recipe, Target,
};
use telechroma_core::physics::{DarkMethod, TerrainMethod};
use telechroma_core::tile::PlaneSource;
use telechroma_core::units::{Metres, TemperatureUnit};
use telechroma_io::delivery::{Opened, Opener, sensor_of};

use crate::campaign::layer;
use crate::commands::frame::{FrameArgs, area};
use crate::context::{Context, listed};
use crate::job::{Filter, Job, Naming, RowsBy, Style, Wanted, mask_step};
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
    /// Sensor of inputs that do not say it themselves: an id ('telechroma sensors list' shows them) or a .toml file
    #[arg(long, value_name = "SENSOR", help_heading = "Which scenes")]
    pub sensor: Option<String>,
    #[command(flatten)]
    pub frame: FrameArgs,
}

impl Selection {
    pub fn filter(&self) -> Result<Filter, Report> {
        let sensor = self.sensor.as_deref().map(|s| sensor_of(s, Path::new(""))).transpose()?;
        Ok(Filter { since: self.since, until: self.until, max_cloud: self.max_cloud, sensor })
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
    /// Also drop cells whose flags hold at least this confidence: low, medium or high, for deliveries that grade them
    #[arg(long, value_name = "LEVEL", help_heading = "Mask")]
    pub confidence: Option<Confidence>,
    /// Look in the cells themselves, beside the flags: clouds (spectral tests), shadows (of all clouds, by the sun's
    /// place), outliers (looks far above their own series)
    #[arg(long, value_name = "LIST", value_delimiter = ',', help_heading = "Mask")]
    pub find: Vec<String>,
    /// Do not use the delivery's own flags, except for fill
    #[arg(long, help_heading = "Mask")]
    pub ignore_flags: bool,
    /// Drop cells by a condition on flags as delivered, bands and indices, such as 'SCL in (2, 7)' or 'bit(QA_PIXEL, 7)'
    #[arg(long, value_name = "COND", help_heading = "Mask")]
    pub drop_where: Option<String>,
    /// Drop the cells in the polygons of a file, or where a raster is not zero
    #[arg(long, value_name = "FILE", help_heading = "Mask")]
    pub drop_in: Vec<PathBuf>,
    /// Use scenes that have no mask as they are
    #[arg(long, help_heading = "Mask")]
    pub unmasked: bool,
}

impl MaskArgs {
    pub fn options(&self) -> Result<MaskOptions, Report> {
        let (areas, raster) = dropped_in(&self.drop_in)?;
        Ok(MaskOptions {
            drop: Reasons::from_names(&self.drop)?,
            grow: self.grow,
            unmasked: self.unmasked,
            confidence: self.confidence,
            find: Find::from_names(&self.find)?,
            ignore_flags: self.ignore_flags,
            condition: self.drop_where.clone(),
            areas,
            raster,
        })
    }
}

/// Polygons whose cells are dropped, and the raster that says which.
pub type DroppedIn = (Vec<Outline>, Option<Arc<dyn PlaneSource>>);

/// Opens the files that say where cells are dropped.
///
/// # Errors
/// Where one cannot be opened, or a raster has several layers.
pub fn dropped_in(files: &[PathBuf]) -> Result<DroppedIn, Report> {
    let (mut areas, mut raster) = (vec![], None);
    let is_raster = |p: &Path| p.extension().is_some_and(|e| ["tif", "tiff"].iter().any(|x| e.eq_ignore_ascii_case(x)));
    for file in files {
        if !is_raster(file) {
            areas.push(area(file, None, None, Edge::Touch)?);
            continue;
        }
        let (plane, _) = one_layer(file, "a raster of cells to drop")?;
        if raster.replace(plane).is_some() {
            return Err(Report::usage("cells are dropped by one raster at most").hint("put them together first"));
        }
    }
    Ok((areas, raster))
}

/// The steps before a layer.
#[derive(Args, Clone)]
pub struct Chain {
    #[command(flatten)]
    pub calibrate: CalibrateArgs,
    #[command(flatten)]
    pub mask: MaskArgs,
    #[command(flatten)]
    pub composite: CompositeArgs,
    #[command(flatten)]
    pub heat: HeatArgs,
    #[command(flatten)]
    pub selection: Selection,
}

/// How scenes become composites.
#[derive(Args, Clone)]
pub struct CompositeArgs {
    /// One composite for all scenes, or one a year, season, month, '16 days' (any number), scene, or window of days, such
    /// as 2031-04..2031-05,2031-07-10..2031-08-20
    #[arg(long, value_name = "PERIOD", default_value = "all", help_heading = "Composite")]
    pub every: Every,
    /// How the dates of a period become one value. Band by band (bands of a cell may come from different dates): median,
    /// mean, min, max, a percentile as p25. One look for all bands (a spectrum that was really seen): medoid, best (with
    /// --score), latest, earliest
    #[arg(long, value_name = "RULE", default_value = "median", help_heading = "Composite")]
    pub by: String,
    /// With --by best: the look with the highest score is taken, such as ndvi or '-abs(doy - 200)'
    #[arg(long, value_name = "FORMULA", allow_hyphen_values = true, help_heading = "Composite")]
    pub score: Option<String>,
    /// Write the spread of each band's looks too: their median distance from the median
    #[arg(long, help_heading = "Composite")]
    pub spread: bool,
    /// Clear looks that a cell needs
    #[arg(long, value_name = "N", default_value_t = 1, help_heading = "Composite")]
    pub at_least: u32,
}

/// What counts become.
#[derive(Args, Clone)]
pub struct CalibrateArgs {
    /// What counts become: toa (reflectance above the air; thermal bands as brightness temperature), surface (reflectance
    /// at the ground: as delivered at Level 2, else a dark-object estimate) or radiance
    #[arg(long, value_name = "TARGET", default_value = "toa", help_heading = "Calibrate")]
    pub to: Target,
    /// With --to surface: dos1 (the air's own light is taken off) or cost (its loss of light too, by the sun's height)
    #[arg(long, value_name = "FORM", default_value = "dos1", help_heading = "Calibrate")]
    pub dark_object: DarkMethod,
    /// The sun's height by which reflectance is corrected: scene (at its middle, as agencies do) or cell (from the angle
    /// band of the delivery)
    #[arg(long, value_name = "OF", default_value = "scene", value_parser = ["scene", "cell"], help_heading = "Calibrate")]
    pub sun_angle: String,
    /// Make reflectance on slopes that of level ground: cosine, or c (with a constant for each band, from the scene)
    #[arg(long, value_name = "FORM", requires = "elevation", help_heading = "Calibrate")]
    pub terrain: Option<TerrainMethod>,
    /// Raster of heights, metres, that reaches a cell beyond the scene
    #[arg(long, value_name = "FILE", requires = "terrain", help_heading = "Calibrate")]
    pub elevation: Option<PathBuf>,
}

impl CalibrateArgs {
    /// What is to be known of the light on each cell.
    ///
    /// # Errors
    /// Where the raster of heights cannot be opened.
    pub fn light(&self) -> Result<Light, Report> {
        light(self.sun_angle == "cell", self.terrain, self.elevation.as_deref())
    }

    pub fn target(&self) -> Target {
        match self.to {
            Target::Surface(_) => Target::Surface(self.dark_object),
            other => other,
        }
    }
}

/// What is to be known of the light on each cell.
///
/// # Errors
/// Where the raster of heights cannot be opened, or slopes are to be corrected without one.
pub fn light(per_cell: bool, method: Option<TerrainMethod>, elevation: Option<&Path>) -> Result<Light, Report> {
    let terrain = match (method, elevation) {
        (None, None) => None,
        (Some(method), Some(file)) => Some((method, one_layer(file, "a raster of heights")?.0)),
        _ => return Err(Report::usage("slopes are corrected by a method and a raster of heights: give both")),
    };
    Ok(Light { per_cell, terrain })
}

/// The one layer of a raster, and the raster's fingerprint.
///
/// # Errors
/// Where it cannot be opened, or has several.
pub fn one_layer(file: &Path, what: &str) -> Result<(Arc<dyn PlaneSource>, String), Report> {
    match Opener::default().open(file, &mut |_| {})? {
        Opened::Mask { source, digest, .. } => Ok((source, digest)),
        Opened::Layers(set) if set.layers.len() == 1 => Ok((set.layers[0].source.clone(), set.digest)),
        _ => Err(Report::usage(format!("{}: {what} has one layer", file.display()))
            .hint("take one out of it with 'telechroma assemble'")),
    }
}

/// What temperatures need to know.
#[derive(Args, Clone, Default)]
pub struct HeatArgs {
    /// Emissivity of the ground for lst: a number, an index such as emissivity_tirs10, or a raster; default: from NDVI
    #[arg(long, value_name = "VALUE", help_heading = "Temperature")]
    pub emissivity: Option<String>,
    /// Water vapour of the air, g cm⁻² (1 g cm⁻² is 10 mm), for lst_single_channel and lst_split_window
    #[arg(long, value_name = "G_CM2", help_heading = "Temperature")]
    pub water_vapour: Option<f64>,
    /// Transmittance of the air, and the radiance it sends up and down (W m⁻² sr⁻¹ µm⁻¹), for lst_radiative_transfer
    #[arg(long, value_name = "T,UP,DOWN", value_delimiter = ',', help_heading = "Temperature")]
    pub air: Vec<f64>,
    /// Cavity factor of rough ground, for the emissivity of TIRS bands; 0.55 is usual, the default is flat ground
    #[arg(long, value_name = "F", help_heading = "Temperature")]
    pub cavity: Option<f64>,
}

impl HeatArgs {
    /// Names with what they stand for, and a raster by its alias.
    pub fn defined(&self) -> Result<Defined, Report> {
        defined(&Given {
            emissivity: self.emissivity.clone(),
            water_vapour: self.water_vapour,
            air: self.air.clone(),
            cavity: self.cavity,
        })
    }
}

impl Chain {
    pub fn recipe(
        &self,
        layers: Vec<LayerRequest>,
        bands: BandChoice,
        unit: TemperatureUnit,
    ) -> Result<Recipe, Report> {
        Ok(Recipe {
            target: self.calibrate.target(),
            light: self.calibrate.light()?,
            mask: self.mask.options()?,
            every: self.composite.every.clone(),
            by: By::new(&self.composite.by, self.composite.score.clone())?,
            spread: self.composite.spread,
            at_least: self.composite.at_least,
            bands,
            layers,
            defined: self.heat.defined()?.0,
            aliases: vec![],
            sides: vec![],
            temperature: unit,
            keep: None,
            frame: self.selection.frame.frame()?,
        })
    }

    /// A job over inputs, to be filled in. Words `alias=file` are rasters that formulas name.
    pub fn job(&self, name: &str, inputs: &[String], recipe: Recipe, naming: Naming) -> Result<Job, Report> {
        let (named, plain): (Vec<String>, Vec<String>) =
            inputs.iter().cloned().partition(|w| !Path::new(w).exists() && alias(w).is_some());
        Ok(Job {
            name: name.into(),
            inputs: listed(&plain)?,
            aliases: named.iter().filter_map(|w| alias(w)).chain(self.heat.defined()?.1).collect(),
            filter: self.selection.filter()?,
            recipe,
            plots: None,
            rows: RowsBy::default(),
            csv: Default::default(),
            wanted: Wanted::default(),
            naming,
            style: Style::default(),
            written: vec![],
        })
    }

    /// Says which earlier steps are done because the inputs are raw scenes.
    pub fn say(&self, inputs: &[PathBuf], ctx: &Context, job: &Job) {
        let raw = inputs
            .iter()
            .any(|p| !p.extension().is_some_and(|e| e.eq_ignore_ascii_case("tif") || e.eq_ignore_ascii_case("tiff")));
        if raw {
            let steps = format!(
                "raw scenes: calibrated to {}, masked ({}), {} of {} ({})",
                job.recipe.target.text(),
                mask_step(&job.recipe.mask),
                job.recipe.by.name(),
                match &job.recipe.every {
                    _ if !job.recipe.sides.is_empty() => "each side".to_string(),
                    Every::All => "all dates".to_string(),
                    other => format!("each {}", other.name()),
                },
                job.recipe.by.explained(),
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
        Naming::of(self.out.as_deref(), endings)
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

/// What temperatures are told, as given.
#[derive(Default)]
pub struct Given {
    pub emissivity: Option<String>,
    pub water_vapour: Option<f64>,
    pub air: Vec<f64>,
    pub cavity: Option<f64>,
}

/// Names that the user gave a value, and the raster that is one.
pub type Defined = (Vec<(String, String)>, Option<(String, PathBuf)>);

/// Most water vapour that the air holds, g cm⁻².
const MOST_VAPOUR: f64 = 6.0;

/// What formulas of temperatures are told.
///
/// # Errors
/// For values that cannot be.
pub fn defined(given: &Given) -> Result<Defined, Report> {
    let emissivity = given.emissivity.as_deref();
    let (mut names, mut raster) = (vec![], None);
    // one emissivity for both bands of a split window
    let mut ground = |value: &str| {
        for name in ["emissivity", "emissivity_tirs10", "emissivity_tirs11"].iter().filter(|n| **n != value) {
            names.push((name.to_string(), value.to_string()));
        }
    };
    match emissivity.map(|e| (e, e.parse::<f64>())) {
        None => {}
        Some((_, Ok(e))) if e > 0.0 && e <= 1.0 => ground(&format!("{e}")),
        Some((text, Ok(_))) => {
            return Err(Report::usage(format!("emissivity {text}: it lies above 0 and is at most 1")));
        }
        Some((text, Err(_))) if Path::new(text).extension().is_some() || Path::new(text).exists() => {
            raster = Some(("given_emissivity".to_string(), PathBuf::from(text)));
            ground("given_emissivity");
        }
        Some((text, Err(_))) => {
            telechroma_core::index::find(text)?;
            ground(text);
        }
    }
    match given.air.as_slice() {
        [] => {}
        [t, up, down] if *t > 0.0 && *t <= 1.0 && *up >= 0.0 && *down >= 0.0 => {
            let numbers = [("transmittance", t), ("upwelling", up), ("downwelling", down)];
            names.extend(numbers.map(|(n, v)| (n.to_string(), v.to_string())));
        }
        other => {
            return Err(Report::usage(format!(
                "the air takes its transmittance (above 0, at most 1) and the radiances it sends up and down; found {other:?}"
            )));
        }
    }
    if let Some(f) = given.cavity {
        if !(0.0..=1.0).contains(&f) {
            return Err(Report::usage(format!("a cavity factor lies between 0 and 1; found {f}")));
        }
        names.push(("cavity".into(), f.to_string()));
    }
    if let Some(w) = given.water_vapour {
        if !(0.0..=MOST_VAPOUR).contains(&w) {
            return Err(Report::usage(format!(
                "water vapour {w}: the air holds 0 to {MOST_VAPOUR} g cm⁻² (1 g cm⁻² is 10 mm or 10 kg m⁻²)"
            )));
        }
        names.push(("water_vapour".into(), format!("{w}")));
    }
    Ok((names, raster))
}

/// A word `alias=file`.
pub fn alias(word: &str) -> Option<(String, PathBuf)> {
    let (name, path) = word.split_once('=')?;
    let sound = name.starts_with(|c: char| c.is_ascii_alphabetic())
        && name.chars().all(|c| c.is_ascii_alphanumeric() || c == '_');
    sound.then(|| (name.to_string(), PathBuf::from(path)))
}

/// Splits words into inputs (what exists) and names (the rest).
pub fn inputs_and_names(words: &[String]) -> (Vec<String>, Vec<String>) {
    words.iter().cloned().partition(|w| {
        w.starts_with('@')
            || alias(w).is_some()
            || Path::new(w).exists()
            || w.contains(['/', '\\'])
            || Path::new(w).extension().is_some()
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
    if layers.iter().any(|l| l.name == "lst_split_window" && l.formula.is_none()) {
        ctx.progress
            .say("lst_split_window needs TIRS band 11, which on Landsat 8 is about twice as uncertain as band 10");
    }
}
