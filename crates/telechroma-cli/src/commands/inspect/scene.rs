//! One acquisition: its metadata, its flags, its bands, and the troubles of a scene.

use serde_json::{Value as Json, json};
use telechroma_core::mask::{REASONS, Reasons};
use telechroma_core::method::{Target, calibration};
use telechroma_core::scene::{Band, Content, Scene};
use telechroma_core::sensor;
use telechroma_core::units::Unit;

use super::raster::{NO_SYSTEM, count_like, odd_cells, shift_trouble, value_troubles};
use super::sheet::{
    Sheet, bars, extent_text, grid_json, grid_text, histogram_json, index_text, object, percent, short,
};
use crate::context::Context;
use crate::job::survey::{Surveyed, survey};
use crate::report::Report;

/// Share of saturated cells from which on it is a trouble.
const SATURATED: f64 = 0.01;
/// Degrees of sun below which reflectance is uncertain.
const LOW_SUN: f64 = 15.0;

pub fn of_scene(s: &Scene, no_cells: bool, ctx: &Context) -> Result<Sheet, Report> {
    let (bands, flags) = match no_cells {
        true => (vec![], vec![]),
        false => {
            let planes: Vec<_> =
                s.bands.iter().map(|b| b.source.clone()).chain(s.flags.iter().map(|f| f.source.clone())).collect();
            let mut bands = survey(&planes, ctx)?;
            let flags = bands.split_off(s.bands.len());
            (bands, flags)
        }
    };
    let acquired = match (s.acquired, s.date) {
        (Some(t), _) => jiff::tz::TimeZone::UTC.to_datetime(t).strftime("%Y-%m-%d %H:%M:%S UTC").to_string(),
        (None, Some(d)) => d.to_string(),
        (None, None) => "not stated".into(),
    };
    let sensor = match s.sensor.as_str() {
        "" => format!("{}, {}", s.platform, s.level),
        id => format!("{} ({id}), level {}", s.platform, s.level),
    };
    let mut facts = vec![
        ("sensor", sensor),
        ("acquired", acquired.clone() + &s.place.as_ref().map_or(String::new(), |p| format!(", {p}"))),
    ];
    facts.push((
        "sun",
        s.sun.map_or("not stated".into(), |sun| {
            format!("{:.1}° above the horizon, azimuth {:.1}°", sun.elevation.0, sun.azimuth.0)
        }),
    ));
    let by_flags = shares(s, &flags);
    facts.push(("cloud", s.cloud_cover.map_or("not stated".into(), |c| format!("{c:.1} % by the metadata"))));
    facts.extend(flag_facts(s, &by_flags));
    facts.push(("grid", grid_text(&s.grid)));
    facts.push(("extent", extent_text(&s.grid)));
    let (indices, index_json) = index_text(|r| s.band(r).is_some());
    let json = json!({
        "kind": "scene", "id": s.id, "sensor": s.sensor, "platform": s.platform, "level": s.level, "acquired": acquired, "place": s.place,
        "sun": s.sun.map(|sun| json!({"elevation": sun.elevation.0, "azimuth": sun.azimuth.0})), "cloud_cover": s.cloud_cover,
        "flag_shares": by_flags.iter().map(|(n, v)| ((*n).to_string(), json!(v))).collect::<serde_json::Map<_, _>>(),
        "grid": grid_json(&s.grid), "bands": s.bands.iter().enumerate().map(|(i, b)| band_json(s, b, bands.get(i))).collect::<Vec<_>>(),
        "indices": index_json, "digest": s.digest,
    });
    let raw = s.bands.iter().any(|b| matches!(b.content, Content::Counts(_)));
    let least = if raw { "counts: least" } else { "least" };
    Ok(Sheet {
        title: s.id.clone(),
        facts,
        head: match no_cells {
            true => vec!["band", "role", "µm", "cell"],
            false => {
                vec![
                    "band",
                    "role",
                    "µm",
                    "cell",
                    "no data",
                    least,
                    "median",
                    "most",
                    "saturated",
                    "2 % to 98 %",
                    "spread",
                ]
            }
        },
        rows: s.bands.iter().enumerate().map(|(i, b)| band_row(s, b, bands.get(i))).collect(),
        more: vec![("indices", indices)],
        troubles: scene_troubles(s, &bands),
        json: object(json),
    })
}

/// Share of fill in the scene, then of each reason in the cells that are not fill.
fn shares(s: &Scene, flags: &[Surveyed]) -> Vec<(&'static str, f64)> {
    let mut all = vec![];
    for (plane, found) in s.flags.iter().zip(flags) {
        let with =
            |r: Reasons| found.with_bits(plane.legend.iter().filter(|(_, x)| *x == r).fold(0, |b, (bits, _)| b | bits));
        let fill = with(Reasons::FILL);
        for d in REASONS.iter().filter(|d| plane.legend.iter().any(|(_, r)| *r == d.reason)) {
            let of = if d.reason == Reasons::FILL { found.cells } else { found.cells - fill };
            all.push((d.name, if of == 0 { 0.0 } else { with(d.reason) as f64 / of as f64 }));
        }
    }
    all
}

fn flag_facts(s: &Scene, by_flags: &[(&str, f64)]) -> Vec<(&'static str, String)> {
    if s.flags.is_empty() {
        return vec![("flags", "none".into())];
    }
    let planes = s.flags.iter().map(|f| f.name.as_str()).collect::<Vec<_>>().join(", ");
    let Some(fill) = by_flags.iter().find(|f| f.0 == "fill") else { return vec![("flags", planes)] };
    let rest = by_flags.iter().filter(|(n, v)| *n != "fill" && *v > 0.0);
    let list: Vec<String> = rest.map(|(n, v)| format!("{n} {}", percent(*v))).collect();
    let list = if list.is_empty() { "nothing".into() } else { list.join(", ") };
    vec![
        ("flags", format!("{planes}: fill {} of the scene", percent(fill.1))),
        ("", format!("of the rest flagged: {list}")),
    ]
}

fn unit_of(s: &Scene, b: &Band) -> (Unit, bool) {
    match b.content {
        Content::Counts(_) => (Target::Toa.unit(b.role), calibration(s, b, Target::Toa).is_ok()),
        Content::Values(unit) => (unit, false),
    }
}

/// A value of a band as reflectance or temperature, where counts can be calibrated.
fn calibrated(s: &Scene, b: &Band, v: f64) -> f64 {
    match b.content {
        Content::Counts(_) => calibration(s, b, Target::Toa).map_or(f64::NAN, |c| c.at(v)),
        Content::Values(_) => v,
    }
}

fn saturated(b: &Band, found: &Surveyed) -> Option<f64> {
    let Content::Counts(c) = &b.content else { return None };
    c.saturated.map(|limit| if found.known == 0 { 0.0 } else { found.at_or_above(limit) as f64 / found.known as f64 })
}

fn band_row(s: &Scene, b: &Band, found: Option<&Surveyed>) -> Vec<String> {
    let edges = b.edges.map_or("–".into(), |(a, z)| format!("{:.3}–{:.3}", a.0 / 1000.0, z.0 / 1000.0));
    let grid = &b.source.spec().grid;
    let unit = if grid.is_metric() { " m" } else { "" };
    let mut row = vec![b.name.clone(), b.role.name().into(), edges, format!("{}{unit}", grid.transform.cell().0)];
    if let Some(f) = found {
        let (low, high) = (calibrated(s, b, f.percentile(2.0)), calibrated(s, b, f.percentile(98.0)));
        let sign = unit_of(s, b).0.sign();
        let (label, gap) = if sign.is_empty() { (unit_of(s, b).0.label(), " ") } else { (sign, " ") };
        row.extend([percent(f.missing()), short(f.range.0), short(f.percentile(50.0)), short(f.range.1)]);
        row.push(saturated(b, f).map_or("–".into(), percent));
        row.push(if low.is_nan() { "–".into() } else { format!("{} to {}{gap}{label}", short(low), short(high)) });
        row.push(bars(f));
    }
    row
}

fn band_json(s: &Scene, b: &Band, found: Option<&Surveyed>) -> Json {
    let number = |v: f64| if v.is_finite() { json!(v) } else { Json::Null };
    let mut j = json!({
        "band": b.name, "role": b.role.name(), "edges_nm": b.edges.map(|(a, z)| [a.0, z.0]), "cell": b.source.spec().grid.transform.cell().0,
        "content": match b.content { Content::Counts(_) => "counts", Content::Values(u) => u.label() },
    });
    if let Some(f) = found {
        j["missing_share"] = json!(f.missing());
        j["range"] = json!([number(f.range.0), number(f.range.1)]);
        j["median"] = number(f.percentile(50.0));
        j["saturated_share"] = json!(saturated(b, f));
        j["calibrated_p2_p98"] =
            json!([number(calibrated(s, b, f.percentile(2.0))), number(calibrated(s, b, f.percentile(98.0)))]);
        j["histogram"] = histogram_json(f);
        j["calibrated_unit"] = json!(unit_of(s, b).0.label());
    }
    j
}

fn scene_troubles(s: &Scene, bands: &[Surveyed]) -> Vec<String> {
    let mut t = vec![];
    match s.sun {
        Some(sun) if sun.elevation.0 <= 0.0 => t.push(format!(
            "night scene: the sun stood {:.1}° below the horizon, so reflectance is undefined",
            -sun.elevation.0
        )),
        Some(sun) if sun.elevation.0 < LOW_SUN => {
            t.push(format!("the sun stood only {:.1}° high: reflectance is uncertain", sun.elevation.0))
        }
        None if s.bands.iter().any(|b| matches!(b.content, Content::Counts(_))) => {
            t.push("the metadata do not say how high the sun stood: no reflectance can be computed".into())
        }
        _ => {}
    }
    if let Ok(def) = sensor::find(&s.sensor) {
        let absent: Vec<String> = def
            .bands
            .iter()
            .filter(|d| d.is_in(&s.level) && !s.bands.iter().any(|b| b.name == d.name()))
            .map(|d| format!("{} ({})", d.role, d.name()))
            .collect();
        if !absent.is_empty() {
            t.push(format!("not in the delivery: {}", absent.join(", ")));
        }
    }
    if s.flags.is_empty() && s.mask.is_none() {
        t.push(
            "no mask band: clouds cannot be masked; give a mask raster beside it, or --unmasked to use every cell"
                .into(),
        );
    }
    if s.grid.crs.is_none() {
        t.push(NO_SYSTEM.into());
    }
    t.extend(odd_cells(&s.grid));
    t.extend(shift_trouble(&s.grid));
    for b in &s.bands {
        if let (Content::Counts(_), Err(e)) = (&b.content, calibration(s, b, Target::Toa))
            && !matches!(e, telechroma_core::Error::NightScene { .. })
            && s.sun.is_some()
        {
            t.push(e.to_string());
        }
    }
    let values = s.bands.iter().zip(bands).filter_map(|(b, f)| match b.content {
        Content::Values(unit) => Some((b.role.name(), unit, f)),
        Content::Counts(_) => None,
    });
    t.extend(count_like(values));
    for (b, f) in s.bands.iter().zip(bands) {
        match saturated(b, f) {
            _ if f.known == 0 => t.push(format!("{} ({}) holds no data at all", b.role, b.name)),
            Some(share) if share >= SATURATED => t.push(format!(
                "{} ({}): {} of its cells are saturated, their values unreliable",
                b.role,
                b.name,
                percent(share)
            )),
            _ => {}
        }
        if let Content::Values(unit) = b.content {
            t.extend(value_troubles(b.role.name(), unit, f));
        }
    }
    t
}
