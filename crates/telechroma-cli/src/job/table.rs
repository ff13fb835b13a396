//! Statistics of plots while a job runs, and the table they make.

use std::borrow::Cow;
use std::collections::BTreeMap;
use std::sync::Arc;

use telechroma_core::attribute::Value;
use telechroma_core::feature::{Features, FieldKind};
use telechroma_core::graph::NodeId;
use telechroma_core::method::{BandChoice, PlannedLayer, PlannedSeason};
use telechroma_core::plot::{Laid, PlotSink, PlotTable};
use telechroma_core::run::{Observer, Sink};
use telechroma_core::stat::Stat;
use telechroma_core::units::Unit;
use telechroma_io::table::csv;

use super::Job;
use super::plots::{OpenPlots, check, lying};
use super::sheet::Column;
use crate::report::Report;

/// Layers that may be summarised in one run of the plot sink: those of a period.
pub struct PlotOut {
    period: String,
    layers: Vec<(String, Unit)>,
    groups: Vec<Vec<NodeId>>,
    laid: Arc<Laid>,
    sink: PlotSink,
    table: PlotTable,
}

impl PlotOut {
    /// Its sink.
    pub fn sink(&mut self) -> Sink<'_> {
        Sink { groups: self.groups.clone(), prepare: &self.sink, absorb: &mut self.table }
    }
}

/// Statistics that every table rests on, behind those asked for: what is missing is told with its reason.
const REASONS: [&str; 2] = ["count", "valid_share"];

/// One plot sink a period.
///
/// # Errors
/// Where plots and grid have no coordinate system in common, or no plot touches the grid and it is the only one.
pub fn sinks(
    job: &Job,
    plots: &OpenPlots,
    season: &PlannedSeason,
    alone: bool,
    observer: &dyn Observer,
) -> Result<Vec<PlotOut>, Report> {
    let grid = season.graph.grid();
    let laid = plots.laid(grid)?;
    check(&laid, grid, alone, observer)?;
    // bands that only serve the layers are not summarised
    let bands = job.recipe.bands != BandChoice::Needed;
    let reasons = REASONS.iter().map(|s| s.parse::<Stat>()).collect::<Result<Vec<_>, _>>()?;
    let stats: Vec<Stat> = plots.job.stats.iter().cloned().chain(reasons).collect();
    let mut outs = vec![];
    for period in &season.periods {
        let layers: Vec<&PlannedLayer> = period.bands.iter().filter(|_| bands).chain(&period.layers).collect();
        let groups = layers.iter().map(|l| std::iter::once(l.node).chain(period.keep).collect()).collect();
        let (sink, table) = PlotSink::new(laid.clone(), &stats, layers.len());
        let layers = layers.iter().map(|l| (l.name.clone(), l.unit)).collect();
        outs.push(PlotOut { period: period.period.clone(), layers, groups, laid: laid.clone(), sink, table });
    }
    Ok(outs)
}

/// What one row of a table stands for.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub enum RowsBy {
    /// A plot; with several periods, their names are put before the columns'.
    Plot,
    /// A plot and period.
    #[default]
    Period,
    /// A plot, period and layer: the columns are the statistics.
    Layer,
}

impl std::str::FromStr for RowsBy {
    type Err = telechroma_core::Error;

    fn from_str(text: &str) -> Result<RowsBy, Self::Err> {
        match text {
            "plot" => Ok(RowsBy::Plot),
            "period" => Ok(RowsBy::Period),
            "layer" => Ok(RowsBy::Layer),
            _ => Err(telechroma_core::Error::unknown("kind of rows", text, ["plot", "period", "layer"])),
        }
    }
}

/// What one run of a period's sink found.
struct Block {
    layers: Vec<String>,
    laid: Arc<Laid>,
    table: PlotTable,
}

/// Results by period, plot and layer.
pub struct Table {
    stats: Vec<Stat>,
    features: Features,
    id: usize,
    ids: Vec<String>,
    layers: Vec<(String, Unit)>,
    periods: BTreeMap<String, Vec<Block>>,
}

/// What is known of a plot in a layer of a period.
pub struct Found<'a> {
    /// The statistics asked for.
    pub values: &'a [f64],
    /// Share of the plot on the grid times the share of its cells that have a value.
    pub seen: f64,
    /// Why there is no value, or only a part of one; empty where all is well.
    pub reason: Cow<'static, str>,
}

impl Table {
    /// Of plots, without results.
    pub fn new(plots: &OpenPlots) -> Table {
        Table {
            stats: plots.job.stats.clone(),
            features: plots.file.features.clone(),
            id: plots.file.id,
            ids: plots.file.plots.iter().map(|p| p.id.clone()).collect(),
            layers: vec![],
            periods: BTreeMap::new(),
        }
    }

    /// Takes what a run gathered.
    pub fn take(&mut self, out: PlotOut) {
        for layer in &out.layers {
            if !self.layers.iter().any(|l| l.0 == layer.0) {
                self.layers.push(layer.clone());
            }
        }
        let layers = out.layers.into_iter().map(|l| l.0).collect();
        self.periods.entry(out.period).or_default().push(Block { layers, laid: out.laid, table: out.table });
    }

    /// The plots' features.
    pub fn features(&self) -> &Features {
        &self.features
    }

    /// The name of the ids.
    pub fn id_name(&self) -> &str {
        &self.features.fields[self.id].name
    }

    /// The plots' ids.
    pub fn ids(&self) -> &[String] {
        &self.ids
    }

    /// The layers, with their units.
    pub fn layers(&self) -> &[(String, Unit)] {
        &self.layers
    }

    /// The periods, in order.
    pub fn periods(&self) -> impl Iterator<Item = &str> {
        self.periods.keys().map(String::as_str)
    }

    /// What is known of a plot in a layer of a period; none where the layer was not looked at then.
    pub fn found(&self, period: &str, plot: usize, layer: &str) -> Option<Found<'_>> {
        let with = |b: &&Block| b.layers.iter().any(|l| l == layer);
        let blocks = self.periods.get(period)?.iter().filter(with);
        // of rasters side by side, the one that holds most of the plot
        let block = blocks.reduce(|a, b| if b.laid.on_grid()[plot] > a.laid.on_grid()[plot] { b } else { a })?;
        let all = block.table.of(block.layers.iter().position(|l| l == layer)?, plot);
        let (values, reasons) = all.split_at(self.stats.len());
        let (count, valid) = (reasons[0], reasons[1]);
        let lying = lying(&block.laid, plot);
        let empty = match () {
            () if count > 0.0 || lying == "outside" || lying == "the inset leaves nothing" => "",
            () if valid.is_nan() => "no cell's centre inside",
            () if valid > 0.0 => "no cell kept",
            () => "no clear cell",
        };
        let reason = match (lying, empty) {
            (lying, "") => lying.into(),
            ("", empty) => empty.into(),
            both => format!("{}, {}", both.0, both.1).into(),
        };
        Some(Found { values, seen: block.laid.on_grid()[plot] * if valid.is_nan() { 0.0 } else { valid }, reason })
    }

    fn on_grid(&self, period: &str, plot: usize) -> f64 {
        let blocks = self.periods.get(period).map_or(&[][..], Vec::as_slice);
        blocks.iter().map(|b| b.laid.on_grid()[plot]).fold(0.0, f64::max)
    }

    /// The reason of a row that stands for several layers: theirs where they agree, else how the plot lies.
    fn reason(&self, period: &str, plot: usize) -> Cow<'static, str> {
        let mut all = self.layers.iter().filter_map(|l| Some(self.found(period, plot, &l.0)?.reason));
        let Some(first) = all.next() else { return "".into() };
        if all.all(|r| r == first) {
            return first;
        }
        self.periods[period].first().map_or("", |b| lying(&b.laid, plot)).into()
    }

    fn attributes(&self) -> impl Iterator<Item = usize> + '_ {
        (0..self.features.fields.len()).filter(|i| *i != self.id)
    }

    fn stat_columns(&self, prefix: &str) -> Vec<Column> {
        let one = |layer: &str, unit: Unit, s: &Stat| Column {
            name: format!("{prefix}{layer}_{s}"),
            kind: FieldKind::Number,
            unit: s.unit_sign(unit),
            meaning: format!("{layer}: {}", s.doc()),
        };
        self.layers.iter().flat_map(|(l, u)| self.stats.iter().map(|s| one(l, *u, s))).collect()
    }

    /// The columns.
    pub fn columns(&self, by: RowsBy) -> Vec<Column> {
        let attribute = |i: usize| {
            let f = &self.features.fields[i];
            Column::new(&f.name, f.kind, if i == self.id { "the plot's id" } else { "of the plot file" })
        };
        let text = |name: &str, meaning: &str| Column::new(name, FieldKind::Text, meaning);
        let mut all = vec![attribute(self.id)];
        if by != RowsBy::Plot {
            all.push(text("period", "the dates that went into it"));
        }
        if by == RowsBy::Layer {
            all.push(text("layer", "the layer"));
            all.push(text("unit", "the layer's unit"));
        }
        all.extend(self.attributes().map(attribute));
        match by {
            RowsBy::Plot if self.periods.len() > 1 => {
                all.extend(self.periods.keys().flat_map(|p| self.stat_columns(&format!("{p}_"))));
            }
            RowsBy::Plot | RowsBy::Period => all.extend(self.stat_columns("")),
            RowsBy::Layer => all.extend(self.stats.iter().map(|s| Column {
                name: s.to_string(),
                kind: FieldKind::Number,
                unit: s.unit_sign(Unit::One),
                meaning: s.doc(),
            })),
        }
        let coverage = "share of the plot's area that lies on the scenes, 0 to 1";
        all.push(Column::new("plot_coverage", FieldKind::Number, coverage));
        all.push(text("plot_note", "why values are missing, or are of a part of the plot only"));
        all
    }

    /// Calls `f` with every row, in the plots' order, then the periods'.
    ///
    /// # Errors
    /// Those of `f`.
    pub fn each_row<E>(&self, by: RowsBy, mut f: impl FnMut(Vec<Value>) -> Result<(), E>) -> Result<(), E> {
        let share = |v: f64| Value::Number((v * 1e6).round() / 1e6);
        let text = |t: &str| if t.is_empty() { Value::Missing } else { Value::Text(t.into()) };
        for (i, row) in self.features.rows.iter().enumerate() {
            let id = &row.values[self.id];
            let attributes = || self.attributes().map(|a| row.values[a].clone());
            let stats = |period: &str, layer: &str| -> Vec<Value> {
                match self.found(period, i, layer) {
                    Some(found) => found.values.iter().map(|v| number(*v)).collect(),
                    None => vec![Value::Missing; self.stats.len()],
                }
            };
            let all_stats =
                |period: &str| -> Vec<Value> { self.layers.iter().flat_map(|l| stats(period, &l.0)).collect() };
            if by == RowsBy::Plot {
                let mut out = vec![id.clone()];
                out.extend(attributes());
                out.extend(self.periods.keys().flat_map(|p| all_stats(p)));
                let best = self.periods.keys().map(|p| self.on_grid(p, i)).fold(0.0, f64::max);
                let reasons: Vec<Cow<str>> = self.periods.keys().map(|p| self.reason(p, i)).collect();
                let same = reasons.iter().all(|r| Some(r) == reasons.first());
                out.extend([share(best), text(reasons.first().filter(|_| same).map_or("", |r| r))]);
                f(out)?;
                continue;
            }
            for period in self.periods.keys() {
                let on_grid = share(self.on_grid(period, i));
                if by == RowsBy::Period {
                    let mut out = vec![id.clone(), Value::Text(period.clone())];
                    out.extend(attributes());
                    out.extend(all_stats(period));
                    out.extend([on_grid, text(&self.reason(period, i))]);
                    f(out)?;
                    continue;
                }
                for (layer, unit) in &self.layers {
                    let Some(found) = self.found(period, i, layer) else { continue };
                    let mut out = vec![id.clone(), Value::Text(period.clone()), Value::Text(layer.clone())];
                    out.push(text(unit.sign()));
                    out.extend(attributes());
                    out.extend(stats(period, layer));
                    out.extend([on_grid.clone(), text(&found.reason)]);
                    f(out)?;
                }
            }
        }
        Ok(())
    }

    /// The plots with the statistics as columns, one row each.
    pub fn joined(&self) -> Features {
        let mut features = self.features.clone();
        let columns = self.columns(RowsBy::Plot);
        let mut rows: Vec<Vec<Value>> = Vec::with_capacity(features.rows.len());
        let Ok(()) = self.each_row(RowsBy::Plot, |row| {
            rows.push(row);
            Ok::<_, std::convert::Infallible>(())
        });
        let own = features.fields.len();
        for (at, column) in columns.iter().enumerate().skip(own) {
            let values = rows.iter_mut().map(|r| std::mem::replace(&mut r[at], Value::Missing)).collect();
            features.set(&column.name, column.kind, values);
        }
        features
    }

    /// Header and rows as texts, for what is small enough to be shown.
    pub fn texts(&self, by: RowsBy) -> (Vec<String>, Vec<Vec<String>>) {
        let mut rows = vec![];
        let Ok(()) = self.each_row(by, |row| {
            rows.push(row.iter().map(csv::text).collect());
            Ok::<_, std::convert::Infallible>(())
        });
        (self.columns(by).into_iter().map(|c| c.name).collect(), rows)
    }

    /// Numbers of plots and of periods.
    pub fn size(&self) -> (usize, usize) {
        (self.features.rows.len(), self.periods.len())
    }
}

/// A number as tables hold it: nine digits, and missing where it is none.
pub fn number(v: f64) -> Value {
    if v.is_finite() { Value::Number(csv::rounded(v)) } else { Value::Missing }
}
