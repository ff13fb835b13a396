//! Rasters made earlier or by others, and masks; what looks wrong in values.

use std::path::Path;
use std::sync::Arc;

use serde_json::{Value as Json, json};
use telechroma_core::grid::Grid;
use telechroma_core::mask::REASONS;
use telechroma_core::scene::{BandRole, Layer, LayerSet};
use telechroma_core::tile::PlaneSource;
use telechroma_core::units::Unit;

use super::sheet::{
    Sheet, bars, extent_text, grid_json, grid_text, histogram_json, index_text, object, percent, short,
};
use crate::context::Context;
use crate::job::survey::{Surveyed, survey};
use crate::report::Report;

/// Reflectance above this is no reflectance.
const COUNT_LIKE: f64 = 2.0;
/// No surface is as cold as this many kelvin.
const ABSURD_COLD: f64 = 200.0;

/// What to do about a raster that lies nowhere.
pub const NO_SYSTEM: &str =
    "no coordinate system: nothing can be laid on it; write crs = \"EPSG:…\" into a file RASTER.toml beside it";

/// Cells that are not square, or of a size nobody means.
pub fn odd_cells(grid: &Grid) -> Option<String> {
    let (w, h) = grid.transform.cell();
    let unit = if grid.is_metric() { " m" } else { "" };
    ((w / h - 1.0).abs() > 1e-6 && grid.is_metric())
        .then(|| format!("cells are not square, {w} x {h}{unit}: areas and distances differ by direction; --grid brings them to square ones"))
}

/// What is left out when the coordinate system is brought to WGS 84.
pub fn shift_trouble(grid: &Grid) -> Option<String> {
    grid.crs.and_then(|c| c.caveat())
}

/// Bands that hold counts where reflectance is expected, as one trouble.
pub fn count_like<'a>(bands: impl Iterator<Item = (&'a str, Unit, &'a Surveyed)>) -> Option<String> {
    let like = |(name, unit, f): &(&str, Unit, &Surveyed)| {
        let is_band = BandRole::from_name(name).is_some_and(|r| !r.is_thermal() && r.name() != "lst");
        (*unit == Unit::Reflectance || *unit == Unit::Unknown && is_band) && f.percentile(50.0) > COUNT_LIKE
    };
    let found: Vec<_> = bands.filter(like).collect();
    let medians = found.iter().map(|b| b.2.percentile(50.0));
    let (least, most) = (medians.clone().reduce(f64::min)?, medians.reduce(f64::max)?);
    let names = found.iter().map(|b| b.0).collect::<Vec<_>>().join(", ");
    let range = if found.len() == 1 {
        format!("median {}", short(least))
    } else {
        format!("medians {} to {}", short(least), short(most))
    };
    Some(format!(
        "{names}: looks like counts ({range}), not like reflectance or an index, about 0 to 1; say how they are coded: scale = 0.0001 in a file RASTER.toml beside it, or --sensor FILE"
    ))
}

/// What looks wrong in the values of a layer.
pub fn value_troubles(name: &str, unit: Unit, f: &Surveyed) -> Vec<String> {
    let mut t = vec![];
    if f.known == 0 {
        return vec![format!("{name} holds no data at all")];
    }
    let median = f.percentile(50.0);
    if unit == Unit::Kelvin && f.range.0 < ABSURD_COLD {
        t.push(format!("{name} falls to {} K: fill or cloud is left in it", short(f.range.0)));
    }
    if unit == Unit::Kelvin && (-90.0..100.0).contains(&median) {
        t.push(format!("{name} is said to be in kelvin, but its median of {} looks like °C", short(median)));
    }
    let zeros = f.zeros as f64 / f.cells as f64;
    if f.edge_zeros > 0 && zeros > 0.01 && unit != Unit::Looks {
        t.push(format!(
            "{name}: {} of the cells are exactly 0 and touch the edge: fill that no missing value is declared for? write missing = 0 into a file RASTER.toml beside it",
            percent(zeros)
        ));
    }
    t
}

pub fn of_layers(path: &Path, set: &LayerSet, no_cells: bool, ctx: &Context) -> Result<Sheet, Report> {
    let planes: Vec<_> = set.layers.iter().map(|l| l.source.clone()).collect();
    let found = if no_cells { vec![] } else { survey(&planes, ctx)? };
    let mut troubles = vec![];
    if set.grid.crs.is_none() {
        troubles.push(NO_SYSTEM.into());
    }
    troubles.extend(odd_cells(&set.grid));
    troubles.extend(shift_trouble(&set.grid));
    troubles.extend(count_like(set.layers.iter().zip(&found).map(|(l, f)| (l.name.as_str(), l.unit, f))));
    for (l, f) in set.layers.iter().zip(&found) {
        troubles.extend(value_troubles(&l.name, l.unit, f));
    }
    let row = |(i, l): (usize, &Layer)| {
        let mut row = vec![(i + 1).to_string(), l.name.clone(), l.unit.label().to_string()];
        if let Some(f) = found.get(i) {
            row.extend([percent(f.missing()), short(f.range.0), short(f.percentile(50.0)), short(f.range.1)]);
            row.push(format!("{} to {}", short(f.percentile(2.0)), short(f.percentile(98.0))));
            row.push(bars(f));
        }
        row
    };
    let number = |v: f64| if v.is_finite() { json!(v) } else { Json::Null };
    let layer_json = |(i, l): (usize, &Layer)| {
        let mut j = json!({"name": l.name, "unit": l.unit.label()});
        if let Some(f) = found.get(i) {
            j["missing_share"] = json!(f.missing());
            j["range"] = json!([number(f.range.0), number(f.range.1)]);
            j["median"] = number(f.percentile(50.0));
            j["histogram"] = histogram_json(f);
        }
        j
    };
    let (indices, index_json) = index_text(|r| r.met_by().any(|m| set.layers.iter().any(|l| l.name == m.name())));
    // of single layers nothing more is computed
    let has_bands = set.layers.iter().any(|l| BandRole::from_name(&l.name).is_some());
    let json = json!({
        "kind": "raster", "path": path.display().to_string(), "period": set.period, "grid": grid_json(&set.grid),
        "layers": set.layers.iter().enumerate().map(layer_json).collect::<Vec<_>>(), "indices": index_json, "digest": set.digest,
        "classes": set.classes.iter().map(|(value, name)| json!({"value": value, "name": name})).collect::<Vec<_>>(),
    });
    let head = vec!["band", "name", "unit", "no data", "least", "median", "most", "2 % to 98 %", "spread"];
    Ok(Sheet {
        title: path.display().to_string(),
        facts: vec![
            (
                "what",
                format!(
                    "raster of {} {}, period {}",
                    set.layers.len(),
                    if set.layers.len() == 1 { "band" } else { "bands" },
                    set.period
                ),
            ),
            ("grid", grid_text(&set.grid)),
            ("extent", extent_text(&set.grid)),
        ],
        head: if no_cells { head[..3].to_vec() } else { head },
        rows: set.layers.iter().enumerate().map(row).collect(),
        more: if has_bands { vec![("indices", indices)] } else { class_text(set, found.first()) },
        troubles,
        json: object(json),
    })
}

/// The classes that numbers stand for, with their shares of what is known.
fn class_text(set: &LayerSet, found: Option<&Surveyed>) -> Vec<(&'static str, String)> {
    let share = |value: u16| {
        let f = found?;
        let cells = f.histogram(f64::from(value) - 0.5, f64::from(value) + 0.5, 1)[0];
        Some(percent(cells as f64 / (f.known as f64).max(1.0)))
    };
    let one = |(value, name): &(u16, String)| {
        format!("{value} {name}{}", share(*value).map_or(String::new(), |s| format!(" ({s})")))
    };
    let all: Vec<String> = set.classes.iter().map(one).collect();
    if all.is_empty() { vec![] } else { vec![("classes", all.join(", "))] }
}

pub fn of_mask(
    path: &Path,
    scene: &str,
    source: &Arc<dyn PlaneSource>,
    no_cells: bool,
    ctx: &Context,
) -> Result<Sheet, Report> {
    let grid = source.spec().grid.clone();
    let found = if no_cells { vec![] } else { survey(std::slice::from_ref(source), ctx)? };
    let mut rows = vec![];
    let mut by_reason = serde_json::Map::new();
    if let Some(f) = found.first() {
        let share = |n: u64| n as f64 / f.cells.max(1) as f64;
        let clear = f.cells - f.with_bits(u16::MAX);
        rows.push(vec!["clear".into(), "0".into(), "nothing was dropped here".into(), percent(share(clear))]);
        by_reason.insert("clear".into(), json!(share(clear)));
        for d in REASONS {
            let n = f.with_bits(d.reason.bits());
            if n > 0 {
                rows.push(vec![d.name.into(), d.reason.bits().to_string(), d.doc.into(), percent(share(n))]);
                by_reason.insert(d.name.into(), json!(share(n)));
            }
        }
    }
    let json = json!({"kind": "mask", "path": path.display().to_string(), "scene": scene, "grid": grid_json(&grid), "shares": by_reason});
    Ok(Sheet {
        title: path.display().to_string(),
        facts: vec![
            ("what", format!("mask of scene {scene}")),
            ("grid", grid_text(&grid)),
            ("extent", extent_text(&grid)),
        ],
        head: vec!["reason", "bit", "meaning", "of all cells"],
        rows,
        more: vec![],
        troubles: vec![],
        json: object(json),
    })
}
