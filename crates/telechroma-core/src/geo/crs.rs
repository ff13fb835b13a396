//! Coordinate systems by EPSG code; the projection maths are proj4rs's.
//!
//! UTM and longitude/latitude are built here, other codes come from the EPSG rows of `crs-definitions`.

use std::fmt;

use proj4rs::Proj;
use proj4rs::transform::transform;

use crate::error::{Error, Result};

/// A coordinate system, known by its EPSG code.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
pub struct Crs(u16);

impl Crs {
    /// Longitude and latitude in degrees on WGS 84, in that order.
    pub const LONGITUDE_LATITUDE: Crs = Crs(4326);

    /// The coordinate system of an EPSG code.
    ///
    /// # Errors
    /// [`Error::Coordinates`] where the code is not known or cannot be computed with.
    pub fn from_epsg(code: u32) -> Result<Crs> {
        let crs = u16::try_from(code).map(Crs).map_err(|_| unknown(code))?;
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

    /// The EPSG code.
    pub fn epsg(self) -> u32 {
        u32::from(self.0)
    }

    /// Zone and hemisphere (true: north) of a WGS 84 UTM system.
    pub fn utm_zone(self) -> Option<(u32, bool)> {
        match self.epsg() {
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
            _ => format!("EPSG:{}", self.0),
        }
    }

    /// True where coordinates are degrees.
    pub fn is_geographic(self) -> bool {
        self.projection().is_ok_and(|p| p.is_latlong())
    }

    fn text(self) -> Result<String> {
        Ok(match (self.utm_zone(), self.0) {
            (Some((zone, north)), _) => {
                let south = if north { "" } else { " +south" };
                format!("+proj=utm +zone={zone}{south} +datum=WGS84 +units=m +no_defs")
            }
            (None, 4326) => "+proj=longlat +datum=WGS84 +no_defs".into(),
            _ => crs_definitions::from_code(self.0).ok_or_else(|| unknown(self.epsg()))?.proj4.to_string(),
        })
    }

    fn projection(self) -> Result<Proj> {
        Proj::from_proj_string(&self.text()?)
            .map_err(|e| Error::Coordinates(format!("EPSG:{} cannot be computed with: {e}", self.0)))
    }
}

fn unknown(code: u32) -> Error {
    Error::Coordinates(format!("EPSG:{code} is not a known coordinate system"))
}

impl fmt::Display for Crs {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "EPSG:{}", self.0)
    }
}

/// Turns coordinates of one system into those of another.
pub struct Projector {
    pair: Option<(Proj, Proj)>,
    names: (Crs, Crs),
}

impl Projector {
    /// From one system to another; the same system passes coordinates through untouched.
    ///
    /// # Errors
    /// [`Error::Coordinates`] where a system cannot be computed with.
    pub fn new(from: Crs, to: Crs) -> Result<Projector> {
        let pair = if from == to { None } else { Some((from.projection()?, to.projection()?)) };
        Ok(Projector { pair, names: (from, to) })
    }

    /// One place; degrees where a system is geographic.
    ///
    /// # Errors
    /// [`Error::Coordinates`] where the place has no coordinates there.
    pub fn project(&self, x: f64, y: f64) -> Result<(f64, f64)> {
        let Some((from, to)) = &self.pair else { return Ok((x, y)) };
        let fails = || Error::Coordinates(format!("({x}, {y}) in {} has no place in {}", self.names.0, self.names.1));
        if from.is_latlong() && (x.abs() > 360.0 || y.abs() > 90.0) {
            return Err(Error::Coordinates(format!(
                "({x}, {y}) is no longitude and latitude in degrees (the coordinates may be in another system, or swapped)"
            )));
        }
        let mut p = if from.is_latlong() { (x.to_radians(), y.to_radians(), 0.0) } else { (x, y, 0.0) };
        transform(from, to, &mut p).map_err(|_| fails())?;
        let (x, y) = if to.is_latlong() { (p.0.to_degrees(), p.1.to_degrees()) } else { (p.0, p.1) };
        if x.is_finite() && y.is_finite() { Ok((x, y)) } else { Err(fails()) }
    }

    /// True where nothing is changed.
    pub fn is_identity(&self) -> bool {
        self.pair.is_none()
    }
}

#[cfg(test)]
mod tests {
    use super::*;

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
        assert_eq!(Crs::utm(25, false).unwrap().epsg(), 32725);
        assert!(Crs::from_epsg(3035).is_ok());
        assert!(Crs::from_epsg(1).unwrap_err().to_string().contains("EPSG:1 is not a known"));
        assert!(Crs::utm(61, true).is_err());
        let p = Projector::new(Crs::LONGITUDE_LATITUDE, Crs::utm(25, true).unwrap()).unwrap();
        assert!(p.project(500_000.0, 4_400_000.0).unwrap_err().to_string().contains("no longitude and latitude"));
    }
}
