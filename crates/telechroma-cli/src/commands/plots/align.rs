//! `plots align`: the shift and turn by which plots fit the imagery best, proposed with its evidence.

use std::path::PathBuf;

use serde_json::json;
use telechroma_core::area::{Edge, Outline, bounds_of};
use telechroma_core::feature::Features;
use telechroma_core::grid::Grid;
use telechroma_core::layout::{Alignment, Doubt, Field, Search, Trial, align, moved};
use telechroma_core::method::{BandChoice, PlannedLayer, plan_layers, plan_season};
use telechroma_core::plot::{Plot, Polygon};
use telechroma_core::run::{Observer, Plan, Sink, run as run_plan};
use telechroma_core::units::{Metres, TemperatureUnit};
use telechroma_io::figure::{Legend, MapFigure, Picture, PictureEncoder, Shown, ends};
use telechroma_io::vector::PlotFile;

use super::files::{From, units, write};
use crate::commands::chain::{Chain, layers};
use crate::context::{Context, listed};
use crate::job::{open_inputs, prepare_layers, ramp, tell_mended, write_picture};
use crate::report::Report;

/// Propose the shift and small turn by which plots fit the imagery best; nothing is moved unless --out says where to
///
/// Plots and imagery are often some metres apart. The proposal comes with its evidence, and says when it cannot be trusted.
///
/// Example: telechroma plots align trial.gpkg mosaic.tif ndvi --reach 6m --picture fit.png --out trial_moved.gpkg
#[derive(clap::Args)]
pub struct Args {
    #[command(flatten)]
    from: From,
    /// A raster, or scenes
    #[arg(value_name = "INPUT")]
    input: String,
    /// The layer in which plots and alleys differ: one of the raster's, or an index
    #[arg(value_name = "LAYER")]
    contrast: String,
    /// An own layer: 'name = formula', to be named as LAYER
    #[arg(long, value_name = "NAME = FORMULA")]
    formula: Vec<String>,
    /// How far plots may lie from their place, east and north
    #[arg(long, value_name = "LENGTH", default_value = "6m")]
    reach: Metres,
    /// How far they may be turned, in degrees
    #[arg(long, value_name = "DEGREES", default_value_t = 2.0)]
    turn: f64,
    /// The attribute that is the plots' id; default: the first of id, plot, plot_id, field, field_id, name
    #[arg(long, value_name = "FIELD")]
    id: Option<String>,
    /// A picture of the plots before and after, .png
    #[arg(long, value_name = "FILE")]
    picture: Option<PathBuf>,
    /// Write the plots where they are proposed to be: .gpkg, .geojson, .shp, .parquet
    #[arg(long, value_name = "FILE")]
    out: Option<PathBuf>,
    /// Write them although the proposal is in doubt
    #[arg(long, requires = "out")]
    despite_doubt: bool,
    #[command(flatten)]
    chain: Chain,
}

pub fn run(args: Args, ctx: &Context) -> Result<(), Report> {
    if !(0.0..=45.0).contains(&args.turn) {
        return Err(Report::usage(format!("--turn {}: it is 0 to 45 degrees", args.turn)));
    }
    let file = PlotFile::read(&args.from.source(), args.id.as_deref())?;
    tell_mended(&file, &ctx.progress);
    let (field, picture, layer) = look(&args, &file, ctx)?;
    let grid = field.grid.clone();
    let crs = grid.crs.ok_or_else(|| Report::usage("the raster has no coordinate system"))?;
    if crs.metres().is_none() {
        return Err(Report::usage("the raster is in degrees, but plots are fitted in metres")
            .hint("bring it onto a map's grid: --grid 0.1m@EPSG:32633"));
    }
    let plots = file.in_crs(crs)?;
    let search = Search { reach: units(crs, args.reach.0), turn: args.turn, threads: ctx.budget.threads };
    ctx.progress.stage("fitting", 1);
    let found = align(&plots, &field, search)?;
    ctx.progress.clear();
    if let Some(path) = &args.picture {
        draw(path, &args, (&plots, &found), (&picture, &layer), ctx)?;
    }
    if ctx.json {
        ctx.print_json(&to_json(&found, crs.metres().unwrap_or(1.0)));
    } else {
        ctx.print(&text(&found, &layer, crs.metres().unwrap_or(1.0)));
    }
    match &args.out {
        None => Ok(()),
        Some(_) if !found.doubts.is_empty() && !args.despite_doubt => {
            Err(Report::failed("nothing was written: the proposal is in doubt")
                .hint("look at --picture; --despite-doubt writes it all the same"))
        }
        Some(out) => {
            let mut features: Features = file.features.in_crs(crs)?;
            for row in &mut features.rows {
                row.shape = moved(&row.shape, &found.best, found.pivot);
            }
            let quiet = Context { json: false, ..ctx.again() };
            write(out, &features, &format!("{} plots, moved", features.rows.len()), &quiet)
        }
    }
}

/// The layer round the plots, in full and as a picture.
fn look(args: &Args, file: &PlotFile, ctx: &Context) -> Result<(Field, Picture, PlannedLayer), Report> {
    let wanted = layers(std::slice::from_ref(&args.contrast), &[])?;
    let mut own = layers(&[], &args.formula)?;
    own.retain(|l| l.name == args.contrast);
    let mut recipe =
        args.chain.recipe(if own.is_empty() { wanted } else { own }, BandChoice::Needed, TemperatureUnit::K)?;
    let mut inputs = open_inputs(&listed(std::slice::from_ref(&args.input))?, &args.chain.selection.filter()?, ctx)?;
    if recipe.frame.area.is_none() {
        let crs = inputs.scenes.iter().flat_map(|s| s.bands.first().map(|b| b.source.spec().grid.crs));
        let crs = crs.chain(inputs.layers.iter().map(|l| l.grid.crs)).flatten().next();
        let crs = crs.ok_or_else(|| Report::usage("the input has no coordinate system"))?;
        let moved = file.features.in_crs(crs).map_err(Report::from)?;
        let polygons: Vec<Polygon> = moved.rows.iter().flat_map(|r| r.shape.polygons()).cloned().collect();
        let [w, s, e, n] = bounds_of(&polygons);
        let room = units(crs, 1.5 * args.reach.0) + (e - w).max(n - s) * (args.turn.to_radians() + 0.05);
        let around = Outline::of_box(crs, [w - room, s - room, e + room, n + room]);
        recipe.frame.area = Some(Outline { name: "the place of the plots".into(), edge: Edge::Touch, ..around });
    }
    prepare_layers(&mut inputs, &recipe, ctx)?;
    let season = match inputs.scenes.is_empty() {
        false => plan_season(inputs.scenes, &recipe)?,
        true => plan_layers(inputs.layers.first(), &recipe)?,
    };
    season.notes.iter().cloned().for_each(|n| ctx.progress.note(n));
    let layer = match season.periods.as_slice() {
        [one] if one.layers.len() == 1 => one.layers[0].clone(),
        _ => return Err(Report::usage("plots are fitted to one layer of one period").hint("leave out --every")),
    };
    let grid: std::sync::Arc<Grid> = season.graph.grid().clone();
    let (reader, mut field) = Field::of(&grid)?;
    let (encoder, mut picture) = PictureEncoder::create(&grid, 1);
    let sinks = vec![
        Sink { groups: vec![vec![layer.node]], prepare: &reader, absorb: &mut field },
        Sink { groups: vec![vec![layer.node]], prepare: &encoder, absorb: &mut picture },
    ];
    let plan = Plan::new(season.graph, &sinks, ctx.budget)?;
    run_plan(&plan, sinks, &ctx.progress)?;
    Ok((field, picture.finish(), layer))
}

fn doubt(d: &Doubt, metre: f64) -> String {
    let place =
        |t: &Trial| format!("{:+.2} m east, {:+.2} m north, {:+.2}°", t.shift.0 * metre, t.shift.1 * metre, t.turn);
    match d {
        Doubt::NoValues => "too little of the plots lies on cells with values".into(),
        Doubt::Flat(p) => {
            format!("no place stands out: the best lies {p:.1} spreads above the usual one, 6 are needed")
        }
        Doubt::Twin(t) => format!("another place fits nearly as well: {} (score {:.3})", place(t), t.score),
        Doubt::AtTheEnd => "the best place lies at the end of the reach: look farther with --reach or --turn".into(),
        Doubt::ShortReach(pitch) => format!(
            "the reach is shorter than a plot and its alley ({:.2} m): one plot farther on would not be noticed",
            pitch * metre
        ),
        Doubt::HalvesDiffer(by) => format!("two halves of the plots put it {:.2} m apart", by * metre),
    }
}

fn text(found: &Alignment, layer: &PlannedLayer, metre: f64) -> String {
    let (b, h) = (&found.best, &found.halves);
    let mut t = format!(
        "proposal   {:+.2} m east, {:+.2} m north, turned {:+.2}° (counter-clockwise, about the middle of the plots)\n",
        b.shift.0 * metre,
        b.shift.1 * metre,
        b.turn
    );
    t += &format!(
        "evidence   {} inside less outside: {:+.3} on average; score {:.3} as given, {:.3} as proposed ({:.1} spreads above the usual place)\n",
        layer.name, found.contrast, found.before.score, b.score, found.prominence
    );
    t += &format!(
        "halves     {:+.2}, {:+.2} m, {:+.2}° and {:+.2}, {:+.2} m, {:+.2}° from every other plot\n",
        h[0].shift.0 * metre,
        h[0].shift.1 * metre,
        h[0].turn,
        h[1].shift.0 * metre,
        h[1].shift.1 * metre,
        h[1].turn
    );
    match found.doubts.as_slice() {
        [] => t + "trust      nothing speaks against it\n",
        doubts => {
            let lines: Vec<String> = doubts.iter().map(|d| doubt(d, metre)).collect();
            t + "in doubt   " + &lines.join("\n           ") + "\n"
        }
    }
}

fn to_json(found: &Alignment, metre: f64) -> serde_json::Value {
    let trial = |t: &Trial| json!({"east_m": t.shift.0 * metre, "north_m": t.shift.1 * metre, "turn_deg": t.turn, "score": t.score});
    json!({
        "proposal": trial(&found.best), "as_given": trial(&found.before), "contrast": found.contrast, "prominence": found.prominence,
        "halves": [trial(&found.halves[0]), trial(&found.halves[1])],
        "doubts": found.doubts.iter().map(|d| doubt(d, metre)).collect::<Vec<_>>(),
    })
}

fn draw(
    path: &std::path::Path,
    args: &Args,
    (plots, found): (&[Plot], &Alignment),
    (picture, layer): (&Picture, &PlannedLayer),
    ctx: &Context,
) -> Result<(), Report> {
    let t = picture.grid.transform;
    let rings = |shape: &telechroma_core::plot::Shape| -> Vec<Vec<(f64, f64)>> {
        shape.rings().map(|r| r.iter().map(|(x, y)| t.to_cells(*x, *y)).collect()).collect()
    };
    let metre = picture.grid.crs.and_then(|c| c.metres()).unwrap_or(1.0);
    let b = &found.best;
    let in_doubt = if found.doubts.is_empty() { "" } else { "  ·  in doubt" };
    let shown = Shown {
        title: format!(
            "{}: plots as given and as proposed",
            args.from.plots.file_stem().map_or("plots".into(), |s| s.to_string_lossy())
        ),
        subtitle: format!(
            "red: as given  ·  black: {:+.2} m east, {:+.2} m north, {:+.2}°{in_doubt}",
            b.shift.0 * metre,
            b.shift.1 * metre,
            b.turn
        ),
        outlines: plots.iter().flat_map(|p| rings(&moved(&p.shape, b, found.pivot))).collect(),
        before: plots.iter().flat_map(|p| rings(&p.shape)).collect(),
    };
    let values = picture.planes.iter().flatten().copied();
    let legend =
        Legend { label: layer.name.clone(), ramp: ramp(layer), range: ends(values, 1.0, 99.0).unwrap_or((0.0, 1.0)) };
    write_picture(path, MapFigure { picture, shown, legend }.png(), ctx)
}
