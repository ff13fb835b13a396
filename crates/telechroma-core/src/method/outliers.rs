//! Looks that stand out of their own series, found before composites and masks are made of the series.

use std::sync::Arc;

use super::calibrate::plain_values;
use super::clear::{MaskOptions, clear_sky};
use super::frame::Frame;
use crate::error::{Error, Result};
use crate::graph::Graph;
use crate::held::{Held, Holder};
use crate::mask::Reasons;
use crate::op::{Clear, Outliers};
use crate::run::{Budget, Observer, Plan, run};
use crate::scene::{BandRole, FlagPlane, Scene};
use crate::tile::PlaneSource;

/// Looks through the series of every cell of the frame's grid: the flags of each scene, in the scenes' order, and how
/// many looks were found.
///
/// # Errors
/// Where a scene has no blue, no red or no date, or reading fails.
pub fn find_outliers(
    scenes: &[Scene],
    options: &MaskOptions,
    frame: &Frame,
    budget: Budget,
    observer: &dyn Observer,
) -> Result<(Vec<FlagPlane>, u64)> {
    let mut order: Vec<usize> = (0..scenes.len()).collect();
    order.sort_by_key(|i| (scenes[*i].acquired, scenes[*i].date, &scenes[*i].id));
    let epoch = jiff::civil::date(1970, 1, 1);
    let mut days = vec![];
    for scene in order.iter().map(|i| &scenes[*i]) {
        let date = scene.date.ok_or_else(|| {
            Error::Usage(format!("scene {} has no date, so it is part of no series to find outliers in", scene.id))
        })?;
        days.push(date.since(epoch).map_or(f64::NAN, |s| f64::from(s.get_days())));
    }
    let grids: Vec<_> = scenes.iter().map(|s| (format!("scene {}", s.id), s.grid.clone())).collect();
    let mut g = Graph::new(frame.over(&grids)?.grid);
    let skies = order.iter().map(|i| clear_sky(&mut g, &scenes[*i], options)).collect::<Result<Vec<_>>>()?;
    let mut inputs = vec![];
    for some in skies.chunks(Clear::SCENES) {
        inputs.push(g.add(Clear, &some.iter().map(|s| s.run).collect::<Vec<_>>())?);
    }
    for name in ["blue", "red"] {
        for (i, sky) in order.iter().zip(&skies) {
            let role = BandRole::from_name(name).unwrap_or_else(|| unreachable!("'{name}' is a role"));
            inputs.push(plain_values(&mut g, &scenes[*i], role, Some(*sky))?);
        }
    }
    let firsts: Vec<usize> = (0..scenes.len()).step_by(Clear::SCENES).collect();
    let planes = firsts
        .iter()
        .map(|first| g.add(Outliers { days: days.clone(), first: *first }, &inputs))
        .collect::<Result<Vec<_>>>()?;
    let grid = g.grid().clone();
    let (holder, mut holding) = Holder::new(planes.len(), &grid);
    let sinks = vec![holder.sink(&mut holding, &planes)];
    let plan = Plan::new(g, &sinks, budget)?;
    run(&plan, sinks, observer)?;
    let all = holding.finish();
    let count = (0..scenes.len()).map(|i| all[i / Clear::SCENES].cells(1 << (i % Clear::SCENES))).sum();
    let held: Vec<Arc<dyn PlaneSource>> = all
        .into_iter()
        .zip(&firsts)
        .map(|(spans, first)| {
            let name = format!("outliers among scenes from number {}", first + 1);
            Arc::new(Held::new(name, grid.clone(), 0, spans)) as Arc<dyn PlaneSource>
        })
        .collect();
    let mut found: Vec<(usize, FlagPlane)> = vec![];
    for (at, scene) in order.into_iter().enumerate() {
        let source = held[at / Clear::SCENES].clone();
        let legend = vec![(1 << (at % Clear::SCENES), Reasons::OUTLIER)];
        found.push((scene, FlagPlane { name: "outliers".into(), legend, confidence: vec![], source, raw: None }));
    }
    found.sort_by_key(|f| f.0);
    Ok((found.into_iter().map(|f| f.1).collect(), count))
}
