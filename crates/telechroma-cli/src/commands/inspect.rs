//! `inspect`: what a delivery or raster is, what its cells hold, and what looks wrong.

use std::path::{Path, PathBuf};

use serde_json::{Value as Json, json};
use telechroma_core::grid::Grid;
use telechroma_core::index::INDICES;
use telechroma_core::mask::{REASONS, Reasons};
use telechroma_core::method::{Target, calibration};
use telechroma_core::scene::{Band, BandRole, Content, LayerSet, Scene};
use telechroma_core::sensor;
use telechroma_core::units::Unit;
use telechroma_io::delivery::{self, Opened};

use crate::context::{Context, listed};
use crate::job::survey::{Surveyed, survey};
use crate::report::Report;

/// Show what scenes and rasters are: sensor, date, sun, grid, bands, values, and troubles
///
/// Example: telechroma inspect scenes/LC08_L1TP_250300_20310727_20310812_02_T1
#[derive(clap::Args)]
pub struct Args {
    /// Deliveries, folders of deliveries, rasters; @list.txt for a list
    #[arg(required = true, value_name = "PATH")]
    pub paths: Vec<String>,
    /// Only the metadata; read no cell
    #[arg(long)]
    pub no_cells: bool,
}

/// What is shown of one path: lines for people, and JSON.
struct Sheet {
    title: String,
    facts: Vec<(&'static str, String)>,
    head: Vec<&'static str>,
    rows: Vec<Vec<String>>,
    more: Vec<(&'static str, String)>,
    troubles: Vec<String>,
    json: serde_json::Map<String, Json>,
}

pub fn run(args: Args, ctx: &Context) -> Result<(), Report> {
    let mut paths: Vec<PathBuf> = vec![];
    for p in listed(&args.paths)? {
        paths.extend(if p.is_dir() { delivery::find(&p)? } else { vec![p] });
    }
    let (mut sheets, mut troubles) = (vec![], 0);
    for path in paths {
        let mut notes = vec![];
        let opened = delivery::open(&path, &mut |n| notes.push(n.to_string()))?;
        let mut sheet = match &opened {
            Opened::Scene(s) => of_scene(s, args.no_cells, ctx)?,
            Opened::Mask { scene, source, .. } => of_mask(&path, scene, source, args.no_cells, ctx)?,
            Opened::Layers(set) => of_layers(&path, set, args.no_cells, ctx)?,
        };
        notes.append(&mut sheet.troubles);
        sheet.troubles = notes;
        troubles += sheet.troubles.len();
        sheets.push(sheet);
    }
    ctx.progress.clear();
    match ctx.json {
        true => ctx.print_json(&json!({"inspected": sheets.iter().map(Sheet::to_json).collect::<Vec<_>>()})),
        false => ctx.print(&sheets.iter().map(Sheet::text).collect::<Vec<_>>().join("\n")),
    }
    match ctx.strict && troubles > 0 {
        true => Err(Report::strict(format!("{troubles} troubles"))),
        false => Ok(()),
    }
}

impl Sheet {
    fn text(&self) -> String {
        let mut t = format!("{}\n", self.title);
        let line = |(name, text): &(&str, String)| format!("  {name:9} {text}\n");
        self.facts.iter().for_each(|f| t += &line(f));
        if !self.rows.is_empty() {
            t += "\n";
            let all: Vec<Vec<String>> = std::iter::once(self.head.iter().map(|h| h.to_string()).collect())
                .chain(self.rows.iter().cloned())
                .collect();
            let width = |c: usize| all.iter().map(|r| r[c].chars().count()).max().unwrap_or(0);
            for row in &all {
                // names to the left, numbers to the right
                let cells: Vec<String> = row
                    .iter()
                    .enumerate()
                    .map(|(c, s)| {
                        let pad = " ".repeat(width(c) - s.chars().count());
                        if c < 3 { format!("{s}{pad}") } else { format!("{pad}{s}") }
                    })
                    .collect();
                t += &format!("  {}\n", cells.join("  ").trim_end());
            }
            t += "\n";
        }
        self.more.iter().for_each(|f| t += &line(f));
        match self.troubles.as_slice() {
            [] => t += &line(&("troubles", "none found".into())),
            all => {
                for (i, trouble) in all.iter().enumerate() {
                    t += &line(&(if i == 0 { "troubles" } else { "" }, trouble.clone()));
                }
            }
        }
        t
    }

    fn to_json(&self) -> Json {
        let mut map = self.json.clone();
        map.insert("troubles".into(), json!(self.troubles));
        Json::Object(map)
    }
}

fn percent(share: f64) -> String {
    match share * 100.0 {
        0.0 => "0 %".into(),
        p if p < 0.1 => "< 0.1 %".into(),
        p => format!("{p:.1} %"),
    }
}

/// A number with about four digits that matter.
fn short(v: f64) -> String {
    match v.abs() {
        _ if v.is_nan() => "–".into(),
        a if a >= 1e6 => format!("{v:.3e}"),
        a if a >= 1000.0 => format!("{v:.0}"),
        a if a >= 100.0 => format!("{v:.1}"),
        a if a >= 10.0 => format!("{v:.2}"),
        _ => format!("{v:.3}"),
    }
}

fn grid_text(g: &Grid) -> String {
    let (w, h) = g.transform.cell();
    let unit = if g.is_metric() { " m" } else { "" };
    let cell = if w == h { format!("{w}{unit}") } else { format!("{w} x {h}{unit}") };
    let crs = g.crs.map_or("no coordinate system".into(), |c| format!("{} ({c})", c.name()));
    format!("{} x {} cells of {cell}, {crs}", g.cols, g.rows)
}

fn extent_text(g: &Grid) -> String {
    let [x0, y0, x1, y1] = g.bounds();
    format!("x {x0} to {x1}, y {y0} to {y1}")
}

fn grid_json(g: &Grid) -> Json {
    let t = g.transform;
    json!({"cols": g.cols, "rows": g.rows, "crs": g.crs.map(|c| c.to_string()), "transform": [t.a, t.b, t.c, t.d, t.e, t.f], "bounds": g.bounds()})
}

/// Which indices of the catalogue can be computed from what is there, and what the others lack.
fn index_text(has: impl Fn(BandRole) -> bool) -> (String, Json) {
    let lacks = |d: &telechroma_core::index::IndexDef| {
        d.bands().into_iter().filter(|b| !has(*b)).map(|b| b.name()).collect::<Vec<_>>()
    };
    let (can, cannot): (Vec<_>, Vec<_>) = INDICES.iter().map(|d| (d.id, lacks(d))).partition(|(_, l)| l.is_empty());
    let mut text = match can.is_empty() {
        true => "none can be computed".to_string(),
        false => can.iter().map(|c| c.0).collect::<Vec<_>>().join(", "),
    };
    if !cannot.is_empty() {
        text += &format!(
            "; not {}",
            cannot.iter().map(|(id, l)| format!("{id} (no {})", l.join(", "))).collect::<Vec<_>>().join(", ")
        );
    }
    let json = json!({
        "computable": can.iter().map(|c| c.0).collect::<Vec<_>>(),
        "lacking": cannot.into_iter().map(|(id, l)| (id.to_string(), json!(l))).collect::<serde_json::Map<_, _>>(),
    });
    (text, json)
}

/// Share of saturated cells from which on it is a trouble.
const SATURATED: f64 = 0.01;
/// Degrees of sun below which reflectance is uncertain.
const LOW_SUN: f64 = 15.0;

fn of_scene(s: &Scene, no_cells: bool, ctx: &Context) -> Result<Sheet, Report> {
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
    facts.push(("flags", flag_text(s, &by_flags)));
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
    Ok(Sheet {
        title: s.id.clone(),
        facts,
        head: match no_cells {
            true => vec!["band", "role", "µm", "cell"],
            false => {
                vec!["band", "role", "µm", "cell", "no data", "least", "median", "most", "saturated", "2 % to 98 %"]
            }
        },
        rows: s.bands.iter().enumerate().map(|(i, b)| band_row(s, b, bands.get(i))).collect(),
        more: vec![("indices", indices)],
        troubles: scene_troubles(s, &bands),
        json: object(json),
    })
}

fn object(json: Json) -> serde_json::Map<String, Json> {
    match json {
        Json::Object(map) => map,
        other => std::iter::once(("value".to_string(), other)).collect(),
    }
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

fn flag_text(s: &Scene, by_flags: &[(&str, f64)]) -> String {
    if s.flags.is_empty() {
        return "none".into();
    }
    let planes = s.flags.iter().map(|f| f.name.as_str()).collect::<Vec<_>>().join(", ");
    let Some(fill) = by_flags.iter().find(|f| f.0 == "fill") else { return planes };
    let list: Vec<String> = by_flags
        .iter()
        .filter(|(n, v)| *n != "fill" && *v > 0.0)
        .map(|(n, v)| format!("{n} {}", percent(*v)))
        .collect();
    let list = if list.is_empty() { "nothing flagged".into() } else { list.join(", ") };
    format!("{planes}: fill {} of the scene; of the rest {list}", percent(fill.1))
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
            .filter(|d| !s.bands.iter().any(|b| b.name == format!("B{}", d.key)))
            .map(|d| format!("{} (B{})", d.role, d.key))
            .collect();
        if !absent.is_empty() {
            t.push(format!("not in the delivery: {}", absent.join(", ")));
        }
    }
    if s.flags.is_empty() && s.mask.is_none() {
        t.push("no flags: clouds cannot be masked".into());
    }
    if s.grid.crs.is_none() {
        t.push("no coordinate system: plots cannot be laid on it".into());
    }
    for b in &s.bands {
        if let (Content::Counts(_), Err(e)) = (&b.content, calibration(s, b, Target::Toa))
            && !matches!(e, telechroma_core::Error::NightScene { .. })
            && s.sun.is_some()
        {
            t.push(e.to_string());
        }
    }
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

/// Reflectance above this is no reflectance.
const COUNT_LIKE: f64 = 2.0;
/// No surface is as cold as this many kelvin.
const ABSURD_COLD: f64 = 200.0;

/// What looks wrong in the values of a layer.
fn value_troubles(name: &str, unit: Unit, f: &Surveyed) -> Vec<String> {
    let mut t = vec![];
    if f.known == 0 {
        return vec![format!("{name} holds no data at all")];
    }
    let median = f.percentile(50.0);
    let is_band = BandRole::from_name(name).is_some_and(|r| !r.is_thermal());
    if (unit == Unit::Reflectance || unit == Unit::Unknown && is_band) && median > COUNT_LIKE {
        t.push(format!("{name} looks like counts (median {}): indices need reflectance, 0 to 1", short(median)));
    }
    if unit == Unit::Kelvin && f.range.0 < ABSURD_COLD {
        t.push(format!("{name} falls to {} K: fill or cloud is left in it", short(f.range.0)));
    }
    if unit == Unit::Kelvin && (-90.0..100.0).contains(&median) {
        t.push(format!("{name} is said to be in kelvin, but its median of {} looks like °C", short(median)));
    }
    let zeros = f.zeros as f64 / f.cells as f64;
    if f.edge_zeros > 0 && zeros > 0.01 && unit != Unit::Looks {
        t.push(format!(
            "{name}: {} of the cells are exactly 0 and touch the edge: fill that no missing value is declared for?",
            percent(zeros)
        ));
    }
    t
}

fn of_layers(path: &Path, set: &LayerSet, no_cells: bool, ctx: &Context) -> Result<Sheet, Report> {
    let planes: Vec<_> = set.layers.iter().map(|l| l.source.clone()).collect();
    let found = if no_cells { vec![] } else { survey(&planes, ctx)? };
    let mut troubles = vec![];
    if set.grid.crs.is_none() {
        troubles.push("no coordinate system: plots cannot be laid on it".into());
    }
    for (l, f) in set.layers.iter().zip(&found) {
        troubles.extend(value_troubles(&l.name, l.unit, f));
    }
    let row = |(i, l): (usize, &telechroma_core::scene::Layer)| {
        let mut row = vec![(i + 1).to_string(), l.name.clone(), l.unit.label().to_string()];
        if let Some(f) = found.get(i) {
            row.extend([percent(f.missing()), short(f.range.0), short(f.percentile(50.0)), short(f.range.1)]);
            row.push(format!("{} to {}", short(f.percentile(2.0)), short(f.percentile(98.0))));
        }
        row
    };
    let number = |v: f64| if v.is_finite() { json!(v) } else { Json::Null };
    let layer_json = |(i, l): (usize, &telechroma_core::scene::Layer)| {
        let mut j = json!({"name": l.name, "unit": l.unit.label()});
        if let Some(f) = found.get(i) {
            j["missing_share"] = json!(f.missing());
            j["range"] = json!([number(f.range.0), number(f.range.1)]);
            j["median"] = number(f.percentile(50.0));
        }
        j
    };
    let (indices, index_json) = index_text(|r| r.met_by().any(|m| set.layers.iter().any(|l| l.name == m.name())));
    // of single layers nothing more is computed
    let has_bands = set.layers.iter().any(|l| BandRole::from_name(&l.name).is_some());
    let json = json!({
        "kind": "raster", "path": path.display().to_string(), "period": set.period, "grid": grid_json(&set.grid),
        "layers": set.layers.iter().enumerate().map(layer_json).collect::<Vec<_>>(), "indices": index_json, "digest": set.digest,
    });
    let head = vec!["band", "name", "unit", "no data", "least", "median", "most", "2 % to 98 %"];
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
        more: if has_bands { vec![("indices", indices)] } else { vec![] },
        troubles,
        json: object(json),
    })
}

fn of_mask(
    path: &Path,
    scene: &str,
    source: &std::sync::Arc<dyn telechroma_core::tile::PlaneSource>,
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
