//! Deliveries of a few thousand cells with known counts, in the public Collection 2 Level-1 layout.

use std::path::{Path, PathBuf};

use telechroma_world::tiff::{Options, Samples, encode};

/// Bands of a tiny delivery, by number, with reflectance or thermal.
pub const BANDS: [u8; 8] = [2, 3, 4, 5, 6, 7, 10, 11];
/// Clear land by the quality plane.
pub const CLEAR: u16 = 21824;
/// Cloud by the quality plane.
pub const CLOUD: u16 = 22280;

/// One delivery.
#[derive(Debug, Clone)]
pub struct Tiny {
    /// Year, month, day.
    pub date: (u16, u8, u8),
    /// Columns and rows.
    pub size: (usize, usize),
    /// UTM zone, north.
    pub zone: u16,
    /// Outer corner of the first cell.
    pub corner: (f64, f64),
    /// Degrees above the horizon.
    pub sun: f64,
    /// Percent, by the metadata.
    pub cloud: f64,
    /// Counts by band.
    pub bands: Vec<(u8, Vec<u16>)>,
    /// Quality bits.
    pub quality: Vec<u16>,
    /// Metadata lines (keys) left out.
    pub without: Vec<String>,
    /// How the files are laid out.
    pub layout: Options,
}

/// Reflectance: multiplier and offset; thermal: multiplier, offset, K1, K2.
pub const REFLECTANCE: (f64, f64) = (2.0e-5, -0.1);
/// Of band 10.
pub const THERMAL: (f64, f64, f64, f64) = (3.342e-4, 0.1, 774.8853, 1321.0789);

impl Tiny {
    /// Counts that look random and differ from scene to scene; some cells cloudy, some fill.
    pub fn new(number: u8, cols: usize, rows: usize) -> Tiny {
        let n = cols * rows;
        let mut state = 0x9E37_79B9 ^ u64::from(number) << 32 | 1;
        let mut next = move || {
            state ^= state << 13;
            state ^= state >> 7;
            state ^= state << 17;
            state >> 20
        };
        let base = |b: u8| if b >= 10 { 26_000 } else { 6_000 + 1_500 * u64::from(b) };
        let mut bands: Vec<(u8, Vec<u16>)> =
            BANDS.iter().map(|b| (*b, (0..n).map(|_| (base(*b) + next() % 2_000) as u16).collect())).collect();
        let mut quality = vec![CLEAR; n];
        for (i, q) in quality.iter_mut().enumerate() {
            let (c, r) = (i % cols, i / cols);
            if c < usize::from(number % 3) {
                *q = 1;
                bands.iter_mut().for_each(|b| b.1[i] = 0);
            } else if (c / 4 + r / 3 + usize::from(number) * 2) % 5 == 0 {
                *q = CLOUD;
            } else if next() % 90 == 0 {
                bands[2].1[i] = 0; // no red here, though the quality plane says clear
            }
        }
        Tiny {
            date: (2031, 4 + number / 2, 3 + 14 * (number % 2)),
            size: (cols, rows),
            zone: 25,
            corner: (500_000.0, 4_400_000.0),
            sun: 42.0 + f64::from(number),
            cloud: 20.0,
            bands,
            quality,
            without: vec![],
            layout: Options { tile: Some((16, 16)), predictor: 2, ..Options::default() },
        }
    }

    /// The product id.
    pub fn id(&self) -> String {
        let (y, m, d) = self.date;
        format!("LC08_L1TP_250300_{y}{m:02}{d:02}_{y}{m:02}{:02}_02_T1", d + 9)
    }

    /// Counts of a band.
    ///
    /// # Panics
    /// Where it has no such band.
    pub fn counts(&self, band: u8) -> &[u16] {
        self.bands.iter().find(|b| b.0 == band).map_or_else(|| panic!("no band {band}"), |b| &b.1)
    }

    /// A cell's reflectance or brightness temperature, in double precision; NaN where it is masked or has no count.
    pub fn value(&self, band: u8, cell: usize) -> f64 {
        let count = f64::from(self.counts(band)[cell]);
        if count == 0.0 || self.quality[cell] & 0x1F != 0 {
            return f64::NAN;
        }
        match band {
            10 | 11 => THERMAL.3 / (THERMAL.2 / (THERMAL.0 * count + THERMAL.1) + 1.0).ln(),
            _ => (REFLECTANCE.0 * count + REFLECTANCE.1) / self.sun.to_radians().sin(),
        }
    }

    fn metadata(&self) -> String {
        let id = self.id();
        let (y, m, d) = self.date;
        let mut t = String::from("GROUP = LANDSAT_METADATA_FILE\n");
        let mut group = |name: &str, entries: Vec<(String, String)>| {
            t += &format!("  GROUP = {name}\n");
            for (k, v) in entries.iter().filter(|(k, _)| !self.without.contains(k)) {
                t += &format!("    {k} = {v}\n");
            }
            t += &format!("  END_GROUP = {name}\n");
        };
        let pair = |k: &str, v: String| (k.to_string(), v);
        let mut contents =
            vec![pair("LANDSAT_PRODUCT_ID", format!("\"{id}\"")), pair("PROCESSING_LEVEL", "\"L1TP\"".into())];
        contents.extend(self.bands.iter().map(|(b, _)| (format!("FILE_NAME_BAND_{b}"), format!("\"{id}_B{b}.TIF\""))));
        contents.push(pair("FILE_NAME_QUALITY_L1_PIXEL", format!("\"{id}_QA_PIXEL.TIF\"")));
        group("PRODUCT_CONTENTS", contents);
        group(
            "IMAGE_ATTRIBUTES",
            vec![
                pair("SPACECRAFT_ID", "\"LANDSAT_8\"".into()),
                pair("SENSOR_ID", "\"OLI_TIRS\"".into()),
                pair("WRS_PATH", "250".into()),
                pair("WRS_ROW", "300".into()),
                pair("DATE_ACQUIRED", format!("{y}-{m:02}-{d:02}")),
                pair("SCENE_CENTER_TIME", "\"12:20:17.4Z\"".into()),
                pair("CLOUD_COVER", format!("{}", self.cloud)),
                pair("SUN_AZIMUTH", "140.0".into()),
                pair("SUN_ELEVATION", format!("{}", self.sun)),
            ],
        );
        group(
            "LEVEL1_MIN_MAX_PIXEL_VALUE",
            BANDS.iter().map(|b| (format!("QUANTIZE_CAL_MAX_BAND_{b}"), "65535".into())).collect(),
        );
        let mut scaling = vec![];
        for b in BANDS {
            let thermal = b >= 10;
            scaling.push((
                format!("RADIANCE_MULT_BAND_{b}"),
                if thermal { format!("{:E}", THERMAL.0) } else { "1.25E-02".into() },
            ));
            scaling
                .push((format!("RADIANCE_ADD_BAND_{b}"), if thermal { THERMAL.1.to_string() } else { "-62.5".into() }));
            if !thermal {
                scaling.push((format!("REFLECTANCE_MULT_BAND_{b}"), format!("{:E}", REFLECTANCE.0)));
                scaling.push((format!("REFLECTANCE_ADD_BAND_{b}"), REFLECTANCE.1.to_string()));
            }
        }
        group("LEVEL1_RADIOMETRIC_RESCALING", scaling);
        let thermal = |b: u8| {
            [
                (format!("K1_CONSTANT_BAND_{b}"), THERMAL.2.to_string()),
                (format!("K2_CONSTANT_BAND_{b}"), THERMAL.3.to_string()),
            ]
        };
        group("LEVEL1_THERMAL_CONSTANTS", [10, 11].into_iter().flat_map(thermal).collect());
        t + "END_GROUP = LANDSAT_METADATA_FILE\nEND\n"
    }

    /// Its files: names and bytes.
    pub fn files(&self) -> Vec<(String, Vec<u8>)> {
        let (cols, rows) = self.size;
        let o = Options { cols, rows, epsg: 32600 + self.zone, corner: self.corner, ..self.layout.clone() };
        let mut files: Vec<(String, Vec<u8>)> = self
            .bands
            .iter()
            .map(|(b, v)| (format!("{}_B{b}.TIF", self.id()), encode(&Samples::U16(v.clone()), &o)))
            .collect();
        files.push((format!("{}_QA_PIXEL.TIF", self.id()), encode(&Samples::U16(self.quality.clone()), &o)));
        files.push((format!("{}_MTL.txt", self.id()), self.metadata().into_bytes()));
        files
    }

    /// Writes it as a folder below `dir`.
    ///
    /// # Panics
    /// Where writing fails.
    pub fn write(&self, dir: &Path) -> PathBuf {
        let folder = dir.join(self.id());
        std::fs::create_dir_all(&folder).unwrap_or_else(|e| panic!("{}: {e}", folder.display()));
        for (name, bytes) in self.files() {
            std::fs::write(folder.join(&name), bytes).unwrap_or_else(|e| panic!("{name}: {e}"));
        }
        folder
    }

    /// Writes it as a `.tar` below `dir`.
    ///
    /// # Panics
    /// Where writing fails.
    pub fn write_tar(&self, dir: &Path) -> PathBuf {
        std::fs::create_dir_all(dir).unwrap_or_else(|e| panic!("{}: {e}", dir.display()));
        let path = dir.join(format!("{}.tar", self.id()));
        let write = || -> std::io::Result<()> {
            let mut tar = tar::Builder::new(std::fs::File::create(&path)?);
            for (name, bytes) in self.files() {
                let mut header = tar::Header::new_gnu();
                header.set_size(bytes.len() as u64);
                header.set_mode(0o644);
                tar.append_data(&mut header, name, bytes.as_slice())?;
            }
            tar.finish()
        };
        write().unwrap_or_else(|e| panic!("{}: {e}", path.display()));
        path
    }
}

/// A plot file of rectangles in cells (column, row, width, height) of the tiny grid, in its UTM coordinates.
pub fn plots(corner: (f64, f64), zone: u16, rectangles: &[(&str, f64, f64, f64, f64)]) -> String {
    let feature = |(id, c, r, w, h): &(&str, f64, f64, f64, f64)| {
        let at = |c: f64, r: f64| [corner.0 + 30.0 * c, corner.1 - 30.0 * r];
        let ring = [at(*c, *r), at(*c, r + h), at(c + w, r + h), at(c + w, *r), at(*c, *r)];
        serde_json::json!({"type": "Feature", "properties": {"id": id, "crop": "flax"}, "geometry": {"type": "Polygon", "coordinates": [ring]}})
    };
    let name = format!("urn:ogc:def:crs:EPSG::{}", 32600 + zone);
    serde_json::json!({
        "type": "FeatureCollection", "crs": {"type": "name", "properties": {"name": name}},
        "features": rectangles.iter().map(feature).collect::<Vec<_>>(),
    })
    .to_string()
}
