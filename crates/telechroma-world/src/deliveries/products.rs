//! Products that describe themselves by a sensor file alone: a drone mosaic, a 16-day vegetation index, an 8-bit composite.

use super::Files;
use crate::part::Part;
use crate::scene::{Acquisition, Cover};
use crate::tiff::{Options, Samples, encode};
use crate::{CELL, ZONE};

fn options(part: &Part, cell: f64, bands: usize) -> Options {
    Options {
        cols: part.cols,
        rows: part.rows,
        bands,
        planar: bands > 1,
        corner: part.corner,
        cell,
        epsg: 32600 + ZONE,
        tile: Some((64, 64)),
        predictor: 2,
        point: false,
        ..Options::default()
    }
}

fn cells(part: &Part) -> std::ops::Range<usize> {
    0..part.cols * part.rows
}

/// A five-band mosaic of surface reflectance, cells of 10 cm; `camera`: near infrared before red edge.
pub fn drone(a: &Acquisition, part: &Part, camera: bool) -> (String, Vec<u8>) {
    let (y, m, d) = a.date;
    let order =
        if camera { [Some(1), Some(2), Some(3), Some(4), None] } else { [Some(1), Some(2), Some(3), None, Some(4)] };
    let band = |place: Option<usize>| {
        cells(part).map(move |i| {
            let look = &part.clear[i];
            let v = place.map_or_else(|| Part::rededge(look), |p| look[p]);
            if part.has(i) { (v * 32_768.0).round().clamp(0.0, 65_534.0) as u16 } else { 65_535 }
        })
    };
    let samples = order.into_iter().flat_map(band).collect();
    (format!("tarn_hollow_{y}{m:02}{d:02}_mosaic.tif"), encode(&Samples::U16(samples), &options(part, 0.1, 5)))
}

/// The day of the year on which the 16 days of an acquisition begin.
pub fn period_start(a: &Acquisition) -> u32 {
    (a.day as u32 - 1) / 16 * 16 + 1
}

/// NDVI and reliability of 16 days, a file each.
pub fn vegetation(a: &Acquisition, part: &Part) -> Files {
    let stem = format!("VI16.A{}{:03}.h00v00", a.date.0, period_start(a));
    let o = options(part, 250.0, 1);
    let ndvi = cells(part).map(|i| {
        let look = &part.seen[i];
        let v = (look[4] - look[3]) / (look[4] + look[3]);
        if part.has(i) { (v * 10_000.0).round() as i16 } else { -3000 }
    });
    let red = cells(part).map(|i| if part.has(i) { (part.seen[i][3] * 10_000.0).round() as i16 } else { -1000 });
    let reliability = part.cover.iter().map(|c| match c {
        Cover::Fill => 255,
        Cover::Cloud => 3,
        Cover::Shadow | Cover::Cirrus => 1,
        Cover::Clear => 0,
    });
    vec![
        (format!("{stem}.NDVI.tif"), encode(&Samples::I16(ndvi.collect()), &o)),
        (format!("{stem}.red_reflectance.tif"), encode(&Samples::I16(red.collect()), &o)),
        (format!("{stem}.pixel_reliability.tif"), encode(&Samples::U8(reliability.collect()), &o)),
    ]
}

/// Red, near infrared, NDVI, temperature and flag of ten days in one 8-bit file.
pub fn composite(a: &Acquisition, part: &Part) -> (String, Vec<u8>) {
    let (y, m, d) = a.date;
    let code = |v: f64, scale: f64, offset: f64| ((v - offset) / scale).round().clamp(1.0, 254.0) as u8;
    let mut samples: Vec<u8> = vec![];
    for place in [3, 4] {
        samples.extend(cells(part).map(|i| if part.has(i) { code(part.seen[i][place], 0.004, 0.0) } else { 255 }));
    }
    samples.extend(cells(part).map(|i| {
        let look = &part.seen[i];
        if part.has(i) { code((look[4] - look[3]) / (look[4] + look[3]), 0.01, -1.0) } else { 255 }
    }));
    samples.extend(cells(part).map(|i| if part.has(i) { code(part.kelvin[i], 0.5, 220.0) } else { 0 }));
    samples.extend(part.cover.iter().map(|c| if matches!(c, Cover::Cloud | Cover::Fill) { 120 } else { 40 }));
    (format!("decade_{y}{m:02}{d:02}.tif"), encode(&Samples::U8(samples), &options(part, 1000.0, 5)))
}

/// Three bands without a header, line-interleaved, highest byte first, with 128 bytes before them: CELL is their cell size.
pub fn headerless(part: &Part) -> (Vec<u8>, f64) {
    let mut bytes = vec![0u8; 128];
    for r in 0..part.rows {
        for place in [2, 3, 4] {
            for c in 0..part.cols {
                let i = r * part.cols + c;
                let v = if part.has(i) { (part.clear[i][place] * 10_000.0).round() as i16 } else { -9999 };
                bytes.extend(v.to_be_bytes());
            }
        }
    }
    (bytes, CELL)
}
