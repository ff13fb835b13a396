//! The campaign file: TOML to a job. Unknown keys are errors with a suggestion; relative paths are relative to the file.

use std::path::{Path, PathBuf};
use std::str::FromStr;

use jiff::civil::Date;
use serde::Deserialize;
use telechroma_core::area::{Edge, Outline};
use telechroma_core::error::nearest;
use telechroma_core::index::INDICES;
use telechroma_core::mask::Reasons;
use telechroma_core::method::{BandChoice, By, Find, Frame, LayerRequest, Light, MaskOptions, Recipe, Target};
use telechroma_core::physics::DarkMethod;
use telechroma_core::scene::BandRole;
use telechroma_core::stat::DEFAULT_STATS;
use telechroma_core::units::Metres;
use telechroma_io::delivery::sensor_of;
use telechroma_io::vector::Source;

use crate::commands::chain::{Given, defined, dropped_in, light};
use crate::commands::frame::{area, bounds, grid};
use crate::job::{Filter, Job, Naming, PlotJob, Style, Wanted, endings, format_of};
use crate::report::Report;

/// Every key: its path, its default as written in TOML, what it means. The guide's table and the messages come from here.
pub const KEYS: &[(&str, &str, &str)] = &[
    ("name", "the file's name", "title of pictures and of the record"),
    ("out", "\"results\"", "folder of the results"),
    ("area.file", "none", "polygons that limit the run: GeoJSON, Shapefile or GeoPackage"),
    ("area.layer", "none", "the layer of a GeoPackage"),
    ("area.only", "none", "a condition its polygons must meet, such as 'kind = \"estate\"'"),
    ("area.box", "none", "instead of a file: [west, south, east, north] in degrees, or a text W,S,E,N@EPSG:code"),
    ("area.edge", "\"centre\"", "cells on the edge: \"centre\" (those whose centre is inside) or \"touch\""),
    (
        "grid.cells",
        "none",
        "the results' cells, such as \"10m@EPSG:32633\", or a raster whose grid is taken; default: the scenes' own",
    ),
    (
        "grid.resample",
        "none",
        "\"nearest\", \"bilinear\", \"cubic\", \"mean\", \"median\", \"mode\", \"min\" or \"max\"; default: by what fits",
    ),
    ("scenes.from", "\"scenes\"", "a delivery, or a folder of deliveries; a list of them"),
    ("scenes.since", "none", "first day, such as 2031-04-01"),
    ("scenes.until", "none", "last day, inclusive"),
    ("scenes.max_cloud", "none", "most cloud by the metadata, %"),
    ("scenes.sensor", "none", "sensor of scenes that do not say it themselves: an id or a file"),
    (
        "calibrate.to",
        "\"toa\"",
        "\"toa\" (reflectance; thermal bands as brightness temperature), \"surface\" or \"radiance\"",
    ),
    ("calibrate.dark_object", "\"dos1\"", "with \"surface\": \"dos1\" or \"cost\""),
    (
        "calibrate.sun_angle",
        "\"scene\"",
        "\"scene\": the sun's height at its middle; \"cell\": from the delivery's angle band",
    ),
    ("calibrate.terrain", "none", "\"cosine\" or \"c\": reflectance on slopes as on level ground"),
    ("calibrate.elevation", "none", "with terrain: a raster of heights, metres"),
    (
        "mask.drop",
        "[\"fill\", \"dilated\", \"cirrus\", \"cloud\", \"shadow\"]",
        "reasons to drop a cell; also \"snow\", \"water\", \"saturated\"",
    ),
    ("mask.grow", "\"0m\"", "how far clouds and their shadows are grown"),
    ("mask.confidence", "none", "flags of at least this confidence drop a cell too: \"low\", \"medium\" or \"high\""),
    ("mask.find", "[]", "what is looked for in the cells themselves: \"clouds\", \"shadows\", \"outliers\""),
    ("mask.ignore_flags", "false", "the delivery's own flags are not used, except for fill"),
    ("mask.drop_where", "none", "a condition on flags as delivered, bands and indices, such as \"bit(QA_PIXEL, 7)\""),
    ("mask.drop_in", "none", "polygons whose cells are dropped, or a raster that is not zero there; or a list of them"),
    (
        "composite.every",
        "\"all\"",
        "\"all\", \"year\", \"season\", \"month\", \"16 days\" (any number), \"scene\", or a list of windows such as \"2031-04-01..2031-05-15\"",
    ),
    (
        "composite.by",
        "\"median\"",
        "band by band: \"median\", \"mean\", \"min\", \"max\", \"p25\"; one look for all bands: \"medoid\", \"best\", \"latest\", \"earliest\"",
    ),
    ("composite.score", "none", "with \"best\": the look with the highest score is taken, such as \"ndvi\""),
    ("composite.spread", "false", "the spread of each band's looks too: their median distance from the median"),
    ("composite.at_least", "1", "clear looks that a cell needs"),
    (
        "composite.bands",
        "\"needed\"",
        "\"needed\" by the layers, \"all\", or a list; a list or \"all\" is summarised too",
    ),
    ("layers.use", "[]", "indices of the catalogue"),
    ("layers.NAME", "none", "an own layer: its formula"),
    (
        "temperature.emissivity",
        "none",
        "for lst: a number, an index such as \"emissivity_tirs10\", or a raster; default: from NDVI",
    ),
    ("temperature.water_vapour", "none", "of the air, g cm-2, for lst_single_channel and lst_split_window"),
    (
        "temperature.air",
        "none",
        "transmittance of the air and the radiance it sends up and down, for lst_radiative_transfer",
    ),
    ("temperature.cavity", "0", "cavity factor of rough ground, for the emissivity of TIRS bands"),
    ("plots.file", "none", "polygons or points: .geojson, .gpkg, .shp, .parquet, or points as .csv"),
    ("plots.layer", "the only one", "which layer of a GeoPackage"),
    ("plots.id", "the first of id, plot, plot_id, field, field_id, name", "the attribute that is unique"),
    ("plots.weight", "\"share\"", "\"share\": exact covered share of each cell; \"centre\"; \"touch\""),
    ("plots.inset", "none", "plots are drawn in by this length first, such as \"5m\""),
    ("plots.keep", "none", "condition a cell must meet to count"),
    (
        "plots.stats",
        "[\"count\", \"valid_share\", \"mean\", \"sd\", \"min\", \"max\", \"median\"]",
        "statistics; percentiles as p10",
    ),
    ("output.rasters", "true", "Cloud Optimized GeoTIFFs of composites and layers"),
    (
        "output.tables",
        "[\"csv\"]",
        "\"csv\", \"jsonl\", \"parquet\"; as columns of the plots \"gpkg\", \"geojson\", \"shp\", \"geoparquet\"; needs plots",
    ),
    ("output.rows", "\"period\"", "what a row of the table stands for: \"plot\", \"period\", \"layer\""),
    ("output.pictures", "false", "PNG pictures of composites and layers"),
    ("output.report", "false", "must be false: report pages are not available yet"),
    ("output.temperature", "\"K\"", "unit of temperature layers: \"K\", \"C\" or \"F\""),
];

#[derive(Deserialize, Default)]
#[serde(default)]
struct File {
    name: Option<String>,
    out: Option<PathBuf>,
    area: AreaTable,
    grid: GridTable,
    scenes: Scenes,
    calibrate: Calibrate,
    mask: Mask,
    composite: Composite,
    layers: toml::Table,
    temperature: Temperature,
    plots: Option<Plots>,
    output: Output,
}

#[derive(Deserialize, Default)]
#[serde(default)]
struct Scenes {
    from: Option<OneOrMany<PathBuf>>,
    since: Option<Day>,
    until: Option<Day>,
    max_cloud: Option<f64>,
    sensor: Option<String>,
}

#[derive(Deserialize, Default)]
#[serde(default)]
struct Temperature {
    emissivity: Option<NumberOrText>,
    water_vapour: Option<f64>,
    air: Option<Vec<f64>>,
    cavity: Option<f64>,
}

#[derive(Deserialize)]
#[serde(untagged)]
enum NumberOrText {
    Number(f64),
    Text(String),
}

#[derive(Deserialize, Default)]
#[serde(default)]
struct AreaTable {
    file: Option<PathBuf>,
    layer: Option<String>,
    only: Option<String>,
    #[serde(rename = "box")]
    bounds: Option<BoxText>,
    edge: Option<String>,
}

#[derive(Deserialize)]
#[serde(untagged)]
enum BoxText {
    Degrees([f64; 4]),
    Text(String),
}

#[derive(Deserialize, Default)]
#[serde(default)]
struct GridTable {
    cells: Option<String>,
    resample: Option<String>,
}

#[derive(Deserialize)]
#[serde(untagged)]
enum OneOrMany<T> {
    One(T),
    Many(Vec<T>),
}

/// A date, with or without quotes.
#[derive(Deserialize)]
#[serde(untagged)]
enum Day {
    Plain(toml::value::Datetime),
    Text(String),
}

impl Day {
    fn date(&self, key: &str) -> Result<Date, String> {
        let text = match self {
            Day::Plain(d) => d.to_string(),
            Day::Text(t) => t.clone(),
        };
        text.parse().map_err(|_| format!("{key} = {text} is not a day such as 2031-04-01"))
    }
}

#[derive(Deserialize, Default)]
#[serde(default)]
struct Calibrate {
    to: Option<String>,
    dark_object: Option<String>,
    sun_angle: Option<String>,
    terrain: Option<String>,
    elevation: Option<PathBuf>,
}

#[derive(Deserialize, Default)]
#[serde(default)]
struct Mask {
    drop: Option<Vec<String>>,
    grow: Option<String>,
    confidence: Option<String>,
    find: Option<Vec<String>>,
    ignore_flags: Option<bool>,
    drop_where: Option<String>,
    drop_in: Option<OneOrMany<PathBuf>>,
}

#[derive(Deserialize, Default)]
#[serde(default)]
struct Composite {
    every: Option<OneOrMany<String>>,
    by: Option<String>,
    score: Option<String>,
    spread: Option<bool>,
    at_least: Option<u32>,
    bands: Option<Bands>,
}

#[derive(Deserialize)]
#[serde(untagged)]
enum Bands {
    Word(String),
    List(Vec<String>),
}

#[derive(Deserialize)]
struct Plots {
    file: PathBuf,
    id: Option<String>,
    weight: Option<String>,
    keep: Option<String>,
    stats: Option<Vec<String>>,
    layer: Option<String>,
    inset: Option<String>,
}

#[derive(Deserialize, Default)]
#[serde(default)]
struct Output {
    rasters: Option<bool>,
    tables: Option<Vec<String>>,
    rows: Option<String>,
    pictures: Option<bool>,
    report: Option<bool>,
    temperature: Option<String>,
}

/// Reads a campaign file.
///
/// # Errors
/// With the file, the place and what to write instead.
pub fn read(path: &Path) -> Result<Job, Report> {
    if path.is_dir() {
        let what = format!("{}: is a folder; name the campaign file in it", path.display());
        return Err(Report::usage(what));
    }
    let text = std::fs::read_to_string(path).map_err(|e| Report::from(telechroma_io::Error::io(path, e)))?;
    let here = path.parent().unwrap_or(Path::new(""));
    let stem = path.file_stem().map_or("campaign".into(), |s| s.to_string_lossy().into_owned());
    parse(&text, here, &stem).map_err(|e| Report { message: format!("{}: {}", path.display(), e.message), ..e })
}

fn parse(text: &str, here: &Path, stem: &str) -> Result<Job, Report> {
    let wrong = |e: toml::de::Error| Report::usage(e.to_string().trim_end().to_string());
    let mut unknown = vec![];
    let deserializer = toml::Deserializer::parse(text).map_err(wrong)?;
    let file: File =
        serde_ignored::deserialize(deserializer, |p| unknown.push(p.to_string().replace(".?", ""))).map_err(wrong)?;
    if let Some(key) = unknown.first() {
        return Err(unknown_key(key, text));
    }
    job(file, here, stem)
}

/// A key that means nothing, with its line and the nearest key that does.
fn unknown_key(key: &str, text: &str) -> Report {
    let known: Vec<&str> = KEYS.iter().map(|k| k.0).filter(|k| !k.ends_with("NAME")).collect();
    let last = key.rsplit('.').next().unwrap_or(key);
    let line = text.lines().position(|l| {
        let l = l.trim_start().trim_start_matches('[');
        l.strip_prefix(last).is_some_and(|r| r.trim_start().starts_with(['=', ']']))
    });
    let line = line.map_or(String::new(), |n| format!("line {}: ", n + 1));
    let mut tables: Vec<&str> = known.iter().filter_map(|k| k.split_once('.').map(|p| p.0)).collect();
    tables.dedup();
    let (kind, near) = match key.split_once('.') {
        Some(_) => ("key", nearest(key, &known)),
        None => ("key", nearest(key, &[known.as_slice(), tables.as_slice()].concat())),
    };
    let table = key.split_once('.').map_or("", |p| p.0);
    let there: Vec<&str> = known.iter().copied().filter(|k| k.split_once('.').map_or("", |p| p.0) == table).collect();
    let hint = near.map_or_else(
        || format!("known here: {}", if there.is_empty() { tables.join(", ") } else { there.join(", ") }),
        |n| format!("did you mean '{n}'?"),
    );
    Report::usage(format!("{line}unknown {kind} '{key}': {hint}"))
}

fn named<T: FromStr>(key: &str, text: &Option<String>, default: T) -> Result<T, Report>
where
    T::Err: std::fmt::Display,
{
    match text {
        None => Ok(default),
        Some(t) => t.parse().map_err(|e| Report::usage(format!("{key}: {e}"))),
    }
}

/// The tables that say where, with paths as seen from the present folder.
fn written(file: &File, here: &Path) -> Vec<(&'static str, Vec<String>)> {
    let text = |t: &str| toml::Value::from(t).to_string();
    let path = |p: &Path| text(&here.join(p).display().to_string());
    let a = &file.area;
    let mut area = vec![];
    area.extend(a.file.as_ref().map(|f| format!("file = {}", path(f))));
    area.extend(a.layer.as_ref().map(|l| format!("layer = {}", text(l))));
    area.extend(a.only.as_ref().map(|o| format!("only = {}", text(o))));
    area.extend(a.bounds.as_ref().map(|b| match b {
        BoxText::Degrees(b) => format!("box = {b:?}"),
        BoxText::Text(t) => format!("box = {}", text(t)),
    }));
    if !area.is_empty() {
        area.push(format!("edge = {}", text(a.edge.as_deref().unwrap_or("centre"))));
    }
    let mut grid = vec![];
    grid.extend(
        file.grid
            .cells
            .as_ref()
            .map(|c| format!("cells = {}", if here.join(c).is_file() { path(Path::new(c)) } else { text(c) })),
    );
    grid.extend(file.grid.resample.as_ref().map(|r| format!("resample = {}", text(r))));
    let sensor = file.scenes.sensor.as_ref().map(|s| {
        format!("sensor = {}", if s.to_lowercase().ends_with(".toml") { path(Path::new(s)) } else { text(s) })
    });
    let c = &file.calibrate;
    let mut calibrate = vec![];
    calibrate.extend(c.sun_angle.as_ref().map(|a| format!("sun_angle = {}", text(a))));
    calibrate.extend(c.terrain.as_ref().map(|t| format!("terrain = {}", text(t))));
    calibrate.extend(c.elevation.as_ref().map(|e| format!("elevation = {}", path(e))));
    let m = &file.mask;
    let list = |names: &[String]| format!("[{}]", names.iter().map(|n| text(n)).collect::<Vec<_>>().join(", "));
    let mut mask = vec![];
    mask.extend(m.confidence.as_ref().map(|c| format!("confidence = {}", text(c))));
    mask.extend(m.find.as_ref().map(|f| format!("find = {}", list(f))));
    mask.extend(m.ignore_flags.map(|i| format!("ignore_flags = {i}")));
    mask.extend(m.drop_where.as_ref().map(|c| format!("drop_where = {}", text(c))));
    mask.extend(m.drop_in.as_ref().map(|d| match d {
        OneOrMany::One(p) => format!("drop_in = {}", path(p)),
        OneOrMany::Many(all) => format!("drop_in = [{}]", all.iter().map(|p| path(p)).collect::<Vec<_>>().join(", ")),
    }));
    vec![
        ("area", area),
        ("grid", grid),
        ("calibrate", calibrate),
        ("mask", mask),
        ("scenes", sensor.into_iter().collect()),
    ]
}

fn light_of(file: &Calibrate, at: &dyn Fn(&Path) -> PathBuf) -> Result<Light, Report> {
    let per_cell = match file.sun_angle.as_deref() {
        None | Some("scene") => false,
        Some("cell") => true,
        Some(other) => return Err(Report::usage(format!("calibrate.sun_angle: '{other}' is neither scene nor cell"))),
    };
    let method = file.terrain.as_deref().map(str::parse).transpose();
    let method = method.map_err(|e: telechroma_core::Error| Report::usage(format!("calibrate.terrain: {e}")))?;
    light(per_cell, method, file.elevation.as_deref().map(at).as_deref()).map_err(|e| within("calibrate", e))
}

fn mask(file: Mask, at: &dyn Fn(&Path) -> PathBuf) -> Result<MaskOptions, Report> {
    let said = |key: &'static str| move |e: telechroma_core::Error| Report::usage(format!("mask.{key}: {e}"));
    let drop = file.drop.map(|names| Reasons::from_names(&names).map_err(said("drop"))).transpose()?;
    let find = file.find.map(|names| Find::from_names(&names).map_err(said("find"))).transpose()?;
    let places: Vec<PathBuf> = match &file.drop_in {
        None => vec![],
        Some(OneOrMany::One(p)) => vec![at(p)],
        Some(OneOrMany::Many(list)) => list.iter().map(|p| at(p)).collect(),
    };
    let (areas, raster) = dropped_in(&places).map_err(|e| within("mask.drop_in", e))?;
    Ok(MaskOptions {
        drop: drop.unwrap_or_else(Reasons::default_drop),
        grow: file.grow.map(|g| g.parse().map_err(|e| Report::usage(format!("mask.grow: {e}")))).transpose()?,
        unmasked: false,
        confidence: file.confidence.as_deref().map(str::parse).transpose().map_err(said("confidence"))?,
        find: find.unwrap_or_default(),
        ignore_flags: file.ignore_flags.unwrap_or(false),
        condition: file.drop_where,
        areas,
        raster,
    })
}

fn job(file: File, here: &Path, stem: &str) -> Result<Job, Report> {
    let at = |p: &Path| here.join(p);
    let written = written(&file, here);
    let day = |d: &Option<Day>, key| d.as_ref().map(|d| d.date(key)).transpose().map_err(Report::usage);
    let target = match named("calibrate.to", &file.calibrate.to, Target::default())? {
        Target::Surface(_) => {
            Target::Surface(named("calibrate.dark_object", &file.calibrate.dark_object, DarkMethod::default())?)
        }
        other => other,
    };
    let by = By::new(file.composite.by.as_deref().unwrap_or("median"), file.composite.score)
        .map_err(|e| Report::usage(format!("composite.by: {e}")))?;
    let every = file.composite.every.map(|e| match e {
        OneOrMany::One(text) => text,
        OneOrMany::Many(windows) => windows.join(","),
    });
    let emissivity = file.temperature.emissivity.map(|e| match e {
        NumberOrText::Number(n) => n.to_string(),
        NumberOrText::Text(t) if here.join(&t).is_file() => here.join(t).display().to_string(),
        NumberOrText::Text(t) => t,
    });
    let given = Given {
        emissivity,
        water_vapour: file.temperature.water_vapour,
        air: file.temperature.air.unwrap_or_default(),
        cavity: file.temperature.cavity,
    };
    let (defined, emissivity) = defined(&given).map_err(|e| within("temperature", e))?;
    let shows_bands = file.composite.bands.is_some();
    let recipe = Recipe {
        target,
        light: light_of(&file.calibrate, &at)?,
        mask: mask(file.mask, &at)?,
        every: named("composite.every", &every, Default::default())?,
        by,
        spread: file.composite.spread.unwrap_or(false),
        at_least: file.composite.at_least.unwrap_or(1),
        bands: bands(file.composite.bands)?,
        layers: layers(file.layers)?,
        defined,
        aliases: vec![],
        sides: vec![],
        temperature: named("output.temperature", &file.output.temperature, Default::default())?,
        keep: file.plots.as_ref().and_then(|p| p.keep.clone()),
        frame: Frame {
            grid: file.grid.cells.as_deref().map(|g| grid(g, here)).transpose().map_err(|e| within("grid.cells", e))?,
            resample: file
                .grid
                .resample
                .as_deref()
                .map(str::parse)
                .transpose()
                .map_err(|e: telechroma_core::Error| Report::usage(format!("grid.resample: {e}")))?,
            area: area_of(file.area, &at).map_err(|e| within("area", e))?,
        },
    };
    if recipe.layers.is_empty() && !shows_bands {
        return Err(Report::usage(
            "there is nothing to make: name layers in [layers] use = […], or bands in [composite]",
        ));
    }
    let wanted = wanted(&file.output, file.plots.is_some())?;
    let plots = file.plots.map(|p| plots(p, &at)).transpose()?;
    let inputs = match file.scenes.from {
        None => vec![at(Path::new("scenes"))],
        Some(OneOrMany::One(p)) => vec![at(&p)],
        Some(OneOrMany::Many(list)) => list.iter().map(|p| at(p)).collect(),
    };
    Ok(Job {
        name: file.name.unwrap_or_else(|| stem.to_string()),
        inputs,
        aliases: emissivity.into_iter().collect(),
        filter: Filter {
            since: day(&file.scenes.since, "scenes.since")?,
            until: day(&file.scenes.until, "scenes.until")?,
            max_cloud: file.scenes.max_cloud,
            sensor: file.scenes.sensor.as_deref().map(|s| sensor_of(s, here)).transpose()?,
        },
        recipe,
        plots,
        rows: named("output.rows", &file.output.rows, Default::default())?,
        csv: Default::default(),
        wanted,
        naming: Naming { root: at(&file.out.unwrap_or_else(|| "results".into())), folders: true, single: None },
        style: Style::default(),
        written,
    })
}

fn within(key: &str, e: Report) -> Report {
    Report { message: format!("{key}: {}", e.message), ..e }
}

fn area_of(table: AreaTable, at: &dyn Fn(&Path) -> PathBuf) -> Result<Option<Outline>, Report> {
    let edge = named("area.edge", &table.edge, Edge::default())?;
    let outline = match (table.file, table.bounds) {
        (Some(_), Some(_)) => return Err(Report::usage("takes a file or a box, not both")),
        (Some(file), None) => Some(area(&at(&file), table.layer.as_deref(), table.only.as_deref(), edge)?),
        (None, Some(BoxText::Degrees(b))) => Some(bounds(&b.map(|v| v.to_string()).join(","))?),
        (None, Some(BoxText::Text(t))) => Some(bounds(&t)?),
        (None, None) => None,
    };
    Ok(outline.map(|o| Outline { edge, ..o }))
}

fn bands(choice: Option<Bands>) -> Result<BandChoice, Report> {
    Ok(match choice {
        None => BandChoice::Needed,
        Some(Bands::Word(w)) if w == "needed" => BandChoice::Needed,
        Some(Bands::Word(w)) if w == "all" => BandChoice::All,
        Some(Bands::Word(w)) => {
            return Err(Report::usage(format!(
                "composite.bands: \"{w}\" is neither \"needed\" nor \"all\" nor a list of bands"
            )));
        }
        Some(Bands::List(names)) => {
            BandChoice::List(roles(&names).map_err(|e| Report::usage(format!("composite.bands: {}", e.message)))?)
        }
    })
}

/// Band roles by name.
///
/// # Errors
/// With the nearest name.
pub fn roles(names: &[String]) -> Result<Vec<BandRole>, Report> {
    let one = |n: &String| {
        BandRole::from_name(n.trim())
            .ok_or_else(|| Report::from(telechroma_core::Error::unknown("band", n, BandRole::all().map(|r| r.name()))))
    };
    names.iter().map(one).collect()
}

fn layers(table: toml::Table) -> Result<Vec<LayerRequest>, Report> {
    let (mut used, mut own) = (vec![], vec![]);
    for (key, value) in table {
        match (key.as_str(), value) {
            ("use", toml::Value::Array(names)) => {
                for n in names {
                    let toml::Value::String(name) = n else {
                        return Err(Report::usage("layers.use must be a list of names"));
                    };
                    used.push(LayerRequest { name, formula: None });
                }
            }
            ("use", _) => return Err(Report::usage("layers.use must be a list of names")),
            (_, toml::Value::String(formula)) => own.push(layer(&key, &formula)?),
            _ => return Err(Report::usage(format!("layers.{key} must be a formula in quotes"))),
        }
    }
    used.extend(own);
    Ok(used)
}

/// An own layer.
///
/// # Errors
/// Where the name cannot be one.
pub fn layer(name: &str, formula: &str) -> Result<LayerRequest, Report> {
    let sound = name.chars().all(|c| c.is_ascii_alphanumeric() || c == '_')
        && name.starts_with(|c: char| c.is_ascii_alphabetic());
    if !sound {
        return Err(Report::usage(format!("'{name}' cannot be the name of a layer: letters, digits and _ only")));
    }
    if BandRole::from_name(name).is_some_and(|r| !r.is_product()) || name == "clear_looks" || name == "composite" {
        return Err(Report::usage(format!("'{name}' cannot be the name of an own layer: it means something already")));
    }
    // other indices are made of it, and would change without a word
    if INDICES.iter().any(|d| d.id == name) {
        return Err(Report::usage(format!("'{name}' is an index of the catalogue: give the own layer another name")));
    }
    Ok(LayerRequest { name: name.into(), formula: Some(formula.into()) })
}

fn plots(p: Plots, at: &dyn Fn(&Path) -> PathBuf) -> Result<PlotJob, Report> {
    let names = p.stats.unwrap_or_else(|| DEFAULT_STATS.iter().map(|s| s.to_string()).collect());
    let stats = names
        .iter()
        .map(|s| s.parse())
        .collect::<Result<Vec<_>, _>>()
        .map_err(|e| Report::usage(format!("plots.stats: {e}")))?;
    let inset = p.inset.map(|t| t.parse::<Metres>()).transpose();
    Ok(PlotJob {
        source: Source { layer: p.layer, ..Source::of(&at(&p.file)) },
        id: p.id,
        weight: named("plots.weight", &p.weight, Default::default())?,
        inset: inset.map_err(|e| Report::usage(format!("plots.inset: {e}")))?,
        stats,
    })
}

fn wanted(o: &Output, plots: bool) -> Result<Wanted, Report> {
    if o.report == Some(true) {
        return Err(Report::usage("output.report: report pages are not available yet; set it to false"));
    }
    let tables = o.tables.clone().unwrap_or_else(|| vec!["csv".into()]);
    let format = |name: &String| {
        format_of(name).ok_or_else(|| {
            let e = telechroma_core::Error::unknown("format of tables", name, endings());
            Report::usage(format!("output.tables: {e}"))
        })
    };
    let formats = tables.iter().map(format).collect::<Result<Vec<_>, _>>()?;
    let (rasters, pictures) = (o.rasters.unwrap_or(true), o.pictures.unwrap_or(false));
    Ok(Wanted {
        composites: rasters,
        layers: rasters,
        tables: if plots { formats } else { vec![] },
        scene_pictures: pictures,
        maps: pictures,
        record: true,
    })
}

#[cfg(test)]
mod tests {
    use super::*;

    fn message(text: &str) -> String {
        parse(text, Path::new("here"), "demo").err().map(|e| e.message).unwrap_or_default()
    }

    #[test]
    fn unknown_keys_have_their_line_and_the_nearest() {
        assert_eq!(message("[mask]\ngrwo = \"60m\"\n"), "line 2: unknown key 'mask.grwo': did you mean 'mask.grow'?");
        assert_eq!(message("[msak]\n"), "line 1: unknown key 'msak': did you mean 'mask'?");
        assert_eq!(message("[area]\nfil = \"x\"\n"), "line 2: unknown key 'area.fil': did you mean 'area.file'?");
    }

    #[test]
    fn values_are_checked() {
        assert_eq!(message("[mask]\ngrow = \"60\"\n"), "mask.grow: '60' has no unit: write 60m or 60km");
        assert!(message("[layers]\nuse = [\"ndvi\"]\n[output]\nreport = true\n").contains("not available yet"));
        assert!(message("[layers]\nred = \"nir\"\n").contains("means something already"));
        assert!(message("[composite]\nbands = [\"rde\"]\n").contains("did you mean 'red'"));
        assert!(
            message("[area]\nbox = [2, 1, 1, 3]\n[layers]\nuse = [\"ndvi\"]\n")
                .contains("area: '2,1,1,3' is an empty box")
        );
        assert!(
            message("[grid]\ncells = \"10\"\n[layers]\nuse = [\"ndvi\"]\n").contains("grid.cells: '10' is no grid")
        );
        assert!(message("").contains("nothing to make"));
        assert!(message("[mask\n").contains("line 1"));
    }

    #[test]
    fn a_full_file_becomes_a_job() {
        let text = "name = \"T\"\nout = \"o\"\n[scenes]\nfrom = \"s\"\nsince = 2031-04-01\nuntil = \"2031-10-31\"\n[mask]\ngrow = \"60m\"\n\
            [layers]\nuse = [\"ndvi\"]\ngreen_red = \"green / red\"\nz = \"red\"\n[plots]\nfile = \"f.geojson\"\nstats = [\"p10\"]\n";
        let job = parse(text, Path::new("here"), "demo").unwrap();
        assert_eq!(job.inputs, [Path::new("here/s")]);
        assert_eq!(job.recipe.layers.iter().map(|l| l.name.as_str()).collect::<Vec<_>>(), ["ndvi", "green_red", "z"]);
        assert_eq!(job.filter.until.unwrap().to_string(), "2031-10-31");
        assert!(job.wanted.tables.len() == 1 && !job.wanted.maps);
    }
}
