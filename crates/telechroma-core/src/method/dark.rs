//! The dark objects of a scene: one pass over the counts of its bands, the whole scene whatever area is asked for.

use super::calibrate::{Target, calibration, takes_dark};
use crate::error::{Error, Result};
use crate::graph::{Graph, NodeId};
use crate::physics::{ASSUMED_DARK, wanted_cells};
use crate::run::{Budget, Note, Observer, Plan, run};
use crate::scene::{Band, BandRole, Content, DarkObject, Scene};
use crate::survey::{Survey, Surveyor};

/// A blue dark object brighter than this is haze, snow, or no dark object at all.
const BRIGHT: f64 = 0.2;

/// Looks for the dark object of each of a scene's bands that has one; bands that pass through have none.
///
/// The lowest count (or value, within 0.8 %) below or at which there are at least 1000 cells and a ten-thousandth of the
/// valid, unsaturated cells. Clouds and shadows may stay in: shadows are dark objects.
///
/// # Errors
/// Where reading fails, or a band holds too few cells.
pub fn dark_objects(
    scene: &Scene,
    roles: &[BandRole],
    budget: Budget,
    observer: &dyn Observer,
) -> Result<Vec<DarkObject>> {
    let mut bands: Vec<&Band> = roles.iter().filter_map(|r| scene.band(*r)).filter(|b| takes_dark(scene, b)).collect();
    bands.sort_by_key(|b| b.role);
    bands.dedup_by_key(|b| b.role);
    let mut found = vec![];
    while let Some(first) = bands.first() {
        let grid = first.source.spec().grid.clone();
        let (together, others): (Vec<&Band>, Vec<&Band>) =
            bands.into_iter().partition(|b| *b.source.spec().grid == *grid);
        bands = others;
        let mut g = Graph::new((*grid).clone());
        let nodes = together.iter().map(|b| g.source(b.source.clone(), None)).collect::<Result<Vec<NodeId>>>()?;
        let kinds = together.iter().map(|b| b.source.spec().kind).collect();
        let (surveyor, mut surveys) = Surveyor::new(kinds, grid.window());
        let sinks = vec![surveyor.sink(&mut surveys, &nodes)];
        let plan = Plan::new(g, &sinks, budget)?;
        run(&plan, sinks, observer)?;
        for (band, survey) in together.iter().zip(surveys.finish()) {
            found.push(pick(scene, band, &survey)?);
        }
    }
    found.sort_by_key(|d| d.role);
    Ok(found)
}

fn pick(scene: &Scene, band: &Band, survey: &Survey) -> Result<DarkObject> {
    let saturated = match &band.content {
        Content::Counts(c) => c.saturated.map_or(0, |s| survey.at_or_above(s)),
        Content::Values(_) => 0,
    };
    let valid = survey.known - saturated;
    let found = survey.reaching(wanted_cells(valid)).filter(|(_, cells)| *cells <= valid);
    let Some((value, cells)) = found else {
        return Err(Error::Usage(format!(
            "scene {}: band '{}' holds only {valid} valid cells, too few for a dark object",
            scene.id, band.role
        )));
    };
    let (count, reflectance) = match &band.content {
        Content::Counts(_) => (Some(value as u16), calibration(scene, band, Target::Toa)?.at(value)),
        Content::Values(_) => (None, value),
    };
    Ok(DarkObject { role: band.role, count, reflectance, cells })
}

/// What is odd about a scene's dark objects: path light must fall with the wavelength.
pub fn dark_troubles(scene: &Scene) -> Vec<Note> {
    let mut said = vec![];
    let dark = &scene.dark;
    if let Some(d) = dark.iter().find(|d| d.role.name() == "blue").filter(|d| d.reflectance > BRIGHT) {
        said.push(format!("its darkest blue is {:.3}: haze, snow, or no dark object in it", d.reflectance));
    }
    for pair in dark.windows(2).filter(|p| p[1].reflectance > p[0].reflectance + ASSUMED_DARK) {
        let (a, b) = (&pair[0], &pair[1]);
        said.push(format!(
            "its dark object is brighter in {} ({:.3}) than in {} ({:.3}): light of the air falls with the wavelength",
            b.role, b.reflectance, a.role, a.reflectance
        ));
    }
    let below: Vec<&str> = dark.iter().filter(|d| d.reflectance < ASSUMED_DARK).map(|d| d.role.name()).collect();
    if below.len() == dark.len() && !dark.is_empty() {
        said.push("its dark objects are darker than the 0.01 assumed in every band: nothing is taken off".into());
    }
    said.into_iter().map(|t| Note::Layer(format!("scene {}: {t}", scene.id))).collect()
}

#[cfg(test)]
mod tests {
    use crate::physics::wanted_cells;
    use crate::survey::Survey;
    use crate::tile::Kind;
    use crate::worked;

    #[test]
    fn worked_pick_from_a_histogram() {
        let e = worked::example("dark_object_pick");
        let mut survey = Survey::new(Kind::Counts { fill: Some(0) });
        for bin in e.value("/inputs/histogram").as_array().unwrap() {
            let (count, cells) = (bin[0].as_u64().unwrap(), bin[1].as_u64().unwrap());
            if count as f64 != e.number("fill") {
                survey.add_cells(count as f64, count as usize, cells);
            }
        }
        let (value, _) = survey.reaching(wanted_cells(survey.known)).unwrap();
        e.check(value);
    }
}
