//! The sheet that `inspect` shows of one path, and how its numbers are written.

use serde_json::{Value as Json, json};
use telechroma_core::grid::Grid;
use telechroma_core::index::INDICES;
use telechroma_core::scene::BandRole;

use crate::commands::text::{aligned, wrapped};
use crate::job::survey::Surveyed;

/// What is shown of one path: lines for people, and JSON.
pub struct Sheet {
    pub title: String,
    pub facts: Vec<(&'static str, String)>,
    pub head: Vec<&'static str>,
    pub rows: Vec<Vec<String>>,
    pub more: Vec<(&'static str, String)>,
    pub troubles: Vec<String>,
    pub json: serde_json::Map<String, Json>,
}

impl Sheet {
    pub fn text(&self) -> String {
        let mut t = format!("{}\n", self.title);
        let line = |(name, text): &(&str, String)| format!("  {name:9} {}\n", wrapped(text, 112, 12));
        self.facts.iter().for_each(|f| t += &line(f));
        if !self.rows.is_empty() {
            t += "\n";
            let all: Vec<Vec<String>> = std::iter::once(self.head.iter().map(|h| h.to_string()).collect())
                .chain(self.rows.iter().cloned())
                .collect();
            // names to the left, numbers to the right
            let right: Vec<usize> = (3..self.head.len()).collect();
            aligned(&all, &right).lines().for_each(|l| t += &format!("  {l}\n"));
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

    pub fn to_json(&self) -> Json {
        let mut map = self.json.clone();
        map.insert("troubles".into(), json!(self.troubles));
        Json::Object(map)
    }
}

pub fn percent(share: f64) -> String {
    match share * 100.0 {
        0.0 => "0 %".into(),
        p if p < 0.1 => "< 0.1 %".into(),
        p => format!("{p:.1} %"),
    }
}

/// A number with about four digits that matter.
pub fn short(v: f64) -> String {
    match v.abs() {
        _ if v.is_nan() => "–".into(),
        a if a >= 1e6 => format!("{v:.3e}"),
        a if a >= 1000.0 => format!("{v:.0}"),
        a if a >= 100.0 => format!("{v:.1}"),
        a if a >= 10.0 => format!("{v:.2}"),
        _ => format!("{v:.3}"),
    }
}

/// Bars of a histogram between the 2nd and the 98th percentile.
const BARS: [char; 8] = ['▁', '▂', '▃', '▄', '▅', '▆', '▇', '█'];
/// Steps of a histogram.
pub const STEPS: usize = 12;

/// A small histogram: the share of cells in equal steps, the fullest step at full height.
pub fn bars(found: &Surveyed) -> String {
    let (from, to) = (found.percentile(2.0), found.percentile(98.0));
    if from.is_nan() || from >= to {
        return "–".into();
    }
    let steps = found.histogram(from, to, STEPS);
    let most = steps.iter().copied().max().unwrap_or(0).max(1);
    let bar = |n: &u64| if *n == 0 { ' ' } else { BARS[((*n * 8).div_ceil(most) as usize).clamp(1, 8) - 1] };
    format!("[{}]", steps.iter().map(bar).collect::<String>())
}

/// The same as numbers.
pub fn histogram_json(found: &Surveyed) -> Json {
    let (from, to) = (found.percentile(2.0), found.percentile(98.0));
    if to > from { json!({"from": from, "to": to, "cells": found.histogram(from, to, STEPS)}) } else { Json::Null }
}

pub fn grid_text(g: &Grid) -> String {
    let (w, h) = g.transform.cell();
    let unit = if g.is_metric() { " m" } else { "" };
    let cell = if w == h { format!("{w}{unit}") } else { format!("{w} x {h}{unit}") };
    let crs = g.crs.map_or("no coordinate system".into(), |c| format!("{} ({c})", c.name()));
    format!("{} x {} cells of {cell}, {crs}", g.cols, g.rows)
}

pub fn extent_text(g: &Grid) -> String {
    let [x0, y0, x1, y1] = g.bounds();
    format!("x {x0} to {x1}, y {y0} to {y1}")
}

pub fn grid_json(g: &Grid) -> Json {
    let t = g.transform;
    json!({"cols": g.cols, "rows": g.rows, "crs": g.crs.map(|c| c.to_string()), "transform": [t.a, t.b, t.c, t.d, t.e, t.f], "bounds": g.bounds()})
}

/// Which indices of the catalogue can be computed from what is there, and what the others lack.
pub fn index_text(has: impl Fn(BandRole) -> bool) -> (String, Json) {
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
            "; {} more need bands that are not here ('telechroma indices list --for' says which)",
            cannot.len()
        );
    }
    let json = json!({
        "computable": can.iter().map(|c| c.0).collect::<Vec<_>>(),
        "lacking": cannot.into_iter().map(|(id, l)| (id.to_string(), json!(l))).collect::<serde_json::Map<_, _>>(),
    });
    (text, json)
}

/// The entries of a JSON object.
pub fn object(json: Json) -> serde_json::Map<String, Json> {
    match json {
        Json::Object(map) => map,
        other => std::iter::once(("value".to_string(), other)).collect(),
    }
}
