//! The table of a job: one row a plot and period.

use std::collections::BTreeMap;

use serde_json::Value as Json;
use telechroma_core::graph::NodeId;
use telechroma_core::grid::Grid;
use telechroma_core::method::{BandChoice, PlannedLayer, PlannedSeason};
use telechroma_core::plot::{Plot, PlotRow, PlotSink, PlotTable};
use telechroma_core::run::{Note, Observer, Sink};
use telechroma_core::stat::Stat;
use telechroma_core::units::Unit;
use telechroma_io::table::csv;
use telechroma_io::vector::geojson::{self, PlotFile};

use super::{Job, Outcome, Output, PlotJob, Staged};
use crate::report::Report;

/// Plots that were read.
pub struct OpenPlots {
    /// The file.
    pub file: PlotFile,
    /// How they are summarised.
    pub job: PlotJob,
}

/// Reads the job's plots, if it has any.
///
/// # Errors
/// Where the file cannot be used.
pub fn open_plots(job: &Job) -> Result<Option<OpenPlots>, Report> {
    let Some(plots) = &job.plots else { return Ok(None) };
    let file = geojson::read(&plots.file, plots.id.as_deref())?;
    Ok(Some(OpenPlots { file, job: plots.clone() }))
}

impl OpenPlots {
    /// False where the plots are only drawn.
    pub fn are_summarised(&self) -> bool {
        !self.job.stats.is_empty()
    }

    /// The plots in cells of a grid.
    ///
    /// # Errors
    /// Where plots and grid have no coordinate system in common.
    pub fn laid_on(&self, grid: &Grid) -> Result<Vec<Plot>, Report> {
        let Some(crs) = grid.crs else {
            return Err(Report::usage("the raster has no coordinate system, so plots cannot be laid on it"));
        };
        let in_cells =
            |p: &Plot| -> Result<Plot, std::convert::Infallible> { p.map(|x, y| Ok(grid.transform.to_cells(x, y))) };
        let mut laid = vec![];
        for plot in self.file.in_crs(crs)? {
            let Ok(plot) = in_cells(&plot);
            laid.push(plot);
        }
        Ok(laid)
    }
}

/// Layers that may be summarised in one run of the plot sink: those of a period.
pub struct PlotOut {
    period: String,
    layers: Vec<(String, Unit)>,
    groups: Vec<Vec<NodeId>>,
    sink: PlotSink,
    table: PlotTable,
}

impl PlotOut {
    /// Its sink.
    pub fn sink(&mut self) -> Sink<'_> {
        Sink { groups: self.groups.clone(), prepare: &self.sink, absorb: &mut self.table }
    }
}

/// Plots narrower than this many cells are noted.
const NARROW: f64 = 2.0;

/// One plot sink a period.
///
/// # Errors
/// Where plots and grid have no coordinate system in common, or no plot touches the grid.
pub fn sinks(
    job: &Job,
    plots: &OpenPlots,
    season: &PlannedSeason,
    observer: &dyn Observer,
) -> Result<Vec<PlotOut>, Report> {
    let grid = season.graph.grid();
    let laid = plots.laid_on(grid)?;
    // bands that only serve the layers are not summarised
    let bands = job.recipe.bands != BandChoice::Needed;
    let mut outs = vec![];
    for period in &season.periods {
        let layers: Vec<&PlannedLayer> = period.bands.iter().filter(|_| bands).chain(&period.layers).collect();
        let groups = layers.iter().map(|l| std::iter::once(l.node).chain(period.keep).collect()).collect();
        let (sink, table) = PlotSink::new(&laid, grid.window(), plots.job.weight, &plots.job.stats, layers.len());
        let layers = layers.iter().map(|l| (l.name.clone(), l.unit)).collect();
        outs.push(PlotOut { period: period.period.clone(), layers, groups, sink, table });
    }
    if let Some(out) = outs.first() {
        check(&laid, &out.sink, season, observer)?;
    }
    Ok(outs)
}

fn check(laid: &[Plot], sink: &PlotSink, season: &PlannedSeason, observer: &dyn Observer) -> Result<(), Report> {
    let outside = sink.bounds().iter().filter(|b| b.is_none()).count();
    if outside == laid.len() {
        let [w, s, e, n] = season.graph.grid().bounds();
        let corners: Vec<(f64, f64)> = laid
            .iter()
            .flat_map(|p| p.parts.iter().flat_map(|p| p.outer.iter()))
            .map(|(c, r)| season.graph.grid().transform.to_world(*c, *r))
            .collect();
        let fold = |pick: fn(&(f64, f64)) -> f64, best: fn(f64, f64) -> f64| {
            corners.iter().map(pick).reduce(best).unwrap_or(f64::NAN)
        };
        return Err(Report::usage(format!(
            "no plot touches the scenes: in {} the scenes reach from {w:.0}, {s:.0} to {e:.0}, {n:.0}, the plots from {:.0}, {:.0} to {:.0}, {:.0}",
            season.graph.grid().crs.map_or("cells".into(), |c| c.name()),
            fold(|p| p.0, f64::min), fold(|p| p.1, f64::min), fold(|p| p.0, f64::max), fold(|p| p.1, f64::max)
        )).hint("check the plots' coordinate system and whether x and y are swapped"));
    }
    for ((plot, bounds), coverage) in laid.iter().zip(sink.bounds()).zip(sink.coverages()) {
        match bounds {
            None => observer.note(Note::PlotOutside(plot.id.clone())),
            Some(_) if coverage.crosses => observer.note(Note::PlotCrosses(plot.id.clone())),
            Some(b) if f64::from(b.cols.min(b.rows)) < NARROW => observer.note(Note::PlotNarrow(plot.id.clone())),
            Some(_) => {}
        }
    }
    Ok(())
}

/// Share of a plot on the grid, and its statistics by layer.
type PlotValues = (f64, BTreeMap<String, Vec<f64>>);

/// Results by period and layer.
#[derive(Default)]
pub struct Table {
    layers: Vec<(String, Unit)>,
    periods: BTreeMap<String, Vec<PlotValues>>,
}

impl Table {
    /// Takes what a run gathered.
    pub fn take(&mut self, out: PlotOut) {
        for layer in &out.layers {
            if !self.layers.iter().any(|l| l.0 == layer.0) {
                self.layers.push(layer.clone());
            }
        }
        let rows: Vec<PlotRow> = out.sink.rows(out.table);
        let period = self
            .periods
            .entry(out.period)
            .or_insert_with(|| rows.iter().map(|r| (r.on_grid, BTreeMap::new())).collect());
        for (have, row) in period.iter_mut().zip(rows) {
            have.0 = have.0.max(row.on_grid);
            have.1.extend(out.layers.iter().map(|l| l.0.clone()).zip(row.values));
        }
    }

    fn columns<'a>(&'a self, stats: &'a [Stat]) -> impl Iterator<Item = (String, &'a str, Unit, usize)> {
        self.layers.iter().flat_map(move |(layer, unit)| {
            stats.iter().enumerate().map(move |(i, s)| (format!("{layer}_{s}"), layer.as_str(), *unit, i))
        })
    }

    /// The table: header and rows.
    pub fn rows(&self, plots: &OpenPlots) -> (Vec<String>, Vec<Vec<String>>) {
        let (file, stats) = (&plots.file, &plots.job.stats);
        let attributes: Vec<&String> = file.attributes.iter().filter(|a| **a != file.id).collect();
        let mut header = vec![file.id.clone(), "period".to_string()];
        header.extend(attributes.iter().map(|a| a.to_string()));
        header.extend(self.columns(stats).map(|c| c.0));
        header.extend(["plot_coverage".to_string(), "plot_note".to_string()]);
        let mut rows = vec![];
        for (i, plot) in file.plots.iter().enumerate() {
            for (period, all) in &self.periods {
                let (on_grid, values) = &all[i];
                let mut row = vec![plot.id.clone(), period.clone()];
                row.extend(attributes.iter().map(|a| file.values[i].get(*a).map_or(String::new(), plain)));
                row.extend(
                    self.columns(stats)
                        .map(|(_, layer, _, s)| values.get(layer).map_or(String::new(), |v| csv::number(v[s]))),
                );
                row.extend([csv::number((on_grid * 1e6).round() / 1e6), note(*on_grid).to_string()]);
                rows.push(row);
            }
        }
        (header, rows)
    }

    /// Writes what the job wants of it.
    ///
    /// # Errors
    /// Where writing fails.
    pub fn write(&self, job: &Job, plots: &OpenPlots, stage: &Staged, outcome: &mut Outcome) -> Result<(), Report> {
        let (header, rows) = self.rows(plots);
        let stem = &plots.file.stem;
        let output = |kind, path: &String| Output {
            kind,
            layer: stem.clone(),
            period: String::new(),
            path: path.clone(),
            unit: String::new(),
        };
        let (table, columns, joined) = (job.naming.table(stem), job.naming.columns(stem), job.naming.plots(stem));
        if job.wanted.csv
            && let (Some(t), Some(c)) = (stage.get(&table), stage.get(&columns))
        {
            csv::write(t, &header, &rows)?;
            csv::write(c, &["column", "unit", "meaning"].map(String::from), &self.dictionary(&plots.job.stats))?;
            outcome.outputs.extend([output("table", &table), output("columns", &columns)]);
        }
        if job.wanted.geojson
            && let Some(path) = stage.get(&joined)
        {
            let text = plots.file.with_properties(&self.properties(plots));
            std::fs::write(path, text).map_err(|e| telechroma_io::Error::io(path, e))?;
            outcome.outputs.push(output("plots", &joined));
        }
        outcome.plots = Some((plots.file.plots.len(), self.periods.len()));
        outcome.table = Some((header, rows));
        Ok(())
    }

    fn dictionary(&self, stats: &[Stat]) -> Vec<Vec<String>> {
        let mut rows: Vec<Vec<String>> = self
            .columns(stats)
            .map(|(name, layer, unit, i)| {
                vec![name, stats[i].unit_sign(unit), format!("{}: {}", layer, stats[i].doc())]
            })
            .collect();
        rows.push(
            ["plot_coverage", "", "share of the plot's area that lies on the scenes, 0 to 1"]
                .map(String::from)
                .to_vec(),
        );
        rows.push(["plot_note", "", "'outside' or 'partly outside' the scenes"].map(String::from).to_vec());
        rows
    }

    /// Statistics as properties; with several periods their name is put before the column's.
    fn properties(&self, plots: &OpenPlots) -> Vec<BTreeMap<String, Json>> {
        let stats = &plots.job.stats;
        (0..plots.file.plots.len())
            .map(|i| {
                let mut p = BTreeMap::new();
                for (period, all) in &self.periods {
                    let (on_grid, values) = &all[i];
                    for (name, layer, _, s) in self.columns(stats) {
                        let v = values.get(layer).map_or(f64::NAN, |v| v[s]);
                        let key = if self.periods.len() == 1 { name } else { format!("{period}_{name}") };
                        p.insert(key, csv::number(v).parse::<f64>().map_or(Json::Null, Json::from));
                    }
                    p.insert("plot_coverage".into(), Json::from((on_grid * 1e6).round() / 1e6));
                    p.insert("plot_note".into(), Json::from(note(*on_grid)));
                }
                p
            })
            .collect()
    }
}

pub fn note(on_grid: f64) -> &'static str {
    match on_grid {
        x if x <= 0.0 => "outside",
        x if x < 1.0 - 1e-9 => "partly outside",
        _ => "",
    }
}

pub fn plain(v: &Json) -> String {
    match v {
        Json::Null => String::new(),
        Json::String(s) => s.clone(),
        other => other.to_string(),
    }
}
