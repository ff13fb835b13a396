//! Well-known text of coordinate systems, as `.prj` files hold it: by its EPSG code where it has one, else by its
//! parameters.
//!
//! Sources: OGC 01-009 (WKT 1) and 18-010r7 (WKT 2); the parameters are read by `proj4wkt`.

use super::crs::Crs;
use super::datum;
use super::definition::Definition;
use crate::error::{Error, Result};

const SYSTEMS: &[&str] = &["PROJCS", "PROJCRS", "PROJECTEDCRS", "GEOGCS", "GEOGCRS", "GEODCRS", "GEODETICCRS"];

/// The coordinate system a text describes.
///
/// # Errors
/// [`Error::Coordinates`] where it describes none that can be computed with.
pub(super) fn read(text: &str) -> Result<Crs> {
    let fails = |why: String| Error::Coordinates(format!("the text of the coordinate system cannot be used: {why}"));
    let system = horizontal(text).ok_or_else(|| fails("it describes no map or geographic system".into()))?;
    let own = children(system);
    if let Some(code) = own.iter().find_map(|c| epsg(c)) {
        return Crs::from_epsg(code);
    }
    let name = own.first().map_or("", |n| n.trim().trim_matches('"'));
    if name.contains("Pseudo") || name.contains("Auxiliary_Sphere") || name.contains("Popular Visualisation") {
        return Crs::from_epsg(3857);
    }
    let extension = own.iter().find_map(|c| {
        let parts = children(c);
        (word(c) == "EXTENSION" && parts.first().is_some_and(|p| p.trim() == "\"PROJ4\""))
            .then(|| parts.get(1).map(|t| t.trim().trim_matches('"').to_string()))?
    });
    let parameters = match extension {
        Some(text) => text,
        None => proj4wkt::wkt_to_projstring(system).map_err(|e| fails(format!("{name}: {e}")))?,
    };
    let mut d = Definition::parse(&parameters);
    if d.shift().is_none() && d.get("datum").is_none() {
        let geographic = own.iter().find(|c| SYSTEMS.contains(&word(c).as_str()) || word(c) == "BASEGEOGCRS");
        let within = geographic.map_or(system, |g| g);
        let datum = children(within)
            .iter()
            .find(|c| word(c) == "DATUM")
            .and_then(|c| children(c).first().map(|n| n.trim().trim_matches('"').to_string()));
        let code = children(within).iter().find_map(|c| epsg(c)).and_then(|c| u16::try_from(c).ok());
        if let Some(known) = code.or_else(|| datum.as_deref().and_then(datum::by_name)) {
            d = on_datum_of(d, known);
        }
    }
    Crs::from_definition(&d, name)
}

/// The text of a coordinate system in the older form, which all programs read. A system without a code is written with its
/// parameters as an extension.
pub(super) fn write(crs: Crs) -> String {
    let row = crs.epsg().and_then(|c| u16::try_from(c).ok()).and_then(crs_definitions::from_code);
    if let Some(row) = row.filter(|r| !r.wkt.is_empty()) {
        return row.wkt.to_string();
    }
    let parameters = crs.definition().map_or(String::new(), |d| d.to_string());
    let name = crs.name().replace('"', "'");
    format!(
        "PROJCS[\"{name}\",GEOGCS[\"unknown\",DATUM[\"unknown\",SPHEROID[\"WGS 84\",6378137,298.257223563]],\
         PRIMEM[\"Greenwich\",0],UNIT[\"degree\",0.0174532925199433]],PROJECTION[\"custom_proj4\"],\
         UNIT[\"metre\",{}],EXTENSION[\"PROJ4\",\"{parameters}\"]]",
        crs.metres().unwrap_or(1.0)
    )
}

/// The same projection on the datum of a geographic system.
pub(super) fn on_datum_of(mut d: Definition, geographic: u16) -> Definition {
    let Some(row) = crs_definitions::from_code(geographic) else { return d };
    let base = Definition::parse(row.proj4);
    for key in ["ellps", "a", "b", "rf", "R", "towgs84", "datum", "nadgrids", "pm"] {
        d.remove(key);
        if let Some(v) = base.get(key) {
            d.set(key, v);
        }
    }
    d
}

/// The first map or geographic system in a text, with its brackets balanced: compound systems hold one beside a height.
fn horizontal(text: &str) -> Option<&str> {
    let upper = text.to_ascii_uppercase();
    let start = SYSTEMS.iter().filter_map(|s| upper.find(&format!("{s}["))).min()?;
    let (mut depth, mut quoted) = (0usize, false);
    for (i, c) in text[start..].char_indices() {
        match c {
            '"' => quoted = !quoted,
            '[' if !quoted => depth += 1,
            ']' if !quoted => {
                depth = depth.saturating_sub(1);
                if depth == 0 {
                    return text.get(start..=start + i);
                }
            }
            _ => {}
        }
    }
    None
}

/// The word before the bracket of a node.
fn word(node: &str) -> String {
    node.split('[').next().unwrap_or_default().trim().to_ascii_uppercase()
}

/// What stands between a node's brackets, parted at its own commas.
fn children(node: &str) -> Vec<&str> {
    let Some((open, close)) = node.find('[').zip(node.rfind(']')).filter(|(a, b)| a < b) else { return vec![] };
    let inner = &node[open + 1..close];
    let (mut parts, mut depth, mut quoted, mut from) = (vec![], 0usize, false, 0);
    for (i, c) in inner.char_indices() {
        match c {
            '"' => quoted = !quoted,
            '[' if !quoted => depth += 1,
            ']' if !quoted => depth = depth.saturating_sub(1),
            ',' if !quoted && depth == 0 => {
                parts.push(&inner[from..i]);
                from = i + 1;
            }
            _ => {}
        }
    }
    parts.push(&inner[from..]);
    parts
}

/// The code of a node `AUTHORITY["EPSG","32625"]` or `ID["EPSG",32625]`.
fn epsg(node: &str) -> Option<u32> {
    if !matches!(word(node).as_str(), "AUTHORITY" | "ID") {
        return None;
    }
    match children(node).as_slice() {
        [authority, code, ..] if authority.trim().eq_ignore_ascii_case("\"EPSG\"") => {
            code.trim().trim_matches('"').parse().ok()
        }
        _ => None,
    }
}
