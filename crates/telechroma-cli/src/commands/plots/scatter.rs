//! `plots scatter`: random points.

use std::path::PathBuf;

use telechroma_core::attribute::Value;
use telechroma_core::feature::{Feature, Features, Field, FieldKind};
use telechroma_core::layout::scatter;
use telechroma_core::plot::Shape;
use telechroma_core::units::Metres;

use super::files::{From, metric, units, write};
use crate::context::Context;
use crate::report::Report;

/// Scatter random points over polygons, the same for the same seed
///
/// Example: telechroma plots scatter fields.geojson --each 5 --apart 30m --out samples.gpkg
#[derive(clap::Args)]
pub struct Args {
    #[command(flatten)]
    from: From,
    /// Points over all polygons together
    #[arg(long, value_name = "N", required_unless_present = "each", conflicts_with = "each")]
    count: Option<usize>,
    /// Points in each polygon, which hands on its attributes
    #[arg(long, value_name = "N")]
    each: Option<usize>,
    /// Least distance between points
    #[arg(long, value_name = "LENGTH", default_value = "0m")]
    apart: Metres,
    /// Another seed gives other points
    #[arg(long, value_name = "N", default_value_t = 1)]
    seed: u64,
    /// The file to write: .gpkg, .geojson, .shp, .parquet or .csv
    #[arg(long, value_name = "FILE")]
    out: PathBuf,
}

pub fn run(args: &Args, ctx: &Context) -> Result<(), Report> {
    let features = args.from.read(ctx)?;
    let moved = features.in_crs(metric(&features)?)?;
    let apart = units(moved.crs, args.apart.0);
    let number = |n: usize| Value::Whole(n as i64 + 1);
    let point = |p: (f64, f64)| Shape::Points(vec![p]);
    let mut fields = vec![Field { name: "sample".into(), kind: FieldKind::Whole }];
    let mut rows: Vec<Feature> = vec![];
    match args.each {
        Some(each) => {
            // the polygons' own attributes, under a name that is free
            let free = |n: &str| if n == "sample" { "sample_of".to_string() } else { n.to_string() };
            fields.extend(moved.fields.iter().map(|f| Field { name: free(&f.name), kind: f.kind }));
            let mut taken: Vec<(f64, f64)> = vec![];
            for (i, row) in moved.rows.iter().enumerate().filter(|(_, r)| !r.shape.polygons().is_empty()) {
                let points = scatter(row.shape.polygons(), each, apart, args.seed.wrapping_add(i as u64), &taken)
                    .map_err(|e| Report::usage(format!("feature {}: {e}", i + 1)))?;
                for p in &points {
                    let mut values = vec![number(rows.len())];
                    values.extend(row.values.iter().cloned());
                    rows.push(Feature { values, shape: point(*p) });
                }
                taken.extend(points);
            }
        }
        None => {
            let all = telechroma_core::feature::united(moved.rows.iter().map(|r| &r.shape));
            let points = scatter(all.polygons(), args.count.unwrap_or(0), apart, args.seed, &[])?;
            rows.extend(points.iter().enumerate().map(|(n, p)| Feature { values: vec![number(n)], shape: point(*p) }));
        }
    }
    let what = format!("{} points", rows.len());
    write(&args.out, &Features { crs: moved.crs, fields, rows }, &what, ctx)
}
