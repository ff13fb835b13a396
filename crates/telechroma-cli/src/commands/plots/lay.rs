//! `plots lay`: a grid of trial plots.

use std::path::PathBuf;

use telechroma_core::attribute::Value;
use telechroma_core::feature::{self, Feature, Features, Field, FieldKind};
use telechroma_core::geo::{Crs, Projector};
use telechroma_core::layout::{Corner, Layout, Numbering, Order, Part, Place, Shift, id_of, lay, treatments};
use telechroma_core::plot::{Polygon, Shape};
use telechroma_core::units::Metres;
use telechroma_io::table::csv;
use telechroma_io::vector::{self, Source};

use super::files::{units, write, zone_of};
use crate::context::Context;
use crate::report::Report;

/// Lay a grid of trial plots: rows and columns with alleys, turned, numbered, with treatments
///
/// The first plot's corner is the origin; columns run along the angle, counter-clockwise from east, rows to the left of it.
///
/// Example: telechroma plots lay --origin -33.0,39.75 --size 1.5m,6m --count 12,5 --alley 0.5m,1m --angle 17 --out trial.gpkg
#[derive(clap::Args)]
pub struct Args {
    /// Size of a plot: along the angle, and across it
    #[arg(long, value_name = "W,H", value_parser = two_lengths)]
    size: (Metres, Metres),
    /// Columns and rows; default, within an area: as many as fit
    #[arg(long, value_name = "COLUMNS,ROWS", value_parser = two_counts)]
    count: Option<(u32, u32)>,
    /// Alleys between columns, and between rows
    #[arg(long, value_name = "X,Y", value_parser = two_lengths, default_value = "0m,0m")]
    alley: (Metres, Metres),
    /// The corner of the first plot: longitude,latitude, or map coordinates X,Y with --crs
    #[arg(long, value_name = "X,Y", allow_hyphen_values = true, value_parser = two_numbers, required_unless_present = "within")]
    origin: Option<(f64, f64)>,
    /// Lay the grid into the middle of the polygon of a file, along its longer side; plots that stand out are left out
    #[arg(long, value_name = "FILE", conflicts_with = "origin")]
    within: Option<PathBuf>,
    /// Degrees counter-clockwise from east; default: 0, or along the longer side of the area
    #[arg(long, value_name = "DEGREES", allow_hyphen_values = true)]
    angle: Option<f64>,
    /// Run along the first line of a file, from its beginning to its end
    #[arg(long, value_name = "FILE", conflicts_with = "angle")]
    along: Option<PathBuf>,
    /// Coordinate system of the origin and of the plots; default: the UTM zone of an origin in degrees
    #[arg(long, value_name = "CRS", value_parser = |t: &str| Crs::from_text(t))]
    crs: Option<Crs>,
    /// Columns and rows of a block
    #[arg(long, value_name = "COLUMNS,ROWS", value_parser = two_counts, requires = "block_alley")]
    block: Option<(u32, u32)>,
    /// Alleys between blocks
    #[arg(long, value_name = "X,Y", value_parser = two_lengths, requires = "block")]
    block_alley: Option<(Metres, Metres)>,
    /// Move all plots east and north, or a part: '0.4m,-1m', '0.2m,0m@row 3', '1m,0m@block 2'; may be repeated
    #[arg(long, value_name = "X,Y[@PART]", allow_hyphen_values = true, value_parser = shift)]
    shift: Vec<(f64, f64, Part)>,
    /// The corner where numbers begin: bottom-left (the origin), bottom-right, top-left, top-right
    #[arg(long, value_name = "CORNER", default_value = "bottom-left")]
    number_from: Corner,
    /// How numbers run: rows, columns, serpentine (rows there and back), serpentine-columns
    #[arg(long, value_name = "ORDER", default_value = "rows")]
    number_by: Order,
    /// The ids: {n}, {row}, {column}, {block}, with digits as {n:03}
    #[arg(long, value_name = "PATTERN", default_value = "{n}")]
    ids: String,
    /// Treatments by a pattern of rows from the origin, repeated: 'A B C; B C A'
    #[arg(long, value_name = "PATTERN", conflicts_with = "design")]
    treatments: Option<String>,
    /// Treatments, and whatever else is known, from a CSV with a column plot (the ids)
    #[arg(long, value_name = "FILE")]
    design: Option<PathBuf>,
    /// The file to write: .gpkg, .geojson, .shp, .parquet
    #[arg(long, value_name = "FILE")]
    out: PathBuf,
}

fn parts<T>(text: &str, one: impl Fn(&str) -> Option<T>) -> Option<(T, T)> {
    let (a, b) = text.split_once(',')?;
    Some((one(a.trim())?, one(b.trim())?))
}

fn two_lengths(text: &str) -> Result<(Metres, Metres), String> {
    let wrong = || format!("'{text}' is not two lengths: write for example 1.5m,6m");
    let (a, b) = text.split_once(',').ok_or_else(wrong)?;
    Ok((a.parse().map_err(|e| format!("{e}"))?, b.parse().map_err(|e| format!("{e}"))?))
}

fn two_counts(text: &str) -> Result<(u32, u32), String> {
    parts(text, |t| t.parse().ok()).ok_or_else(|| "write columns,rows such as 12,5".into())
}

fn two_numbers(text: &str) -> Result<(f64, f64), String> {
    parts(text, |t| t.parse().ok().filter(|v: &f64| v.is_finite()))
        .ok_or_else(|| "write X,Y such as -33.05,39.75".into())
}

fn shift(text: &str) -> Result<(f64, f64, Part), String> {
    let (lengths, part) = match text.split_once('@') {
        Some((l, p)) => (l, p.parse().map_err(|e: telechroma_core::Error| e.to_string())?),
        None => (text, Part::All),
    };
    let one = |t: &str| -> Option<f64> {
        let (sign, t) = t.strip_prefix('-').map_or((1.0, t), |t| (-1.0, t));
        Some(sign * t.parse::<Metres>().ok()?.0)
    };
    let (x, y) = parts(lengths, one).ok_or_else(|| format!("'{text}' is no shift: write 0.4m,-1m or 0.2m,0m@row 3"))?;
    Ok((x, y, part))
}

/// Where a grid begins, how it is turned, and in what system.
struct Site {
    crs: Crs,
    origin: (f64, f64),
    angle: f64,
    /// The area that plots must not stand out of, and how far it reaches along and across.
    area: Option<(Shape, (f64, f64))>,
}

impl Site {
    /// The corner at which a grid begins: within an area it lies in the middle, with what is over on all sides.
    fn middle(&self, (cols, rows): (u32, u32), size: (f64, f64), alley: (f64, f64)) -> (f64, f64) {
        let Some((_, reach)) = &self.area else { return self.origin };
        let over =
            |reach: f64, n: u32, side: f64, gap: f64| ((reach + gap - f64::from(n) * (side + gap)) / 2.0).max(0.0);
        let (u, v) = (over(reach.0, cols, size.0, alley.0), over(reach.1, rows, size.1, alley.1));
        let (s, c) = self.angle.to_radians().sin_cos();
        (self.origin.0 + c * u - s * v, self.origin.1 + s * u + c * v)
    }
}

pub fn run(args: &Args, ctx: &Context) -> Result<(), Report> {
    let site = site(args)?;
    let unit = |m: Metres| units(site.crs, m.0);
    let both = |two: (Metres, Metres)| (unit(two.0), unit(two.1));
    let (size, alley) = (both(args.size), both(args.alley));
    let fitting = |reach: f64, side: f64, gap: f64| ((reach + gap) / (side + gap)).floor().clamp(0.0, 1e6) as u32;
    let count = match (args.count, &site.area) {
        (Some(count), _) => count,
        (None, Some((_, reach))) => (fitting(reach.0, size.0, alley.0), fitting(reach.1, size.1, alley.1)),
        (None, None) => {
            return Err(Report::usage("how many plots is not said").hint("--count 12,5, or an area with --within"));
        }
    };
    let none = || Report::usage("no plot fits into the area whole").hint("a smaller --size, or another --angle");
    if args.count.is_none() && (count.0 == 0 || count.1 == 0) {
        return Err(none());
    }
    let layout = Layout {
        origin: site.middle(count, size, alley),
        angle: site.angle,
        size,
        alley,
        count,
        block: args.block.zip(args.block_alley.map(both)),
        shifts: args
            .shift
            .iter()
            .map(|(x, y, part)| Shift { by: (units(site.crs, *x), units(site.crs, *y)), part: *part })
            .collect(),
    };
    let laid = lay(&layout, Numbering { from: args.number_from, order: args.number_by })?;
    let mut features = features(args, site.crs, &laid)?;
    let all = features.rows.len();
    if let Some((area, _)) = &site.area {
        features.rows.retain(|r| feature::overlap(&r.shape, area) > (1.0 - 1e-6) * r.shape.area());
    }
    if features.rows.is_empty() {
        return Err(none());
    }
    let out = all - features.rows.len();
    let mut features = with_design(args, features, ctx)?;
    features.rows.sort_by_key(|r| r.values[1].number().map_or(0, |n| n as u64));
    let left = if out > 0 { format!(" ({out} stand out of the area)") } else { String::new() };
    let what = format!("{} plots of {} x {}{left}", features.rows.len(), args.size.0, args.size.1);
    write(&args.out, &features, &what, ctx)
}

fn site(args: &Args) -> Result<Site, Report> {
    if let Some(file) = &args.within {
        return within(args, file);
    }
    let Some((x, y)) = args.origin else { return Err(Report::usage("where the grid begins is not said")) };
    let degrees = x.abs() <= 180.0 && y.abs() <= 90.0;
    let (crs, from) = match args.crs {
        // an origin in degrees, for plots in a map's system
        Some(crs) => (crs, if degrees { Crs::LONGITUDE_LATITUDE } else { crs }),
        None if degrees => (zone_of((x, y))?, Crs::LONGITUDE_LATITUDE),
        None => {
            return Err(Report::usage("the origin is in map coordinates, of a system that is not said")
                .hint("--crs EPSG:32633"));
        }
    };
    if crs.metres().is_none() {
        return Err(Report::usage(format!("{crs} is in degrees: plots are laid in a map's system")));
    }
    let project = Projector::new(from, crs)?;
    let angle = direction(args, crs)?.unwrap_or(0.0);
    Ok(Site { crs, origin: project.project(x, y)?, angle, area: None })
}

/// The angle that was given, or that of a line; degrees counter-clockwise from east.
fn direction(args: &Args, crs: Crs) -> Result<Option<f64>, Report> {
    let Some(file) = &args.along else { return Ok(args.angle) };
    let found = vector::read(&Source::of(file))?.features.in_crs(crs)?;
    let line = found.rows.iter().flat_map(|r| r.shape.lines()).find(|l| l.len() > 1 && l.first() != l.last());
    match line.map(|l| (l[0], l[l.len() - 1])) {
        Some((a, b)) => Ok(Some((b.1 - a.1).atan2(b.0 - a.0).to_degrees())),
        None => Err(Report::usage(format!("{}: holds no line to lay plots along", file.display()))),
    }
}

/// A grid along the longer side of a polygon, beginning in a corner of the smallest rectangle round it.
fn within(args: &Args, file: &std::path::Path) -> Result<Site, Report> {
    let found = vector::read(&Source::of(file))?.features;
    let crs = match args.crs {
        Some(crs) => crs,
        None => super::files::metric(&found)?,
    };
    let moved = found.in_crs(crs)?;
    let area = feature::united(moved.rows.iter().map(|r| &r.shape));
    let angle = direction(args, crs)?.unwrap_or_else(|| longer_side(&area));
    // the area's extent along and across the angle
    let (s, c) = angle.to_radians().sin_cos();
    let turned: Vec<(f64, f64)> = area.positions().map(|(x, y)| (c * x + s * y, c * y - s * x)).collect();
    let fold =
        |pick: fn(&(f64, f64)) -> f64, best: fn(f64, f64) -> f64| turned.iter().map(pick).reduce(best).unwrap_or(0.0);
    let ((u0, u1), (v0, v1)) =
        ((fold(|p| p.0, f64::min), fold(|p| p.0, f64::max)), (fold(|p| p.1, f64::min), fold(|p| p.1, f64::max)));
    let origin = (c * u0 - s * v0, s * u0 + c * v0);
    Ok(Site { crs, origin, angle, area: Some((area, (u1 - u0, v1 - v0))) })
}

/// Direction of the longest edge, −90 to 90 degrees from east.
fn longer_side(area: &Shape) -> f64 {
    let edges = area.rings().flat_map(|r| r.iter().zip(r.iter().cycle().skip(1)));
    let longest = edges.max_by(|a, b| length(a).total_cmp(&length(b)));
    let angle = longest.map_or(0.0, |(a, b)| (b.1 - a.1).atan2(b.0 - a.0).to_degrees());
    if angle > 90.0 {
        angle - 180.0
    } else if angle <= -90.0 {
        angle + 180.0
    } else {
        angle
    }
}

fn length((a, b): &(&(f64, f64), &(f64, f64))) -> f64 {
    (b.0 - a.0).hypot(b.1 - a.1)
}

fn features(args: &Args, crs: Crs, laid: &[(Place, [(f64, f64); 4])]) -> Result<Features, Report> {
    let mut fields: Vec<Field> = [("plot", FieldKind::Text)]
        .into_iter()
        .chain([
            ("number", FieldKind::Whole),
            ("row", FieldKind::Whole),
            ("column", FieldKind::Whole),
            ("block", FieldKind::Whole),
        ])
        .map(|(name, kind)| Field { name: name.into(), kind })
        .collect();
    if args.treatments.is_some() {
        fields.push(Field { name: "treatment".into(), kind: FieldKind::Text });
    }
    let mut rows = vec![];
    for (place, corners) in laid {
        let numbers = [place.number, place.row, place.column, place.block].map(|n| Value::Whole(i64::from(n)));
        let mut values = vec![Value::Text(id_of(&args.ids, *place)?)];
        values.extend(numbers);
        if let Some(pattern) = &args.treatments {
            values.push(Value::Text(treatments(pattern, *place)?));
        }
        let polygon = Polygon { outer: corners.to_vec(), holes: vec![] };
        rows.push(Feature { values, shape: Shape::Polygons(vec![polygon]) });
    }
    let all = Features { crs, fields, rows };
    all.plots(0)
        .map_err(|e| Report::from(e).hint("give each plot an id of its own: --ids '{row}-{column}' or '{n:03}'"))?;
    Ok(all)
}

/// The design's columns, joined by the ids, or by the numbers where the design has no such ids.
fn with_design(args: &Args, features: Features, ctx: &Context) -> Result<Features, Report> {
    let Some(file) = &args.design else { return Ok(features) };
    let (columns, rows) = csv::read(file)?;
    let key = ["plot", "id", "plot_id", "number"].iter().find(|n| columns.iter().any(|c| c == *n));
    let Some(key) = key else {
        return Err(Report::usage(format!("{}: has no column plot, but {}", file.display(), columns.join(", "))));
    };
    let by = usize::from(*key == "number");
    let (columns, rows) = without_own(&features, columns, rows, key);
    super::join::joined(features, by, (&columns, &rows), key, ctx)
}

/// A design often repeats rows and columns: what the grid knows itself is left to it.
fn without_own(
    features: &Features,
    columns: Vec<String>,
    rows: Vec<Vec<String>>,
    key: &str,
) -> (Vec<String>, Vec<Vec<String>>) {
    let keep: Vec<bool> = columns.iter().map(|c| c == key || features.column(c).is_none()).collect();
    let filter = |r: Vec<String>| r.into_iter().zip(&keep).filter(|(_, k)| **k).map(|(t, _)| t).collect();
    (filter(columns), rows.into_iter().map(filter).collect())
}
