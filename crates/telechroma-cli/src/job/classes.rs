//! A layer put into classes: a raster of their numbers, their areas, a picture, and both per plot.

use std::collections::BTreeMap;
use std::path::PathBuf;
use std::sync::Arc;

use serde_json::json;
use telechroma_core::class::{Areas, Classes, Otsu, Tallying};
use telechroma_core::graph::NodeId;
use telechroma_core::method::{Breaks, PlannedLayer, PlannedSeason, find_breaks, plan_layers, plan_season};
use telechroma_core::op::{Classify, OfClass};
use telechroma_core::plot::PlotSink;
use telechroma_core::run::{Note, Observer, Plan, Sink, run};
use telechroma_core::stat::Stat;
use telechroma_core::tile::Kind as PlaneKind;
use telechroma_core::units::Unit;
use telechroma_io::figure::{ClassFigure, Colour, Entry, Legend, MapFigure, PictureEncoder, Shown, ends};
use telechroma_io::publish::Publisher;
use telechroma_io::raster::cog::{CogEncoder, CogOptions, Packing};
use telechroma_io::raster::description::{ClassInfo, Kind};
use telechroma_io::raster::samples::SampleFormat;
use telechroma_io::table::csv;

use super::pictures::{label, period_text, ramp, rings};
use super::plots::{OpenPlots, lying, open_plots};
use super::{Job, describe, open_job, prepare};
use crate::context::Context;
use crate::report::Report;

/// Where classes come from.
#[derive(Debug, Clone)]
pub enum How {
    /// They were given.
    Given(Classes),
    /// They are read from the values.
    Found(Breaks),
}

/// What is to be put into classes.
pub struct ClassJob {
    /// Inputs, the one layer, plots and names of results.
    pub job: Job,
    /// The classes.
    pub how: How,
    /// Names, lowest class first; empty: their ranges.
    pub names: Vec<String>,
    /// Colours, lowest class first; empty: those of the layer's ramp.
    pub colours: Vec<Colour>,
    /// False where nothing but the table is wanted, on standard output.
    pub writes: bool,
    /// The layer is a change: it is written too, and weighed against its spread.
    pub change: bool,
}

/// Results by name.
struct Wanted {
    raster: Option<String>,
    picture: Option<String>,
    areas: Option<String>,
    plots: Option<String>,
    layer: Option<String>,
    map: Option<String>,
}

impl Wanted {
    fn new(c: &ClassJob, layer: &str, period: &str, plots: Option<&OpenPlots>) -> Wanted {
        let (naming, classes) = (&c.job.naming, format!("{layer}_classes"));
        let all = Wanted {
            raster: Some(naming.layer(&classes, period)),
            picture: Some(naming.picture(&classes, period)),
            areas: Some(naming.table(&format!("{classes}_{period}"), "csv", false)),
            plots: plots.map(|p| naming.table(&format!("{}_{layer}_{period}", p.file.stem), "csv", false)),
            layer: c.change.then(|| naming.layer(layer, period)),
            map: c.change.then(|| naming.picture(layer, period)),
        };
        let none = Wanted { raster: None, picture: None, areas: None, plots: None, layer: None, map: None };
        let ending = naming.single.as_deref().and_then(|n| n.rsplit_once('.')).map(|(_, e)| e.to_lowercase());
        match (c.writes, ending.as_deref()) {
            (false, _) => none,
            (true, None) => all,
            (true, Some("csv")) => Wanted { areas: all.areas, ..none },
            (true, Some("png")) => Wanted { picture: all.picture, ..none },
            (true, Some(_)) => Wanted { raster: all.raster, ..none },
        }
    }

    fn names(&self) -> impl Iterator<Item = &String> {
        [&self.raster, &self.picture, &self.areas, &self.plots, &self.layer, &self.map].into_iter().flatten()
    }
}

/// Puts a layer into classes.
///
/// # Errors
/// Whatever goes wrong; nothing is left behind then.
pub fn classify(c: &ClassJob, ctx: &Context) -> Result<(), Report> {
    let (mut inputs, recipe) = open_job(&c.job, ctx)?;
    prepare(&mut inputs.scenes, &recipe, ctx)?;
    if inputs.layers.len() + usize::from(!inputs.scenes.is_empty()) > 1 {
        return Err(Report::usage("one raster, or scenes, are put into classes at a time"));
    }
    let plan_once = || match inputs.scenes.is_empty() {
        false => plan_season(inputs.scenes.clone(), &recipe),
        true => plan_layers(inputs.layers.first(), &recipe),
    };
    let mut season = plan_once()?;
    std::mem::take(&mut season.notes).into_iter().for_each(|n| ctx.progress.note(n));
    let layer = the_layer(&season)?;
    let plane = || {
        let again = plan_once()?;
        let node = again.periods[0].layers[0].node;
        Ok((again.graph, node))
    };
    let (classes, otsu) = match &c.how {
        How::Given(classes) => (classes.clone(), None),
        How::Found(how) => {
            let (breaks, otsu) = find_breaks(&plane, *how, ctx.budget, &ctx.progress)?;
            (Classes::between(&breaks, &c.names)?, otsu)
        }
    };
    if let Some(o) = otsu.filter(Otsu::is_weak) {
        ctx.progress.note(Note::Layer(format!(
            "the values hardly fall into two lumps: the threshold explains {:.0} % of their variance",
            o.eta * 100.0
        )));
    }
    let colours = colours(c, &classes, &layer);
    let plots = open_plots(&c.job)?;
    let period = season.periods[0].period.clone();
    let wanted = Wanted::new(c, &layer.name, &period, plots.as_ref());
    let mut done = Done { classes, colours, otsu, layer, period, areas: None, plot_table: None };
    if wanted.names().next().is_none() {
        done.run(c, &wanted, season, plots.as_ref(), &BTreeMap::new(), ctx)?;
    } else {
        let mut publisher = Publisher::new(&c.job.naming.root, ctx.overwrite)?;
        let mut stage = BTreeMap::new();
        for name in wanted.names() {
            stage.insert(name.clone(), publisher.stage(name)?);
        }
        done.run(c, &wanted, season, plots.as_ref(), &stage, ctx)?;
        publisher.publish()?;
    }
    ctx.progress.clear();
    done.report(c, &wanted, ctx);
    Ok(())
}

fn the_layer(season: &PlannedSeason) -> Result<PlannedLayer, Report> {
    let [period] = season.periods.as_slice() else {
        return Err(
            Report::usage("scenes fall into several periods: classes are made of one").hint("leave out --every")
        );
    };
    match period.layers.as_slice() {
        [one] => Ok(one.clone()),
        many => Err(Report::usage(format!(
            "classes are made of one layer; there are {}",
            many.iter().map(|l| l.name.as_str()).collect::<Vec<_>>().join(", ")
        ))
        .hint("name the layer, or an index, behind the input")),
    }
}

fn colours(c: &ClassJob, classes: &Classes, layer: &PlannedLayer) -> Vec<Colour> {
    let n = classes.list().len();
    let of_ramp = |i: usize| ramp(layer).at(if n > 1 { i as f64 / (n - 1) as f64 } else { 0.5 });
    let own = |i: usize| c.colours.get(i).copied().or(classes.list()[i].colour).unwrap_or_else(|| of_ramp(i));
    (0..n).map(own).collect()
}

/// A table: its header and its rows.
type Rows = (Vec<String>, Vec<Vec<String>>);

struct Done {
    classes: Classes,
    colours: Vec<Colour>,
    otsu: Option<Otsu>,
    layer: PlannedLayer,
    period: String,
    areas: Option<Areas>,
    plot_table: Option<Rows>,
}

/// What is known of one plot.
struct PlotFound {
    /// By class.
    hectares: Vec<f64>,
    /// Mean, spread and valid share of the layer.
    moments: Vec<f64>,
    note: &'static str,
}

/// Change this many times its spread is clear, and likely.
const CLEAR: f64 = 2.0;
const LIKELY: f64 = 1.0;

impl Done {
    fn run(
        &mut self,
        c: &ClassJob,
        wanted: &Wanted,
        season: PlannedSeason,
        plots: Option<&OpenPlots>,
        stage: &BTreeMap<String, PathBuf>,
        ctx: &Context,
    ) -> Result<(), Report> {
        let path = |name: &Option<String>| name.as_ref().and_then(|n| stage.get(n)).cloned();
        let grid = season.graph.grid().clone();
        let mut described = describe::description(&c.job, &season, &season.periods[0], &[], Kind::Classes);
        described.bands =
            vec![describe::band(&PlannedLayer { name: format!("{}_classes", self.layer.name), ..self.layer.clone() })];
        described.bands[0].unit = Unit::One.label().into();
        described.classes = self.infos();
        described.steps.push(self.step());
        let layer_text =
            describe::of_layers(&c.job, &season, &season.periods[0], std::slice::from_ref(&self.layer), Kind::Layer);
        let laid = plots.map(|p| p.laid(&grid)).transpose()?;
        let mut g = season.graph;
        let classes = g.add(Classify { classes: self.classes.clone() }, &[self.layer.node])?;
        let (tallying, mut tally) = Tallying::new(self.classes.clone(), &grid);
        // what is written
        let packing = Packing::Coded { format: SampleFormat::U8, scale: 1.0, offset: 0.0, missing: Some(0) };
        let text = serde_json::to_string(&described).unwrap_or_default();
        let mut raster = path(&wanted.raster).map(|p| {
            CogEncoder::create(&p, CogOptions { packing, ..CogOptions::new(grid.clone(), PlaneKind::Values, text) })
        });
        let mut change = path(&wanted.layer)
            .map(|p| CogEncoder::create(&p, CogOptions::new(grid.clone(), PlaneKind::Values, layer_text)));
        let mut picture = wanted.picture.as_ref().map(|_| PictureEncoder::of_classes(&grid));
        let mut map = wanted.map.as_ref().map(|_| PictureEncoder::create(&grid, 1));
        // what is summed per plot
        let same_area = grid.crs.is_some_and(|c| c.metres().is_some());
        let areas = (0..grid.rows).map(|r| grid.cell_area(r).map(|a| (a / 1e4) as f32));
        let areas = if same_area { None } else { Some(Arc::new(areas.collect::<Result<Vec<f32>, _>>()?)) };
        let mut of_class: Vec<NodeId> = vec![];
        for class in (1..=self.classes.list().len() as u16).filter(|_| laid.is_some()) {
            of_class.push(g.add(OfClass { class, areas: areas.clone() }, &[classes])?);
        }
        let stats = |names: &[&str]| names.iter().map(|n| n.parse()).collect::<Result<Vec<Stat>, _>>();
        let (sums, moments) = (stats(&["sum"])?, stats(&["mean", "sd", "valid_share"])?);
        let mut per_class = laid.as_ref().map(|l| PlotSink::new(l.clone(), &sums, of_class.len()));
        let mut per_plot = laid.as_ref().map(|l| PlotSink::new(l.clone(), &moments, 1));
        let mut sinks = vec![Sink { groups: vec![vec![self.layer.node]], prepare: &tallying, absorb: &mut tally }];
        if let Some((encoder, file)) = &mut raster {
            sinks.push(Sink { groups: vec![vec![classes]], prepare: encoder, absorb: file });
        }
        if let Some((encoder, file)) = &mut change {
            sinks.push(Sink { groups: vec![vec![self.layer.node]], prepare: encoder, absorb: file });
        }
        if let Some((encoder, file)) = &mut picture {
            sinks.push(Sink { groups: vec![vec![classes]], prepare: encoder, absorb: file });
        }
        if let Some((encoder, file)) = &mut map {
            sinks.push(Sink { groups: vec![vec![self.layer.node]], prepare: encoder, absorb: file });
        }
        if let Some((sink, table)) = &mut per_class {
            sinks.push(Sink { groups: of_class.iter().map(|n| vec![*n]).collect(), prepare: sink, absorb: table });
        }
        if let Some((sink, table)) = &mut per_plot {
            sinks.push(Sink { groups: vec![vec![self.layer.node]], prepare: sink, absorb: table });
        }
        let plan = Plan::new(g, &sinks, ctx.budget)?;
        run(&plan, sinks, &ctx.progress)?;
        for (_, file) in raster.into_iter().chain(change) {
            file.finish(ctx.budget.threads)?;
        }
        let found = tally.finish(&grid)?;
        let write =
            |path: PathBuf, bytes: &[u8]| std::fs::write(&path, bytes).map_err(|e| telechroma_io::Error::io(&path, e));
        let outlines: Vec<Vec<(f64, f64)>> = laid.iter().flat_map(|l| l.plots()).flat_map(rings).collect();
        let failed = |e: String| Report::failed(format!("the picture cannot be drawn: {e}"));
        let shown = |what: &str| Shown {
            title: match c.change {
                true => format!("{what}, {}", period_text(&self.period)),
                false => format!("{}: {what}", c.job.name),
            },
            subtitle: self.subtitle(c),
            outlines: outlines.clone(),
            before: vec![],
        };
        if let (Some((_, file)), Some(path)) = (picture, path(&wanted.picture)) {
            let drawn = file.finish();
            let (entries, rest) = (self.entries(&found), amount(found.missing.1 + found.outside.1, total(&found)));
            let title = format!("{} in classes", self.layer.name);
            let figure =
                ClassFigure { picture: &drawn, shown: shown(&title), label: label(&self.layer), entries, rest };
            write(path, &figure.png().map_err(failed)?)?;
        }
        if let (Some((_, file)), Some(path)) = (map, path(&wanted.map)) {
            let drawn = file.finish();
            let values = drawn.planes.iter().flatten().copied();
            // a change is drawn with none of it in the middle
            let (low, high) = c.job.style.range.or_else(|| ends(values, 1.0, 99.0)).unwrap_or((-1.0, 1.0));
            let most = low.abs().max(high.abs());
            let range = if c.job.style.range.is_some() || !matches!(ramp(&self.layer).id, "change" | "warming") {
                (low, high)
            } else {
                (-most, most)
            };
            let legend = Legend {
                label: label(&self.layer),
                ramp: c.job.style.ramp.unwrap_or_else(|| ramp(&self.layer)),
                range,
            };
            write(path, &MapFigure { picture: &drawn, shown: shown(&self.layer.name), legend }.png().map_err(failed)?)?;
        }
        if let Some(path) = path(&wanted.areas) {
            let (header, rows) = self.area_rows(&found);
            csv::write(&path, &header, &rows)?;
        }
        if let (Some((_, sums)), Some((_, moments)), Some(plots), Some(laid)) = (per_class, per_plot, plots, laid) {
            let hectares = if same_area { grid.cell_area(0)? / 1e4 } else { 1.0 };
            let found = |i: usize| PlotFound {
                hectares: (0..of_class.len()).map(|class| sums.of(class, i)[0] * hectares).collect(),
                moments: moments.of(0, i).to_vec(),
                note: lying(&laid, i),
            };
            let rows: Vec<PlotFound> = (0..laid.plots().len()).map(found).collect();
            let table = self.plot_rows(c, plots, &rows);
            if let Some(path) = path(&wanted.plots) {
                csv::write(&path, &table.0, &table.1)?;
            }
            self.plot_table = Some(table);
        }
        self.areas = Some(found);
        Ok(())
    }

    fn subtitle(&self, c: &ClassJob) -> String {
        let about = if c.change { c.job.name.clone() } else { period_text(&self.period) };
        [Some(about), self.layer.formula.clone()].into_iter().flatten().collect::<Vec<_>>().join("  ·  ")
    }

    fn step(&self) -> String {
        let breaks: Vec<String> =
            self.classes.in_values().iter().map(|c| format!("{} from {}", c.name, c.from)).collect();
        let found =
            self.otsu.map_or(String::new(), |o| format!(" (threshold after Otsu 1979, {:.3} of the variance)", o.eta));
        format!("classes{found}: {}", breaks.join("; "))
    }

    fn infos(&self) -> Vec<ClassInfo> {
        let limit = |v: f64| v.is_finite().then_some(v);
        let info = |(i, (c, [r, g, b])): (usize, (telechroma_core::class::Class, &Colour))| ClassInfo {
            value: i as u16 + 1,
            name: c.name.clone(),
            colour: format!("#{r:02x}{g:02x}{b:02x}"),
            from: limit(c.from),
            to: limit(c.to),
        };
        self.classes.in_values().into_iter().zip(&self.colours).enumerate().map(info).collect()
    }

    fn entries(&self, found: &Areas) -> Vec<Entry> {
        let all = total(found);
        let entry = |((c, colour), (_, ha)): ((&telechroma_core::class::Class, &Colour), &(u64, f64))| Entry {
            name: c.name.clone(),
            amount: amount(*ha, all),
            colour: *colour,
        };
        self.classes.list().iter().zip(&self.colours).zip(&found.classes).map(entry).collect()
    }

    /// Class, limits, cells, hectares, share of what has a class; then what has none, so that columns sum to all.
    fn area_rows(&self, found: &Areas) -> Rows {
        let header =
            ["class", "name", "from", "to", "cells", "hectares", "share_of_classified"].map(String::from).to_vec();
        let classified: f64 = found.classes.iter().map(|c| c.1).sum();
        let line = |number: String, name: &str, from: f64, to: f64, (cells, ha): (u64, f64), share: f64| {
            vec![
                number,
                name.into(),
                csv::number(from),
                csv::number(to),
                cells.to_string(),
                csv::number(ha),
                csv::number(share),
            ]
        };
        let mut rows: Vec<Vec<String>> = self
            .classes
            .in_values()
            .iter()
            .zip(&found.classes)
            .enumerate()
            .map(|(i, (c, a))| line((i + 1).to_string(), &c.name, c.from, c.to, *a, a.1 / classified))
            .collect();
        rows.push(line(String::new(), "in no class", f64::NAN, f64::NAN, found.outside, f64::NAN));
        rows.push(line(String::new(), "no data", f64::NAN, f64::NAN, found.missing, f64::NAN));
        (header, rows)
    }

    fn plot_rows(&self, c: &ClassJob, plots: &OpenPlots, found: &[PlotFound]) -> Rows {
        let file = &plots.file;
        let attributes: Vec<usize> = (0..file.features.fields.len()).filter(|a| *a != file.id).collect();
        let mut header = vec![file.id_name().to_string()];
        header.extend(attributes.iter().map(|a| file.features.fields[*a].name.clone()));
        if c.change {
            let name = &self.layer.name;
            header.extend([
                format!("{name}_mean"),
                format!("{name}_sd"),
                format!("{name}_by_spread"),
                "verdict".into(),
            ]);
        }
        for class in self.classes.list() {
            let s = slug(&class.name);
            header.extend([format!("{s}_ha"), format!("{s}_share")]);
        }
        header.extend(["valid_share", "plot_note"].map(String::from));
        let row = |(i, plot): (usize, &telechroma_core::plot::Plot)| {
            let PlotFound { hectares, moments, note } = &found[i];
            let mut row = vec![plot.id.clone()];
            row.extend(attributes.iter().map(|a| file.features.rows[i].values[*a].to_string()));
            if c.change {
                let (mean, sd) = (moments[0], moments[1]);
                row.extend([csv::number(mean), csv::number(sd), csv::number(mean / sd), verdict(mean, sd)]);
            }
            let all: f64 = hectares.iter().filter(|v| v.is_finite()).sum();
            for ha in hectares {
                row.extend([csv::number(*ha), csv::number(if all > 0.0 { ha / all } else { f64::NAN })]);
            }
            row.extend([csv::number(moments[2]), (*note).to_string()]);
            row
        };
        let rows = file.plots.iter().enumerate().map(row).collect();
        (header, rows)
    }

    fn report(&self, c: &ClassJob, wanted: &Wanted, ctx: &Context) {
        let Some(found) = &self.areas else { return };
        let (_, rows) = self.area_rows(found);
        let notes: Vec<String> = ctx.progress.notes().iter().map(ToString::to_string).collect();
        if ctx.json {
            let plots = self.plot_table.as_ref().map(|(header, rows)| {
                let object = |r: &Vec<String>| {
                    header.iter().cloned().zip(r.iter().map(|v| json!(v))).collect::<serde_json::Map<_, _>>()
                };
                rows.iter().map(object).collect::<Vec<_>>()
            });
            ctx.print_json(&json!({
                "layer": self.layer.name, "period": self.period, "classes": self.infos(),
                "areas": found.classes.iter().map(|(cells, ha)| json!({"cells": cells, "hectares": ha})).collect::<Vec<_>>(),
                "outside": {"cells": found.outside.0, "hectares": found.outside.1},
                "missing": {"cells": found.missing.0, "hectares": found.missing.1},
                "otsu": self.otsu.map(|o| json!({"threshold": o.threshold, "between": o.between, "eta": o.eta})),
                "plots": plots, "outputs": wanted.names().collect::<Vec<_>>(), "notes": notes,
            }));
            return;
        }
        if let Some(o) = self.otsu {
            ctx.progress.say(&format!(
                "threshold {:.4} after Otsu (1979), which explains {:.0} % of the variance",
                o.threshold,
                o.eta * 100.0
            ));
        }
        if wanted.names().next().is_some() {
            ctx.progress.say(&format!(
                "{} in {}",
                wanted.names().cloned().collect::<Vec<_>>().join(", "),
                c.job.naming.root.display()
            ));
        }
        if let Some((header, rows)) = self.plot_table.as_ref().filter(|_| !c.writes) {
            ctx.print(&csv::to_text(header, rows).unwrap_or_default());
            return;
        }
        let all = total(found);
        let names = self.classes.list().iter().map(|c| c.name.as_str()).chain(["in no class", "no data"]);
        let amounts = found.classes.iter().chain([&found.outside, &found.missing]);
        let wide = names.clone().map(|n| n.chars().count()).max().unwrap_or(0).max(5);
        let mut t = format!("class  {:wide$}  {:>12}  {:>12}  {:>8}\n", "name", "cells", "hectares", "of all");
        for ((row, name), (cells, ha)) in rows.iter().zip(names).zip(amounts) {
            t += &format!("{:>5}  {name:wide$}  {cells:>12}  {ha:>12.2}  {:>7.2}%\n", row[0], 100.0 * ha / all);
        }
        ctx.print(&t);
    }
}

fn total(found: &Areas) -> f64 {
    found.classes.iter().chain([&found.outside, &found.missing]).map(|a| a.1).sum()
}

fn amount(hectares: f64, of: f64) -> String {
    let digits = if hectares < 100.0 { 1 } else { 0 };
    format!("{hectares:.digits$} ha, {:.1} %", 100.0 * hectares / of)
}

/// A change against the spread of its cells.
fn verdict(mean: f64, sd: f64) -> String {
    if !mean.is_finite() {
        return String::new();
    }
    let way = if mean > 0.0 { "higher" } else { "lower" };
    match mean.abs() / sd {
        z if z >= CLEAR => format!("clearly {way}"),
        z if z >= LIKELY => format!("likely {way}"),
        _ => "within the spread".into(),
    }
}

/// A class's name as part of a column's name.
fn slug(name: &str) -> String {
    let plain: String =
        name.to_lowercase().chars().map(|c| if c.is_ascii_alphanumeric() || c == '.' { c } else { '_' }).collect();
    plain.split('_').filter(|p| !p.is_empty()).collect::<Vec<_>>().join("_")
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_change_is_weighed_against_its_spread() {
        assert_eq!(verdict(-0.3, 0.1), "clearly lower");
        assert_eq!(verdict(0.15, 0.1), "likely higher");
        assert_eq!(verdict(0.05, 0.1), "within the spread");
        assert_eq!(verdict(0.05, 0.0), "clearly higher");
        assert_eq!(verdict(f64::NAN, 0.1), "");
        assert_eq!(slug("moderate-low severity"), "moderate_low_severity");
    }
}
