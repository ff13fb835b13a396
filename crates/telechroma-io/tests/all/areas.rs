//! Areas from GeoJSON, Shapefile and GeoPackage: the same polygons from all, layers, conditions, damaged files.

use std::path::{Path, PathBuf};

use shapefile::dbase::{FieldName, FieldValue, Record, TableWriterBuilder};
use shapefile::{Point, Polygon, PolygonRing, Writer};
use telechroma_core::area::Edge;
use telechroma_core::attribute::Condition;
use telechroma_core::geo::Crs;
use telechroma_io::vector::{self, Source};

const PRJ: &str = r#"PROJCS["WGS_1984_UTM_Zone_25N",GEOGCS["GCS_WGS_1984",DATUM["D_WGS_1984",SPHEROID["WGS_1984",6378137.0,298.257223563]],PRIMEM["Greenwich",0.0],UNIT["Degree",0.0174532925199433]],PROJECTION["Transverse_Mercator"],PARAMETER["False_Easting",500000.0],PARAMETER["False_Northing",0.0],PARAMETER["Central_Meridian",-33.0],PARAMETER["Scale_Factor",0.9996],PARAMETER["Latitude_Of_Origin",0.0],UNIT["Meter",1.0]]"#;

/// Two features: a square with a hole, and a triangle.
const OUTER: [(f64, f64); 5] = [
    (500_000.0, 4_400_000.0),
    (500_000.0, 4_400_900.0),
    (500_900.0, 4_400_900.0),
    (500_900.0, 4_400_000.0),
    (500_000.0, 4_400_000.0),
];
const HOLE: [(f64, f64); 5] = [
    (500_300.0, 4_400_300.0),
    (500_600.0, 4_400_300.0),
    (500_600.0, 4_400_600.0),
    (500_300.0, 4_400_600.0),
    (500_300.0, 4_400_300.0),
];
const TRIANGLE: [(f64, f64); 4] =
    [(501_000.0, 4_400_000.0), (501_500.0, 4_400_800.0), (501_900.0, 4_400_000.0), (501_000.0, 4_400_000.0)];

fn geojson(dir: &Path) -> PathBuf {
    let ring = |r: &[(f64, f64)]| r.iter().map(|(x, y)| serde_json::json!([x, y])).collect::<Vec<_>>();
    let feature = |kind: &str, size: f64, rings: Vec<Vec<serde_json::Value>>| serde_json::json!({"type": "Feature", "properties": {"kind": kind, "size": size}, "geometry": {"type": "Polygon", "coordinates": rings}});
    let all = serde_json::json!({
        "type": "FeatureCollection", "crs": {"type": "name", "properties": {"name": "urn:ogc:def:crs:EPSG::32625"}},
        "features": [feature("estate", 72.0, vec![ring(&OUTER), ring(&HOLE)]), feature("mill", 36.0, vec![ring(&TRIANGLE)]),
            {"type": "Feature", "properties": {"kind": "gate"}, "geometry": {"type": "Point", "coordinates": [500_000.0, 4_400_000.0]}}],
    });
    let path = dir.join("area.geojson");
    std::fs::write(&path, all.to_string()).unwrap();
    path
}

fn shape(dir: &Path) -> PathBuf {
    let path = dir.join("area.shp");
    let table = TableWriterBuilder::new()
        .add_character_field(FieldName::try_from("kind").unwrap(), 20)
        .add_numeric_field(FieldName::try_from("size").unwrap(), 10, 2);
    let mut writer = Writer::from_path(&path, table).unwrap();
    let points = |r: &[(f64, f64)]| r.iter().map(|(x, y)| Point::new(*x, *y)).collect::<Vec<_>>();
    let record = |kind: &str, size: f64| {
        let mut r = Record::default();
        r.insert("kind".into(), FieldValue::Character(Some(kind.into())));
        r.insert("size".into(), FieldValue::Numeric(Some(size)));
        r
    };
    let square = Polygon::with_rings(vec![PolygonRing::Outer(points(&OUTER)), PolygonRing::Inner(points(&HOLE))]);
    writer.write_shape_and_record(&square, &record("estate", 72.0)).unwrap();
    writer.write_shape_and_record(&Polygon::new(PolygonRing::Outer(points(&TRIANGLE))), &record("mill", 36.0)).unwrap();
    drop(writer);
    std::fs::write(dir.join("area.prj"), PRJ).unwrap();
    path
}

/// Well-known binary of a polygon, in the envelope of a GeoPackage.
fn blob(rings: &[&[(f64, f64)]]) -> Vec<u8> {
    let mut b = b"GP\0\x01".to_vec();
    b.extend(32625i32.to_le_bytes());
    b.push(1);
    b.extend(3u32.to_le_bytes());
    b.extend((rings.len() as u32).to_le_bytes());
    for r in rings {
        b.extend((r.len() as u32).to_le_bytes());
        r.iter().for_each(|(x, y)| b.extend([x.to_le_bytes(), y.to_le_bytes()].concat()));
    }
    b
}

fn package(dir: &Path, layers: &[&str]) -> PathBuf {
    let path = dir.join(format!("area{}.gpkg", layers.len()));
    let db = rusqlite::Connection::open(&path).unwrap();
    db.execute_batch(
        "CREATE TABLE gpkg_spatial_ref_sys (srs_name TEXT, srs_id INTEGER PRIMARY KEY, organization TEXT, organization_coordsys_id INTEGER, definition TEXT);
         INSERT INTO gpkg_spatial_ref_sys VALUES ('x', 32625, 'EPSG', 32625, 'undefined');
         CREATE TABLE gpkg_geometry_columns (table_name TEXT, column_name TEXT, geometry_type_name TEXT, srs_id INTEGER, z TINYINT, m TINYINT);",
    )
    .unwrap();
    for layer in layers {
        db.execute_batch(&format!(
            "INSERT INTO gpkg_geometry_columns VALUES ('{layer}', 'geom', 'POLYGON', 32625, 0, 0);
             CREATE TABLE {layer} (fid INTEGER PRIMARY KEY, geom BLOB, kind TEXT, size REAL);"
        ))
        .unwrap();
        let sql = format!("INSERT INTO {layer} (geom, kind, size) VALUES (?1, ?2, ?3)");
        db.execute(&sql, rusqlite::params![blob(&[&OUTER, &HOLE]), "estate", 72.0]).unwrap();
        db.execute(&sql, rusqlite::params![blob(&[&TRIANGLE]), "mill", 36.0]).unwrap();
    }
    path
}

/// Rings without regard to where they begin and which way they run.
fn plain(polygons: &[telechroma_core::plot::Polygon]) -> Vec<Vec<Vec<(i64, i64)>>> {
    let ring = |r: &Vec<(f64, f64)>| {
        let mut r: Vec<(i64, i64)> = r.iter().map(|(x, y)| (x.round() as i64, y.round() as i64)).collect();
        r.sort_unstable();
        r
    };
    polygons.iter().map(|p| std::iter::once(&p.outer).chain(&p.holes).map(ring).collect()).collect()
}

#[test]
fn three_formats_give_one_area() {
    let dir = tempfile::tempdir().unwrap();
    let files = [geojson(dir.path()), shape(dir.path()), package(dir.path(), &["land"])];
    let whole = |f: &Path, only: Option<&str>| {
        let only = only.map(|o| Condition::parse(o).unwrap());
        vector::area(f, None, only.as_ref(), Edge::Centre).unwrap_or_else(|e| panic!("{}: {e}", f.display()))
    };
    let want = plain(&whole(&files[0], None).polygons);
    assert_eq!((want.len(), want[0].len(), want[1].len()), (2, 2, 1));
    for f in &files {
        let a = whole(f, None);
        assert_eq!(a.crs, Crs::utm(25, true).unwrap(), "{}", f.display());
        assert_eq!(plain(&a.polygons), want, "{}", f.display());
        assert_eq!(plain(&whole(f, Some("kind = 'mill' and size < 40")).polygons), want[1..], "{}", f.display());
        let said = |only: &str| {
            vector::area(f, None, Some(&Condition::parse(only).unwrap()), Edge::Centre).unwrap_err().to_string()
        };
        assert!(said("knd = 'mill'").contains("did you mean 'kind'"), "{}", said("knd = 'mill'"));
        assert!(said("kind = 'lake'").contains("meets the condition"), "{}", said("kind = 'lake'"));
    }
}

#[test]
fn layers_are_named_and_what_lacks_is_said() {
    let dir = tempfile::tempdir().unwrap();
    let two = package(dir.path(), &["land", "water"]);
    let read = |f: &Path, layer: Option<&str>| {
        vector::read(&Source { layer: layer.map(Into::into), ..Source::of(f) })
            .map(|f| f.features.rows.len())
            .map_err(|e| e.to_string())
    };
    assert!(read(&two, None).unwrap_err().contains("has several layers, name one: land, water"));
    assert_eq!(read(&two, Some("water")), Ok(2));
    assert!(read(&two, Some("wter")).unwrap_err().contains("did you mean 'water'"));
    let s = shape(dir.path());
    assert!(read(&s, Some("x")).unwrap_err().contains("has no layer 'x'"));
    std::fs::remove_file(dir.path().join("area.prj")).unwrap();
    assert!(read(&s, None).unwrap_err().contains("no file .prj"));
    std::fs::write(dir.path().join("area.prj"), "LOCAL_CS[\"site\"]").unwrap();
    assert!(read(&s, None).unwrap_err().contains("area.prj"));
    std::fs::write(dir.path().join("x.kml"), "").unwrap();
    assert!(read(&dir.path().join("x.kml"), None).unwrap_err().contains("GeoPackage (.gpkg)"));
    assert!(read(&dir.path().join("none.shp"), None).unwrap_err().contains("does not exist"));
}
