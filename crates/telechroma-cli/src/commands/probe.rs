//! `probe`: the values at a place, through every layer and date.

use std::sync::Arc;

use serde_json::{Value as Json, json};
use telechroma_core::geo::{Crs, Projector};
use telechroma_core::grid::{Grid, Window};
use telechroma_core::mask::Reasons;
use telechroma_core::method::{Target, calibration};
use telechroma_core::scene::{Content, Scene};
use telechroma_core::tile::{Cells, Kind, PlaneSource, read_window};
use telechroma_core::units::Unit;
use telechroma_io::table::csv;

use crate::commands::chain::Selection;
use crate::commands::text::aligned;
use crate::context::{Context, listed};
use crate::job::{open_inputs, write_one};
use crate::report::Report;

/// Values at places, through all layers and dates: calibrated, with the flags there
///
/// Example: telechroma probe scenes results/layers --at -33.05,39.75
#[derive(clap::Args)]
pub struct Args {
    /// Scenes, folders of scenes, rasters; @list.txt for a list
    #[arg(required = true, value_name = "INPUT")]
    pub inputs: Vec<String>,
    /// A place: longitude,latitude, or map coordinates X,Y (as X,Y@EPSG:code if not those of the inputs); may be repeated
    #[arg(long, value_name = "X,Y", required = true, allow_hyphen_values = true)]
    pub at: Vec<String>,
    /// What counts become: toa (reflectance; thermal bands as brightness temperature) or radiance
    #[arg(long, value_name = "TARGET", default_value = "toa")]
    pub to: Target,
    /// Only these bands or layers
    #[arg(long, value_name = "LIST", value_delimiter = ',')]
    pub bands: Vec<String>,
    #[command(flatten)]
    pub selection: Selection,
    /// A .csv file; default: a table on standard output
    #[arg(long, value_name = "FILE")]
    pub out: Option<std::path::PathBuf>,
}

/// A place as it was given: in degrees or a named system, or in the map coordinates of each input.
struct Place {
    text: String,
    x: f64,
    y: f64,
    crs: Option<Crs>,
}

fn place(text: &str) -> Result<Place, Report> {
    let (numbers, crs) = match text.split_once('@') {
        Some((n, crs)) => (n, Some(Crs::from_text(crs)?)),
        None => (text, None),
    };
    let two =
        numbers.split_once(',').and_then(|(x, y)| Some((x.trim().parse::<f64>().ok()?, y.trim().parse::<f64>().ok()?)));
    let Some((x, y)) = two.filter(|(x, y)| x.is_finite() && y.is_finite()) else {
        return Err(Report::usage(format!(
            "'{text}' is no place: write longitude,latitude such as -33.05,39.75, or X,Y"
        )));
    };
    let degrees = x.abs() <= 180.0 && y.abs() <= 90.0;
    let crs = crs.or(degrees.then_some(Crs::LONGITUDE_LATITUDE));
    Ok(Place { text: text.into(), x, y, crs })
}

/// What was found in a cell.
struct Found {
    at: String,
    date: String,
    input: String,
    layer: String,
    value: Option<f64>,
    unit: &'static str,
    /// Empty, "missing", "outside", or the flags' reasons.
    note: String,
}

/// Column and row of a place in a grid; none outside.
fn cell(p: &Place, grid: &Grid) -> Result<Option<(u32, u32)>, Report> {
    let (x, y) = match (p.crs, grid.crs) {
        (Some(from), Some(to)) => match Projector::new(from, to)?.place(p.x, p.y) {
            Some(xy) => xy,
            None => return Ok(None),
        },
        (None, _) => (p.x, p.y),
        (Some(_), None) => {
            return Err(telechroma_core::Error::Coordinates(
                "an input has no coordinate system, so a place in degrees cannot be found in it".into(),
            )
            .into());
        }
    };
    let (c, r) = grid.transform.to_cells(x, y);
    let inside = c >= 0.0 && r >= 0.0 && c < f64::from(grid.cols) && r < f64::from(grid.rows);
    Ok(inside.then_some((c as u32, r as u32)))
}

/// The stored number of one cell; NaN where a plane of values has none.
fn read(source: &Arc<dyn PlaneSource>, (col, row): (u32, u32)) -> Result<f64, Report> {
    let one = read_window(&**source, Window::new(i64::from(col), i64::from(row), 1, 1))?;
    Ok(match &one.cells {
        Cells::Values(v) => f64::from(v[0]),
        Cells::Bits(b) => f64::from(b[0]),
    })
}

fn of_scene(s: &Scene, p: &Place, args: &Args, out: &mut Vec<Found>) -> Result<(), Report> {
    let flags = match &s.mask {
        Some(mask) => {
            cell(p, &mask.spec().grid)?.map(|at| read(mask, at)).transpose()?.map(|b| Reasons::from_bits(b as u16))
        }
        None => {
            let mut all = Reasons::default();
            for f in &s.flags {
                if let Some(at) = cell(p, &f.source.spec().grid)? {
                    let bits = read(&f.source, at)? as u16;
                    all = f.legend.iter().filter(|(b, _)| bits & b != 0).fold(all, |a, (_, r)| a.and(*r));
                }
            }
            (!s.flags.is_empty()).then_some(all)
        }
    };
    let reasons = flags.map_or(String::new(), |f| f.names().join(" "));
    for b in s.bands.iter().filter(|b| args.bands.is_empty() || args.bands.iter().any(|n| n == b.role.name())) {
        let mut found = Found {
            at: p.text.clone(),
            date: s.date.map_or(String::new(), |d| d.to_string()),
            input: s.id.clone(),
            layer: b.role.name().into(),
            value: None,
            unit: "",
            note: "outside".into(),
        };
        if let Some(at) = cell(p, &b.source.spec().grid)? {
            let stored = read(&b.source, at)?;
            let (value, unit) = match (&b.content, b.source.spec().kind) {
                (_, Kind::Counts { fill: Some(fill) }) if stored == f64::from(fill) => (f64::NAN, args.to.unit(b.role)),
                (Content::Counts(_), _) => (calibration(s, b, args.to)?.at(stored), args.to.unit(b.role)),
                (Content::Values(unit), _) => (stored, *unit),
            };
            found.unit = unit.label();
            found.value = Some(value).filter(|v| v.is_finite());
            found.note = match found.value {
                Some(_) => reasons.clone(),
                None => format!("missing {reasons}").trim().into(),
            };
        }
        out.push(found);
    }
    Ok(())
}

pub fn run(args: Args, ctx: &Context) -> Result<(), Report> {
    let frame = &args.selection.frame;
    if frame.area.area.is_some() || frame.area.bounds.is_some() || frame.grid.is_some() || frame.resample.is_some() {
        return Err(Report::usage(
            "a place is looked up in the inputs' own cells: an area or a grid has no meaning here",
        ));
    }
    let places = args.at.iter().map(|t| place(t)).collect::<Result<Vec<_>, _>>()?;
    let mut inputs = open_inputs(&listed(&args.inputs)?, &args.selection.filter()?, ctx)?;
    inputs.scenes.sort_by(|a, b| (a.acquired, a.date, &a.id).cmp(&(b.acquired, b.date, &b.id)));
    inputs.layers.sort_by(|a, b| (&a.period, &a.name).cmp(&(&b.period, &b.name)));
    let mut all = vec![];
    for p in &places {
        for s in &inputs.scenes {
            of_scene(s, p, &args, &mut all)?;
        }
        for set in &inputs.layers {
            for l in set.layers.iter().filter(|l| args.bands.is_empty() || args.bands.contains(&l.name)) {
                let value = cell(p, &l.source.spec().grid)?.map(|at| read(&l.source, at)).transpose()?;
                let note = match value {
                    None => "outside",
                    Some(v) if v.is_nan() => "missing",
                    Some(_) => "",
                };
                all.push(Found {
                    at: p.text.clone(),
                    date: set.period.clone(),
                    input: set.name.clone(),
                    layer: l.name.clone(),
                    value: value.filter(|v| v.is_finite()),
                    unit: if l.unit == Unit::Unknown { "" } else { l.unit.label() },
                    note: note.into(),
                });
            }
        }
    }
    ctx.progress.clear();
    if all.is_empty() {
        return Err(Report::usage("none of the inputs has the bands or layers asked for"));
    }
    show(&all, &args, ctx)
}

/// Six digits that matter: stored values hold about seven.
fn digits(v: f64) -> String {
    let whole = if v == 0.0 { 0 } else { v.abs().log10().floor() as i32 + 1 };
    let text = format!("{v:.*}", (6 - whole).clamp(0, 9) as usize);
    if text.contains('.') { text.trim_end_matches('0').trim_end_matches('.').to_string() } else { text }
}

fn show(all: &[Found], args: &Args, ctx: &Context) -> Result<(), Report> {
    let head = ["at", "date", "input", "layer", "value", "unit", "note"].map(String::from);
    let row = |f: &Found| {
        let value = f.value.map_or(String::new(), digits);
        vec![f.at.clone(), f.date.clone(), f.input.clone(), f.layer.clone(), value, f.unit.to_string(), f.note.clone()]
    };
    let rows: Vec<Vec<String>> = all.iter().map(row).collect();
    if let Some(out) = &args.out {
        write_one(out, &["csv"], ctx, |at| Ok(csv::write(at, &head, &rows)?))?;
    }
    if ctx.json {
        let object = |f: &Found| {
            json!({
                "at": f.at, "date": f.date, "input": f.input, "layer": f.layer, "value": f.value.map_or(Json::Null, |v| json!(v as f32)),
                "unit": f.unit, "note": f.note,
            })
        };
        ctx.print_json(&json!({"values": all.iter().map(object).collect::<Vec<_>>()}));
    } else if args.out.is_none() {
        let mut lines = vec![head.to_vec()];
        lines.extend(rows);
        ctx.print(&aligned(&lines, &[4]));
    }
    Ok(())
}
