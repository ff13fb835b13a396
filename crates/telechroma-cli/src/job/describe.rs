//! What rasters say of themselves.

use telechroma_core::mask::{REASONS, Reasons};
use telechroma_core::method::{Light, MaskOptions, PlannedLayer, PlannedPeriod, PlannedSeason, Recipe, Target};
use telechroma_core::scene::Scene;
use telechroma_io::raster::description::{BandInfo, BitInfo, Description, InputInfo, Kind, SceneInfo, tool};

use super::Job;

fn text(d: &Description) -> String {
    serde_json::to_string(d).unwrap_or_default()
}

/// The mask step in words.
pub fn mask_step(mask: &MaskOptions) -> String {
    let found = mask.find.names().join(", ");
    let parts = [
        Some(format!("drop {}", mask.drop.names().join(", "))),
        mask.ignore_flags.then(|| "flags of the delivery ignored but for fill".into()),
        mask.confidence.map(|c| format!("flags of {} confidence or more too", c.name())),
        (!found.is_empty()).then(|| format!("{found} looked for in the cells")),
        mask.condition.as_ref().map(|c| format!("where {c}")),
        (!mask.areas.is_empty() || mask.raster.is_some()).then(|| "the places given".into()),
        mask.grow.map(|m| format!("clouds and shadows grown by {m}")),
        mask.unmasked.then(|| "scenes without a mask as they are".into()),
    ];
    parts.into_iter().flatten().collect::<Vec<_>>().join("; ")
}

/// The calibration step in words.
pub fn calibrate_step(target: Target, light: &Light) -> String {
    let parts = [
        light.per_cell.then(|| "sun angle of each cell".to_string()),
        light.terrain.as_ref().map(|(m, e)| format!("slopes corrected ({}) by {}", m.name(), e.name())),
    ];
    parts.into_iter().flatten().fold(format!("calibrate to {}", target.text()), |t, p| format!("{t}; {p}"))
}

/// The steps from scenes to a composite, in words.
pub fn steps(recipe: &Recipe) -> Vec<String> {
    vec![
        calibrate_step(recipe.target, &recipe.light),
        mask_step(&recipe.mask),
        format!(
            "{} every {}, at least {} clear; {}",
            recipe.by.name(),
            recipe.every.name(),
            recipe.at_least.max(1),
            recipe.by.explained()
        ),
    ]
}

/// What is said of one band.
pub fn band(l: &PlannedLayer) -> BandInfo {
    BandInfo {
        wavelength_nm: l.wavelength.map(|w| w.0),
        formula: l.formula.clone(),
        ..BandInfo::new(l.name.clone(), l.unit)
    }
}

/// A composite, a layer, or what is made of one.
pub fn description(
    job: &Job,
    season: &PlannedSeason,
    period: &PlannedPeriod,
    bands: &[PlannedLayer],
    kind: Kind,
) -> Description {
    let input =
        |i: &usize| season.inputs.get(*i).map(|(id, digest)| InputInfo { id: id.clone(), digest: digest.clone() });
    let of_scenes = period.looks.is_some() || !job.recipe.sides.is_empty();
    Description {
        tool: tool(),
        kind,
        period: Some(period.period.clone()),
        scene: None,
        bands: bands.iter().map(band).collect(),
        legend: vec![],
        classes: vec![],
        inputs: period.scenes.iter().filter_map(input).collect(),
        steps: if of_scenes { steps(&job.recipe) } else { vec![] },
    }
}

/// A composite or layer, as text.
pub fn of_layers(
    job: &Job,
    season: &PlannedSeason,
    period: &PlannedPeriod,
    bands: &[PlannedLayer],
    kind: Kind,
) -> String {
    text(&description(job, season, period, bands, kind))
}

/// A raster of one scene.
pub fn of_scene(scene: &Scene, kind: Kind, bands: Vec<BandInfo>, steps: Vec<String>, drop: Option<Reasons>) -> String {
    let legend = REASONS.iter().filter(|d| {
        drop.is_some_and(|set| set.and(Reasons::GROWN).and(Reasons::ASKED).and(Reasons::FILL).has(d.reason))
    });
    text(&Description {
        tool: tool(),
        kind,
        period: scene.date.map(|d| d.to_string()),
        scene: Some(SceneInfo {
            id: scene.id.clone(),
            platform: scene.platform.clone(),
            date: scene.date.map(|d| d.to_string()),
        }),
        bands,
        legend: legend.map(|d| BitInfo { value: d.reason.bits(), reason: d.name.into() }).collect(),
        classes: vec![],
        inputs: vec![InputInfo { id: scene.id.clone(), digest: scene.digest.clone() }],
        steps,
    })
}
