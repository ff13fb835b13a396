//! Opening what was given: scenes, masks that belong to them, rasters made earlier.

use std::collections::BTreeMap;
use std::path::{Path, PathBuf};
use std::sync::Arc;

use telechroma_core::run::{Note, Observer};
use telechroma_core::scene::{LayerSet, Scene};
use telechroma_core::tile::PlaneSource;
use telechroma_io::delivery::{self, Opened};

use super::Filter;
use crate::report::Report;

/// What the inputs hold.
#[derive(Debug, Default)]
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
pub fn open_inputs(paths: &[PathBuf], filter: &Filter, observer: &dyn Observer) -> Result<Inputs, Report> {
    let mut inputs = Inputs::default();
    let mut masks: BTreeMap<String, Arc<dyn PlaneSource>> = BTreeMap::new();
    let mut seen = 0;
    for path in paths {
        for path in expand(path)? {
            match delivery::open(&path, &mut |n| observer.note(n))? {
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

fn expand(path: &Path) -> Result<Vec<PathBuf>, Report> {
    Ok(if path.is_dir() { delivery::find(path)? } else { vec![path.into()] })
}

impl Filter {
    fn takes(&self, scene: &Scene) -> bool {
        let from = self.since.is_none_or(|s| scene.date.is_some_and(|d| d >= s));
        let to = self.until.is_none_or(|u| scene.date.is_some_and(|d| d <= u));
        let clear = self.max_cloud.is_none_or(|m| scene.cloud_cover.is_none_or(|c| c <= m));
        from && to && clear
    }
}
