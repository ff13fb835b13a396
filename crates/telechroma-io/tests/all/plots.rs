//! Plots as people hand them over.

use std::path::PathBuf;

use telechroma_core::attribute::Value;
use telechroma_core::feature::{Feature, Features, Field, FieldKind};
use telechroma_core::geo::Crs;
use telechroma_core::plot::{Polygon, Shape};
use telechroma_io::vector::{self, PlotFile, Source};

fn file(text: &str) -> (tempfile::TempDir, PathBuf) {
    let dir = tempfile::tempdir().unwrap();
    let path = dir.path().join("plots.geojson");
    std::fs::write(&path, text).unwrap();
    (dir, path)
}

fn parsed(text: &str, id: Option<&str>) -> Result<PlotFile, String> {
    let (_dir, path) = file(text);
    PlotFile::read(&Source::of(&path), id).map_err(|e| e.to_string())
}

fn collection(features: &[&str]) -> String {
    format!("{{\"type\": \"FeatureCollection\", \"features\": [{}]}}", features.join(","))
}

const SQUARE: &str = r#"{"type":"Polygon","coordinates":[[[0,0],[0,1],[1,1],[1,0],[0,0]]]}"#;

fn feature(properties: &str, geometry: &str) -> String {
    format!("{{\"type\":\"Feature\",\"properties\":{properties},\"geometry\":{geometry}}}")
}

#[test]
fn holes_parts_heights_and_rings_left_open() {
    let holed = r#"{"type":"Polygon","coordinates":[[[0,0],[0,9],[9,9],[9,0],[0,0]],[[2,2],[4,2],[4,4],[2,4],[2,2]]]}"#;
    let parts = r#"{"type":"MultiPolygon","coordinates":[[[[0,0,7],[0,1,7],[1,1,7]]],[[[5,5],[5,6],[6,6],[5,5]]]]}"#;
    let text = collection(&[&feature(r#"{"id":"h"}"#, holed), &feature(r#"{"id":2}"#, parts)]);
    let f = parsed(&text, None).unwrap();
    assert_eq!(f.plots[0].shape.polygons()[0].holes[0].len(), 4);
    assert_eq!((f.plots[1].id.as_str(), f.plots[1].shape.polygons().len()), ("2", 2));
    assert_eq!(f.plots[1].shape.polygons()[0].outer, [(0.0, 0.0), (0.0, 1.0), (1.0, 1.0)]);
    assert_eq!(f.features.crs, Crs::LONGITUDE_LATITUDE);
    assert_eq!(f.mended, ["feature 2 (2): its outline was not closed; it was"]);
    // one feature without its collection is a collection of one
    assert_eq!(parsed(&feature(r#"{"name":"x"}"#, SQUARE), None).unwrap().plots[0].id, "x");
}

#[test]
fn ids_are_found_by_their_usual_names_or_as_asked_for() {
    let of =
        |properties: &str, id| parsed(&collection(&[&feature(properties, SQUARE)]), id).map(|f| f.plots[0].id.clone());
    assert_eq!(of(r#"{"crop":"hay","plot_id":"p1","name":"n"}"#, None).unwrap(), "p1");
    assert_eq!(of(r#"{"crop":"hay","plot_id":"p1"}"#, Some("crop")).unwrap(), "hay");
    assert_eq!(of(r#"{"id":1.5}"#, None).unwrap(), "1.5");
    assert!(of(r#"{"id":"  "}"#, None).unwrap_err().contains("has no 'id'"));
    assert!(of("{}", None).unwrap_err().contains("they have none"));
    assert!(of(r#"{"crop":"hay"}"#, Some("corp")).unwrap_err().contains("did you mean 'crop'?"));
}

#[test]
fn wrong_geometries_name_their_feature() {
    for (geometry, says) in [
        (r#"{"type":"LineString","coordinates":[[0,0],[1,1]]}"#, "is a line, but plots are polygons or points"),
        ("null", "is without a shape"),
        (r#"{"type":"Polygon","coordinates":[[[0,0],[1,1],[2,2],[0,0]]]}"#, "encloses no area"),
        (r#"{"type":"Polygon","coordinates":[]}"#, "empty polygon"),
        (r#"{"type":"Polygon","coordinates":[[[0,0],[0,1],[0,0]]]}"#, "fewer than three corners"),
    ] {
        let text = collection(&[&feature(r#"{"id":"a"}"#, SQUARE), &feature(r#"{"id":"b"}"#, geometry)]);
        let e = parsed(&text, None).unwrap_err();
        assert!(e.contains("feature 2") && e.contains("b") && e.contains(says), "{e}");
    }
    assert!(parsed(SQUARE, None).unwrap_err().contains("they have none"), "a bare geometry has no id");
    assert!(parsed("[1, 2]", None).unwrap_err().contains("is not GeoJSON"));
}

#[test]
fn old_style_coordinate_systems_and_reprojection_with_corners_in_between() {
    let plain = collection(&[&feature(r#"{"id":"a"}"#, SQUARE)]);
    let with = |name: &str| {
        plain.replacen('{', &format!("{{\"crs\":{{\"type\":\"name\",\"properties\":{{\"name\":\"{name}\"}}}},"), 1)
    };
    for (name, epsg) in
        [("urn:ogc:def:crs:EPSG::32633", 32633), ("EPSG:3035", 3035), ("urn:ogc:def:crs:OGC:1.3:CRS84", 4326)]
    {
        assert_eq!(parsed(&with(name), None).unwrap().features.crs.epsg(), Some(epsg), "{name}");
    }
    assert!(parsed(&with("local grid"), None).unwrap_err().contains("'local grid' is not supported"));
    let f = parsed(&plain, None).unwrap();
    // a degree of latitude on the zone's edge: straight in degrees, bent in metres
    let moved = f.in_crs(Crs::utm(31, true).unwrap()).unwrap();
    let ring = &moved[0].shape.polygons()[0].outer;
    assert!(ring.len() > 300, "{}", ring.len());
    let along: Vec<&(f64, f64)> = ring.iter().take(101).collect();
    let (a, b) = (along[0], along[100]);
    let middle = along[50];
    let chord = ((a.0 + b.0) / 2.0, (a.1 + b.1) / 2.0);
    let bend = (middle.0 - chord.0).hypot(middle.1 - chord.1);
    assert!(bend > 1.0 && bend < 60.0, "the bend of {bend} m is kept");
    assert_eq!(f.in_crs(Crs::LONGITUDE_LATITUDE).unwrap(), f.plots, "the same system changes nothing");
}

/// Every type, missing values, a hole, parts, and ids beyond what floating point holds.
fn everything() -> Features {
    let field = |name: &str, kind| Field { name: name.into(), kind };
    let square = |x: f64, y: f64, side: f64| -> Vec<(f64, f64)> {
        vec![(x, y), (x + side, y), (x + side, y + side), (x, y + side)]
    };
    let holed =
        Polygon { outer: square(500_000.125, 4_400_000.0, 90.0), holes: vec![square(500_030.0, 4_400_030.0, 10.0)] };
    let plain = |x: f64| Polygon { outer: square(x, 4_400_200.0, 33.3), holes: vec![] };
    let text = |t: &str| Value::Text(t.into());
    let row =
        |values: [Value; 6], parts: Vec<Polygon>| Feature { values: values.to_vec(), shape: Shape::Polygons(parts) };
    Features {
        crs: Crs::utm(25, true).unwrap(),
        fields: vec![
            field("plot", FieldKind::Text),
            field("number", FieldKind::Whole),
            field("yield", FieldKind::Number),
            field("irrigated", FieldKind::Truth),
            field("sown", FieldKind::Date),
            field("seen", FieldKind::Instant),
        ],
        rows: vec![
            row(
                [
                    text("Größe 1"),
                    Value::Whole(9_007_199_254_740_993),
                    Value::Number(0.1 + 0.2),
                    Value::Truth(true),
                    text("2031-04-09"),
                    text("2031-04-09T10:20:30Z"),
                ],
                vec![holed],
            ),
            row(
                [text("b, \"two\""), Value::Missing, Value::Missing, Value::Missing, Value::Missing, Value::Missing],
                vec![plain(500_300.0), plain(500_400.0)],
            ),
        ],
    }
}

/// Positions without regard to where rings begin and which way they run.
fn corners(f: &Features) -> Vec<Vec<(i64, i64)>> {
    let of = |s: &Shape| {
        let mut all: Vec<(i64, i64)> =
            s.positions().map(|(x, y)| ((x * 1e6).round() as i64, (y * 1e6).round() as i64)).collect();
        all.sort_unstable();
        all
    };
    f.rows.iter().map(|r| of(&r.shape)).collect()
}

#[test]
fn every_format_gives_back_what_it_was_given() {
    let dir = tempfile::tempdir().unwrap();
    let want = everything();
    for ending in ["gpkg", "parquet", "geojson", "shp"] {
        let path = dir.path().join(format!("plots.{ending}"));
        let mut given = want.clone();
        if ending == "shp" {
            // its numbers are decimal texts: fifteen digits behind the point, and whole ones below 2⁵³
            given.rows[0].values[1] = Value::Whole(9_007_199_254_740_991);
            given.rows[0].values[2] = Value::Number(0.123_456_789_012_345);
        }
        assert_eq!(vector::write(&path, &given).unwrap(), [""; 0], "{ending}");
        let read = vector::read(&Source::of(&path)).unwrap();
        assert_eq!(read.mended, [""; 0], "{ending}");
        let mut back = read.features.in_crs(want.crs).unwrap();
        let own = back.fields.first().filter(|f| f.name == "fid").is_some();
        if own {
            back.fields.remove(0);
            back.rows.iter_mut().for_each(|r| drop(r.values.remove(0)));
        }
        assert_eq!(own, ending == "gpkg", "{ending}: its rows have a number of their own");
        // GeoJSON has no dates, the Shapefile no moments: they are text there
        let kind = |f: &Field| match (ending, f.kind) {
            ("geojson", FieldKind::Date | FieldKind::Instant) | ("shp", FieldKind::Instant) => FieldKind::Text,
            (_, kind) => kind,
        };
        let kinds: Vec<(String, FieldKind)> = want.fields.iter().map(|f| (f.name.clone(), kind(f))).collect();
        assert_eq!(back.fields.iter().map(|f| (f.name.clone(), f.kind)).collect::<Vec<_>>(), kinds, "{ending}");
        for (a, b) in back.rows.iter().zip(&given.rows) {
            assert_eq!(a.values, b.values, "{ending}");
        }
        let (found, wanted) = (corners(&back), corners(&want));
        let close = |a: &(i64, i64), b: &(i64, i64)| (a.0 - b.0).abs() <= 1 && (a.1 - b.1).abs() <= 1; // micrometres
        for (a, b) in found.iter().zip(&wanted) {
            assert!(a.len() == b.len() && a.iter().zip(b).all(|(a, b)| close(a, b)), "{ending}: {a:?} {b:?}");
        }
        assert_eq!(back.rows[0].shape.polygons()[0].holes.len(), 1, "{ending}");
        // the same again is the same bytes
        let bytes = std::fs::read(&path).unwrap();
        vector::write(&path, &given).unwrap();
        assert!(std::fs::read(&path).unwrap() == bytes, "{ending}");
    }
}

#[test]
fn geopackages_have_an_index_that_finds_their_shapes() {
    let dir = tempfile::tempdir().unwrap();
    let path = dir.path().join("plots.gpkg");
    vector::write(&path, &everything()).unwrap();
    let db = rusqlite::Connection::open(&path).unwrap();
    let one = |sql: &str| -> String {
        db.query_row(sql, [], |r| r.get::<_, rusqlite::types::Value>(0)).map(|v| format!("{v:?}")).unwrap()
    };
    assert!(one("PRAGMA integrity_check").contains("ok"));
    assert!(one("SELECT rtreecheck('rtree_plots_geom')").contains("ok"));
    assert_eq!(one("PRAGMA application_id"), "Integer(1196444487)");
    assert_eq!(one("SELECT count(*) FROM pragma_foreign_key_check"), "Integer(0)");
    assert_eq!(one("SELECT id FROM rtree_plots_geom WHERE minx > 500299 AND maxx < 500440"), "Integer(2)");
    assert_eq!(
        one("SELECT count(*) FROM sqlite_master WHERE type = 'trigger' AND name LIKE 'rtree_plots_geom_%'"),
        "Integer(6)"
    );
    assert!(one("SELECT definition FROM gpkg_spatial_ref_sys WHERE srs_id = 32625").contains("UTM zone 25N"));
    assert_eq!(one("SELECT max_x FROM gpkg_contents"), "Real(500433.3)");
}

#[test]
fn points_of_a_table_need_their_columns_and_their_system() {
    let dir = tempfile::tempdir().unwrap();
    let path = dir.path().join("probes.csv");
    let read = |text: &str, xy: Option<(&str, &str)>, crs: Option<u32>| {
        std::fs::write(&path, text).unwrap();
        let xy = xy.map(|(x, y)| (x.to_string(), y.to_string()));
        let crs = crs.map(|c| Crs::from_epsg(c).unwrap());
        vector::read(&Source { xy, crs, ..Source::of(&path) }).map(|r| r.features).map_err(|e| e.to_string())
    };
    let degrees = read("id,lon,lat,depth\na,-33.1,39.7,0.3\nb,,,1\n", None, None).unwrap();
    assert_eq!((degrees.crs, degrees.fields[3].kind), (Crs::LONGITUDE_LATITUDE, FieldKind::Number));
    assert_eq!(degrees.rows[0].shape, Shape::Points(vec![(-33.1, 39.7)]));
    assert!(matches!(degrees.rows[1].shape, Shape::Nothing), "no place, and the row stays");
    let metres = read("id;east;north\n1;500010,5;4400000\n", Some(("east", "north")), Some(32625));
    assert!(metres.unwrap_err().contains("numbers have a point"), "decimal commas are told");
    let metres = read("id;east;north\n1;500010.5;4400000\n", Some(("east", "north")), Some(32625)).unwrap();
    assert_eq!(metres.rows[0].shape, Shape::Points(vec![(500_010.5, 4_400_000.0)]));
    assert!(read("id,east,north\n1,2,3\n", None, None).unwrap_err().contains("is not clear; it has id, east, north"));
    assert!(read("id,east,north\n1,2,3\n", Some(("east", "north")), None).unwrap_err().contains("not in which system"));
    assert!(
        read("id,east,north\n1,2,3\n", Some(("east", "nroth")), None).unwrap_err().contains("did you mean 'north'")
    );
    assert!(read("id,lon,lat\n1,2\n", None, None).unwrap_err().contains("line 2"));
    // and back
    vector::write(&path, &degrees_without_gaps(degrees)).unwrap();
    assert!(std::fs::read_to_string(&path).unwrap().ends_with("a,-33.1,39.7,0.3,-33.1,39.7\n"));
}

fn degrees_without_gaps(mut f: Features) -> Features {
    f.rows.truncate(1);
    f
}

#[test]
fn crossing_outlines_are_mended_and_told() {
    let bow = r#"{"type":"Polygon","coordinates":[[[0,0],[4,4],[4,0],[0,4],[0,0]]]}"#;
    let f = parsed(&collection(&[&feature(r#"{"id":"bow"}"#, bow)]), None).unwrap();
    assert!((f.plots[0].shape.area() - 8.0).abs() < 1e-6);
    assert!(f.mended[0].starts_with("feature 1 (bow): its shape was mended"), "{:?}", f.mended);
}

#[test]
fn what_a_format_cannot_hold_is_refused_with_another_that_can() {
    let dir = tempfile::tempdir().unwrap();
    let to = |name: &str, f: &Features| vector::write(&dir.path().join(name), f).map_err(|e| e.to_string());
    let all = everything();
    assert!(to("a.shp", &all).unwrap_err().contains("9007199254740993, too large for a Shapefile; write .gpkg"));
    assert!(to("a.csv", &all).unwrap_err().contains("feature 1: is no point"));
    assert!(to("a.kml", &all).unwrap_err().contains("GeoPackage (.gpkg)"));
    let mut long = everything();
    long.fields[2].name = "yield_of_grain".into();
    long.rows[0].values[1] = Value::Missing;
    assert_eq!(
        to("a.shp", &long).unwrap(),
        ["the column yield_of_grain is called yield_of_g in the Shapefile, whose names are short"]
    );
}

#[test]
fn lines_come_back_and_mixtures_are_told() {
    let dir = tempfile::tempdir().unwrap();
    let line = |x: f64| vec![(x, 4_400_000.0), (x + 10.0, 4_400_005.0), (x + 25.0, 4_400_001.0)];
    let mut given = everything();
    given.rows.truncate(1);
    given.rows[0].values[1] = Value::Missing;
    given.rows[0].shape = Shape::Lines(vec![line(500_000.0), line(500_100.0)]);
    for ending in ["gpkg", "parquet", "geojson", "shp"] {
        let path = dir.path().join(format!("lines.{ending}"));
        vector::write(&path, &given).unwrap();
        let back = vector::read(&Source::of(&path)).unwrap().features.in_crs(given.crs).unwrap();
        let lines = back.rows[0].shape.lines();
        assert_eq!(lines.len(), 2, "{ending}");
        for (a, b) in lines.iter().flatten().zip(given.rows[0].shape.lines().iter().flatten()) {
            assert!((a.0 - b.0).abs() < 1e-6 && (a.1 - b.1).abs() < 1e-6, "{ending}: {a:?} {b:?}");
        }
        let e = PlotFile::read(&Source::of(&path), Some("plot")).unwrap_err().to_string();
        assert!(e.contains("is a line, but plots are polygons or points"), "{e}");
    }
    let mixed = r#"{"type":"GeometryCollection","geometries":[{"type":"Point","coordinates":[0,0]}]}"#;
    let (_dir, path) = file(&collection(&[&feature(r#"{"id":"m"}"#, mixed)]));
    let features = vector::read(&Source::of(&path)).unwrap().features;
    let e = vector::write(&dir.path().join("m.gpkg"), &features).unwrap_err().to_string();
    assert!(e.contains("feature 1: is a mixture of shapes") && !dir.path().join("m.gpkg").exists(), "{e}");
}

#[test]
fn rings_of_a_shapefile_are_nested_by_where_they_lie_and_texts_by_their_encoding() {
    use shapefile::dbase::{FieldName, FieldValue, Record, TableWriterBuilder};
    let dir = tempfile::tempdir().unwrap();
    let path = dir.path().join("old.shp");
    let table = TableWriterBuilder::with_encoding(shapefile::dbase::encoding::Unicode)
        .add_character_field(FieldName::try_from("plot").unwrap(), 12);
    let mut writer = shapefile::Writer::from_path(&path, table).unwrap();
    let ring = |x: f64, side: f64| -> Vec<shapefile::Point> {
        [(x, x), (x + side, x), (x + side, x + side), (x, x + side), (x, x)]
            .map(|(x, y)| shapefile::Point::new(x, y))
            .to_vec()
    };
    let mut record = Record::default();
    record.insert("plot".into(), FieldValue::Character(Some("n".into())));
    // the hole comes first, and is written as an outline
    let rings = vec![shapefile::PolygonRing::Outer(ring(3.0, 2.0)), shapefile::PolygonRing::Outer(ring(0.0, 10.0))];
    writer.write_shape_and_record(&shapefile::Polygon::with_rings(rings), &record).unwrap();
    drop(writer);
    let with_crs = |crs| PlotFile::read(&Source { crs, ..Source::of(&path) }, Some("plot")).map_err(|e| e.to_string());
    assert!(with_crs(None).unwrap_err().contains("its coordinate system is not known"));
    let utm = Crs::utm(25, true).ok();
    let plots = with_crs(utm).unwrap();
    assert_eq!((plots.plots[0].shape.polygons().len(), plots.plots[0].shape.area()), (1, 96.0));
    // a text of one byte a letter, told by .cpg; without a .cpg that is known it is not guessed
    let dbf = dir.path().join("old.dbf");
    let mut bytes = std::fs::read(&dbf).unwrap();
    let at = bytes.iter().rposition(|b| *b == b'n').unwrap();
    bytes[at] = 0xE4;
    std::fs::write(&dbf, bytes).unwrap();
    std::fs::write(dir.path().join("old.cpg"), "ISO-8859-1").unwrap();
    assert_eq!(with_crs(utm).unwrap().plots[0].id, "ä");
    std::fs::write(dir.path().join("old.cpg"), "KLINGON").unwrap();
    assert!(with_crs(utm).unwrap_err().contains("the encoding 'KLINGON'"));
    // a system that contradicts the file's own
    std::fs::write(dir.path().join("old.cpg"), "UTF-8").unwrap();
    std::fs::write(dir.path().join("old.prj"), Crs::utm(26, true).unwrap().to_wkt()).unwrap();
    assert!(with_crs(utm).unwrap_err().contains("states its coordinate system, EPSG:32626"));
}
