//! `plots check`: how plots fit the cells of a raster.

use std::path::PathBuf;

use serde_json::json;
use telechroma_core::geo::Crs;
use telechroma_core::grid::Grid;
use telechroma_core::layout::{Checked, FEW, check_plots, overlaps};
use telechroma_core::plot::Plot;
use telechroma_core::run::{Note, Observer, listed};
use telechroma_io::table::csv;
use telechroma_io::vector::PlotFile;

use super::files::From;
use crate::commands::text::aligned;
use crate::context::Context;
use crate::job::{laid_on, open_inputs, tell_mended, write_one};
use crate::report::Report;

/// Check plots against a raster or a scene: their size in cells, what lies outside, what overlaps
///
/// Example: telechroma plots check fields.geojson results/layers/ndvi_2031-07.tif
#[derive(clap::Args)]
pub struct Args {
    #[command(flatten)]
    from: From,
    /// A raster or a scene
    #[arg(value_name = "INPUT")]
    input: PathBuf,
    /// The attribute that is the plots' id; default: the first of id, plot, plot_id, field, field_id, name
    #[arg(long, value_name = "FIELD")]
    id: Option<String>,
    /// Write a row for each plot to a .csv file
    #[arg(long, value_name = "FILE")]
    out: Option<PathBuf>,
}

pub fn run(args: &Args, ctx: &Context) -> Result<(), Report> {
    let file = PlotFile::read(&args.from.source(), args.id.as_deref())?;
    tell_mended(&file, &ctx.progress);
    let grid = finest(args, ctx)?;
    let crs = grid.crs.ok_or_else(|| Report::usage("the raster has no coordinate system"))?;
    let own = file.in_crs(crs)?;
    let plots = laid_on(own.clone(), &grid);
    let found = check_plots(&plots, &grid);
    let pairs = overlaps(&own);
    notes(&plots, &found, &pairs, ctx);
    let header = ["plot", "cells", "centres", "touched", "narrow_side_cells", "plot_coverage"].map(String::from);
    let row = |(p, c): (&Plot, &Checked)| {
        vec![
            p.id.clone(),
            csv::number(c.area),
            c.centres.to_string(),
            c.touched.to_string(),
            csv::number(c.short_side),
            csv::number((c.on_grid * 1e6).round() / 1e6),
        ]
    };
    let rows: Vec<Vec<String>> = plots.iter().zip(&found).map(row).collect();
    if let Some(out) = &args.out {
        write_one(out, &["csv"], ctx, |at| Ok(csv::write(at, &header, &rows)?))?;
    }
    ctx.progress.clear();
    if ctx.json {
        let object = |(p, c): (&Plot, &Checked)| {
            json!({"plot": p.id, "cells": c.area, "centres": c.centres, "touched": c.touched,
                "narrow_side_cells": if c.short_side.is_finite() { json!(c.short_side) } else { json!(null) }, "plot_coverage": c.on_grid})
        };
        let pair = |(i, j, area): &(usize, usize, f64)| json!({"plots": [own[*i].id, own[*j].id], "shared": area});
        ctx.print_json(&json!({
            "plots": plots.iter().zip(&found).map(object).collect::<Vec<_>>(),
            "overlaps": pairs.iter().map(pair).collect::<Vec<_>>(),
            "notes": ctx.progress.notes().iter().map(ToString::to_string).collect::<Vec<_>>(),
        }));
        return Ok(());
    }
    ctx.print(&summary(&plots, &found, &pairs, &grid));
    Ok(())
}

/// The finest grid of the input.
fn finest(args: &Args, ctx: &Context) -> Result<Grid, Report> {
    let inputs = open_inputs(std::slice::from_ref(&args.input), &Default::default(), ctx)?;
    let bands = inputs.scenes.iter().flat_map(|s| s.bands.iter().map(|b| b.source.spec().grid.clone()));
    let layers = inputs.layers.iter().map(|l| l.grid.clone());
    let finest = bands.chain(layers).min_by(|a, b| a.transform.cell().0.total_cmp(&b.transform.cell().0));
    finest.map(|g| (*g).clone()).ok_or_else(|| Report::usage("the input has no cells"))
}

fn middle(mut values: Vec<f64>) -> f64 {
    values.sort_by(f64::total_cmp);
    values.get(values.len() / 2).copied().unwrap_or(0.0)
}

fn notes(plots: &[Plot], found: &[Checked], pairs: &[(usize, usize, f64)], ctx: &Context) {
    let ids = |meets: &dyn Fn(&Checked) -> bool| -> Vec<String> {
        plots.iter().zip(found).filter(|(_, c)| meets(c)).map(|(p, _)| p.id.clone()).collect()
    };
    let note = |text: String| ctx.progress.note(Note::Plots(text));
    let is_area = |c: &Checked| c.area > 0.0;
    let outside = ids(&|c| c.on_grid <= 0.0);
    if !outside.is_empty() {
        ctx.progress.note(Note::PlotsOutside(outside));
    }
    let partly = ids(&|c| c.on_grid > 0.0 && c.on_grid < 1.0 - 1e-9);
    if !partly.is_empty() {
        note(format!("partly outside: {}", listed(&partly)));
    }
    let small = ids(&|c| is_area(c) && c.on_grid > 0.0 && c.centres < FEW.0);
    if !small.is_empty() {
        let median = middle(found.iter().filter(|c| is_area(c)).map(|c| c.centres as f64).collect());
        note(format!(
            "{} hold fewer than {} cells (the median plot holds {median}): their statistics are not worth much",
            listed(&small),
            FEW.0
        ));
    }
    let few = ids(&|c| is_area(c) && c.centres >= FEW.0 && c.centres < FEW.1);
    if !few.is_empty() {
        note(format!(
            "{} hold fewer than {} cells: enough for a mean, few for a spread or a percentile",
            listed(&few),
            FEW.1
        ));
    }
    if !pairs.is_empty() {
        let names: Vec<String> =
            pairs.iter().map(|(i, j, _)| format!("{} and {}", plots[*i].id, plots[*j].id)).collect();
        let shown = names[..names.len().min(5)].join(", ");
        note(format!("{} pairs of plots overlap ({shown}{})", names.len(), if names.len() > 5 { " …" } else { "" }));
    }
}

fn summary(plots: &[Plot], found: &[Checked], pairs: &[(usize, usize, f64)], grid: &Grid) -> String {
    let cell = grid.transform.cell();
    let unit = if grid.crs.is_some_and(Crs::is_geographic) { "°" } else { " m" };
    let of = |pick: &dyn Fn(&Checked) -> f64| -> [String; 3] {
        let mut all: Vec<f64> = found.iter().map(pick).filter(|v| v.is_finite()).collect();
        all.sort_by(f64::total_cmp);
        let text = |v: Option<&f64>| {
            v.map_or("–".into(), |v| format!("{:.4}", v).trim_end_matches('0').trim_end_matches('.').to_string())
        };
        [text(all.first()), text(all.get(all.len() / 2)), text(all.last())]
    };
    let row = |name: &str, three: [String; 3]| [vec![name.to_string()], three.to_vec()].concat();
    let round = |v: f64| (v * 10.0).round() / 10.0;
    let lines = vec![
        row(
            &format!("{} plots, cells of {}{unit}", plots.len(), cell.0),
            ["least", "median", "most"].map(String::from),
        ),
        row("cells by area", of(&|c| round(c.area))),
        row("cells by their centre", of(&|c| c.centres as f64)),
        row("cells touched", of(&|c| c.touched as f64)),
        row("narrow side, cells", of(&|c| round(c.short_side))),
        row("share on the raster", of(&|c| (c.on_grid * 1e4).round() / 1e4)),
    ];
    let mut text = aligned(&lines, &[1, 2, 3]);
    text +=
        &format!("\n{} pairs of plots overlap\n", if pairs.is_empty() { "no".into() } else { pairs.len().to_string() });
    text
}
