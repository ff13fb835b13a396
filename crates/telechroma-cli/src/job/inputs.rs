//! Opening what was given: scenes, masks that belong to them, rasters made earlier.

use std::collections::BTreeMap;
use std::path::{Path, PathBuf};
use std::sync::Arc;

use telechroma_core::method::{Aliased, Suspects, suspicious};
use telechroma_core::run::{Note, Observer};
use telechroma_core::scene::{BandRole, LayerSet, Scene};
use telechroma_core::sensor::{self, Layout};
use telechroma_core::tile::PlaneSource;
use telechroma_io::delivery::{self, Opened, Opener, stac};

use super::Filter;
use crate::context::Context;
use crate::report::Report;

/// What the inputs hold.
#[derive(Debug, Clone, Default)]
pub struct Inputs {
    /// Scenes that pass the filter, masks made earlier laid on them.
    pub scenes: Vec<Scene>,
    /// Rasters made earlier.
    pub layers: Vec<LayerSet>,
}

/// Opens deliveries and rasters; a folder stands for what lies in it.
///
/// # Errors
/// Where one cannot be opened, or none is left.
pub fn open_inputs(paths: &[PathBuf], filter: &Filter, ctx: &Context) -> Result<Inputs, Report> {
    let observer: &dyn Observer = &ctx.progress;
    let mut inputs = Inputs::default();
    let mut masks: BTreeMap<String, Arc<dyn PlaneSource>> = BTreeMap::new();
    let mut seen = 0;
    let opener = Opener { sensor: filter.sensor.clone() };
    for path in paths {
        for path in expand(path, &opener)? {
            match opener.open(&path, &mut |n| observer.note(n))? {
                Opened::Layers(set) => inputs.layers.push(set),
                Opened::Mask { scene, source, .. } => drop(masks.insert(scene, source)),
                Opened::Scene(scene) => {
                    seen += 1;
                    if filter.takes(&scene) {
                        inputs.scenes.push(*scene);
                    }
                }
            }
        }
    }
    if let Some(sensor) = filter.sensor.as_ref().filter(|_| ctx.strict)
        && let Some(said) = sensor.contradictions().first()
    {
        return Err(Report::strict(format!("sensor {}: {said}", sensor.id)).hint("mend the sensor file"));
    }
    suspect(&inputs, ctx)?;
    for scene in &mut inputs.scenes {
        scene.mask = masks.remove(&scene.id);
    }
    if let Some(id) = masks.keys().next() {
        observer.note(Note::Metadata(format!("the mask of scene {id} belongs to none of the inputs")));
    }
    match (inputs.scenes.is_empty() && inputs.layers.is_empty(), seen) {
        (true, 0) => Err(Report::usage("the inputs hold no scene and no raster to work on")),
        (true, n) => {
            Err(Report::usage(format!("none of the {n} scenes lies within the dates and the cloud limit asked for")))
        }
        _ => Ok(inputs),
    }
}

/// Opens the rasters that formulas name.
///
/// # Errors
/// Where one cannot be opened, or is a scene.
pub fn open_aliases(aliases: &[(String, PathBuf)], ctx: &Context) -> Result<Vec<Aliased>, Report> {
    let observer: &dyn Observer = &ctx.progress;
    let one = |(alias, path): &(String, PathBuf)| match Opener::default().open(path, &mut |n| observer.note(n))? {
        Opened::Layers(set) => Ok(Aliased { alias: alias.clone(), set }),
        _ => {
            Err(Report::usage(format!("{}: '{alias}' must be a composite or another raster of layers", path.display()))
                .hint("make a composite of scenes first, or use 'telechroma compare'"))
        }
    };
    aliases.iter().map(one).collect()
}

/// Says where cells contradict the bands' names, before anything is computed; deliveries of agencies know their bands.
fn suspect(inputs: &Inputs, ctx: &Context) -> Result<(), Report> {
    let own = |s: &&Scene| sensor::find(&s.sensor).map_or(!s.sensor.is_empty(), |d| d.layout == Layout::Files);
    let scenes = inputs.scenes.iter().filter(own).map(|s| (s.id.clone(), bands_of_scene(s)));
    let layers = inputs.layers.iter().map(|l| (l.name.clone(), bands_of_layers(l)));
    for (name, bands) in scenes.chain(layers) {
        for said in suspicious(&bands)? {
            if ctx.strict {
                return Err(Report::strict(format!("{name}: {said}"))
                    .hint("name the bands in their true order: by --sensor, or in the file beside the raster"));
            }
            ctx.progress.note(Note::Metadata(format!("{name}: {said}")));
        }
    }
    Ok(())
}

/// The bands of a scene that hold values, by what they see.
pub fn bands_of_scene(s: &Scene) -> Suspects {
    s.bands.iter().map(|b| (b.role, b.source.clone())).collect()
}

/// The layers of a raster that are named as bands.
pub fn bands_of_layers(l: &LayerSet) -> Suspects {
    l.layers.iter().filter_map(|l| Some((BandRole::from_name(&l.name)?, l.source.clone()))).collect()
}

fn expand(path: &Path, opener: &Opener) -> Result<Vec<PathBuf>, Report> {
    // a catalogue, or a list of items that was found earlier
    if path.is_file() && path.extension().is_some_and(|e| e.eq_ignore_ascii_case("json")) {
        return Ok(stac::summaries(path)?.into_iter().map(|s| s.path).collect());
    }
    Ok(if path.is_dir() { delivery::find(path, opener)? } else { vec![path.into()] })
}

impl Filter {
    fn takes(&self, scene: &Scene) -> bool {
        let from = self.since.is_none_or(|s| scene.date.is_some_and(|d| d >= s));
        let to = self.until.is_none_or(|u| scene.date.is_some_and(|d| d <= u));
        let clear = self.max_cloud.is_none_or(|m| scene.cloud_cover.is_none_or(|c| c <= m));
        from && to && clear
    }
}
