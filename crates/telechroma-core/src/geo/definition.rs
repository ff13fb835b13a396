//! The parameters of a coordinate system, in the words that projection libraries share: `+proj=utm +zone=25 …`.

use std::fmt;

/// Named parameters, sorted by name, with numbers written one way: equal systems have equal parameters.
#[derive(Debug, Clone, PartialEq, Eq, Hash)]
pub struct Definition(Vec<(String, String)>);

/// Says nothing about where coordinates lie.
const IDLE: &[&str] = &["no_defs", "wktext", "type", "over"];

impl Definition {
    /// From text such as `+proj=sinu +R=6371007.181`.
    pub fn parse(text: &str) -> Definition {
        let mut params: Vec<(String, String)> = vec![];
        for word in text.split_whitespace().filter_map(|w| w.strip_prefix('+')) {
            let (key, value) = word.split_once('=').unwrap_or((word, ""));
            let key = if key == "k_0" { "k" } else { key };
            if !IDLE.contains(&key) && (key, value) != ("units", "m") && params.iter().all(|p| p.0 != key) {
                params.push((key.into(), number_text(value)));
            }
        }
        let mut d = Definition(params);
        d.plain_names();
        d.0.sort();
        d
    }

    /// UTM is a transverse Mercator, and the ellipsoid of WGS 84 without a shift its datum.
    fn plain_names(&mut self) {
        // WGS 84 and GRS 80 written out
        if self.number("a") == Some(6_378_137.0) && self.get("R").is_none() {
            let near = |rf: f64| self.number("rf").is_some_and(|v| (v - rf).abs() < 1e-6);
            let name =
                [("WGS84", 298.257_223_563), ("GRS80", 298.257_222_101)].iter().find(|(_, rf)| near(*rf)).map(|n| n.0);
            if let Some(name) = name {
                ["a", "rf", "b"].iter().for_each(|k| self.remove(k));
                self.set("ellps", name);
            }
        }
        for idle in [("pm", "0"), ("to_meter", "1")] {
            self.0.retain(|p| (p.0.as_str(), p.1.as_str()) != idle);
        }
        let unshifted = self.shift().is_none_or(|s| s.iter().all(|v| *v == 0.0));
        if self.get("datum") == Some("WGS84") || self.get("ellps") == Some("WGS84") && unshifted {
            ["ellps", "towgs84"].iter().for_each(|k| self.remove(k));
            self.set("datum", "WGS84");
        }
        if self.get("proj") == Some("utm")
            && let Some(zone) = self.number("zone")
        {
            let south = self.get("south").is_some();
            self.0.retain(|p| p.0 != "zone" && p.0 != "south" && p.0 != "proj");
            let lon0 = (zone * 6.0 - 183.0).to_string();
            let y0 = if south { "10000000" } else { "0" };
            let utm =
                [("proj", "tmerc"), ("lat_0", "0"), ("lon_0", &lon0), ("k", "0.9996"), ("x_0", "500000"), ("y_0", y0)];
            utm.iter().for_each(|(k, v)| self.set(k, v));
        }
    }

    /// A parameter as text; empty for a bare one.
    pub fn get(&self, key: &str) -> Option<&str> {
        self.0.iter().find(|p| p.0 == key).map(|p| p.1.as_str())
    }

    /// A parameter that is a number.
    pub fn number(&self, key: &str) -> Option<f64> {
        self.get(key)?.parse().ok()
    }

    /// Adds or replaces a parameter.
    pub fn set(&mut self, key: &str, value: &str) {
        self.0.retain(|p| p.0 != key);
        self.0.push((key.into(), number_text(value)));
        self.0.sort();
    }

    /// Takes a parameter out.
    pub fn remove(&mut self, key: &str) {
        self.0.retain(|p| p.0 != key);
    }

    /// The shift to WGS 84: three lengths, or seven parameters.
    pub fn shift(&self) -> Option<Vec<f64>> {
        self.get("towgs84")?.split(',').map(|v| v.parse().ok()).collect()
    }
}

/// Numbers in their shortest form; what is no number stays.
fn number_text(value: &str) -> String {
    let one = |v: &str| match v.parse::<f64>() {
        Ok(n) if n.is_finite() => ((n * 1e10).round() / 1e10).to_string(),
        _ => v.to_string(),
    };
    value.split(',').map(one).collect::<Vec<_>>().join(",")
}

impl fmt::Display for Definition {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let words = self.0.iter().map(|(k, v)| if v.is_empty() { format!("+{k}") } else { format!("+{k}={v}") });
        f.write_str(&words.collect::<Vec<_>>().join(" "))
    }
}
