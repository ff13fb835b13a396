//! What does not go together in several scenes: levels, sensors, processing baselines, coordinate systems.

use telechroma_core::scene::Scene;

/// What several scenes should share.
pub struct Facts {
    id: String,
    level: String,
    sensor: String,
    /// Numbers of Sentinel-2 carry an offset from processing baseline 04.00 on.
    offset: Option<bool>,
    crs: Option<String>,
}

impl Facts {
    pub fn of(s: &Scene) -> Facts {
        let baseline =
            s.id.split('_').find(|w| w.len() == 5 && w.starts_with('N')).and_then(|w| w[1..].parse::<u32>().ok());
        Facts {
            id: s.id.clone(),
            level: s.level.clone(),
            sensor: s.sensor.clone(),
            offset: baseline.filter(|_| s.sensor == "sentinel-2").map(|b| b >= 400),
            crs: s.grid.crs.map(|c| c.to_string()),
        }
    }
}

/// Values with the number of scenes that have each, where they differ.
fn differ<T: PartialEq + Clone>(all: &[Facts], of: impl Fn(&Facts) -> Option<T>) -> Vec<(T, usize, String)> {
    let mut found: Vec<(T, usize, String)> = vec![];
    for f in all {
        let Some(v) = of(f) else { continue };
        match found.iter_mut().find(|k| k.0 == v) {
            Some(k) => k.1 += 1,
            None => found.push((v, 1, f.id.clone())),
        }
    }
    if found.len() > 1 { found } else { vec![] }
}

/// What does not go together, in words.
pub fn mixed(all: &[Facts]) -> Vec<String> {
    let mut t = vec![];
    let list = |found: &[(String, usize, String)]| {
        found.iter().map(|(v, n, _)| format!("{n} of {v}")).collect::<Vec<_>>().join(", ")
    };
    // one product by two names of its processing is one level
    let kind = |f: &Facts| Some(f.level.chars().take(2).collect::<String>()).filter(|l| !l.is_empty());
    let levels = differ(all, kind);
    if !levels.is_empty() {
        t.push(format!("levels differ ({}): their reflectance is not comparable; keep one level", list(&levels)));
    }
    let sensors = differ(all, |f| Some(f.sensor.clone()).filter(|s| !s.is_empty()));
    if !sensors.is_empty() {
        t.push(format!("sensors differ ({}): their bands see slightly different light", list(&sensors)));
    }
    let offsets = differ(all, |f| f.offset);
    if !offsets.is_empty() {
        let (_, n, id) = offsets.iter().find(|o| !o.0).unwrap_or(&offsets[0]);
        t.push(format!("processing baselines differ: {n} before 04.00 ({id} …) and others since; each is calibrated by its own offset, so they may be used together"));
    }
    let systems = differ(all, |f| f.crs.clone());
    if !systems.is_empty() {
        t.push(format!("coordinate systems differ ({}): a run brings all to one; name it with --grid", list(&systems)));
    }
    t
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn only_what_differs_is_said() {
        let f = |id: &str, level: &str, offset| Facts {
            id: id.into(),
            level: level.into(),
            sensor: "sentinel-2".into(),
            offset: Some(offset),
            crs: Some("EPSG:32625".into()),
        };
        assert!(mixed(&[f("a", "L1C", true), f("b", "L1C", true)]).is_empty());
        let said = mixed(&[f("a", "L1C", true), f("b", "L2A", false), f("c", "L2A", true)]);
        assert!(
            said.len() == 2 && said[0].contains("1 of L1, 2 of L2") && said[1].contains("1 before 04.00 (b …)"),
            "{said:?}"
        );
    }
}
