//! `draw plots`: plots coloured by a number or a text.

use std::path::PathBuf;
use std::sync::Arc;

use telechroma_core::attribute::Value;
use telechroma_core::feature::Features;
use telechroma_core::geo::Affine;
use telechroma_core::grid::Grid;
use telechroma_core::plot::{Weighting, cover};
use telechroma_io::figure::{
    ClassFigure, Colour, Entry, Legend, MapFigure, NOTHING, Picture, RAMPS, Ramp, Shown, ends,
};

use crate::commands::plots::{From, metric};
use crate::context::Context;
use crate::job::write_picture;
use crate::report::Report;

/// Draw plots coloured by a column: a number (a mean, a yield) or a text (a crop, a treatment)
///
/// Example: telechroma draw plots trial_ndvi.gpkg --by ndvi_mean --out trial.png
#[derive(clap::Args)]
pub struct Args {
    #[command(flatten)]
    from: From,
    /// The column whose values are drawn
    #[arg(long, value_name = "COLUMN")]
    by: String,
    /// Values of the legend's two ends; default: least and greatest
    #[arg(long, value_name = "LOW,HIGH", value_parser = super::range, allow_hyphen_values = true)]
    range: Option<(f64, f64)>,
    /// Colour ramp: burn, grey, heat, plants, slate, soil, water
    #[arg(long, value_name = "NAME", value_parser = |t: &str| Ramp::find(t))]
    ramp: Option<&'static Ramp>,
    /// Title; default: the file's name
    #[arg(long)]
    title: Option<String>,
    /// The picture, .png
    #[arg(long, value_name = "FILE")]
    out: PathBuf,
}

/// Most dots of a picture, across and down.
const DOTS: (f64, f64) = (960.0, 640.0);

/// Colours of texts, told apart by lightness as well as hue.
const COLOURS: [Colour; 10] = [
    [0x4c, 0x8f, 0xc9],
    [0xe0, 0x9b, 0x43],
    [0x6a, 0xad, 0x5b],
    [0xb5, 0x5d, 0x8b],
    [0x8f, 0x7f, 0xc4],
    [0xc9, 0xb4, 0x4a],
    [0x53, 0xb3, 0xac],
    [0xc4, 0x6b, 0x5a],
    [0x7a, 0x86, 0x90],
    [0x9c, 0xc4, 0x9a],
];

pub fn run(args: &Args, ctx: &Context) -> Result<(), Report> {
    let features = args.from.read(ctx)?;
    let moved = features.in_crs(metric(&features)?)?;
    let column = moved.named(&args.by)?;
    let grid = Arc::new(grid(&moved)?);
    let values: Vec<&Value> = moved.rows.iter().map(|r| &r.values[column]).collect();
    let texts = kinds(&values);
    let number = |v: &Value| match &texts {
        None => v.number().map_or(f32::NAN, |n| n as f32),
        Some(known) => known.iter().position(|k| k == v).map_or(f32::NAN, |i| i as f32 + 1.0),
    };
    let (picture, outlines) = picture(&moved, &grid, &values.iter().map(|v| number(v)).collect::<Vec<_>>());
    let stem = args.from.plots.file_stem().map_or("plots".into(), |s| s.to_string_lossy().into_owned());
    let shown = Shown {
        title: format!("{}: {}", args.title.clone().unwrap_or(stem), args.by),
        subtitle: format!("{} plots  ·  {}", moved.rows.len(), moved.crs.name()),
        outlines,
        before: vec![],
    };
    let png = match texts {
        Some(known) => {
            let count = |k: &Value| values.iter().filter(|v| **v == k).count();
            let entry = |(i, k): (usize, &Value)| Entry {
                name: k.to_string(),
                amount: format!("{} plots", count(k)),
                colour: COLOURS[i % COLOURS.len()],
            };
            let entries: Vec<Entry> = known.iter().enumerate().map(entry).collect();
            let missing = format!("{} plots", values.iter().filter(|v| ***v == Value::Missing).count());
            ClassFigure { picture: &picture, shown, label: args.by.clone(), entries, rest: missing }.png()
        }
        None => {
            let known = values.iter().filter_map(|v| v.number()).map(|v| v as f32);
            let range = args.range.or_else(|| ends(known, 0.0, 100.0)).unwrap_or((0.0, 1.0));
            let ramp = args.ramp.unwrap_or_else(|| Ramp::find("plants").unwrap_or(&RAMPS[0]));
            MapFigure { picture: &picture, shown, legend: Legend { label: args.by.clone(), ramp, range } }.png()
        }
    };
    write_picture(&args.out, png, ctx)?;
    match ctx.json {
        true => ctx.print_json(&serde_json::json!({
            "outputs": [{"kind": "picture", "path": args.out.display().to_string()}],
            "notes": ctx.progress.notes().iter().map(ToString::to_string).collect::<Vec<_>>(),
        })),
        false => ctx.progress.say(&format!("a picture of {} plots, in {}", moved.rows.len(), args.out.display())),
    }
    Ok(())
}

/// The different texts of a column, sorted; none where it holds numbers.
fn kinds(values: &[&Value]) -> Option<Vec<Value>> {
    let is_text = |v: &&&Value| matches!(v, Value::Text(_) | Value::Truth(_));
    values.iter().find(is_text)?;
    let mut known: Vec<Value> = values.iter().filter(|v| ***v != Value::Missing).map(|v| (*v).clone()).collect();
    known.sort_by_key(ToString::to_string);
    known.dedup();
    Some(known)
}

/// A grid of dots round all plots.
fn grid(features: &Features) -> Result<Grid, Report> {
    let [w, s, e, n] = features.bounds().ok_or_else(|| Report::usage("there is no shape to draw"))?;
    let room = 0.04 * (e - w).max(n - s).max(1.0);
    let (w, s, e, n) = (w - room, s - room, e + room, n + room);
    let dot = ((e - w) / DOTS.0).max((n - s) / DOTS.1);
    let count = |size: f64| (size / dot).ceil().max(1.0) as u32;
    let transform = Affine::north_up(w, n, dot, dot);
    Ok(Grid { crs: Some(features.crs), transform, cols: count(e - w), rows: count(n - s) })
}

/// Each dot with the number of the plot it lies in, and the plots' outlines.
fn picture(features: &Features, grid: &Arc<Grid>, numbers: &[f32]) -> (Picture, Vec<Vec<(f64, f64)>>) {
    let mut dots = vec![NOTHING; grid.cells() as usize];
    let mut outlines = vec![];
    for (row, number) in features.rows.iter().zip(numbers) {
        let Ok(shape) = row.shape.map(|x, y| Ok::<_, std::convert::Infallible>(grid.transform.to_cells(x, y)));
        for run in cover(shape.polygons(), grid.window(), Weighting::Centre).runs {
            let at = run.row as usize * grid.cols as usize + run.col as usize;
            dots[at..at + run.cols as usize].fill(*number);
        }
        outlines.extend(shape.rings().cloned());
    }
    let picture = Picture { grid: grid.clone(), cells_a_dot: 1, cols: grid.cols, rows: grid.rows, planes: vec![dots] };
    (picture, outlines)
}
