//! The rasters of a job, and the names of all its results.

use std::path::{Path, PathBuf};

use telechroma_core::graph::NodeId;
use telechroma_core::method::{PlannedLayer, PlannedPeriod, PlannedSeason};
use telechroma_core::run::Sink;
use telechroma_core::tile::Kind;
use telechroma_core::units::Unit;
use telechroma_io::publish::Publisher;
use telechroma_io::raster::cog::{CogEncoder, CogFile, CogOptions};
use telechroma_io::raster::description::Kind as RasterKind;

use super::plots::OpenPlots;
use super::{Job, Outcome, Output, Staged, describe, pictures, tables};
use crate::report::Report;

/// Where results go, and by which names.
#[derive(Debug, Clone)]
pub struct Naming {
    /// The folder.
    pub root: PathBuf,
    /// `layers/`, `tables/` and so on below it; else all side by side.
    pub folders: bool,
    /// The one result has this name.
    pub single: Option<String>,
}

impl Naming {
    /// What was given to `--out`: a path with one of `endings` is the one result's name, any other is a folder.
    pub fn of(out: Option<&Path>, endings: &[&str]) -> Naming {
        let Some(path) = out else { return Naming { root: ".".into(), folders: false, single: None } };
        let ends = path.extension().is_some_and(|e| endings.iter().any(|x| e.eq_ignore_ascii_case(x)));
        match (ends, path.file_name()) {
            (true, Some(name)) => {
                let root = path.parent().filter(|p| !p.as_os_str().is_empty()).unwrap_or(Path::new("."));
                Naming { root: root.into(), folders: false, single: Some(name.to_string_lossy().into_owned()) }
            }
            _ => Naming { root: path.into(), folders: false, single: None },
        }
    }

    /// For a job that publishes nothing: a folder of its own where one may always be made; it goes when the job ends.
    pub fn nowhere() -> Naming {
        let root = std::env::temp_dir().join(format!("telechroma-{}", std::process::id()));
        Naming { root, folders: false, single: None }
    }

    /// Refuses names that are taken, before long work is done for them.
    ///
    /// # Errors
    /// Where a result exists and may not be replaced.
    pub fn check_free(&self, names: impl IntoIterator<Item = String>, overwrite: bool) -> Result<(), Report> {
        // staged and dropped: nothing stays
        let mut publisher = Publisher::new(&self.root, overwrite)?;
        for name in self.single.clone().map_or_else(|| names.into_iter().collect(), |one| vec![one]) {
            publisher.stage(&name)?;
        }
        Ok(())
    }

    fn name(&self, folder: &str, file: String) -> String {
        match &self.single {
            Some(name) => name.clone(),
            None if self.folders => format!("{folder}/{file}"),
            None => file,
        }
    }

    /// A composite.
    pub fn composite(&self, period: &str) -> String {
        self.name("layers", format!("composite_{period}.tif"))
    }

    /// A layer.
    pub fn layer(&self, layer: &str, period: &str) -> String {
        self.name("layers", format!("{layer}_{period}.tif"))
    }

    /// A picture.
    pub fn picture(&self, what: &str, period: &str) -> String {
        self.name("pictures", format!("{what}_{period}.png"))
    }

    /// The table, or the plots with it as columns.
    pub fn table(&self, stem: &str, ending: &str, joined: bool) -> String {
        self.name(if joined { "plots" } else { "tables" }, format!("{stem}.{ending}"))
    }

    /// What the table's columns mean.
    pub fn columns(&self, stem: &str) -> String {
        match self.single.as_ref().and_then(|name| name.rsplit_once('.')) {
            Some((stem, _)) => format!("{stem}.columns.csv"),
            None => self.name("tables", format!("{stem}.columns.csv")),
        }
    }
}

/// The record of a run.
pub const RECORD: &str = "run.json";

/// Names of all results of a job, in the order in which they will appear.
pub fn names(job: &Job, seasons: &[PlannedSeason], plots: Option<&OpenPlots>) -> Vec<String> {
    let mut names = vec![];
    for period in seasons.iter().flat_map(|s| &s.periods) {
        let p = &period.period;
        if job.wanted.composites && period.looks.is_some() {
            names.push(job.naming.composite(p));
        }
        if job.wanted.layers {
            names.extend(period.layers.iter().map(|l| job.naming.layer(&l.name, p)));
        }
        names.extend(pictures::names(job, period));
    }
    if let Some(plots) = plots {
        names.extend(tables::names(job, plots));
    }
    if job.wanted.record {
        names.push(RECORD.into());
    }
    names
}

/// One raster being written.
pub struct RasterOut {
    groups: Vec<Vec<NodeId>>,
    encoder: CogEncoder,
    file: CogFile,
    output: Output,
}

impl RasterOut {
    /// Its sink.
    pub fn sink(&mut self) -> Sink<'_> {
        Sink { groups: self.groups.clone(), prepare: &self.encoder, absorb: &mut self.file }
    }
}

/// The rasters of one graph.
pub fn rasters(job: &Job, season: &PlannedSeason, stage: &Staged) -> Vec<RasterOut> {
    let mut outs = vec![];
    for period in &season.periods {
        if job.wanted.composites
            && let Some(node) = period.looks
        {
            let looks =
                PlannedLayer { name: "clear_looks".into(), node, unit: Unit::Looks, wavelength: None, formula: None };
            let bands: Vec<PlannedLayer> =
                period.bands.iter().cloned().chain([looks]).chain(period.extras.iter().cloned()).collect();
            outs.push(raster(job, season, period, &bands, RasterKind::Composite, stage));
        }
        for l in period.layers.iter().filter(|_| job.wanted.layers) {
            outs.push(raster(job, season, period, std::slice::from_ref(l), RasterKind::Layer, stage));
        }
    }
    outs
}

/// A composite of its bands, or the one layer.
fn raster(
    job: &Job,
    season: &PlannedSeason,
    period: &PlannedPeriod,
    bands: &[PlannedLayer],
    kind: RasterKind,
    stage: &Staged,
) -> RasterOut {
    let (what, layer, unit, name) = match (kind, bands) {
        (RasterKind::Layer, [l]) => {
            ("layer", l.name.clone(), l.unit.label(), job.naming.layer(&l.name, &period.period))
        }
        _ => ("composite", "composite".to_string(), "", job.naming.composite(&period.period)),
    };
    let description = describe::of_layers(job, season, period, bands, kind);
    let options = CogOptions {
        bands: bands.len() as u32,
        ..CogOptions::new(season.graph.grid().clone(), Kind::Values, description)
    };
    let path = stage.get(&name).cloned().unwrap_or_default();
    let (encoder, file) = CogEncoder::create(&path, options);
    let output = Output { kind: what, layer, period: period.period.clone(), path: name, unit: unit.into() };
    RasterOut { groups: bands.iter().map(|b| vec![b.node]).collect(), encoder, file, output }
}

/// Bytes of all rasters of a graph before they are packed, overviews included.
pub fn raw_bytes(job: &Job, season: &PlannedSeason) -> u64 {
    let bands = |p: &PlannedPeriod| {
        let composite = if job.wanted.composites && p.looks.is_some() { p.bands.len() + 1 + p.extras.len() } else { 0 };
        composite + if job.wanted.layers { p.layers.len() } else { 0 }
    };
    let planes: usize = season.periods.iter().map(bands).sum();
    planes as u64 * season.graph.grid().cells() * Kind::Values.cell_bytes() * 4 / 3
}

/// Lays out the files.
///
/// # Errors
/// Where writing fails.
pub fn finish(outs: Vec<RasterOut>, threads: usize, outcome: &mut Outcome) -> Result<(), Report> {
    for out in outs {
        out.file.finish(threads)?;
        outcome.outputs.push(out.output);
    }
    Ok(())
}
