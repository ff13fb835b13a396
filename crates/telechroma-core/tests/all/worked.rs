//! Numbers worked out by hand elsewhere, met by whole graphs: sources, ops, sinks and all.

use std::sync::Arc;

use serde_json::Value;
use telechroma_core::geo::Affine;
use telechroma_core::graph::{Graph, NodeId};
use telechroma_core::grid::Grid;
use telechroma_core::index::Program;
use telechroma_core::mask::Reasons;
use telechroma_core::op::{
    BandRule, Calibrate, Calibrator, Choice, Choose, Clear, Composite, Compute, FlagRule, FlagTest, Grow, Looks, Mask,
    OfChosen, Sample,
};
use telechroma_core::physics::{Calibration, reflectance_line};
use telechroma_core::plot::{Laid, Plot, PlotSink, Polygon, Ring, Shape, Weighting};
use telechroma_core::run::{Budget, Plan, Silent, Sink, run};
use telechroma_core::stat::Stat;
use telechroma_core::tile::{Cells, Kind, PlaneSource};
use telechroma_core::units::{Degrees, Unit};
use telechroma_testkit::memory::{MemoryPlane, compute};
use telechroma_testkit::names::{Bands, NIR_RED};

fn example(name: &str) -> Value {
    let all: Value = serde_json::from_str(include_str!("../worked_examples.json")).unwrap();
    all.as_array().unwrap().iter().find(|e| e["name"] == name).cloned().unwrap_or_else(|| panic!("no example '{name}'"))
}

/// Numbers of a list; null is missing.
fn numbers(v: &Value) -> Vec<f64> {
    v.as_array().unwrap().iter().map(|x| x.as_f64().unwrap_or(f64::NAN)).collect()
}

fn near(got: f64, want: f64, tolerance: f64, what: &str) {
    assert!(got.is_nan() && want.is_nan() || (got - want).abs() <= tolerance, "{what}: {got} {want}");
}

/// A grid of cells of some size, its corner at (0, 0).
fn grid(cols: usize, rows: usize, cell: f64) -> Grid {
    Grid { crs: None, transform: Affine::north_up(0.0, 0.0, cell, cell), cols: cols as u32, rows: rows as u32 }
}

/// A plane of one row.
fn row(name: &str, kind: Kind, unit: Unit, cells: Cells) -> Arc<dyn PlaneSource> {
    let n = match &cells {
        Cells::Values(v) => v.len(),
        Cells::Bits(v) => v.len(),
    };
    MemoryPlane::shared(name, grid(n, 1, 30.0), kind, unit, (4, 1), cells)
}

fn values(g: Graph, plane: NodeId) -> Vec<f64> {
    match compute(g, &[plane], None, 1).unwrap().0.remove(0) {
        Cells::Values(v) => v.into_iter().map(f64::from).collect(),
        Cells::Bits(v) => v.into_iter().map(f64::from).collect(),
    }
}

#[test]
fn reflectance_of_fill_negative_and_saturated_counts() {
    let e = example("oli_toa_fill_negative_saturated");
    let i = &e["inputs"];
    let n = |k: &str| i[k].as_f64().unwrap();
    let counts: Vec<u16> = numbers(&i["dn"]).into_iter().map(|c| c as u16).collect();
    let mut g = Graph::new(grid(counts.len(), 1, 30.0));
    let source = row("dn", Kind::Counts { fill: Some(0) }, Unit::Counts, Cells::Bits(counts));
    let source = g.source(source, None).unwrap();
    let line = reflectance_line(n("mult"), n("add"), Degrees(n("sun_elevation_deg"))).unwrap();
    let by = Calibrator::new(Calibration::Line(line), Some(0));
    let plane = g.add(Calibrate { by, unit: Unit::Reflectance }, &[source]).unwrap();
    for (got, want) in values(g, plane).into_iter().zip(numbers(&e["expected"])) {
        near(got, want, 1e-7 * want.abs().max(1.0), "reflectance"); // stored in 32 bits
    }
}

#[test]
fn bits_of_the_quality_plane_become_reasons() {
    let e = example("qa_pixel_bits");
    let qa: Vec<u16> = numbers(&e["inputs"]["qa"]).into_iter().map(|q| q as u16).collect();
    let legend = telechroma_core::sensor::find("landsat-oli-tirs").unwrap().flags[0].legend();
    let rules = legend
        .iter()
        .map(|(bits, reason)| FlagRule { plane: 0, test: FlagTest::Any(*bits), reason: *reason })
        .collect();
    let mut g = Graph::new(grid(qa.len(), 1, 30.0));
    let flags = row("qa", Kind::Flags { outside: 1 }, Unit::Flags, Cells::Bits(qa));
    let flags = g.source(flags, None).unwrap();
    let mask = g.add(Mask { rules }, &[flags]).unwrap();
    let known = [("dilated_cloud", "dilated"), ("cloud_shadow", "shadow")];
    for (got, want) in values(g, mask).into_iter().zip(e["expected"].as_array().unwrap()) {
        let named = want.as_array().unwrap().iter().map(|n| n.as_str().unwrap()).filter(|n| *n != "clear"); // not a reason
        let named: Vec<&str> = named.map(|n| known.iter().find(|k| k.0 == n).map_or(n, |k| k.1)).collect();
        assert_eq!(got as u16, Reasons::from_names(&named).unwrap().bits(), "{named:?}");
    }
}

/// A statistic and the looks of stacks, one a cell, of values that may be missing.
fn composite(stacks: &[Vec<f64>], by: BandRule, at_least: u32) -> (Vec<f64>, Vec<f64>) {
    let dates = stacks[0].len();
    let make = || {
        let mut g = Graph::new(grid(stacks.len(), 1, 30.0));
        let (mut masks, mut planes) = (vec![], vec![]);
        for d in 0..dates {
            let v: Vec<f32> = stacks.iter().map(|s| s[d] as f32).collect();
            let flags = v.iter().map(|v| if v.is_nan() { 8 } else { 0 }).collect();
            let flags = row(&format!("f{d}"), Kind::Flags { outside: 1 }, Unit::Flags, Cells::Bits(flags));
            masks.push(g.source(flags, None).unwrap());
            let plane = row(&format!("v{d}"), Kind::Values, Unit::Reflectance, Cells::Values(v));
            planes.push(g.source(plane, Some(masks[d])).unwrap());
        }
        let mut inputs: Vec<NodeId> = masks.chunks(Clear::SCENES).map(|m| g.add(Clear, m).unwrap()).collect();
        let looks = g.add(Looks, &inputs).unwrap();
        inputs.extend(planes);
        let samples = (0..dates).map(|_| Sample::Values).collect();
        let median = g.add(Composite::new(by, samples, Unit::Reflectance, at_least), &inputs).unwrap();
        (g, median, looks)
    };
    let ((a, median, _), (b, _, looks)) = (make(), make());
    (values(a, median), values(b, looks))
}

#[test]
fn medians() {
    for name in ["median_even_count", "median_ignores_missing"] {
        let e = example(name);
        let (got, _) = composite(&[numbers(&e["inputs"]["values"])], BandRule::Median, 1);
        near(got[0], e["expected"].as_f64().unwrap(), 1e-7, name);
    }
    let e = example("median_with_minimum_looks");
    let stacks: Vec<Vec<f64>> = e["inputs"]["stacks"].as_array().unwrap().iter().map(numbers).collect();
    for (at_least, key) in [(1, "at_least_1"), (2, "at_least_2")] {
        let (got, looks) = composite(&stacks, BandRule::Median, at_least);
        got.into_iter().zip(numbers(&e["expected"][key])).for_each(|(g, w)| near(g, w, 1e-7, key));
        assert_eq!(looks, numbers(&e["expected"]["looks"]));
    }
}

#[test]
fn percentiles_of_type_seven() {
    for name in ["percentiles_type7_odd", "percentiles_type7_even"] {
        let e = example(name);
        for (p, want) in numbers(&e["inputs"]["percent"]).into_iter().zip(numbers(&e["expected"])) {
            let (got, _) = composite(&[numbers(&e["inputs"]["values"])], BandRule::Percentile(p), 1);
            near(got[0], want, 1e-7, name);
        }
    }
    let e = example("mad_outliers");
    let (got, _) = composite(&[numbers(&e["inputs"]["values"])], BandRule::Spread, 1);
    near(got[0], e["expected"]["mad"].as_f64().unwrap(), 1e-7, "mad");
}

#[test]
fn medoids() {
    for name in ["medoid_five_looks", "medoid_two_looks_tie"] {
        let e = example(name);
        let looks: Vec<Vec<f64>> = e["inputs"]["observations"].as_array().unwrap().iter().map(numbers).collect();
        let bands = looks[0].len();
        let mut g = Graph::new(grid(1, 1, 30.0));
        let (mut masks, mut planes) = (vec![], vec![]);
        for (i, look) in looks.iter().enumerate() {
            let flags = row(&format!("f{i}"), Kind::Flags { outside: 1 }, Unit::Flags, Cells::Bits(vec![0]));
            masks.push(g.source(flags, None).unwrap());
            for (b, v) in look.iter().enumerate() {
                let cells = Cells::Values(vec![*v as f32]);
                planes.push(g.source(row(&format!("v{i}_{b}"), Kind::Values, Unit::Reflectance, cells), None).unwrap());
            }
        }
        let mut inputs = vec![g.add(Clear, &masks).unwrap()];
        inputs.extend(&planes);
        let samples = looks.iter().map(|l| l.iter().map(|_| Sample::Values).collect()).collect();
        let op = Choose { choice: Choice::Medoid, samples, measured: (0..bands).collect(), at_least: 1 };
        let chosen = g.add(op, &inputs).unwrap();
        let numbers = (0..looks.len()).map(|i| i as f32).collect();
        let index = g.add(OfChosen { numbers, unit: Unit::One }, &[chosen]).unwrap();
        assert_eq!(values(g, index)[0], e["expected"]["index"].as_f64().unwrap(), "{name}");
    }
}

fn ndvi(red: f64, nir: f64) -> f64 {
    let program = Program::compile("ndvi", &NIR_RED).unwrap();
    let mut g = Graph::new(grid(1, 1, 30.0));
    let one = |name: &str| {
        let v = if name == "nir" { nir } else { red };
        row(name, Kind::Values, Unit::Reflectance, Cells::Values(vec![v as f32]))
    };
    let inputs: Vec<NodeId> = program.inputs().iter().map(|n| g.source(one(n), None).unwrap()).collect();
    let plane = g.add(Compute { program, unit: Unit::One }, &inputs).unwrap();
    values(g, plane)[0]
}

#[test]
fn an_index_is_of_the_composite_and_in_floating_point() {
    let e = example("ndvi_of_median_is_not_median_of_ndvi");
    let of = |k: &str| composite(&[numbers(&e["inputs"][k])], BandRule::Median, 1).0[0];
    near(ndvi(of("red"), of("nir")), e["expected"]["ndvi_of_median"].as_f64().unwrap(), 1e-6, "of the composite");
    let e = example("integer_trap");
    let n = |k: &str| e["inputs"][k].as_f64().unwrap();
    near(ndvi(n("red_u16"), n("nir_u16")), e["expected"]["correct"].as_f64().unwrap(), 1e-6, "integer trap");
}

#[test]
fn discs_of_growth() {
    for name in ["dilation_disc_counts_30m", "dilation_disc_counts_10m"] {
        let e = example(name);
        let cell = e["inputs"]["cell"].as_f64().unwrap();
        for (radius, want) in numbers(&e["inputs"]["radius"]).into_iter().zip(numbers(&e["expected"])) {
            let side = 33;
            let mut flags = vec![0u16; side * side];
            flags[side * side / 2] = Reasons::CLOUD.bits();
            assert_eq!(
                grown(flags, side, side, cell, radius).iter().filter(|f| **f != 0.0).count() as f64,
                want,
                "{radius}"
            );
        }
    }
    let e = example("dilation_mask_9x9");
    let mut flags = vec![0u16; 81];
    for at in e["inputs"]["flagged"].as_array().unwrap() {
        let at = numbers(at);
        flags[at[0] as usize * 9 + at[1] as usize] = Reasons::CLOUD.bits();
    }
    let got = grown(flags, 9, 9, e["inputs"]["cell"].as_f64().unwrap(), e["inputs"]["radius"].as_f64().unwrap());
    let rows: Vec<String> =
        got.chunks(9).map(|r| r.iter().map(|f| if *f != 0.0 { '#' } else { '.' }).collect::<String>()).collect();
    let want: Vec<&str> = e["expected"]["rows"].as_array().unwrap().iter().map(|r| r.as_str().unwrap()).collect();
    assert_eq!(rows, want);
}

fn grown(flags: Vec<u16>, cols: usize, rows: usize, cell: f64, radius_m: f64) -> Vec<f64> {
    let mut g = Graph::new(grid(cols, rows, cell));
    let kind = Kind::Flags { outside: 1 };
    let plane = MemoryPlane::shared("m", grid(cols, rows, cell), kind, Unit::Flags, (8, 8), Cells::Bits(flags));
    let mask = g.source(plane, None).unwrap();
    let node = g.add(Grow { seeds: Reasons::CLOUD, radius_m, cell_m: (cell, cell) }, &[mask]).unwrap();
    values(g, node)
}

/// The statistics of polygons over the worked 4 × 4 raster, through the plot sink, in tiles of any size.
fn zonal(
    e: &Value,
    polygons: &[Value],
    weighting: Weighting,
    keep: Option<&str>,
    stats: &[&str],
    tile: (u32, u32),
) -> Vec<Vec<f64>> {
    let i = &e["inputs"];
    let (origin, cell) = (numbers(&i["origin_top_left"]), i["cell"].as_f64().unwrap());
    let v: Vec<f32> = i["values"].as_array().unwrap().iter().flat_map(numbers).map(|v| v as f32).collect();
    let mut g = Graph::new(grid(4, 4, cell));
    let source = MemoryPlane::shared("v", grid(4, 4, cell), Kind::Values, Unit::One, (3, 3), Cells::Values(v));
    let plane = g.source(source, None).unwrap();
    let mut group = vec![plane];
    if let Some(condition) = keep {
        let program = Program::compile(condition, &Bands(&["value"], Unit::One)).unwrap();
        group.push(g.add(Compute { program, unit: Unit::One }, &[plane]).unwrap());
    }
    let ring = |p: &Value| -> Ring {
        let at = |c: &Value| ((c[0].as_f64().unwrap() - origin[0]) / cell, (origin[1] - c[1].as_f64().unwrap()) / cell);
        p.as_array().unwrap().iter().map(at).collect()
    };
    let plots: Vec<Plot> = polygons
        .iter()
        .enumerate()
        .map(|(n, p)| {
            let outer = ring(p);
            Plot { id: n.to_string(), shape: Shape::Polygons(vec![Polygon { outer, holes: vec![] }]) }
        })
        .collect();
    let stats: Vec<Stat> = stats.iter().map(|s| s.parse().unwrap()).collect();
    let laid = std::sync::Arc::new(Laid::new(plots, &grid(4, 4, cell), weighting));
    let (sink, mut table) = PlotSink::new(laid, &stats, 1);
    let sinks = vec![Sink { groups: vec![group], prepare: &sink, absorb: &mut table }];
    let plan = Plan::with_tiles(g, &sinks, Budget { threads: 2, bytes: 1 << 30 }, tile.0, tile.1).unwrap();
    run(&plan, sinks, &Silent).unwrap();
    (0..polygons.len()).map(|i| table.of(0, i).to_vec()).collect()
}

const ALL: [&str; 9] = ["count", "mean", "sum", "sd", "min", "max", "range", "median", "p10"];

#[test]
fn statistics_of_a_plot_through_the_sink() {
    for tile in [(4, 4), (1, 1), (3, 2)] {
        for (name, keep, share) in [
            ("zonal_weighted_4x4", None, None),
            ("zonal_missing_cells_4x4", None, Some(("valid_share", "valid_fraction"))),
            // the values are stored in 32 bits, where 0.3 lies a little above 0.3
            ("zonal_keep_condition_4x4", Some("value > 0.3000001"), Some(("kept_share", "share_kept"))),
        ] {
            let e = example(name);
            let polygon = std::slice::from_ref(&e["inputs"]["polygon"]);
            let stats: Vec<&str> = ALL.into_iter().chain(["p90"]).chain(share.map(|s| s.0)).collect();
            let rows = zonal(&e, polygon, Weighting::Share, keep, &stats, tile);
            for (stat, got) in stats.iter().zip(&rows[0]) {
                let key = share.filter(|s| s.0 == *stat).map_or(*stat, |s| s.1);
                near(*got, e["expected"][key].as_f64().unwrap(), 2e-7, &format!("{name} {stat} {tile:?}")); // 32-bit values
            }
        }
        let e = example("zonal_touched_4x4");
        let polygon = std::slice::from_ref(&e["inputs"]["polygon"]);
        let rows = zonal(&e, polygon, Weighting::Touch, None, &["count", "mean"], tile);
        near(rows[0][0], e["expected"]["cells"].as_f64().unwrap(), 0.0, "touched cells");
        near(rows[0][1], e["expected"]["mean"].as_f64().unwrap(), 1e-7, "touched mean");
        let e = example("zonal_sums_add_up");
        let polygons = e["inputs"]["polygons"].as_array().unwrap();
        let rows = zonal(&e, polygons, Weighting::Share, None, &["sum"], tile);
        let sums: Vec<f64> = rows.iter().map(|r| r[0]).collect();
        sums.iter().zip(numbers(&e["expected"]["sums"])).for_each(|(g, w)| near(*g, w, 1e-6, "sum"));
        near(sums.iter().sum(), e["expected"]["total"].as_f64().unwrap(), 1e-6, "total");
    }
}

#[test]
fn plots_that_are_partly_outside() {
    let e = example("zonal_partly_outside");
    let i = &e["inputs"];
    let (origin, cell) = (numbers(&i["origin_top_left"]), i["cell"].as_f64().unwrap());
    let at = |c: &Value| ((c[0].as_f64().unwrap() - origin[0]) / cell, (origin[1] - c[1].as_f64().unwrap()) / cell);
    let outer: Ring = i["polygon"].as_array().unwrap().iter().map(at).collect();
    for weighting in [Weighting::Share, Weighting::Centre] {
        let shape = Shape::Polygons(vec![Polygon { outer: outer.clone(), holes: vec![] }]);
        let laid = Laid::new(vec![Plot { id: "p".into(), shape }], &grid(4, 4, cell), weighting);
        near(laid.on_grid()[0], e["expected"]["coverage"].as_f64().unwrap(), 1e-9, "coverage");
    }
}

#[test]
fn confidences_of_the_quality_plane() {
    let e = example("qa_pixel_confidences");
    let qa: Vec<u16> = numbers(&e["inputs"]["qa"]).into_iter().map(|q| q as u16).collect();
    let want: Vec<Vec<f64>> = e["expected"].as_array().unwrap().iter().map(numbers).collect();
    let confidences = telechroma_core::sensor::find("landsat-oli-tirs").unwrap().flags[0].confidences();
    for (i, name) in ["cloud", "shadow", "snow", "cirrus"].iter().enumerate() {
        let reason = Reasons::from_names(&[name]).unwrap();
        let (shift, _) = *confidences.iter().find(|c| c.1 == reason).unwrap();
        let mut found = vec![0.0; qa.len()];
        for least in 1..=3u16 {
            let mut g = Graph::new(grid(qa.len(), 1, 30.0));
            let source = row("qa", Kind::Flags { outside: 1 }, Unit::Flags, Cells::Bits(qa.clone()));
            let source = g.source(source, None).unwrap();
            let rules = vec![FlagRule { plane: 0, test: FlagTest::Confidence { shift, least }, reason }];
            let mask = g.add(Mask { rules }, &[source]).unwrap();
            found.iter_mut().zip(values(g, mask)).for_each(|(n, m)| *n += f64::from(u8::from(m != 0.0)));
        }
        assert_eq!(found, want.iter().map(|w| w[i]).collect::<Vec<_>>(), "{name}");
    }
}

#[test]
fn scene_classes_that_are_clear() {
    let e = example("scl_clear_sky");
    let flags = &telechroma_core::sensor::find("sentinel-2").unwrap().flags[0];
    let table = flags.table().unwrap();
    let drop = Reasons::default_drop();
    for (class, want) in numbers(&e["inputs"]["scl"]).into_iter().zip(e["expected"].as_array().unwrap()) {
        let bits = table[(class as i32 - telechroma_core::sensor::LEAST_FLAG) as usize];
        assert_eq!(bits & drop.bits() == 0, want.as_bool().unwrap(), "{class}");
    }
}

#[test]
fn linear_transforms() {
    for (name, suffix) in [("linear_transform_oli", "oli"), ("linear_transform_tm", "tm")] {
        let e = example(name);
        let bands = Bands(&["blue", "green", "red", "nir", "swir16", "swir22"], Unit::Reflectance);
        let inputs = numbers(&e["inputs"]["bands"]);
        for what in ["brightness", "greenness", "wetness"] {
            let program = Program::compile(&format!("{what}_{suffix}"), &bands).unwrap();
            let place = |n: &String| bands.0.iter().position(|b| b == n).unwrap();
            let of: Vec<f64> = program.inputs().iter().map(|n| inputs[place(n)]).collect();
            near(program.at(&of), e["expected"][what].as_f64().unwrap(), 1e-9, what);
        }
    }
}

#[test]
fn radiance_by_its_limits_is_the_same_line() {
    let e = example("tm_red_radiance_min_max_form");
    let n = |k: &str| e["inputs"][k].as_f64().unwrap();
    let gain = (n("lmax") - n("lmin")) / (n("qcal_max") - n("qcal_min"));
    let line = telechroma_core::physics::Line { gain, offset: n("lmin") - gain * n("qcal_min") };
    near(Calibration::Line(line).at(n("dn")), e["expected"].as_f64().unwrap(), 1e-9, "radiance");
}

#[test]
fn corners_of_the_sinusoidal_grid() {
    use telechroma_core::geo::{Crs, Projector};
    let sphere = Crs::from_wkt(
        r#"PROJCS["sinusoidal",GEOGCS["sphere",DATUM["sphere",SPHEROID["sphere",6371007.181,0]],PRIMEM["Greenwich",0],UNIT["degree",0.0174532925199433]],PROJECTION["Sinusoidal"],PARAMETER["longitude_of_center",0],PARAMETER["false_easting",0],PARAMETER["false_northing",0],UNIT["metre",1]]"#,
    )
    .unwrap();
    let there = Projector::new(Crs::LONGITUDE_LATITUDE, sphere).unwrap();
    let e = example("modis_cell_of_a_point");
    let n = |k: &str| e["inputs"][k].as_f64().unwrap();
    let want = |k: &str| e["expected"][k].as_f64().unwrap();
    let (x, y) = there.project(n("lon"), n("lat")).unwrap();
    near(x, want("x"), 1e-3, "x");
    near(y, want("y"), 1e-3, "y");
    // the tile and the cell in it, from the corner of the tile
    let corner = example("modis_tile_corner");
    let side = numbers(&corner["expected"])[0] / (corner["inputs"]["h"].as_f64().unwrap() - 18.0);
    let tiles = Affine::north_up(-18.0 * side, 9.0 * side, side, side);
    let (h, v) = tiles.to_cells(x, y);
    assert_eq!((h.floor(), v.floor()), (want("h"), want("v")));
    let at = tiles.to_world(corner["inputs"]["h"].as_f64().unwrap(), corner["inputs"]["v"].as_f64().unwrap());
    near(at.0, numbers(&corner["expected"])[0], 1e-3, "corner x");
    near(at.1, numbers(&corner["expected"])[1], 1e-3, "corner y");
    let cells = n("cells_per_tile");
    assert_eq!(((h.fract() * cells).floor(), (v.fract() * cells).floor()), (want("col"), want("row")));
}
