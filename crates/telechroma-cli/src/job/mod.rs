//! The main job as a file of steps: open inputs, plan, run into sinks, publish, report.
//!
//! `run`, `composite`, `index`, `summarise` and `draw` all end here; they differ in the outputs they ask for.

mod classes;
mod describe;
mod inputs;
mod masked;
mod one;
mod outputs;
mod pictures;
mod plots;
mod prepare;
mod scenes;
mod series;
mod sheet;
mod summary;
pub mod survey;
mod table;
mod tables;

use std::collections::BTreeMap;
use std::path::PathBuf;
use std::sync::Arc;

use jiff::civil::Date;
use telechroma_core::method::{PlannedSeason, Recipe, plan_layers, plan_season};
use telechroma_core::plot::Weighting;
use telechroma_core::run::{Note, Observer, Plan, RunReport, Silent, Sink, run};
use telechroma_core::sensor::SensorDef;
use telechroma_core::stat::Stat;
use telechroma_core::units::Metres;
use telechroma_io::publish::Publisher;
use telechroma_io::table::csv;
use telechroma_io::vector::Source;

pub use classes::{ClassJob, How, classify};
pub use describe::{calibrate_step, mask_step};
pub use inputs::{Inputs, bands_of_layers, bands_of_scene, open_aliases, open_inputs};
pub use masked::draw_masks;
pub use one::{write_one, write_picture, write_raster};
pub use outputs::Naming;
pub use pictures::{Style, ramp};
pub use plots::{laid_on, tell_mended};
pub use prepare::{dark_text, prepare_bands, prepare_masks};
use prepare::{foresee, looks_ahead, prepare};
pub use scenes::{SceneRaster, reason_shares, write_scene_rasters};
pub use series::{SeriesJob, Windows, write_series};
pub use sheet::Sheet;
pub use summary::{Outcome, Output};
pub use table::{RowsBy, Table};
pub use tables::{TableFormat, endings, format_of};

use crate::context::Context;
use crate::report::Report;

/// Which scenes of the inputs are used.
#[derive(Debug, Clone, Default)]
pub struct Filter {
    /// First day.
    pub since: Option<Date>,
    /// Last day.
    pub until: Option<Date>,
    /// Most cloud by the metadata, %.
    pub max_cloud: Option<f64>,
    /// The sensor of inputs that do not say it themselves.
    pub sensor: Option<Arc<SensorDef>>,
}

/// Plots and what to compute of them.
#[derive(Debug, Clone)]
pub struct PlotJob {
    /// The file.
    pub source: Source,
    /// The attribute that is the id.
    pub id: Option<String>,
    /// How cells on the edge count.
    pub weight: Weighting,
    /// How far plots are drawn in first.
    pub inset: Option<Metres>,
    /// The statistics.
    pub stats: Vec<Stat>,
}

/// Which results are written.
#[derive(Debug, Clone, Default, PartialEq)]
pub struct Wanted {
    /// Composites as rasters.
    pub composites: bool,
    /// Layers as rasters.
    pub layers: bool,
    /// The table, in these formats.
    pub tables: Vec<&'static TableFormat>,
    /// Pictures of composites.
    pub scene_pictures: bool,
    /// Pictures of layers.
    pub maps: bool,
    /// `run.json`.
    pub record: bool,
}

/// A job, resolved and checked as far as can be without opening files.
#[derive(Debug, Clone)]
pub struct Job {
    /// For the titles and the record.
    pub name: String,
    /// Deliveries and rasters.
    pub inputs: Vec<PathBuf>,
    /// Rasters that formulas name.
    pub aliases: Vec<(String, PathBuf)>,
    /// Which of them.
    pub filter: Filter,
    /// What is computed.
    pub recipe: Recipe,
    /// The plots.
    pub plots: Option<PlotJob>,
    /// What a row of the table stands for.
    pub rows: RowsBy,
    /// How a table is written as CSV.
    pub csv: csv::Style,
    /// The results.
    pub wanted: Wanted,
    /// Where they go, and by which names.
    pub naming: Naming,
    /// How pictures look.
    pub style: Style,
    /// Tables of the campaign file that are resolved already, as they were written: for the dry run.
    pub written: Vec<(&'static str, Vec<String>)>,
}

/// One or several graphs: scenes make one, each raster made earlier makes its own.
pub fn plan(inputs: Inputs, recipe: &Recipe, observer: &dyn Observer) -> Result<Vec<PlannedSeason>, Report> {
    let mut seasons = vec![];
    if !inputs.scenes.is_empty() {
        seasons.push(plan_season(inputs.scenes, recipe)?);
    }
    for set in &inputs.layers {
        seasons.push(plan_layers(Some(set), recipe)?);
    }
    if seasons.is_empty() {
        seasons.push(plan_layers(None, recipe)?);
    }
    for note in seasons.iter_mut().flat_map(|s| std::mem::take(&mut s.notes)) {
        observer.note(note);
    }
    Ok(seasons)
}

/// Opens a job's inputs and the rasters that its formulas name.
fn open_job(job: &Job, ctx: &Context) -> Result<(Inputs, Recipe), Report> {
    let inputs = match job.inputs.is_empty() && !job.aliases.is_empty() {
        true => Inputs::default(),
        false => open_inputs(&job.inputs, &job.filter, ctx)?,
    };
    let aliases = open_aliases(&job.aliases, ctx)?;
    Ok((inputs, Recipe { aliases, ..job.recipe.clone() }))
}

/// Does the job.
///
/// # Errors
/// Whatever goes wrong; nothing is left behind then.
pub fn execute(job: &Job, ctx: &Context) -> Result<Outcome, Report> {
    let (mut inputs, recipe) = open_job(job, ctx)?;
    let plots = plots::open_plots(job)?;
    if let Some(plots) = &plots {
        plots::tell_mended(&plots.file, &ctx.progress);
    }
    if looks_ahead(&recipe) {
        // what cannot be planned, and names that are taken, are found before whole scenes are looked through
        let mut foreseen = inputs.clone();
        foresee(&mut foreseen.scenes, &recipe)?;
        let seasons = plan(foreseen, &recipe, &Silent)?;
        job.naming.check_free(outputs::names(job, &seasons, plots.as_ref()), ctx.overwrite)?;
    }
    prepare(&mut inputs.scenes, &recipe, ctx)?;
    let seasons = plan(inputs, &recipe, &ctx.progress)?;
    let names = outputs::names(job, &seasons, plots.as_ref());
    if names.is_empty() && !plots.as_ref().is_some_and(plots::OpenPlots::are_summarised) {
        return Err(nothing(job));
    }
    let mut publisher = Publisher::new(&job.naming.root, ctx.overwrite)?;
    let mut outcome = Outcome::new(job);
    outcome.of_rasters = seasons.iter().all(|s| s.periods.iter().all(|p| p.looks.is_none()));
    let mut table = plots.as_ref().filter(|p| p.are_summarised()).map(Table::new);
    // every name is checked before anything is computed
    let mut stage = Staged::new();
    for name in names {
        stage.insert(name.clone(), publisher.stage(&name)?);
    }
    let mut gathered = vec![];
    let alone = seasons.len() == 1;
    for season in seasons {
        outcome.inputs.extend(season.inputs.iter().cloned());
        gathered.extend(run_season(job, (season, alone), &stage, plots.as_ref(), table.as_mut(), &mut outcome, ctx)?);
    }
    pictures::draw(job, &gathered, &stage, ctx.budget.threads, &mut outcome)?;
    if let (Some(plots), Some(table)) = (&plots, &table) {
        for note in tables::write(job, table, &plots.file.stem, &stage, &mut outcome)? {
            ctx.progress.note(Note::Plots(note));
        }
    }
    outcome.table = table;
    ctx.progress.clear();
    outcome.notes = ctx.progress.notes();
    outcome.write_record(job, &stage)?;
    publisher.publish()?;
    Ok(outcome)
}

/// Looks through scenes for what their masks need, before they are planned.
///
/// # Errors
/// Where something cannot be found out.
pub fn prepare_layers(inputs: &mut Inputs, recipe: &Recipe, ctx: &Context) -> Result<(), Report> {
    prepare(&mut inputs.scenes, recipe, ctx)
}

/// Why a job makes nothing of its inputs.
fn nothing(job: &Job) -> Report {
    if !job.wanted.scene_pictures {
        return Report::usage("the inputs hold no scene: rasters made earlier are composites or layers already");
    }
    let lacks = match job.style.colours.as_slice() {
        [] => "the inputs lack three bands that make a colour picture".to_string(),
        asked => format!("the inputs do not have all of the bands {}", asked.join(", ")),
    };
    Report::usage(lacks).hint("name three bands with --bands; 'telechroma inspect' shows what there is")
}

/// Scratch paths of results by their names.
type Staged = BTreeMap<String, PathBuf>;

/// All sinks of one graph.
struct Sinks {
    rasters: Vec<outputs::RasterOut>,
    plots: Vec<table::PlotOut>,
    pictures: Vec<pictures::PictureOut>,
}

impl Sinks {
    fn new(
        job: &Job,
        season: &PlannedSeason,
        stage: &Staged,
        plots: Option<&plots::OpenPlots>,
        alone: bool,
        observer: &dyn Observer,
    ) -> Result<Sinks, Report> {
        let rasters = outputs::rasters(job, season, stage);
        let pictures = pictures::sinks(job, season, plots);
        // plots that are only drawn need no sink
        let summarised = plots.filter(|p| p.are_summarised());
        let plots = summarised.map(|p| table::sinks(job, p, season, alone, observer)).transpose()?.unwrap_or_default();
        Ok(Sinks { rasters, plots, pictures })
    }

    fn all(&mut self) -> Vec<Sink<'_>> {
        let rasters = self.rasters.iter_mut().map(outputs::RasterOut::sink);
        let plots = self.plots.iter_mut().map(table::PlotOut::sink);
        rasters.chain(plots).chain(self.pictures.iter_mut().map(pictures::PictureOut::sink)).collect()
    }
}

fn run_season(
    job: &Job,
    (season, alone): (PlannedSeason, bool),
    stage: &Staged,
    plots: Option<&plots::OpenPlots>,
    table: Option<&mut Table>,
    outcome: &mut Outcome,
    ctx: &Context,
) -> Result<Vec<pictures::Gathered>, Report> {
    let mut outs = Sinks::new(job, &season, stage, plots, alone, &ctx.progress)?;
    let sinks = outs.all();
    let plan = Plan::new(season.graph, &sinks, ctx.budget)?;
    if plan.decodes_again {
        ctx.progress.note(Note::Costly(
            "the memory allowed does not hold all blocks that several tiles need: some are decoded again".into(),
        ));
    }
    let report: RunReport = run(&plan, sinks, &ctx.progress)?;
    outcome.ran(&plan, &report);
    ctx.progress.stage("writing", 1);
    outputs::finish(outs.rasters, ctx.budget.threads, outcome)?;
    if let Some(table) = table {
        outs.plots.into_iter().for_each(|out| table.take(out));
    }
    Ok(outs.pictures.into_iter().map(pictures::Gathered::from).collect())
}

/// The plan of a graph, its inputs, and each period with its number of scenes.
pub type PlanPreview = (Plan, Vec<String>, Vec<(String, usize)>);

/// What a dry run found.
pub struct Preview {
    /// The plan of each graph.
    pub plans: Vec<PlanPreview>,
    /// Bytes of the rasters before they are packed.
    pub raster_bytes: u64,
    /// Names of the results, and whether they are there already.
    pub results: Vec<(String, bool)>,
}

/// Plans the job without reading a cell or writing a byte.
///
/// # Errors
/// Whatever would go wrong before the first tile.
pub fn preview(job: &Job, ctx: &Context) -> Result<Preview, Report> {
    let (mut inputs, recipe) = open_job(job, ctx)?;
    foresee(&mut inputs.scenes, &recipe)?;
    let seasons = plan(inputs, &recipe, &ctx.progress)?;
    let plots = plots::open_plots(job)?;
    let names = outputs::names(job, &seasons, plots.as_ref());
    let stage: Staged = names.iter().map(|n| (n.clone(), job.naming.root.join(n))).collect();
    let results =
        names.into_iter().map(|n| (job.naming.root.join(&n).exists(), n)).map(|(there, n)| (n, there)).collect();
    let raster_bytes = seasons.iter().map(|s| outputs::raw_bytes(job, s)).sum();
    let mut plans = vec![];
    let alone = seasons.len() == 1;
    for season in seasons {
        let mut outs = Sinks::new(job, &season, &stage, plots.as_ref(), alone, &ctx.progress)?;
        let sinks = outs.all();
        let ids = season.inputs.iter().map(|i| i.0.clone()).collect();
        let periods = season.periods.iter().map(|p| (p.period.clone(), p.scenes.len())).collect();
        plans.push((Plan::new(season.graph, &sinks, ctx.budget)?, ids, periods));
    }
    Ok(Preview { plans, raster_bytes, results })
}
