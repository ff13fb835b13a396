//! Plots as people hand them over.
#![allow(clippy::unwrap_used)] // tests

use std::path::PathBuf;

use telechroma_core::geo::Crs;
use telechroma_io::vector::geojson::{PlotFile, read};

fn file(text: &str) -> (tempfile::TempDir, PathBuf) {
    let dir = tempfile::tempdir().unwrap();
    let path = dir.path().join("plots.geojson");
    std::fs::write(&path, text).unwrap();
    (dir, path)
}

fn parsed(text: &str, id: Option<&str>) -> Result<PlotFile, String> {
    let (_dir, path) = file(text);
    read(&path, id).map_err(|e| e.to_string())
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
    assert_eq!(f.plots[0].parts[0].holes[0].len(), 4);
    assert_eq!((f.plots[1].id.as_str(), f.plots[1].parts.len()), ("2", 2));
    assert_eq!(f.plots[1].parts[0].outer, [(0.0, 0.0), (0.0, 1.0), (1.0, 1.0)]);
    assert_eq!(f.crs, Crs::LONGITUDE_LATITUDE);
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
        (r#"{"type":"Point","coordinates":[0,0]}"#, "is a Point, but plots are polygons"),
        ("null", "has no geometry"),
        (r#"{"type":"Polygon","coordinates":[]}"#, "empty polygon"),
        (r#"{"type":"Polygon","coordinates":[[[0,0],[0,1],[0,0]]]}"#, "fewer than three corners"),
    ] {
        let text = collection(&[&feature(r#"{"id":"a"}"#, SQUARE), &feature(r#"{"id":"b"}"#, geometry)]);
        let e = parsed(&text, None).unwrap_err();
        assert!(e.contains("feature 2 (b)") && e.contains(says), "{e}");
    }
    assert!(parsed(SQUARE, None).unwrap_err().contains("bare geometry"));
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
        assert_eq!(parsed(&with(name), None).unwrap().crs.epsg(), Some(epsg), "{name}");
    }
    assert!(parsed(&with("local grid"), None).unwrap_err().contains("'local grid' is not supported"));
    let f = parsed(&plain, None).unwrap();
    // a degree of latitude on the zone's edge: straight in degrees, bent in metres
    let moved = f.in_crs(Crs::utm(31, true).unwrap()).unwrap();
    let ring = &moved[0].parts[0].outer;
    assert!(ring.len() > 300, "{}", ring.len());
    let along: Vec<&(f64, f64)> = ring.iter().take(101).collect();
    let (a, b) = (along[0], along[100]);
    let middle = along[50];
    let chord = ((a.0 + b.0) / 2.0, (a.1 + b.1) / 2.0);
    let bend = (middle.0 - chord.0).hypot(middle.1 - chord.1);
    assert!(bend > 1.0 && bend < 60.0, "the bend of {bend} m is kept");
    assert_eq!(f.in_crs(Crs::LONGITUDE_LATITUDE).unwrap(), f.plots, "the same system changes nothing");
}

#[test]
fn statistics_join_the_attributes_and_leave_the_rest_as_it_was() {
    let f = parsed(&collection(&[&feature(r#"{"id":"a","crop":"hay","area":1.25}"#, SQUARE)]), None).unwrap();
    let more = [("ndvi_mean".to_string(), serde_json::json!(0.5)), ("lst_mean".to_string(), serde_json::Value::Null)];
    let text = f.with_properties(&[more.into_iter().collect()]);
    let back: serde_json::Value = serde_json::from_str(&text).unwrap();
    let feature = &back["features"][0];
    assert_eq!(
        feature["properties"],
        serde_json::json!({"id": "a", "crop": "hay", "area": 1.25, "ndvi_mean": 0.5, "lst_mean": null})
    );
    assert_eq!(
        feature["geometry"],
        serde_json::from_str::<serde_json::Value>(SQUARE)
            .map(|mut g| {
                let numbers = g["coordinates"][0].as_array_mut().unwrap();
                numbers.iter_mut().for_each(|p| *p = serde_json::json!([p[0].as_f64(), p[1].as_f64()]));
                g
            })
            .unwrap()
    );
}
