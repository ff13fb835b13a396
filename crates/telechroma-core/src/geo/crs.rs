//! Coordinate systems: by EPSG code, by parameters, or by well-known text.
//!
//! UTM and longitude/latitude are built here, other codes come from the EPSG rows of `crs-definitions`.

use std::fmt;
use std::sync::{Mutex, OnceLock, PoisonError};

use proj4rs::Proj;

use super::datum;
use super::definition::Definition;
use super::wkt;
use crate::error::{Error, Result};

/// A coordinate system: an EPSG code, or the number of a system known by its parameters. Systems with equal parameters
/// are equal.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
pub struct Crs(u32);

/// Numbers from here on are systems known by their parameters.
const OWN: u32 = 1 << 16;

/// A system known by its parameters, with its name.
type Own = (Definition, String);

fn own_systems() -> std::sync::MutexGuard<'static, Vec<Own>> {
    static ALL: OnceLock<Mutex<Vec<Own>>> = OnceLock::new();
    ALL.get_or_init(Mutex::default).lock().unwrap_or_else(PoisonError::into_inner) // only ever grows
}

impl Crs {
    /// Longitude and latitude in degrees on WGS 84, in that order.
    pub const LONGITUDE_LATITUDE: Crs = Crs(4326);

    /// The coordinate system of an EPSG code.
    ///
    /// # Errors
    /// [`Error::Coordinates`] where the code is not known or cannot be computed with.
    pub fn from_epsg(code: u32) -> Result<Crs> {
        let crs = if code < OWN { Crs(code) } else { return Err(unknown(code)) };
        crs.projection()?;
        Ok(crs)
    }

    /// The WGS 84 UTM zone.
    ///
    /// # Errors
    /// [`Error::Coordinates`] where `zone` is not 1 to 60.
    pub fn utm(zone: u32, north: bool) -> Result<Crs> {
        if !(1..=60).contains(&zone) {
            return Err(Error::Coordinates(format!("UTM zone {zone} does not exist (1 to 60)")));
        }
        Crs::from_epsg(if north { 32600 } else { 32700 } + zone)
    }

    /// The coordinate system with these parameters; `name` is for people. Those of the WGS 84 UTM zones, of
    /// longitude/latitude and of Web Mercator are recognised.
    ///
    /// # Errors
    /// [`Error::Coordinates`] where they cannot be computed with.
    pub fn from_definition(d: &Definition, name: &str) -> Result<Crs> {
        let usual = (32601..=32660).chain(32701..=32760).chain([4326, 3857]).map(Crs);
        if let Some(known) = usual.into_iter().find(|c| c.definition().is_ok_and(|k| k == *d)) {
            return Ok(known);
        }
        let (plain, _) = datum::without_grids(d);
        Proj::from_proj_string(&plain.to_string())
            .map_err(|e| Error::Coordinates(format!("the coordinate system '{d}' cannot be computed with: {e}")))?;
        let mut all = own_systems();
        let at = all.iter().position(|(known, _)| known == d).unwrap_or_else(|| {
            all.push((d.clone(), name.into()));
            all.len() - 1
        });
        Ok(Crs(OWN + at as u32))
    }

    /// A projection of given parameters on the datum of a geographic system, unless they name an ellipsoid themselves.
    ///
    /// # Errors
    /// As [`Crs::from_definition`].
    pub fn on_datum(d: Definition, geographic: u32, name: &str) -> Result<Crs> {
        let explicit = ["ellps", "a", "R", "datum"].iter().any(|k| d.get(k).is_some());
        let code = u16::try_from(geographic).map_err(|_| unknown(geographic))?;
        let d = if explicit { d } else { wkt::on_datum_of(d, code) };
        Crs::from_definition(&d, name)
    }

    /// The coordinate system of a well-known text, as `.prj` files hold it.
    ///
    /// # Errors
    /// [`Error::Coordinates`] where it describes none that can be computed with.
    pub fn from_wkt(text: &str) -> Result<Crs> {
        wkt::read(text)
    }

    /// From what people write: `EPSG:32625`, a well-known text, or `+proj=…`.
    ///
    /// # Errors
    /// [`Error::Coordinates`] where it is none of these, or cannot be computed with.
    pub fn from_text(text: &str) -> Result<Crs> {
        let t = text.trim();
        let code = t.get(..5).filter(|p| p.eq_ignore_ascii_case("epsg:")).map(|_| &t[5..]);
        match code {
            Some(code) => match code.trim().parse() {
                Ok(code) => Crs::from_epsg(code),
                Err(_) => Err(Error::Coordinates(format!("'{t}' is no EPSG code: write for example EPSG:32625"))),
            },
            None if t.starts_with('+') => Crs::from_definition(&Definition::parse(t), "own"),
            None if t.contains('[') => Crs::from_wkt(t),
            None => Err(Error::Coordinates(format!("'{t}' is no coordinate system: write for example EPSG:32625"))),
        }
    }

    /// The EPSG code, if it is known by one.
    pub fn epsg(self) -> Option<u32> {
        (self.0 < OWN).then_some(self.0)
    }

    /// Zone and hemisphere (true: north) of a WGS 84 UTM system.
    pub fn utm_zone(self) -> Option<(u32, bool)> {
        match self.0 {
            c @ 32601..=32660 => Some((c - 32600, true)),
            c @ 32701..=32760 => Some((c - 32700, false)),
            _ => None,
        }
    }

    /// A name for people.
    pub fn name(self) -> String {
        match (self.utm_zone(), self.0) {
            (Some((zone, true)), _) => format!("WGS 84 / UTM zone {zone}N"),
            (Some((zone, false)), _) => format!("WGS 84 / UTM zone {zone}S"),
            (None, 4326) => "WGS 84 longitude/latitude".into(),
            (None, 3857) => "Web Mercator".into(),
            (None, code) if code < OWN => format!("EPSG:{code}"),
            (None, own) => own_systems().get((own - OWN) as usize).map_or(String::new(), |s| s.1.clone()),
        }
    }

    /// True where coordinates are degrees.
    pub fn is_geographic(self) -> bool {
        self.projection().is_ok_and(|p| p.is_latlong())
    }

    /// Metres of one unit of its coordinates; none where they are degrees.
    pub fn metres(self) -> Option<f64> {
        self.projection().ok().filter(|p| !p.is_latlong()).map(|p| p.to_meter())
    }

    /// Its parameters.
    ///
    /// # Errors
    /// [`Error::Coordinates`] where its code is not known.
    pub fn definition(self) -> Result<Definition> {
        Ok(match (self.utm_zone(), self.0) {
            (Some((zone, north)), _) => {
                let south = if north { "" } else { " +south" };
                Definition::parse(&format!("+proj=utm +zone={zone}{south} +datum=WGS84"))
            }
            (None, 4326) => Definition::parse("+proj=longlat +datum=WGS84"),
            (None, code) if code < OWN => {
                let row = u16::try_from(code).ok().and_then(crs_definitions::from_code);
                Definition::parse(row.ok_or_else(|| unknown(code))?.proj4)
            }
            (None, own) => match own_systems().get((own - OWN) as usize) {
                Some((d, _)) => d.clone(),
                None => unreachable!("numbers are given out by from_definition alone"),
            },
        })
    }

    /// As well-known text (OGC 01-009), as `.prj` files hold it.
    pub fn to_wkt(self) -> String {
        super::wkt::write(self)
    }

    /// What is left out when its coordinates are brought to WGS 84, with the size of the error; none where nothing that
    /// matters at the scale of scenes is.
    pub fn caveat(self) -> Option<String> {
        datum::without_grids(&self.definition().ok()?).1
    }

    pub(super) fn projection(self) -> Result<Proj> {
        let (plain, _) = datum::without_grids(&self.definition()?);
        Proj::from_proj_string(&plain.to_string())
            .map_err(|e| Error::Coordinates(format!("{self} cannot be computed with: {e}")))
    }
}

fn unknown(code: u32) -> Error {
    Error::Coordinates(format!("EPSG:{code} is not a known coordinate system"))
}

impl fmt::Display for Crs {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self.epsg() {
            Some(code) => write!(f, "EPSG:{code}"),
            None => write!(f, "{}", self.definition().map_err(|_| fmt::Error)?),
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::geo::Projector;

    /// Places computed by an independent Krueger series (order 4, WGS 84), metres.
    #[test]
    fn utm_against_an_independent_series() {
        let p = Projector::new(Crs::utm(25, true).unwrap(), Crs::LONGITUDE_LATITUDE).unwrap();
        for (e, n) in [(499_785.0, 4_400_215.0), (520_000.0, 4_382_000.0), (400_000.0, 1_000_000.0)] {
            let (lon, lat) = p.project(e, n).unwrap();
            let (x, y) = krueger(lon.to_radians(), lat.to_radians(), -33.0_f64.to_radians());
            assert!((x - e).abs() < 1e-3 && (y - n).abs() < 1e-3, "{x} {y}");
        }
    }

    fn krueger(lon: f64, lat: f64, lon0: f64) -> (f64, f64) {
        let (a, f, k0) = (6_378_137.0, 1.0 / 298.257_223_563, 0.9996);
        let n: f64 = f / (2.0 - f);
        let big = a / (1.0 + n) * (1.0 + n.powi(2) / 4.0 + n.powi(4) / 64.0);
        let al = [
            n / 2.0 - 2.0 * n.powi(2) / 3.0 + 5.0 * n.powi(3) / 16.0,
            13.0 * n.powi(2) / 48.0 - 3.0 * n.powi(3) / 5.0,
            61.0 * n.powi(3) / 240.0,
        ];
        let s = 2.0 * n.sqrt() / (1.0 + n);
        let t = (lat.sin().atanh() - s * (s * lat.sin()).atanh()).sinh();
        let (xi, eta) = (t.atan2((lon - lon0).cos()), ((lon - lon0).sin() / (1.0 + t * t).sqrt()).atanh());
        let (mut x, mut y) = (eta, xi);
        for (j, c) in al.iter().enumerate() {
            let k = 2.0 * (j as f64 + 1.0);
            x += c * (k * xi).cos() * (k * eta).sinh();
            y += c * (k * xi).sin() * (k * eta).cosh();
        }
        (500_000.0 + k0 * big * x, k0 * big * y)
    }

    #[test]
    fn southern_zones_and_other_codes_and_errors() {
        assert_eq!(Crs::utm(25, false).unwrap().epsg(), Some(32725));
        assert!(Crs::from_epsg(3035).is_ok());
        assert!(Crs::from_epsg(1).unwrap_err().to_string().contains("EPSG:1 is not a known"));
        assert!(Crs::utm(61, true).is_err());
        let p = Projector::new(Crs::LONGITUDE_LATITUDE, Crs::utm(25, true).unwrap()).unwrap();
        assert!(p.project(500_000.0, 4_400_000.0).unwrap_err().to_string().contains("no longitude and latitude"));
    }
}
