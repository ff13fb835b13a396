//! GeoTIFF's keys for coordinate systems, both ways: a code, or a projection with its parameters.
//!
//! Source: OGC GeoTIFF 1.1 (19-008r4), annexes B and C.

use telechroma_core::geo::{Crs, Definition};

const MODEL: u16 = 1024;
const RASTER: u16 = 1025;
const CITATION: u16 = 1026;
const GEOGRAPHIC: u16 = 2048;
const ANGULAR_UNIT: u16 = 2054;
const ELLIPSOID: u16 = 2056;
const MAJOR_AXIS: u16 = 2057;
const MINOR_AXIS: u16 = 2058;
const FLATTENING: u16 = 2059;
const SHIFT: u16 = 2062;
const PROJECTED: u16 = 3072;
const PROJECTED_CITATION: u16 = 3073;
const PROJECTION: u16 = 3074;
const METHOD: u16 = 3075;
const LENGTH_UNIT: u16 = 3076;
const SCALE: [u16; 2] = [3092, 3093];
const STRAIGHT_POLE: u16 = 3095;
const USER_DEFINED: u16 = 32767;
const DEGREE: u16 = 9102;

/// Keys that hold the same parameter: readers take the first that is there, writers the first of the method's group.
const LONGITUDE: [u16; 4] = [3080, 3084, 3088, STRAIGHT_POLE];
const LATITUDE: [u16; 3] = [3081, 3085, 3089];
const EASTING: [u16; 3] = [3082, 3086, 3090];
const NORTHING: [u16; 3] = [3083, 3087, 3091];
const PARALLELS: [u16; 2] = [3078, 3079];

/// Methods: code, the projection's name, which of the keys above it writes (0 natural origin, 1 false origin, 2 centre).
const METHODS: &[(u16, &str, usize)] = &[
    (1, "tmerc", 0),
    (7, "merc", 0),
    (8, "lcc", 1),
    (10, "laea", 2),
    (11, "aea", 0),
    (12, "aeqd", 2),
    (13, "eqdc", 0),
    (15, "stere", 0),
    (16, "sterea", 0),
    (17, "eqc", 2),
    (18, "cass", 0),
    (22, "poly", 0),
    (24, "sinu", 2),
    (28, "cea", 0),
];
/// Read as another method of the table.
const ALSO: &[(u16, &str)] = &[(9, "lcc"), (14, "stere")];
/// Ellipsoids by code.
const ELLIPSOIDS: &[(u16, &str)] = &[
    (7001, "airy"),
    (7004, "bessel"),
    (7008, "clrk66"),
    (7012, "clrk80"),
    (7019, "GRS80"),
    (7022, "intl"),
    (7024, "krass"),
    (7030, "WGS84"),
    (7043, "WGS72"),
];
/// Length units: code, name, metres.
const UNITS: &[(u16, &str, f64)] = &[(9001, "m", 1.0), (9002, "ft", 0.3048), (9003, "us-ft", 1200.0 / 3937.0)];

/// The three tags: directory, numbers, text.
#[derive(Debug, Clone, Default)]
pub(crate) struct GeoKeys {
    pub directory: Vec<u16>,
    pub doubles: Vec<f64>,
    pub text: String,
}

impl GeoKeys {
    fn entry(&self, id: u16) -> Option<&[u16]> {
        self.directory.get(4..)?.chunks_exact(4).find(|k| k[0] == id)
    }

    /// A key's value held in the directory itself.
    fn code(&self, id: u16) -> Option<u16> {
        self.entry(id).filter(|k| k[1] == 0).map(|k| k[3])
    }

    fn numbers(&self, id: u16) -> Option<&[f64]> {
        let k = self.entry(id).filter(|k| k[1] == 34736)?;
        self.doubles.get(usize::from(k[3])..usize::from(k[3]) + usize::from(k[2]))
    }

    fn number(&self, ids: &[u16]) -> Option<f64> {
        ids.iter().find_map(|id| self.numbers(*id)?.first().copied()).filter(|v| v.is_finite())
    }

    fn words(&self, id: u16) -> Option<&str> {
        let k = self.entry(id).filter(|k| k[1] == 34737)?;
        let text = self.text.get(usize::from(k[3])..usize::from(k[3]) + usize::from(k[2]))?;
        Some(text.trim_end_matches(['|', '\0']).trim())
    }

    /// True where coordinates tell the centres of cells.
    pub fn is_point(&self) -> bool {
        self.code(RASTER) == Some(2)
    }

    /// The coordinate system; none where there are no keys about it.
    ///
    /// # Errors
    /// In words, where there is one that cannot be used.
    pub fn crs(&self) -> Result<Option<Crs>, String> {
        let by_code = |c: u16| Crs::from_epsg(u32::from(c)).map(Some).map_err(|e| e.to_string());
        match (self.code(MODEL), self.code(PROJECTED), self.code(GEOGRAPHIC)) {
            (Some(1) | None, Some(c), _) if c != USER_DEFINED && c != 0 => by_code(c),
            (Some(2) | None, None, Some(c)) | (Some(2), _, Some(c)) if c != USER_DEFINED && c != 0 => by_code(c),
            (Some(2), _, _) => self.own_geographic().map(Some),
            (_, Some(USER_DEFINED), _) | (Some(1), None, _)
                if self.entry(METHOD).is_some() || self.entry(PROJECTION).is_some() =>
            {
                self.own_projection().map(Some)
            }
            (None, None, None) => Ok(None),
            (model, _, _) => {
                Err(format!("a coordinate system of model type {}", model.map_or("none".into(), |m| m.to_string())))
            }
        }
    }

    fn own_geographic(&self) -> Result<Crs, String> {
        let mut d = Definition::parse("+proj=longlat");
        self.ellipsoid(&mut d);
        self.made(d)
    }

    fn own_projection(&self) -> Result<Crs, String> {
        match self.code(PROJECTION) {
            // WGS 84 UTM zones by their projection code
            Some(p @ 16001..=16060) if self.code(METHOD).is_none() => {
                return Crs::utm(u32::from(p) - 16000, true).map_err(|e| e.to_string());
            }
            Some(p @ 16101..=16160) if self.code(METHOD).is_none() => {
                return Crs::utm(u32::from(p) - 16100, false).map_err(|e| e.to_string());
            }
            _ => {}
        }
        let method = self.code(METHOD).ok_or("a user-defined projection without a method")?;
        let known = METHODS.iter().map(|m| (m.0, m.1)).chain(ALSO.iter().copied()).find(|m| m.0 == method);
        let (_, proj) = known.ok_or_else(|| format!("a user-defined projection of method {method}"))?;
        let mut d = Definition::parse(&format!("+proj={proj}"));
        let unit = self.code(LENGTH_UNIT).unwrap_or(9001);
        let (_, name, metres) = UNITS.iter().find(|u| u.0 == unit).ok_or_else(|| format!("lengths in unit {unit}"))?;
        if *name != "m" {
            d.set("units", name);
        }
        let mut set = |key: &str, value: Option<f64>| value.into_iter().for_each(|v| d.set(key, &v.to_string()));
        set("lon_0", Some(self.number(&LONGITUDE).unwrap_or(0.0)));
        let latitude = self.number(&LATITUDE);
        match proj {
            // the natural origin of a polar stereographic map states the parallel of true scale
            "stere" if method == 15 => {
                set("lat_0", Some(if latitude.unwrap_or(90.0) < 0.0 { -90.0 } else { 90.0 }));
                set("lat_ts", latitude.filter(|l| l.abs() < 90.0));
            }
            "merc" | "eqc" | "cea" => set("lat_ts", self.number(&PARALLELS).or(latitude)),
            "lcc" if method == 9 => {
                set("lat_0", latitude);
                set("lat_1", latitude);
            }
            "sinu" => {}
            _ => set("lat_0", latitude),
        }
        if matches!(proj, "aea" | "eqdc") || method == 8 {
            set("lat_1", self.number(&PARALLELS[..1]));
            set("lat_2", self.number(&PARALLELS[1..]));
        }
        set("k", self.number(&SCALE).filter(|k| *k != 1.0));
        set("x_0", Some(self.number(&EASTING).unwrap_or(0.0) * metres));
        set("y_0", Some(self.number(&NORTHING).unwrap_or(0.0) * metres));
        self.ellipsoid(&mut d);
        self.made(d)
    }

    /// The axes that are written out win over a code: files put the code of WGS 84 beside a sphere.
    fn ellipsoid(&self, d: &mut Definition) {
        match (self.number(&[MAJOR_AXIS]), self.number(&[MINOR_AXIS]), self.number(&[FLATTENING])) {
            (Some(a), Some(b), _) if a == b => d.set("R", &a.to_string()),
            (Some(a), _, Some(rf)) if rf > 0.0 => named_or(d, a, rf),
            (Some(a), Some(b), _) if b < a => named_or(d, a, a / (a - b)),
            _ => {
                if let Some((_, name)) = self.code(ELLIPSOID).and_then(|c| ELLIPSOIDS.iter().find(|e| e.0 == c)) {
                    d.set("ellps", name);
                }
            }
        }
        if let Some(shift) = self.numbers(SHIFT).filter(|s| s.len() == 3 || s.len() == 7) {
            d.set("towgs84", &shift.iter().map(f64::to_string).collect::<Vec<_>>().join(","));
        }
    }

    fn made(&self, d: Definition) -> Result<Crs, String> {
        let name = self.words(PROJECTED_CITATION).or(self.words(CITATION)).unwrap_or("own projection");
        let datum = self.code(GEOGRAPHIC).filter(|c| *c != USER_DEFINED && *c != 0).unwrap_or(4326);
        Crs::on_datum(d, u32::from(datum), name).map_err(|e| e.to_string())
    }
}

fn named_or(d: &mut Definition, a: f64, rf: f64) {
    let near = |x: f64, y: f64| (x - y).abs() < 1e-5;
    match (a, rf) {
        _ if a == 6_378_137.0 && near(rf, 298.257_223_563) => d.set("ellps", "WGS84"),
        _ if a == 6_378_137.0 && near(rf, 298.257_222_101) => d.set("ellps", "GRS80"),
        _ => {
            d.set("a", &a.to_string());
            d.set("rf", &rf.to_string());
        }
    }
}

/// The keys of a coordinate system, sorted, for cells that are areas.
pub(crate) fn keys_of(crs: Crs) -> GeoKeys {
    let mut w = Writer { keys: vec![], doubles: vec![], text: String::new() };
    w.code(RASTER, 1);
    let name = crs.name();
    w.words(CITATION, if name.is_ascii() { &name } else { "coordinate system" });
    let degrees = crs.is_geographic();
    w.code(MODEL, if degrees { 2 } else { 1 });
    match (crs.epsg(), degrees) {
        (Some(code), true) => w.code(GEOGRAPHIC, code as u16),
        (Some(code), false) => w.code(PROJECTED, code as u16),
        (None, _) => w.own(&crs, degrees),
    }
    match degrees {
        true => w.code(ANGULAR_UNIT, DEGREE),
        false => {
            let unit = crs.metres().and_then(|m| UNITS.iter().find(|u| (u.2 - m).abs() < 1e-9)).map_or(9001, |u| u.0);
            w.code(LENGTH_UNIT, unit);
        }
    }
    w.keys.sort_by_key(|k| k[0]);
    let head = [1, 1, 0, w.keys.len() as u16];
    GeoKeys {
        directory: head.into_iter().chain(w.keys.into_iter().flatten()).collect(),
        doubles: w.doubles,
        text: w.text,
    }
}

struct Writer {
    keys: Vec<[u16; 4]>,
    doubles: Vec<f64>,
    text: String,
}

impl Writer {
    fn code(&mut self, id: u16, value: u16) {
        self.keys.push([id, 0, 1, value]);
    }

    fn numbers(&mut self, id: u16, values: &[f64]) {
        self.keys.push([id, 34736, values.len() as u16, self.doubles.len() as u16]);
        self.doubles.extend(values);
    }

    fn words(&mut self, id: u16, text: &str) {
        self.keys.push([id, 34737, text.len() as u16 + 1, self.text.len() as u16]);
        self.text += text;
        self.text.push('|');
    }

    fn own(&mut self, crs: &Crs, degrees: bool) {
        let Ok(d) = crs.definition() else { unreachable!("a system known by its parameters has them") };
        self.code(GEOGRAPHIC, if d.get("datum") == Some("WGS84") { 4326 } else { USER_DEFINED });
        match (d.number("R"), d.get("ellps"), d.number("a")) {
            (Some(r), _, _) => {
                self.numbers(MAJOR_AXIS, &[r]);
                self.numbers(MINOR_AXIS, &[r]);
            }
            (_, Some(name), _) => {
                if let Some((code, _)) = ELLIPSOIDS.iter().find(|e| e.1 == name) {
                    self.code(ELLIPSOID, *code);
                }
            }
            (_, _, Some(a)) => {
                self.numbers(MAJOR_AXIS, &[a]);
                match (d.number("rf"), d.number("b")) {
                    (Some(rf), _) => self.numbers(FLATTENING, &[rf]),
                    (_, Some(b)) => self.numbers(MINOR_AXIS, &[b]),
                    _ => {}
                }
            }
            _ => {}
        }
        if let Some(shift) = d.shift() {
            self.numbers(SHIFT, &shift);
        }
        if degrees {
            return;
        }
        self.code(PROJECTED, USER_DEFINED);
        self.code(PROJECTION, USER_DEFINED);
        let proj = d.get("proj").unwrap_or_default();
        let Some((code, _, group)) = METHODS.iter().find(|m| m.1 == proj) else { return };
        self.code(METHOD, *code);
        let unit = d.get("units").and_then(|u| UNITS.iter().find(|x| x.1 == u)).map_or(1.0, |u| u.2);
        let longitude = if proj == "stere" { STRAIGHT_POLE } else { LONGITUDE[*group] };
        let mut number = |id: u16, v: Option<f64>| v.into_iter().for_each(|v| self.numbers(id, &[v]));
        number(longitude, Some(d.number("lon_0").unwrap_or(0.0)));
        match proj {
            "stere" => number(LATITUDE[0], d.number("lat_ts").or(d.number("lat_0"))),
            "merc" | "eqc" | "cea" => number(PARALLELS[0], d.number("lat_ts")),
            _ => number(LATITUDE[*group], d.number("lat_0")),
        }
        number(PARALLELS[0], d.number("lat_1"));
        number(PARALLELS[1], d.number("lat_2"));
        number(SCALE[0], d.number("k"));
        number(EASTING[*group], Some(d.number("x_0").unwrap_or(0.0) / unit));
        number(NORTHING[*group], Some(d.number("y_0").unwrap_or(0.0) / unit));
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn systems_without_a_code_come_back_from_their_keys() {
        for text in [
            "+proj=sinu +lon_0=0 +x_0=0 +y_0=0 +R=6371007.181",
            "+proj=laea +lat_0=40 +lon_0=-33 +x_0=100000 +y_0=200000 +datum=WGS84",
            "+proj=aea +lat_0=23 +lon_0=-96 +lat_1=29.5 +lat_2=45.5 +x_0=0 +y_0=0 +ellps=clrk66 +towgs84=-8,160,176",
            "+proj=lcc +lat_0=46.5 +lon_0=3 +lat_1=49 +lat_2=44 +x_0=700000 +y_0=6600000 +ellps=GRS80 +towgs84=0,0,0",
            "+proj=stere +lat_0=-90 +lat_ts=-71 +lon_0=0 +x_0=0 +y_0=0 +datum=WGS84",
            "+proj=tmerc +lat_0=10 +lon_0=-33 +k=0.9999 +x_0=200000 +y_0=0 +ellps=bessel +towgs84=582,105,414,1.04,0.35,-3.08,8.3",
            "+proj=sterea +lat_0=52 +lon_0=5 +k=0.9999 +x_0=155000 +y_0=463000 +a=6377397.155 +rf=299.1528128",
            "+proj=aea +lat_0=50 +lon_0=-154 +lat_1=55 +lat_2=65 +x_0=0 +y_0=0 +datum=WGS84 +units=us-ft",
        ] {
            let crs = Crs::from_text(text).unwrap();
            assert_eq!(crs.epsg(), None, "{text}");
            assert_eq!(keys_of(crs).crs().unwrap(), Some(crs), "{text}: {:?}", keys_of(crs));
        }
        for code in [32625, 3035, 4326, 3857] {
            let crs = Crs::from_epsg(code).unwrap();
            assert_eq!(keys_of(crs).crs().unwrap(), Some(crs));
        }
    }

    /// A sphere beside the code of WGS 84 is a sphere.
    #[test]
    fn explicit_axes_win() {
        let mut keys = keys_of(Crs::from_text("+proj=sinu +R=6371007.181").unwrap());
        for k in keys.directory.chunks_exact_mut(4).skip(1).filter(|k| k[0] == GEOGRAPHIC) {
            k[3] = 4326;
        }
        assert_eq!(keys.crs().unwrap().unwrap().definition().unwrap().number("R"), Some(6_371_007.181));
    }

    #[test]
    fn what_cannot_be_used_is_named() {
        let keys = GeoKeys {
            directory: vec![1, 1, 0, 3, MODEL, 0, 1, 1, PROJECTED, 0, 1, USER_DEFINED, METHOD, 0, 1, 99],
            ..GeoKeys::default()
        };
        assert!(keys.crs().unwrap_err().contains("method 99"));
        let cut = GeoKeys { directory: vec![1, 1, 0, 9, METHOD, 34736, 3, 65535], ..GeoKeys::default() };
        assert!(cut.numbers(METHOD).is_none());
    }
}
