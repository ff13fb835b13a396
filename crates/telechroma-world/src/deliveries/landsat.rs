//! Deliveries of Landsat 4 to 9 beside those of the estate itself: older sensors, the older collection, Level 2.

use super::Files;
use crate::part::Part;
use crate::scene::{Acquisition, Cover};
use crate::tiff::{Options, Samples, encode};
use crate::{CELL, ZONE};

/// Which delivery.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Kind {
    /// Landsat 5, Level 1, Collection 2.
    Tm,
    /// Landsat 5, Level 1, Collection 1.
    TmCollection1,
    /// Landsat 7, Level 1, Collection 2.
    Etm,
    /// Landsat 8, Level 2, Collection 2.
    OliLevel2,
}

/// Multiplier, offset, K1 and K2 of a thermal band.
pub type Thermal = (f64, f64, f64, f64);

/// Multiplier and offset of reflectance.
pub const REFLECTANCE: (f64, f64) = (0.004, -0.01);
/// Of Landsat 5.
pub const TM_THERMAL: Thermal = (0.055375, 1.18243, 607.76, 1260.56);
/// Of Landsat 7, low gain and high gain.
pub const ETM_THERMAL: [Thermal; 2] = [(0.067087, -0.06709, 666.09, 1282.71), (0.037205, 3.16280, 666.09, 1282.71)];
/// Of Level 2: surface reflectance, surface temperature.
pub const LEVEL_2: [(f64, f64); 2] = [(2.75e-5, -0.2), (0.00341802, 149.0)];

/// Reflective bands of TM and ETM+ with their place among the seven.
const OLD: [(&str, usize); 6] = [("1", 1), ("2", 2), ("3", 3), ("4", 4), ("5", 5), ("7", 6)];

/// The id of a delivery.
pub fn id(kind: Kind, a: &Acquisition) -> String {
    let (y, m, d) = a.date;
    let (start, collection) = match kind {
        Kind::Tm => ("LT05_L1TP", "02"),
        Kind::TmCollection1 => ("LT05_L1TP", "01"),
        Kind::Etm => ("LE07_L1TP", "02"),
        Kind::OliLevel2 => ("LC08_L2SP", "02"),
    };
    format!("{start}_250300_{y}{m:02}{d:02}_{y}{:02}{d:02}_{collection}_T1", m + 1)
}

/// Its files.
pub fn files(kind: Kind, a: &Acquisition, part: &Part) -> Files {
    let id = id(kind, a);
    let o = Options {
        cols: part.cols,
        rows: part.rows,
        corner: part.corner,
        cell: CELL,
        epsg: 32600 + ZONE,
        tile: Some((64, 64)),
        predictor: 2,
        ..Options::default()
    };
    let cells = || 0..part.cols * part.rows;
    let words = |f: &dyn Fn(usize) -> f64| {
        let count = |i: usize| if part.has(i) { f(i).round().clamp(1.0, 65_535.0) as u16 } else { 0 };
        encode(&Samples::U16(cells().map(count).collect()), &o)
    };
    let bytes = |f: &dyn Fn(usize) -> f64| {
        let count = |i: usize| if part.has(i) { f(i).round().clamp(1.0, 255.0) as u8 } else { 0 };
        encode(&Samples::U8(cells().map(count).collect()), &o)
    };
    let mut files: Files = vec![];
    let mut named: Vec<(String, String)> = vec![];
    let mut add = |key: String, name: String, bytes: Vec<u8>| {
        named.push((key, name.clone()));
        files.push((name, bytes));
    };
    let sine = a.sun_elevation.to_radians().sin();
    let thermal = |i: usize, (mult, radd, k1, k2): Thermal| (k1 / ((k2 / part.kelvin[i]).exp() - 1.0) - radd) / mult;
    match kind {
        Kind::OliLevel2 => {
            for b in 1..=7usize {
                let sr = words(&|i| (part.seen[i][b - 1] - LEVEL_2[0].1) / LEVEL_2[0].0);
                add(format!("FILE_NAME_BAND_{b}"), format!("{id}_SR_B{b}.TIF"), sr);
            }
            let st = words(&|i| (part.kelvin[i] - LEVEL_2[1].1) / LEVEL_2[1].0);
            add("FILE_NAME_BAND_ST_B10".into(), format!("{id}_ST_B10.TIF"), st);
        }
        Kind::Tm | Kind::TmCollection1 | Kind::Etm => {
            for (key, place) in OLD {
                let toa = bytes(&|i| (part.seen[i][place] * sine - REFLECTANCE.1) / REFLECTANCE.0);
                add(format!("FILE_NAME_BAND_{key}"), format!("{id}_B{key}.TIF"), toa);
            }
            if kind == Kind::Etm {
                // the panchromatic band has cells half as large
                let (wide, fine) = (
                    2 * part.cols,
                    Options { cols: 2 * part.cols, rows: 2 * part.rows, cell: CELL / 2.0, ..o.clone() },
                );
                let red = |i: usize| i / wide / 2 * part.cols + i % wide / 2;
                let counts = (0..wide * 2 * part.rows).map(|i| {
                    let j = red(i);
                    if part.has(j) {
                        ((part.seen[j][3] * sine - REFLECTANCE.1) / REFLECTANCE.0).round().clamp(1.0, 255.0) as u8
                    } else {
                        0
                    }
                });
                add("FILE_NAME_BAND_8".into(), format!("{id}_B8.TIF"), encode(&Samples::U8(counts.collect()), &fine));
                for (n, constants) in (1..).zip(ETM_THERMAL) {
                    add(
                        format!("FILE_NAME_BAND_6_VCID_{n}"),
                        format!("{id}_B6_VCID_{n}.TIF"),
                        bytes(&|i| thermal(i, constants)),
                    );
                }
            } else {
                add("FILE_NAME_BAND_6".into(), format!("{id}_B6.TIF"), bytes(&|i| thermal(i, TM_THERMAL)));
            }
        }
    }
    let quality = |clear: u16, cloud: u16, shadow: u16| {
        let bits = part.cover.iter().map(|c| match c {
            Cover::Fill => 1,
            Cover::Cloud => cloud,
            Cover::Shadow => shadow,
            Cover::Clear | Cover::Cirrus => clear,
        });
        encode(&Samples::U16(bits.collect()), &o)
    };
    match kind {
        // cloud in bit 4, shadow with high confidence in bits 7 and 8, low confidences set everywhere
        Kind::TmCollection1 => add("FILE_NAME_BAND_QUALITY".into(), format!("{id}_BQA.TIF"), quality(672, 752, 928)),
        Kind::Tm | Kind::Etm => {
            add("FILE_NAME_QUALITY_L1_PIXEL".into(), format!("{id}_QA_PIXEL.TIF"), quality(5440, 5896, 7440));
        }
        Kind::OliLevel2 => {
            add("FILE_NAME_QUALITY_L1_PIXEL".into(), format!("{id}_QA_PIXEL.TIF"), quality(21824, 22280, 23888));
        }
    }
    files.push((format!("{id}_MTL.txt"), metadata(kind, a, &id, &named).into_bytes()));
    files
}

fn metadata(kind: Kind, a: &Acquisition, id: &str, named: &[(String, String)]) -> String {
    let old = kind == Kind::TmCollection1;
    let (y, m, d) = a.date;
    let text = |t: &str| format!("\"{t}\"");
    let (craft, sensor, level) = match kind {
        Kind::Tm | Kind::TmCollection1 => ("LANDSAT_5", "TM", "L1TP"),
        Kind::Etm => ("LANDSAT_7", "ETM", "L1TP"),
        Kind::OliLevel2 => ("LANDSAT_8", "OLI_TIRS", "L2SP"),
    };
    let mut t = format!("GROUP = {}\n", if old { "L1_METADATA_FILE" } else { "LANDSAT_METADATA_FILE" });
    let mut group = |name: &str, entries: Vec<(String, String)>| {
        t += &format!("  GROUP = {name}\n");
        entries.iter().for_each(|(k, v)| t += &format!("    {k} = {v}\n"));
        t += &format!("  END_GROUP = {name}\n");
    };
    let pair = |k: &str, v: String| (k.to_string(), v);
    let files: Vec<(String, String)> = named.iter().map(|(k, v)| (k.clone(), text(v))).collect();
    let who = vec![
        pair("SPACECRAFT_ID", text(craft)),
        pair("SENSOR_ID", text(sensor)),
        pair("WRS_PATH", "250".into()),
        pair("WRS_ROW", "300".into()),
        pair("DATE_ACQUIRED", format!("{y}-{m:02}-{d:02}")),
        pair("SCENE_CENTER_TIME", text("12:20:17.4210000Z")),
    ];
    let sky = vec![
        pair("CLOUD_COVER", "12.00".into()),
        pair("SUN_AZIMUTH", format!("{:.8}", a.sun_azimuth)),
        pair("SUN_ELEVATION", format!("{:.8}", a.sun_elevation)),
    ];
    if old {
        group(
            "METADATA_FILE_INFO",
            vec![
                pair("LANDSAT_SCENE_ID", text("none")),
                pair("LANDSAT_PRODUCT_ID", text(id)),
                pair("COLLECTION_NUMBER", "01".into()),
            ],
        );
        group("PRODUCT_METADATA", [vec![pair("DATA_TYPE", text(level))], who, files].concat());
        group("IMAGE_ATTRIBUTES", sky);
    } else {
        let contents = vec![
            pair("LANDSAT_PRODUCT_ID", text(id)),
            pair("PROCESSING_LEVEL", text(level)),
            pair("COLLECTION_NUMBER", "02".into()),
        ];
        group("PRODUCT_CONTENTS", [contents, files].concat());
        group("IMAGE_ATTRIBUTES", [who, sky].concat());
    }
    let numbered: Vec<&str> = OLD.iter().map(|b| b.0).chain((kind == Kind::Etm).then_some("8")).collect();
    let bands: Vec<&str> = if kind == Kind::OliLevel2 { vec!["1", "2", "3", "4", "5", "6", "7"] } else { numbered };
    let lines = |quantity: &str, mult: f64, add: f64| {
        let one = |b: &&str| {
            [
                (format!("{quantity}_MULT_BAND_{b}"), format!("{mult:E}")),
                (format!("{quantity}_ADD_BAND_{b}"), add.to_string()),
            ]
        };
        bands.iter().flat_map(one).collect::<Vec<_>>()
    };
    let thermal: Vec<(&str, Thermal)> = match kind {
        Kind::Tm | Kind::TmCollection1 => vec![("6", TM_THERMAL)],
        Kind::Etm => vec![("6_VCID_1", ETM_THERMAL[0]), ("6_VCID_2", ETM_THERMAL[1])],
        Kind::OliLevel2 => vec![],
    };
    if kind == Kind::OliLevel2 {
        group("LEVEL2_SURFACE_REFLECTANCE_PARAMETERS", lines("REFLECTANCE", LEVEL_2[0].0, LEVEL_2[0].1));
        group(
            "LEVEL2_SURFACE_TEMPERATURE_PARAMETERS",
            vec![
                pair("TEMPERATURE_MULT_BAND_ST_B10", LEVEL_2[1].0.to_string()),
                pair("TEMPERATURE_ADD_BAND_ST_B10", LEVEL_2[1].1.to_string()),
            ],
        );
        // the Level-1 keys of the same names, with other values, come again
        group("LEVEL1_RADIOMETRIC_RESCALING", lines("REFLECTANCE", 2.0e-5, -0.1));
    } else {
        let limits = bands.iter().map(|b| (format!("QUANTIZE_CAL_MAX_BAND_{b}"), "255".to_string()));
        group(if old { "MIN_MAX_PIXEL_VALUE" } else { "LEVEL1_MIN_MAX_PIXEL_VALUE" }, limits.collect());
        let mut scaling = [lines("RADIANCE", 0.7, -1.5), lines("REFLECTANCE", REFLECTANCE.0, REFLECTANCE.1)].concat();
        for (b, (mult, add, ..)) in &thermal {
            scaling.extend([
                (format!("RADIANCE_MULT_BAND_{b}"), mult.to_string()),
                (format!("RADIANCE_ADD_BAND_{b}"), add.to_string()),
            ]);
        }
        group(if old { "RADIOMETRIC_RESCALING" } else { "LEVEL1_RADIOMETRIC_RESCALING" }, scaling);
        let constants = thermal.iter().flat_map(|(b, (.., k1, k2))| {
            [(format!("K1_CONSTANT_BAND_{b}"), k1.to_string()), (format!("K2_CONSTANT_BAND_{b}"), k2.to_string())]
        });
        group(if old { "THERMAL_CONSTANTS" } else { "LEVEL1_THERMAL_CONSTANTS" }, constants.collect());
    }
    t + &format!("END_GROUP = {}\nEND\n", if old { "L1_METADATA_FILE" } else { "LANDSAT_METADATA_FILE" })
}
