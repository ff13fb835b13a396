//! The metadata of a made-up delivery, as text and as JSON, in the public Collection 2 Level-1 layout.

use crate::scene::{ADD, Acquisition, MULT, thermal};
use crate::{CELL, COLS, CORNER, ROWS, ZONE, plots};

type Group = (&'static str, Vec<(String, String)>);

/// Numbers of the bands of a delivery.
pub(crate) const BANDS: [u8; 11] = [1, 2, 3, 4, 5, 6, 7, 8, 9, 10, 11];
/// Path and row; neither exists.
pub(crate) const PLACE: (u16, u16) = (250, 300);
/// Solar irradiance by band, only to give radiance a true-looking scale.
const IRRADIANCE: [(u8, f64); 9] = [
    (1, 1895.33),
    (2, 2004.57),
    (3, 1820.75),
    (4, 1549.49),
    (5, 951.76),
    (6, 247.55),
    (7, 85.46),
    (8, 1724.0),
    (9, 366.97),
];

/// The product id.
pub(crate) fn id(a: &Acquisition) -> String {
    let (y, m, d) = a.date;
    format!(
        "LC{:02}_L1TP_{:03}{:03}_{y}{m:02}{d:02}_{y}{:02}{:02}_02_T1",
        a.satellite,
        PLACE.0,
        PLACE.1,
        m + (d + 12) / 29,
        (d + 12) % 28 + 1
    )
}

fn groups(a: &Acquisition, cloud_percent: f64) -> Vec<Group> {
    let id = id(a);
    let text = |t: &str| format!("\"{t}\"");
    let (y, m, d) = a.date;
    let mut all: Vec<Group> = vec![];
    let mut group = |name: &'static str, entries: Vec<(String, String)>| all.push((name, entries));
    let pairs = |list: &[(&str, String)]| list.iter().map(|(k, v)| (k.to_string(), v.clone())).collect::<Vec<_>>();
    let mut contents = pairs(&[
        ("ORIGIN", text("Made-up data of Tarn Hollow")),
        ("DIGITAL_OBJECT_IDENTIFIER", text("none")),
        ("LANDSAT_PRODUCT_ID", text(&id)),
        ("PROCESSING_LEVEL", text("L1TP")),
        ("COLLECTION_NUMBER", "02".into()),
        ("COLLECTION_CATEGORY", text("T1")),
        ("OUTPUT_FORMAT", text("GEOTIFF")),
    ]);
    contents.extend(BANDS.iter().map(|b| (format!("FILE_NAME_BAND_{b}"), text(&format!("{id}_B{b}.TIF")))));
    contents.push(("FILE_NAME_QUALITY_L1_PIXEL".into(), text(&format!("{id}_QA_PIXEL.TIF"))));
    contents.push(("FILE_NAME_QUALITY_L1_RADIOMETRIC_SATURATION".into(), text(&format!("{id}_QA_RADSAT.TIF"))));
    contents.push(("FILE_NAME_METADATA_ODL".into(), text(&format!("{id}_MTL.txt"))));
    contents.extend(BANDS.iter().map(|b| (format!("DATA_TYPE_BAND_{b}"), text("UINT16"))));
    group("PRODUCT_CONTENTS", contents);
    group(
        "IMAGE_ATTRIBUTES",
        pairs(&[
            ("SPACECRAFT_ID", text(&format!("LANDSAT_{}", a.satellite))),
            ("SENSOR_ID", text("OLI_TIRS")),
            ("WRS_TYPE", "2".into()),
            ("WRS_PATH", PLACE.0.to_string()),
            ("WRS_ROW", PLACE.1.to_string()),
            ("DATE_ACQUIRED", format!("{y}-{m:02}-{d:02}")),
            ("SCENE_CENTER_TIME", text(&format!("12:{:02}:17.4210000Z", 20 + a.number))),
            ("CLOUD_COVER", format!("{cloud_percent:.2}")),
            ("CLOUD_COVER_LAND", format!("{cloud_percent:.2}")),
            ("IMAGE_QUALITY_OLI", "9".into()),
            ("IMAGE_QUALITY_TIRS", "9".into()),
            ("SUN_AZIMUTH", format!("{:.8}", a.sun_azimuth)),
            ("SUN_ELEVATION", format!("{:.8}", a.sun_elevation)),
            ("EARTH_SUN_DISTANCE", format!("{:.7}", a.sun_distance)),
        ]),
    );
    group("PROJECTION_ATTRIBUTES", projection());
    group(
        "LEVEL1_PROCESSING_RECORD",
        pairs(&[
            ("ORIGIN", text("Made-up data of Tarn Hollow")),
            ("LANDSAT_PRODUCT_ID", text(&id)),
            ("PROCESSING_LEVEL", text("L1TP")),
            ("PROCESSING_SOFTWARE_VERSION", text("made up")),
        ]),
    );
    let limits = BANDS.iter().flat_map(|b| {
        [(format!("QUANTIZE_CAL_MAX_BAND_{b}"), "65535".into()), (format!("QUANTIZE_CAL_MIN_BAND_{b}"), "1".into())]
    });
    group("LEVEL1_MIN_MAX_PIXEL_VALUE", limits.collect());
    let mut scaling = vec![];
    let radiance = |e: f64| MULT * e / (std::f64::consts::PI * a.sun_distance.powi(2));
    scaling
        .extend(IRRADIANCE.iter().map(|(b, e)| (format!("RADIANCE_MULT_BAND_{b}"), format!("{:.4E}", radiance(*e)))));
    scaling.extend(
        thermal(a.satellite)
            .iter()
            .zip([10, 11])
            .map(|(t, b)| (format!("RADIANCE_MULT_BAND_{b}"), format!("{:.4E}", t.0))),
    );
    scaling.extend(
        IRRADIANCE.iter().map(|(b, e)| (format!("RADIANCE_ADD_BAND_{b}"), format!("{:.5}", -5000.0 * radiance(*e)))),
    );
    scaling.extend(
        thermal(a.satellite)
            .iter()
            .zip([10, 11])
            .map(|(t, b)| (format!("RADIANCE_ADD_BAND_{b}"), format!("{:.5}", t.1))),
    );
    scaling.extend(IRRADIANCE.iter().map(|(b, _)| (format!("REFLECTANCE_MULT_BAND_{b}"), format!("{MULT:.4E}"))));
    scaling.extend(IRRADIANCE.iter().map(|(b, _)| (format!("REFLECTANCE_ADD_BAND_{b}"), format!("{ADD:.6}"))));
    group("LEVEL1_RADIOMETRIC_RESCALING", scaling);
    let constants = thermal(a.satellite).into_iter().zip([10, 11]).flat_map(|(t, b)| {
        [
            (format!("K1_CONSTANT_BAND_{b}"), format!("{:.4}", t.2)),
            (format!("K2_CONSTANT_BAND_{b}"), format!("{:.4}", t.3)),
        ]
    });
    group("LEVEL1_THERMAL_CONSTANTS", constants.collect());
    group(
        "LEVEL1_PROJECTION_PARAMETERS",
        pairs(&[
            ("MAP_PROJECTION", text("UTM")),
            ("DATUM", text("WGS84")),
            ("ELLIPSOID", text("WGS84")),
            ("UTM_ZONE", ZONE.to_string()),
            ("GRID_CELL_SIZE_PANCHROMATIC", "15.00".into()),
            ("GRID_CELL_SIZE_REFLECTIVE", format!("{CELL:.2}")),
            ("GRID_CELL_SIZE_THERMAL", format!("{CELL:.2}")),
            ("ORIENTATION", text("NORTH_UP")),
            ("RESAMPLING_OPTION", text("CUBIC_CONVOLUTION")),
        ]),
    );
    all
}

fn projection() -> Vec<(String, String)> {
    let mut g: Vec<(String, String)> = [
        ("MAP_PROJECTION", "\"UTM\"".to_string()),
        ("DATUM", "\"WGS84\"".into()),
        ("ELLIPSOID", "\"WGS84\"".into()),
        ("UTM_ZONE", ZONE.to_string()),
        ("GRID_CELL_SIZE_REFLECTIVE", format!("{CELL:.2}")),
        ("GRID_CELL_SIZE_THERMAL", format!("{CELL:.2}")),
        ("REFLECTIVE_LINES", ROWS.to_string()),
        ("REFLECTIVE_SAMPLES", COLS.to_string()),
        ("THERMAL_LINES", ROWS.to_string()),
        ("THERMAL_SAMPLES", COLS.to_string()),
        ("ORIENTATION", "\"NORTH_UP\"".into()),
    ]
    .map(|(k, v)| (k.to_string(), v))
    .to_vec();
    // corners are centres of cells
    let (w, h) = (COLS as f64 - 0.5, ROWS as f64 - 0.5);
    for (name, c, r) in [("UL", 0.5, 0.5), ("UR", w, 0.5), ("LL", 0.5, h), ("LR", w, h)] {
        let (lon, lat) = plots::longitude_latitude(c, r);
        g.push((format!("CORNER_{name}_LAT_PRODUCT"), format!("{lat:.5}")));
        g.push((format!("CORNER_{name}_LON_PRODUCT"), format!("{lon:.5}")));
        g.push((format!("CORNER_{name}_PROJECTION_X_PRODUCT"), format!("{:.3}", CORNER.0 + c * CELL)));
        g.push((format!("CORNER_{name}_PROJECTION_Y_PRODUCT"), format!("{:.3}", CORNER.1 - r * CELL)));
    }
    g
}

/// The text form.
pub(crate) fn as_text(a: &Acquisition, cloud_percent: f64) -> String {
    let mut t = String::from("GROUP = LANDSAT_METADATA_FILE\n");
    for (name, entries) in groups(a, cloud_percent) {
        t += &format!("  GROUP = {name}\n");
        entries.iter().for_each(|(k, v)| t += &format!("    {k} = {v}\n"));
        t += &format!("  END_GROUP = {name}\n");
    }
    t + "END_GROUP = LANDSAT_METADATA_FILE\nEND\n"
}

/// The JSON form: the same tree, all values as text.
pub(crate) fn as_json(a: &Acquisition, cloud_percent: f64) -> String {
    let tree = groups(a, cloud_percent)
        .into_iter()
        .map(|(name, entries)| {
            let map = entries
                .into_iter()
                .map(|(k, v)| (k, serde_json::Value::from(v.trim_matches('"'))))
                .collect::<serde_json::Map<_, _>>();
            (name.to_string(), serde_json::Value::Object(map))
        })
        .collect::<serde_json::Map<_, _>>();
    serde_json::to_string_pretty(&serde_json::json!({"LANDSAT_METADATA_FILE": tree})).unwrap_or_default()
}
