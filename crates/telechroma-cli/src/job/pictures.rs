//! The pictures of a job: gathered while it runs, drawn when all of it is known, so that one layer has the same
//! colours in all periods.

use std::collections::BTreeMap;
use std::sync::atomic::{AtomicUsize, Ordering};

use telechroma_core::graph::NodeId;
use telechroma_core::index::INDICES;
use telechroma_core::method::{MEASURES, PlannedLayer, PlannedPeriod, PlannedSeason};
use telechroma_core::plot::Plot;
use telechroma_core::run::Sink;
use telechroma_core::units::Unit;
use telechroma_io::figure::{Legend, MapFigure, Picture, PictureEncoder, PictureFile, Ramp, SceneFigure, Shown, ends};

use super::plots::OpenPlots;
use super::{Job, Outcome, Output, Staged};
use crate::report::Report;

/// How pictures look; everything has a default that fits.
#[derive(Debug, Clone, Default)]
pub struct Style {
    /// Three bands of a colour picture; empty: the most natural ones there are.
    pub colours: Vec<String>,
    /// Percentiles of the stretch of colour pictures; none: 2 and 98.
    pub stretch: Option<(f64, f64)>,
    /// Values of the ends of a map's legend.
    pub range: Option<(f64, f64)>,
    /// The colour ramp of maps.
    pub ramp: Option<&'static Ramp>,
}

/// Bands of a colour picture, the most natural first.
pub const COLOURS: &[[&str; 3]] =
    &[["red", "green", "blue"], ["nir", "red", "green"], ["swir16", "nir", "red"], ["swir22", "nir", "red"]];
pub const STRETCH: (f64, f64) = (2.0, 98.0);

/// What a picture shows.
enum What {
    Scene([String; 3]),
    Map(PlannedLayer),
}

/// One picture being gathered.
pub struct PictureOut {
    what: What,
    period: String,
    scenes: usize,
    groups: Vec<Vec<NodeId>>,
    encoder: PictureEncoder,
    file: PictureFile,
    outlines: Vec<Vec<(f64, f64)>>,
}

impl PictureOut {
    /// Its sink.
    pub fn sink(&mut self) -> Sink<'_> {
        Sink { groups: self.groups.clone(), prepare: &self.encoder, absorb: &mut self.file }
    }
}

/// The bands of a period's colour picture, if it has three that make one.
fn colours(job: &Job, period: &PlannedPeriod) -> Option<[PlannedLayer; 3]> {
    let find = |names: [&str; 3]| -> Option<[PlannedLayer; 3]> {
        let one = |name: &str| period.bands.iter().chain(&period.layers).find(|b| b.name == name).cloned();
        Some([one(names[0])?, one(names[1])?, one(names[2])?])
    };
    match job.style.colours.as_slice() {
        [r, g, b] => find([r, g, b]),
        _ => COLOURS.iter().find_map(|names| find(*names)),
    }
}

/// Names of a period's pictures.
pub fn names(job: &Job, period: &PlannedPeriod) -> Vec<String> {
    let mut names = vec![];
    if job.wanted.scene_pictures && colours(job, period).is_some() {
        names.push(job.naming.picture("composite", &period.period));
    }
    if job.wanted.maps {
        names.extend(period.layers.iter().map(|l| job.naming.picture(&l.name, &period.period)));
    }
    names
}

/// The picture sinks of one graph.
pub fn sinks(job: &Job, season: &PlannedSeason, plots: Option<&OpenPlots>) -> Vec<PictureOut> {
    let outlines: Vec<Vec<(f64, f64)>> = match plots.map(|p| p.laid_on(season.graph.grid())) {
        Some(Ok(laid)) => laid.iter().flat_map(rings).collect(),
        _ => vec![], // the table says what is wrong with the plots
    };
    let mut outs = vec![];
    for period in &season.periods {
        let mut add = |what: What, nodes: &[NodeId]| {
            let (encoder, file) = PictureEncoder::create(season.graph.grid(), nodes.len());
            let (groups, scenes) = (nodes.iter().map(|n| vec![*n]).collect(), period.scenes.len());
            outs.push(PictureOut {
                what,
                period: period.period.clone(),
                scenes,
                groups,
                encoder,
                file,
                outlines: outlines.clone(),
            });
        };
        if let Some(bands) = colours(job, period).filter(|_| job.wanted.scene_pictures) {
            let nodes = bands.each_ref().map(|b| b.node);
            add(What::Scene(bands.map(|b| b.name)), &nodes);
        }
        for l in period.layers.iter().filter(|_| job.wanted.maps) {
            add(What::Map(l.clone()), &[l.node]);
        }
    }
    outs
}

pub fn rings(plot: &Plot) -> Vec<Vec<(f64, f64)>> {
    plot.shape.rings().cloned().collect()
}

/// A gathered picture with what its page says.
pub struct Gathered {
    what: What,
    period: String,
    scenes: usize,
    picture: Picture,
    outlines: Vec<Vec<(f64, f64)>>,
}

impl From<PictureOut> for Gathered {
    fn from(o: PictureOut) -> Gathered {
        Gathered { what: o.what, period: o.period, scenes: o.scenes, picture: o.file.finish(), outlines: o.outlines }
    }
}

/// Draws all pictures of a job, several at a time.
///
/// # Errors
/// Where drawing or writing fails.
pub fn draw(job: &Job, all: &[Gathered], stage: &Staged, threads: usize, outcome: &mut Outcome) -> Result<(), Report> {
    let ranges = ranges(job, all);
    let next = AtomicUsize::new(0);
    let work = || {
        while let Some(g) = all.get(next.fetch_add(1, Ordering::Relaxed)) {
            let name = name_of(job, g);
            let png = page(job, g, &ranges)
                .map_err(|e| Report::failed(format!("{name}: the picture cannot be drawn: {e}")))?;
            if let Some(path) = stage.get(&name) {
                std::fs::write(path, png).map_err(|e| telechroma_io::Error::io(path, e))?;
            }
        }
        Ok(())
    };
    let results: Vec<Result<(), Report>> = std::thread::scope(|s| {
        let handles: Vec<_> = (0..threads.clamp(1, all.len().max(1))).map(|_| s.spawn(work)).collect();
        handles
            .into_iter()
            .map(|h| h.join().unwrap_or_else(|_| Err(Report::failed("drawing a picture panicked"))))
            .collect()
    });
    results.into_iter().collect::<Result<Vec<()>, Report>>()?;
    for g in all {
        let (layer, unit) = match &g.what {
            What::Scene(_) => ("composite".to_string(), String::new()),
            What::Map(l) => (l.name.clone(), l.unit.label().to_string()),
        };
        outcome.outputs.push(Output { kind: "picture", layer, period: g.period.clone(), path: name_of(job, g), unit });
    }
    Ok(())
}

fn name_of(job: &Job, g: &Gathered) -> String {
    let what = match &g.what {
        What::Scene(_) => "composite",
        What::Map(l) => &l.name,
    };
    job.naming.picture(what, &g.period)
}

fn page(job: &Job, g: &Gathered, ranges: &BTreeMap<String, (f64, f64)>) -> Result<Vec<u8>, String> {
    let shown =
        Shown { title: title(job, g), subtitle: subtitle(job, g), outlines: g.outlines.clone(), before: vec![] };
    match &g.what {
        What::Scene(names) => {
            let (low, high) = job.style.stretch.unwrap_or(STRETCH);
            let channels = std::array::from_fn(|i| {
                (names[i].clone(), ends(g.picture.planes[i].iter().copied(), low, high).unwrap_or((0.0, 1.0)))
            });
            SceneFigure { picture: &g.picture, shown, channels }.png()
        }
        What::Map(l) => {
            let range = ranges.get(&l.name).copied().unwrap_or((0.0, 1.0));
            let legend = Legend { label: label(l), ramp: job.style.ramp.unwrap_or_else(|| ramp(l)), range };
            MapFigure { picture: &g.picture, shown, legend }.png()
        }
    }
}

/// The legend's ends of each layer, the same in all periods: as asked for, or from the 1st to the 99th percentile of
/// all that is shown, kept to the typical range of an index.
fn ranges(job: &Job, all: &[Gathered]) -> BTreeMap<String, (f64, f64)> {
    let mut ranges = BTreeMap::new();
    for g in all {
        let What::Map(l) = &g.what else { continue };
        if ranges.contains_key(&l.name) {
            continue;
        }
        let same = all.iter().filter(|o| matches!(&o.what, What::Map(m) if m.name == l.name));
        let values = same.flat_map(|o| o.picture.planes.iter().flatten().copied());
        let range = job.style.range.or_else(|| {
            let (low, high) = ends(values, 1.0, 99.0)?;
            let typical = INDICES.iter().find(|d| d.id == l.name && d.unit == Unit::One).map(|d| d.typical);
            Some(match typical {
                Some((a, b)) if low.max(a) < high.min(b) => (low.max(a), high.min(b)),
                _ => (low, high),
            })
        });
        ranges.insert(l.name.clone(), range.unwrap_or((0.0, 1.0)));
    }
    ranges
}

pub fn ramp(l: &PlannedLayer) -> &'static Ramp {
    let by_unit = match l.unit {
        Unit::Kelvin | Unit::Celsius | Unit::Fahrenheit => "heat",
        _ => "slate",
    };
    let warms = l.name.ends_with("difference") && by_unit == "heat";
    let measure = || MEASURES.iter().find(|m| l.name.ends_with(m.layer.trim_start_matches("{x}"))).map(|m| m.ramp);
    let known = || INDICES.iter().find(|d| d.id == l.name).map(|d| d.ramp).or_else(measure).unwrap_or(by_unit);
    let id = if warms { "warming" } else { known() };
    Ramp::find(id).unwrap_or(&telechroma_io::figure::RAMPS[0])
}

pub fn label(l: &PlannedLayer) -> String {
    match l.unit.sign() {
        "" => l.name.clone(),
        sign => format!("{}, {sign}", l.name),
    }
}

fn title(job: &Job, g: &Gathered) -> String {
    let what = match &g.what {
        What::Scene(_) => "composite",
        What::Map(l) => &l.name,
    };
    format!("{}: {what}, {}", job.name, period_text(&g.period))
}

/// A period as people write it.
pub fn period_text(period: &str) -> String {
    if period == "all" { "all dates".into() } else { period.replace("_to_", " to ").replace('_', " to ") }
}

fn subtitle(job: &Job, g: &Gathered) -> String {
    let grid = &g.picture.grid;
    let what = match &g.what {
        What::Scene(_) => None,
        What::Map(l) => {
            INDICES.iter().find(|d| d.id == l.name).map(|d| d.name.to_string()).or_else(|| l.formula.clone())
        }
    };
    let (w, _) = grid.transform.cell();
    let cells =
        if grid.is_metric() { format!("cells of {w} m") } else { format!("{} x {} cells", grid.cols, grid.rows) };
    let scenes = (g.scenes > 1).then(|| format!("{} of {} scenes", job.recipe.by.name(), g.scenes));
    let crs = grid.crs.map(|c| c.name());
    [what, scenes, crs, Some(cells)].into_iter().flatten().collect::<Vec<_>>().join("  ·  ")
}
