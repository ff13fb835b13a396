//! `assemble`: any inputs to one raster on one grid.

use std::path::Path;

use serde_json::json;
use telechroma_core::graph::NodeId;
use telechroma_core::method::{Piece, plan_assembled};
use telechroma_core::op::{Overlap, Resample};
use telechroma_core::run::Observer;
use telechroma_core::scene::{Band, LayerSet, Scene};
use telechroma_io::bytes::ByteRange;
use telechroma_io::delivery::Sidecar;
use telechroma_io::raster::cog::Packing;
use telechroma_io::raster::description::{BandInfo, Description, InputInfo, Kind, tool};
use telechroma_io::raster::samples::SampleFormat;
use telechroma_io::raster::tiff::Tiff;

use crate::commands::chain::Selection;
use crate::context::{Context, listed};
use crate::job::{open_inputs, write_raster};
use crate::report::Report;

/// Put any inputs together in one raster: bands of other names are stacked, bands of one name joined side by side
///
/// Example: telechroma assemble b4.tif b5.tif --area estate.geojson --out estate.tif
#[derive(clap::Args)]
pub struct Args {
    /// Rasters or scenes, NAME=FILE to give a band another name; @list.txt for a list
    #[arg(required = true, value_name = "INPUT")]
    pub inputs: Vec<String>,
    /// The raster
    #[arg(long, value_name = "FILE", required = true)]
    pub out: std::path::PathBuf,
    /// Only these bands, in this order
    #[arg(long, value_name = "LIST", value_delimiter = ',')]
    pub bands: Vec<String>,
    /// What counts where bands of one name overlap: first, last, mean, or best (by --score)
    #[arg(long, value_name = "RULE", default_value = "first")]
    pub overlap: Overlap,
    /// The input in which this formula is greatest counts, for all bands alike
    #[arg(long, value_name = "FORMULA", required_if_eq("overlap", "best"))]
    pub score: Option<String>,
    /// Type of the numbers stored: uint8, int8, uint16, int16 or float32; default: that of the inputs where nothing is
    /// lost, else float32
    #[arg(long = "type", value_name = "TYPE", conflicts_with = "pack")]
    pub format: Option<String>,
    /// Store whole numbers with scale and offset: i16 or u16
    #[arg(long, value_name = "TYPE", value_parser = ["i16", "u16"])]
    pub pack: Option<String>,
    /// Value of a step of packed numbers
    #[arg(long, value_name = "NUMBER", default_value_t = 0.0001, requires = "pack")]
    pub scale: f64,
    /// Value of a packed zero
    #[arg(long, value_name = "NUMBER", default_value_t = 0.0, allow_hyphen_values = true, requires = "pack")]
    pub offset: f64,
    /// Whole number that stands for missing
    #[arg(long, value_name = "NUMBER", allow_hyphen_values = true)]
    pub missing: Option<i32>,
    /// Packing of the blocks: deflate or none
    #[arg(long, value_name = "HOW", default_value = "deflate", value_parser = ["deflate", "none"])]
    pub compress: String,
    #[command(flatten)]
    pub selection: Selection,
}

/// What the inputs' own files store, where all store the same: type and missing value.
type Stored = Option<(SampleFormat, Option<f64>)>;

fn stored(path: &Path) -> Stored {
    let beside = Sidecar::of(path).ok()?;
    // packed numbers are not the values
    if beside.as_ref().is_some_and(|s| s.scale.is_some() || s.offset.is_some()) {
        return None;
    }
    if let Some((raw, missing)) = beside.as_ref().and_then(|s| Some((s.raw.as_ref()?, s.missing))) {
        return Some((SampleFormat::from_name(&raw.format)?, missing));
    }
    let tiff = Tiff::open(ByteRange::whole(path).ok()?).ok()?;
    let described = tiff.header.description.as_deref().and_then(Description::from_text);
    if described.is_some_and(|d| d.bands.iter().any(|b| b.scale.is_some() || b.offset.is_some())) {
        return None;
    }
    Some((tiff.header.format, tiff.header.nodata))
}

/// A raster's layers, its one band under another name if one is given.
fn of_layers(set: &LayerSet, alias: Option<&str>) -> Result<Piece, Report> {
    let planes = match (alias, set.layers.as_slice()) {
        (None, layers) => layers.iter().map(|l| (l.name.clone(), l.source.clone())).collect(),
        (Some(name), [one]) => vec![(name.to_string(), one.source.clone())],
        (Some(name), layers) => {
            return Err(Report::usage(format!(
                "{name}={}: the file has {} bands, so one name is not enough",
                set.name,
                layers.len()
            )));
        }
    };
    Ok(Piece { name: set.name.clone(), planes })
}

/// A scene's bands; those with finer cells than the scene's, such as pan, only where they are named.
fn of_scene(s: &Scene, named: &[String]) -> Piece {
    let mut planes: Vec<(String, _)> = vec![];
    let side = |g: &telechroma_core::grid::Grid| g.transform.determinant().abs();
    let wanted = |b: &&Band| match named {
        [] => side(&b.source.spec().grid) > 0.9 * side(&s.grid),
        names => names.iter().any(|n| n == b.role.name()),
    };
    for b in s.bands.iter().filter(wanted) {
        if planes.iter().all(|(n, _)| n != b.role.name()) {
            planes.push((b.role.name().into(), b.source.clone()));
        }
    }
    Piece { name: s.id.clone(), planes }
}

pub fn run(args: Args, ctx: &Context) -> Result<(), Report> {
    let filter = args.selection.filter()?;
    let frame = args.selection.frame.frame()?;
    let (mut pieces, mut inputs, mut types, mut units): (Vec<Piece>, Vec<InputInfo>, Vec<Stored>, _) =
        (vec![], vec![], vec![], vec![]);
    for word in &args.inputs {
        let (alias, path) =
            match word.split_once('=').filter(|(_, p)| !Path::new(word).exists() && Path::new(p).exists()) {
                Some((name, path)) => (Some(name), path.to_string()),
                None => (None, word.clone()),
            };
        let paths = listed(&[path])?;
        let opened = open_inputs(&paths, &filter, ctx)?;
        for set in &opened.layers {
            pieces.push(of_layers(set, alias)?);
            inputs.push(InputInfo { id: set.name.clone(), digest: set.digest.clone() });
            units.extend(set.layers.iter().map(|l| l.unit));
            // folders and lists hold files of their own
            types.push(paths.first().filter(|p| p.is_file() && opened.layers.len() == 1).and_then(|p| stored(p)));
        }
        for scene in &opened.scenes {
            if alias.is_some() {
                return Err(Report::usage(format!("{word}: a scene's bands are called by what they see")));
            }
            pieces.push(of_scene(scene, &args.bands));
            inputs.push(InputInfo { id: scene.id.clone(), digest: scene.digest.clone() });
            types.push(None);
        }
    }
    if !args.bands.is_empty() {
        for p in &mut pieces {
            p.planes.retain(|(n, _)| args.bands.contains(n));
        }
        pieces.retain(|p| !p.planes.is_empty());
        if let Some(name) = args.bands.iter().find(|n| pieces.iter().all(|p| p.planes.iter().all(|(x, _)| x != *n))) {
            return Err(Report::usage(format!("none of the inputs has a band '{name}'")));
        }
    }
    let mut plan = plan_assembled(&pieces, &frame, args.overlap, args.score.as_deref())?;
    plan.notes.drain(..).for_each(|n| ctx.progress.note(n));
    if !args.bands.is_empty() {
        plan.bands.sort_by_key(|(n, ..)| args.bands.iter().position(|b| b == n));
    }
    let keeps_values = plan.exact && args.overlap != Overlap::Mean
        || frame
            .resample
            .is_some_and(|r| matches!(r, Resample::Nearest | Resample::Mode | Resample::Min | Resample::Max));
    let (packing, why) = packing(&args, &types, keeps_values, plan.gaps)?;
    let coded = match packing {
        Packing::Coded { scale, offset, .. } if (scale, offset) != (1.0, 0.0) => Some((scale, offset)),
        _ => None,
    };
    let infos = plan.bands.iter().map(|(name, _, unit)| BandInfo {
        scale: coded.map(|c| c.0),
        offset: coded.map(|c| c.1),
        ..BandInfo::new(name.clone(), *unit)
    });
    let description = Description {
        tool: tool(),
        kind: Kind::Assembled,
        period: None,
        scene: None,
        bands: infos.collect(),
        legend: vec![],
        classes: vec![],
        inputs,
        steps: vec![format!("assemble {} bands", plan.bands.len())],
    };
    let bands: Vec<String> = plan.bands.iter().map(|b| b.0.clone()).collect();
    let planes: Vec<NodeId> = plan.bands.iter().map(|b| b.1).collect();
    let grid = plan.graph.grid().clone();
    let stored = (packing, args.compress == "deflate");
    let report = write_raster(&args.out, plan.graph, &planes, &description, stored, ctx)?;
    match ctx.json {
        true => ctx.print_json(&json!({
            "outputs": [{"kind": "assembled", "path": args.out.display().to_string(), "bands": bands, "cols": grid.cols, "rows": grid.rows, "stored": why}],
            "counts": {"blocks": report.blocks, "blocks_decoded": report.decoded, "blocks_decoded_again": report.decoded_again},
            "notes": ctx.progress.notes().iter().map(ToString::to_string).collect::<Vec<_>>(),
        })),
        false => ctx.progress.say(&format!(
            "{}: {} of {} x {} cells, {why}; {} of {} blocks decoded",
            args.out.display(),
            bands.join(", "),
            grid.cols,
            grid.rows,
            report.decoded,
            report.blocks
        )),
    }
    Ok(())
}

/// How the numbers are stored, and that in words.
fn packing(args: &Args, types: &[Stored], keeps_values: bool, gaps: bool) -> Result<(Packing, String), Report> {
    if let Some(pack) = &args.pack {
        let format = if pack == "i16" { SampleFormat::I16 } else { SampleFormat::U16 };
        if !(args.scale.is_finite() && args.scale > 0.0) {
            return Err(Report::usage(format!("--scale {}: a step must be greater than zero", args.scale)));
        }
        let missing = args.missing.unwrap_or(if pack == "i16" { -32_768 } else { 0 });
        fits(format, Some(missing))?;
        let why = format!("{} x {} + {}, missing {missing}", format.name(), args.scale, args.offset);
        return Ok((Packing::Coded { format, scale: args.scale, offset: args.offset, missing: Some(missing) }, why));
    }
    let asked = args.format.as_deref().map(|f| {
        let known = SampleFormat::from_name(f).filter(|f| f.bytes() <= 2 || *f == SampleFormat::F32);
        known.ok_or_else(|| telechroma_core::Error::unknown("type", f, ["uint8", "int8", "uint16", "int16", "float32"]))
    });
    let same = types.first().copied().flatten().filter(|first| types.iter().all(|t| *t == Some(*first)));
    let format = match (asked.transpose()?, same) {
        (Some(format), _) => format,
        // whole numbers stay so only where nothing is lost
        (None, Some((format, nodata)))
            if keeps_values
                && format.range().is_some()
                && format.bytes() <= 2
                && (!gaps || nodata.is_some() || args.missing.is_some()) =>
        {
            format
        }
        (None, _) => SampleFormat::F32,
    };
    if format == SampleFormat::F32 {
        return Ok((Packing::Float, "float32, missing as NaN".into()));
    }
    let declared = same.and_then(|s| s.1).filter(|m| m.fract() == 0.0).map(|m| m as i32);
    let missing = args.missing.or(declared);
    if gaps && missing.is_none() {
        return Err(Report::usage(format!(
            "some cells will have no value, and {} needs a number that stands for that",
            format.name()
        ))
        .hint("give one that is no value, with --missing"));
    }
    fits(format, missing)?;
    let why = missing.map_or(format.name().to_string(), |m| format!("{}, missing {m}", format.name()));
    Ok((Packing::Coded { format, scale: 1.0, offset: 0.0, missing }, why))
}

fn fits(format: SampleFormat, missing: Option<i32>) -> Result<(), Report> {
    let range = format.range().unwrap_or((f64::MIN, f64::MAX));
    match missing.filter(|m| f64::from(*m) < range.0 || f64::from(*m) > range.1) {
        Some(m) => Err(Report::usage(format!("--missing {m}: {} holds {} to {}", format.name(), range.0, range.1))),
        None => Ok(()),
    }
}
