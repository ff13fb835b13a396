//! The fields as GeoJSON in longitude and latitude.

use serde_json::{Value, json};

use crate::{CELL, CORNER, Estate, ZONE};

/// Longitude and latitude of a position in cells: transverse Mercator inverted by the Krüger series (WGS 84, north).
pub fn longitude_latitude(col: f64, row: f64) -> (f64, f64) {
    let (e, n) = (CORNER.0 + col * CELL, CORNER.1 - row * CELL);
    let (a, f, k0) = (6_378_137.0, 1.0 / 298.257_223_563, 0.9996);
    let t: f64 = f / (2.0 - f);
    let big = a / (1.0 + t) * (1.0 + t.powi(2) / 4.0 + t.powi(4) / 64.0);
    let beta = [
        t / 2.0 - 2.0 * t.powi(2) / 3.0 + 37.0 * t.powi(3) / 96.0,
        t.powi(2) / 48.0 + t.powi(3) / 15.0,
        17.0 * t.powi(3) / 480.0,
    ];
    let delta = [
        2.0 * t - 2.0 * t.powi(2) / 3.0 - 2.0 * t.powi(3),
        7.0 * t.powi(2) / 3.0 - 8.0 * t.powi(3) / 5.0,
        56.0 * t.powi(3) / 15.0,
    ];
    let (xi, eta) = (n / (k0 * big), (e - 500_000.0) / (k0 * big));
    let (mut x, mut y) = (xi, eta);
    for (j, b) in beta.iter().enumerate() {
        let k = 2.0 * (j as f64 + 1.0);
        x -= b * (k * xi).sin() * (k * eta).cosh();
        y -= b * (k * xi).cos() * (k * eta).sinh();
    }
    let chi = (x.sin() / y.cosh()).asin();
    let lat = chi + delta.iter().enumerate().map(|(j, d)| d * (2.0 * (j as f64 + 1.0) * chi).sin()).sum::<f64>();
    let lon = (f64::from(ZONE) * 6.0 - 183.0).to_radians() + y.sinh().atan2(x.cos());
    (lon.to_degrees(), lat.to_degrees())
}

fn area(ring: &[(f64, f64)]) -> f64 {
    ring.iter().zip(ring.iter().cycle().skip(1)).map(|(a, b)| a.0 * b.1 - b.0 * a.1).sum::<f64>().abs() / 2.0
}

/// Coordinates of a part: rings closed, outer anticlockwise on the map, holes clockwise.
fn coordinates(rings: &[Vec<(f64, f64)>]) -> Value {
    let ring = |(n, r): (usize, &Vec<(f64, f64)>)| {
        // cells count rows downwards: what runs clockwise there runs anticlockwise on the map after a reversal
        let mut corners = r.clone();
        if n == 0 {
            corners.reverse();
        }
        corners.push(corners[0]);
        let place = |p: &(f64, f64)| {
            let (lon, lat) = longitude_latitude(p.0, p.1);
            json!([(lon * 1e7).round() / 1e7, (lat * 1e7).round() / 1e7])
        };
        corners.iter().map(place).collect::<Vec<_>>()
    };
    json!(rings.iter().enumerate().map(ring).collect::<Vec<_>>())
}

/// All fields.
pub fn geojson(estate: &Estate) -> String {
    let features: Vec<Value> = estate.land.fields.iter().map(|f| {
        let cells: f64 = f.parts.iter().map(|p| area(&p[0]) - p[1..].iter().map(|h| area(h)).sum::<f64>()).sum();
        let geometry = match f.parts.as_slice() {
            [one] => json!({"type": "Polygon", "coordinates": coordinates(one)}),
            many => json!({"type": "MultiPolygon", "coordinates": many.iter().map(|p| coordinates(p)).collect::<Vec<_>>()}),
        };
        let hectares = (cells * CELL * CELL / 1e4 * 100.0).round() / 100.0;
        json!({"type": "Feature", "properties": {"field": f.id, "crop": f.ground.crop(), "area_ha": hectares}, "geometry": geometry})
    }).collect();
    // one feature a line, as people like to read and compare it
    let lines: Vec<String> = features.iter().map(ToString::to_string).collect();
    format!("{{\"type\": \"FeatureCollection\", \"features\": [\n{}\n]}}\n", lines.join(",\n"))
}
