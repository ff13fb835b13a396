//! Scenes as STAC items, both ways: what a list found, as a static catalogue or a collection of items, and the deliveries
//! that such a file names.
//!
//! Sources: STAC 1.0.0 (item, catalogue, ItemCollection) with the extensions eo 1.1, view 1.0, projection 1.1, raster 1.1.

use std::path::{Component, Path, PathBuf};

use serde_json::{Map, Value as Json, json};

use super::summary::{BandSummary, GridSummary, Summary};
use crate::bytes::ByteRange;
use crate::error::{Error, Place, Result};

/// A file of this kind is some hundred kilobytes long; a large collection some hundred megabytes.
const LARGEST: u64 = 1 << 30;
const EXTENSIONS: [&str; 4] = [
    "https://stac-extensions.github.io/eo/v1.1.0/schema.json",
    "https://stac-extensions.github.io/view/v1.0.0/schema.json",
    "https://stac-extensions.github.io/projection/v1.1.0/schema.json",
    "https://stac-extensions.github.io/raster/v1.1.0/schema.json",
];
/// The asset that is the delivery itself.
const DELIVERY: &str = "delivery";

/// The path of `to` as seen from a folder; as it is where there is no such path.
fn relative(from: &Path, to: &Path) -> PathBuf {
    let (Ok(from), Ok(whole)) = (std::path::absolute(from), std::path::absolute(to)) else { return to.into() };
    let shared = from.components().zip(whole.components()).take_while(|(a, b)| a == b).count();
    let up = from.components().skip(shared).map(|_| Component::ParentDir);
    up.chain(whole.components().skip(shared)).collect()
}

fn is_day(text: &str) -> bool {
    text.parse::<jiff::civil::Date>().is_ok()
}

/// A summary as an item, in a file that lies in a folder.
pub fn item(s: &Summary, folder: &Path) -> Json {
    let mut p = Map::new();
    let instant = s.time.clone().or_else(|| s.date.as_ref().filter(|d| is_day(d)).map(|d| format!("{d}T00:00:00Z")));
    p.insert("datetime".into(), instant.map_or(Json::Null, Json::from));
    if p["datetime"].is_null() {
        // a null instant needs its two ends
        p.insert("start_datetime".into(), "0001-01-01T00:00:00Z".into());
        p.insert("end_datetime".into(), "9999-12-31T23:59:59Z".into());
    }
    if !s.platform.is_empty() {
        p.insert("platform".into(), s.platform.to_lowercase().replace(' ', "-").into());
        p.insert("title".into(), format!("{}, {}", s.platform, s.level).into());
    }
    if !s.sensor.is_empty() {
        p.insert("instruments".into(), json!([s.sensor]));
    }
    s.cloud.iter().for_each(|c| drop(p.insert("eo:cloud_cover".into(), json!(c))));
    if let Some((elevation, azimuth)) = s.sun {
        p.insert("view:sun_elevation".into(), json!(elevation));
        if azimuth.is_finite() {
            p.insert("view:sun_azimuth".into(), json!(azimuth.rem_euclid(360.0)));
        }
    }
    let (mut geometry, mut bbox) = (Json::Null, Json::Null);
    if let Some(g) = &s.grid {
        let epsg = g.crs.as_deref().and_then(|c| c.strip_prefix("EPSG:")).and_then(|c| c.parse::<u32>().ok());
        p.insert("proj:epsg".into(), json!(epsg));
        p.insert("proj:shape".into(), json!([g.shape.0, g.shape.1]));
        p.insert("proj:transform".into(), json!(g.transform));
        if g.footprint.len() == 4 {
            let mut ring: Vec<_> = g.footprint.iter().map(|(x, y)| json!([x, y])).collect();
            ring.push(ring[0].clone());
            // rings run against the clock (RFC 7946); corners come with it
            ring.reverse();
            geometry = json!({"type": "Polygon", "coordinates": [ring]});
            let fold = |f: fn(f64, f64) -> f64, pick: fn(&(f64, f64)) -> f64| g.footprint.iter().map(pick).reduce(f);
            bbox = json!([
                fold(f64::min, |p| p.0),
                fold(f64::min, |p| p.1),
                fold(f64::max, |p| p.0),
                fold(f64::max, |p| p.1)
            ]);
        }
    }
    let own = json!({
        "kind": s.kind, "sensor": s.sensor, "platform": s.platform, "level": s.level, "place": s.place, "date": s.date,
        "crs": s.grid.as_ref().and_then(|g| g.crs.clone()), "bytes": s.bytes, "troubles": s.troubles,
    });
    p.insert("telechroma:scene".into(), own);
    let eo: Vec<Json> = s.bands.iter().map(eo_band).collect();
    let raster: Vec<Json> = s.bands.iter().map(raster_band).collect();
    let kind = match s.path.extension().map(|e| e.to_string_lossy().to_lowercase()).as_deref() {
        Some("tif" | "tiff") => "image/tiff; application=geotiff",
        Some("zip") => "application/zip",
        Some("tar") => "application/x-tar",
        Some("gz" | "tgz") => "application/gzip",
        _ => "application/octet-stream",
    };
    let href = relative(folder, &s.path);
    let mut asset = json!({"href": href.to_string_lossy(), "type": kind, "roles": ["data"], "title": s.id});
    if !eo.is_empty() {
        asset["eo:bands"] = eo.into();
        asset["raster:bands"] = raster.into();
    }
    let mut item = json!({
        "type": "Feature", "stac_version": "1.0.0", "stac_extensions": EXTENSIONS, "id": s.id,
        "geometry": geometry, "properties": p, "links": [], "assets": {DELIVERY: asset},
    });
    if !bbox.is_null() {
        item["bbox"] = bbox;
    }
    item
}

fn eo_band(b: &BandSummary) -> Json {
    let mut j = json!({"name": b.name});
    if telechroma_core::scene::BandRole::from_name(&b.role).is_some_and(|r| !r.is_product()) {
        j["common_name"] = json!(b.role);
    }
    if let Some((from, to)) = b.edges {
        j["center_wavelength"] = json!(round((from + to) / 2000.0));
        j["full_width_half_max"] = json!(round((to - from) / 1000.0));
    }
    j
}

fn round(v: f64) -> f64 {
    (v * 1e6).round() / 1e6
}

fn raster_band(b: &BandSummary) -> Json {
    let mut j = json!({"spatial_resolution": b.cell});
    // the unit of a band is that after scale and offset
    if let Some((scale, offset)) = b.line {
        j["unit"] = json!("W⋅m−2⋅sr−1⋅μm−1");
        j["scale"] = json!(scale);
        j["offset"] = json!(offset);
    }
    j
}

/// Summaries as one collection of items, in a file that lies in a folder.
pub fn collection(all: &[Summary], folder: &Path) -> Json {
    json!({"type": "FeatureCollection", "features": all.iter().map(|s| item(s, folder)).collect::<Vec<_>>()})
}

/// The files of a static catalogue: names below its folder, and what they hold.
pub fn catalogue(all: &[Summary], folder: &Path, title: &str) -> Vec<(String, Json)> {
    let mut files = vec![];
    let mut links = vec![json!({"rel": "root", "href": "catalog.json", "type": "application/json"})];
    let items = folder.join("items");
    let mut taken = std::collections::BTreeMap::new();
    for s in all {
        let n = taken.entry(s.id.clone()).or_insert(0u32);
        *n += 1;
        let clean: String =
            s.id.chars().map(|c| if c.is_alphanumeric() || "._-".contains(c) { c } else { '_' }).collect();
        let id = if *n == 1 { clean } else { format!("{clean}_{n}") };
        let name = format!("items/{id}.json");
        let mut one = item(s, &items);
        one["id"] = json!(id);
        one["links"] = json!([
            {"rel": "root", "href": "../catalog.json", "type": "application/json"},
            {"rel": "parent", "href": "../catalog.json", "type": "application/json"},
            {"rel": "self", "href": format!("{id}.json"), "type": "application/geo+json"},
        ]);
        links.push(json!({"rel": "item", "href": name, "type": "application/geo+json", "title": s.id}));
        files.push((name, one));
    }
    let root = json!({
        "type": "Catalog", "stac_version": "1.0.0", "id": "scenes", "title": title,
        "description": format!("{} deliveries and rasters", all.len()), "links": links,
    });
    files.push(("catalog.json".into(), root));
    files
}

fn read(path: &Path) -> Result<Json> {
    let bytes = ByteRange::whole(path)?.read_all(LARGEST)?;
    serde_json::from_slice(&bytes).map_err(|e| {
        Error::malformed(
            Place::part(path.display().to_string(), format!("line {}", e.line())),
            format!("is not JSON: {e}"),
        )
    })
}

/// Every item of a catalogue, a collection of items or a single item, with the folder its paths start from.
fn items(path: &Path, deeper: usize, out: &mut Vec<(Json, PathBuf)>) -> Result<()> {
    let json = read(path)?;
    let folder = path.parent().unwrap_or(Path::new("")).to_path_buf();
    match json["type"].as_str() {
        Some("Feature") => out.push((json, folder)),
        Some("FeatureCollection") => {
            let Some(list) = json["features"].as_array() else { return Ok(()) };
            out.extend(list.iter().map(|f| (f.clone(), folder.clone())));
        }
        Some("Catalog" | "Collection") if deeper > 0 => {
            for link in json["links"].as_array().into_iter().flatten() {
                if let (Some("item" | "child"), Some(href)) = (link["rel"].as_str(), link["href"].as_str()) {
                    let next = local(&folder, href, path)?;
                    items(&next, deeper - 1, out)?;
                }
            }
        }
        _ => return Err(Error::usage(Place::file(path), "is no STAC catalogue, collection or item")),
    }
    Ok(())
}

fn local(folder: &Path, href: &str, at: &Path) -> Result<PathBuf> {
    if href.contains("://") {
        return Err(Error::unsupported(
            Place::file(at),
            format!("the remote place {href}"),
            &["files on this machine"],
        ));
    }
    Ok(tidy(&folder.join(href)))
}

/// A path without steps into a folder and out of it again.
fn tidy(path: &Path) -> PathBuf {
    let mut out: Vec<Component> = vec![];
    for c in path.components() {
        match (c, out.last()) {
            (Component::ParentDir, Some(Component::Normal(_))) => drop(out.pop()),
            _ => out.push(c),
        }
    }
    out.into_iter().collect()
}

/// Catalogues below catalogues that are followed.
const DEEPEST: usize = 6;

/// What the items of a file say of scenes.
///
/// # Errors
/// Where it is none, or an item names no delivery on this machine.
pub fn summaries(path: &Path) -> Result<Vec<Summary>> {
    let mut found = vec![];
    items(path, DEEPEST, &mut found)?;
    found.iter().map(|(json, folder)| summary(json, folder, path)).collect()
}

fn summary(json: &Json, folder: &Path, at: &Path) -> Result<Summary> {
    let id = json["id"].as_str().unwrap_or_default().to_string();
    let href = json["assets"][DELIVERY]["href"].as_str();
    let Some(href) = href else {
        let what = format!("item '{id}' names no asset '{DELIVERY}'");
        return Err(Error::unsupported(Place::file(at), what, &["items that 'telechroma scenes' wrote"]));
    };
    let (p, own) = (&json["properties"], &json["properties"]["telechroma:scene"]);
    let text = |v: &Json| v.as_str().map(String::from);
    let footprint = json["geometry"]["coordinates"][0].as_array().map_or(vec![], |ring| {
        ring.iter().rev().take(4).filter_map(|c| Some((c[0].as_f64()?, c[1].as_f64()?))).collect()
    });
    let transform: Vec<f64> = p["proj:transform"].as_array().into_iter().flatten().filter_map(Json::as_f64).collect();
    let shape = (p["proj:shape"][0].as_u64(), p["proj:shape"][1].as_u64());
    let grid = match (transform.as_slice(), shape) {
        ([a, b, c, d, e, f, ..], (Some(rows), Some(cols))) => Some(GridSummary {
            crs: text(&own["crs"]),
            shape: (rows as u32, cols as u32),
            transform: [*a, *b, *c, *d, *e, *f],
            footprint,
        }),
        _ => None,
    };
    let sun = p["view:sun_elevation"].as_f64().map(|e| (e, p["view:sun_azimuth"].as_f64().unwrap_or(f64::NAN)));
    let troubles = own["troubles"].as_array().into_iter().flatten().filter_map(text).collect();
    Ok(Summary {
        path: local(folder, href, at)?,
        kind: text(&own["kind"]).unwrap_or_else(|| "scene".into()),
        id: text(&json["assets"][DELIVERY]["title"]).unwrap_or(id),
        date: text(&own["date"]),
        time: text(&p["datetime"]),
        sensor: text(&own["sensor"]).unwrap_or_default(),
        platform: text(&own["platform"]).unwrap_or_default(),
        level: text(&own["level"]).unwrap_or_default(),
        place: text(&own["place"]),
        cloud: p["eo:cloud_cover"].as_f64(),
        sun,
        grid,
        bands: vec![],
        bytes: own["bytes"].as_u64().unwrap_or(0),
        troubles,
    })
}
