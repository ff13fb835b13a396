//! Deliveries of Sentinel-2: the folder `.SAFE` with its metadata and images. Its cells are taken to be 10 m wide.

use super::Files;
use crate::ZONE;
use crate::part::Part;
use crate::scene::{Acquisition, Cover};

/// An image to be packed: columns, rows, bits of a sample, samples.
pub type Pack<'a> = &'a dyn Fn(usize, usize, u32, &[u16]) -> Vec<u8>;

/// Which delivery.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Kind {
    /// Top of atmosphere, with the offset of baseline 05.10.
    L1c,
    /// Top of atmosphere, of an older baseline without offset.
    L1cWithoutOffset,
    /// Surface, with scene classification.
    L2a,
}

/// Bands with their cell size and their place among the seven; none: red edge.
const BANDS: [(&str, usize, Option<usize>); 9] = [
    ("B01", 60, Some(0)),
    ("B02", 10, Some(1)),
    ("B03", 10, Some(2)),
    ("B04", 10, Some(3)),
    ("B05", 20, None),
    ("B08", 10, Some(4)),
    ("B8A", 20, Some(4)),
    ("B11", 20, Some(5)),
    ("B12", 20, Some(6)),
];

/// The name of the folder.
pub fn name(kind: Kind, a: &Acquisition) -> String {
    let (y, m, d) = a.date;
    let (level, baseline) = match kind {
        Kind::L1c => ("L1C", "N0510"),
        Kind::L1cWithoutOffset => ("L1C", "N0209"),
        Kind::L2a => ("L2A", "N0510"),
    };
    format!("S2A_MSI{level}_{y}{m:02}{d:02}T123031_{baseline}_R108_T25ABC_{y}{m:02}{d:02}T153000.SAFE")
}

/// The mean of what is seen in the cells of a coarser one; none where one of them has no data.
fn coarse(part: &Part, side: usize, value: impl Fn(&[f64; 7]) -> f64) -> Vec<Option<f64>> {
    let (cols, rows) = (part.cols / side, part.rows / side);
    let cell = |i: usize| {
        let (c, r) = (i % cols * side, i / cols * side);
        let inner: Vec<usize> = (r..r + side).flat_map(|y| (c..c + side).map(move |x| y * part.cols + x)).collect();
        inner
            .iter()
            .all(|j| part.has(*j))
            .then(|| inner.iter().map(|j| value(&part.seen[*j])).sum::<f64>() / inner.len() as f64)
    };
    (0..cols * rows).map(cell).collect()
}

/// The scene classification of a cell of 20 m: the worst of its cells of 10 m.
fn class(part: &Part, cell: usize) -> u16 {
    let cols = part.cols / 2;
    let (c, r) = (cell % cols * 2, cell / cols * 2);
    let worst = [(0, 0), (1, 0), (0, 1), (1, 1)].map(|(x, y)| match part.cover[(r + y) * part.cols + c + x] {
        Cover::Fill => (4, 0),
        Cover::Cloud => (3, 9),
        Cover::Shadow => (2, 3),
        Cover::Cirrus => (1, 10),
        Cover::Clear => (0, 4),
    });
    worst.into_iter().max().map_or(0, |w| w.1)
}

/// Its files, with the folder's name before theirs. Columns and rows of the part must be multiples of six.
pub fn files(kind: Kind, a: &Acquisition, part: &Part, pack: Pack) -> Files {
    let safe = name(kind, a);
    let (y, m, d) = a.date;
    let (level, long, offset) = match kind {
        Kind::L1c => ("L1C", "Level-1C", -1000.0),
        Kind::L1cWithoutOffset => ("L1C", "Level-1C", 0.0),
        Kind::L2a => ("L2A", "Level-2A", -1000.0),
    };
    let granule = format!("{safe}/GRANULE/{level}_T25ABC_A000001_{y}{m:02}{d:02}T123031");
    let stem = format!("T25ABC_{y}{m:02}{d:02}T123031");
    let mut files: Files = vec![];
    for (band, metres, place) in BANDS {
        let side = metres / 10;
        let value = |look: &[f64; 7]| place.map_or_else(|| Part::rededge(look), |p| look[p]);
        let stored = |v: &Option<f64>| v.map_or(0, |v| (v * 10_000.0 - offset).round().clamp(1.0, 65_534.0) as u16);
        let samples: Vec<u16> = coarse(part, side, value).iter().map(stored).collect();
        let image = pack(part.cols / side, part.rows / side, 15, &samples);
        files.push(match kind {
            Kind::L2a => (format!("{granule}/IMG_DATA/R{metres}m/{stem}_{band}_{metres}m.jp2"), image),
            Kind::L1c | Kind::L1cWithoutOffset => (format!("{granule}/IMG_DATA/{stem}_{band}.jp2"), image),
        });
    }
    let (cols, rows) = (part.cols / 2, part.rows / 2);
    let classes: Vec<u16> = (0..cols * rows).map(|i| class(part, i)).collect();
    if kind == Kind::L2a {
        files.push((format!("{granule}/IMG_DATA/R20m/{stem}_SCL_20m.jp2"), pack(cols, rows, 8, &classes)));
    } else {
        let percent: Vec<u16> = classes.iter().map(|c| if *c == 9 { 96 } else { 3 }).collect();
        files.push((format!("{granule}/QI_DATA/MSK_CLDPRB_20m.jp2"), pack(cols, rows, 8, &percent)));
    }
    files.push((format!("{safe}/MTD_MSI{level}.xml"), product(kind, a, &safe, long, offset).into_bytes()));
    files.push((format!("{granule}/MTD_TL.xml"), tile(a, part).into_bytes()));
    files
}

fn product(kind: Kind, a: &Acquisition, safe: &str, level: &str, offset: f64) -> String {
    let (y, m, d) = a.date;
    let (list, entry, quantification) = match kind {
        Kind::L2a => (
            "BOA_ADD_OFFSET_VALUES_LIST",
            "BOA_ADD_OFFSET",
            "<QUANTIFICATION_VALUES_LIST><BOA_QUANTIFICATION_VALUE unit=\"none\">10000</BOA_QUANTIFICATION_VALUE></QUANTIFICATION_VALUES_LIST>",
        ),
        _ => (
            "Radiometric_Offset_List",
            "RADIO_ADD_OFFSET",
            "<Reflectance_Conversion><U>0.9713</U><Solar_Irradiance_List><SOLAR_IRRADIANCE bandId=\"1\" unit=\"W/m2/um\">1959.66</SOLAR_IRRADIANCE>\
<SOLAR_IRRADIANCE bandId=\"3\" unit=\"W/m2/um\">1512.8</SOLAR_IRRADIANCE></Solar_Irradiance_List></Reflectance_Conversion>\
<QUANTIFICATION_VALUE unit=\"none\">10000</QUANTIFICATION_VALUE>",
        ),
    };
    let offsets = (0..13).map(|b| format!("<{entry} band_id=\"{b}\">{offset}</{entry}>")).collect::<String>();
    let offsets = if offset == 0.0 { String::new() } else { format!("<{list}>{offsets}</{list}>") };
    let baseline = if offset == 0.0 { "02.09" } else { "05.10" };
    format!(
        "<?xml version=\"1.0\" encoding=\"UTF-8\"?>\n<n1:User_Product xmlns:n1=\"made-up\">\n<n1:General_Info><Product_Info>\
<PRODUCT_START_TIME>{y}-{m:02}-{d:02}T12:30:31.024Z</PRODUCT_START_TIME><PRODUCT_URI>{safe}</PRODUCT_URI><PROCESSING_LEVEL>{level}</PROCESSING_LEVEL>\
<PROCESSING_BASELINE>{baseline}</PROCESSING_BASELINE><Datatake><SPACECRAFT_NAME>Sentinel-2A</SPACECRAFT_NAME></Datatake></Product_Info>\n\
<Product_Image_Characteristics><Special_Values><SPECIAL_VALUE_TEXT>NODATA</SPECIAL_VALUE_TEXT><SPECIAL_VALUE_INDEX>0</SPECIAL_VALUE_INDEX></Special_Values>\
<Special_Values><SPECIAL_VALUE_TEXT>SATURATED</SPECIAL_VALUE_TEXT><SPECIAL_VALUE_INDEX>65535</SPECIAL_VALUE_INDEX></Special_Values>\
{quantification}{offsets}</Product_Image_Characteristics></n1:General_Info>\n\
<n1:Quality_Indicators_Info><Cloud_Coverage_Assessment>12.5</Cloud_Coverage_Assessment></n1:Quality_Indicators_Info>\n</n1:User_Product>\n"
    )
}

fn tile(a: &Acquisition, part: &Part) -> String {
    let mut geo = String::new();
    for m in [10, 20, 60] {
        let side = m / 10;
        geo += &format!(
            "<Size resolution=\"{m}\"><NROWS>{}</NROWS><NCOLS>{}</NCOLS></Size>",
            part.rows / side,
            part.cols / side
        );
    }
    for m in [10, 20, 60] {
        geo += &format!(
            "<Geoposition resolution=\"{m}\"><ULX>{}</ULX><ULY>{}</ULY><XDIM>{m}</XDIM><YDIM>-{m}</YDIM></Geoposition>",
            part.corner.0, part.corner.1
        );
    }
    format!(
        "<?xml version=\"1.0\" encoding=\"UTF-8\"?>\n<n1:Tile xmlns:n1=\"made-up\"><n1:Geometric_Info><Tile_Geocoding>\
<HORIZONTAL_CS_NAME>made up</HORIZONTAL_CS_NAME><HORIZONTAL_CS_CODE>EPSG:{}</HORIZONTAL_CS_CODE>{geo}</Tile_Geocoding>\
<Tile_Angles><Mean_Sun_Angle><ZENITH_ANGLE unit=\"deg\">{:.6}</ZENITH_ANGLE><AZIMUTH_ANGLE unit=\"deg\">{:.6}</AZIMUTH_ANGLE></Mean_Sun_Angle></Tile_Angles>\
</n1:Geometric_Info></n1:Tile>\n",
        32600 + ZONE,
        90.0 - a.sun_elevation,
        a.sun_azimuth
    )
}
