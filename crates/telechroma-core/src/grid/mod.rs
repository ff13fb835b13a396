//! Where cells lie: a grid (coordinate system, transform, size) and windows of cells in it.

mod mapping;
mod window;

pub use mapping::Mapping;
pub use window::Window;

use crate::error::Error;
use crate::geo::{Affine, Crs, Projector, area_between};

/// A raster's cells on the ground.
#[derive(Debug, Clone, PartialEq)]
pub struct Grid {
    /// The coordinate system; none where the file has none.
    pub crs: Option<Crs>,
    /// Cells to coordinates.
    pub transform: Affine,
    /// Number of columns.
    pub cols: u32,
    /// Number of rows.
    pub rows: u32,
}

/// How far two grids may be apart, in cells, and still be called aligned.
const ALIGNED: f64 = 1e-3;
/// Steps along a side of a grid when its outline is projected.
const OUTLINE_STEPS: u32 = 32;

impl Grid {
    /// All cells.
    pub fn window(&self) -> Window {
        Window::new(0, 0, self.cols, self.rows)
    }

    /// Number of cells.
    pub fn cells(&self) -> u64 {
        u64::from(self.cols) * u64::from(self.rows)
    }

    /// Smallest and greatest coordinates: west, south, east, north.
    pub fn bounds(&self) -> [f64; 4] {
        let (w, h) = (f64::from(self.cols), f64::from(self.rows));
        let corners = [(0.0, 0.0), (w, 0.0), (0.0, h), (w, h)].map(|(c, r)| self.transform.to_world(c, r));
        let fold = |pick: fn(&(f64, f64)) -> f64, best: fn(f64, f64) -> f64| {
            corners.iter().map(pick).reduce(best).unwrap_or(f64::NAN)
        };
        [fold(|p| p.0, f64::min), fold(|p| p.1, f64::min), fold(|p| p.0, f64::max), fold(|p| p.1, f64::max)]
    }

    /// Where `other`'s first cell lies in this grid, in whole cells.
    ///
    /// # Errors
    /// In words and metres, in what the grids differ: coordinate system, cell size, or a shift by a part of a cell.
    pub fn offset_of(&self, other: &Grid) -> Result<(i64, i64), String> {
        match (self.crs, other.crs) {
            (Some(a), Some(b)) if a != b => {
                return Err(format!(
                    "they are in different coordinate systems, {} ({a}) and {} ({b})",
                    a.name(),
                    b.name()
                ));
            }
            (None, Some(_)) | (Some(_), None) => return Err("one of them has no coordinate system".into()),
            _ => {}
        }
        let (t, o) = (&self.transform, &other.transform);
        let (w, h) = t.cell();
        let far = f64::from(other.cols.max(other.rows).max(1));
        let drift = |x: f64, y: f64, cell: f64| ((x - y) / cell).abs() * far > ALIGNED;
        if drift(t.a, o.a, w) || drift(t.b, o.b, h) || drift(t.d, o.d, w) || drift(t.e, o.e, h) {
            let ((w2, h2), unit) = (o.cell(), if self.is_metric() { " m" } else { "" });
            return Err(format!("their cells differ, {w} x {h}{unit} and {w2} x {h2}{unit}"));
        }
        let (col, row) = t.to_cells(o.c, o.f);
        let (dc, dr) = (col - col.round(), row - row.round());
        if dc.abs() > ALIGNED || dr.abs() > ALIGNED {
            let unit = if self.is_metric() { "m" } else { "units" };
            return Err(format!(
                "they are {:.2} {unit} east-west and {:.2} {unit} north-south off whole cells ({:.2} and {:.2} of a cell)",
                dc.abs() * w,
                dr.abs() * h,
                dc.abs(),
                dr.abs()
            ));
        }
        if col.abs() > 1e7 || row.abs() > 1e7 {
            return Err("they lie more than ten million cells apart".into());
        }
        Ok((col.round() as i64, row.round() as i64))
    }

    /// Area of a cell of a row, square metres: on the map, or on the ellipsoid where the grid is in degrees.
    ///
    /// # Errors
    /// Where its coordinate system is not known.
    pub fn cell_area(&self, row: u32) -> Result<f64, Error> {
        let crs = self.crs.ok_or_else(|| {
            Error::Coordinates("the raster has no coordinate system, so its cells have no area in hectares".into())
        })?;
        match crs.metres() {
            Some(unit) => Ok(self.transform.determinant().abs() * unit * unit),
            None => {
                let (w, _) = self.transform.cell();
                let at = |r: u32| self.transform.to_world(0.0, f64::from(r)).1;
                Ok(area_between(at(row), at(row + 1), w))
            }
        }
    }

    /// A part of it, its cells where they are.
    #[must_use]
    pub fn part(&self, window: Window) -> Grid {
        let transform = self.transform.shifted(window.col as f64, window.row as f64);
        Grid { crs: self.crs, transform, cols: window.cols, rows: window.rows }
    }

    /// Its outline in another coordinate system: west, south, east, north. Its sides are followed in steps, as they may
    /// bend there.
    ///
    /// # Errors
    /// Where a system cannot be computed with, or nothing of the outline has a place there.
    pub fn bounds_in(&self, crs: Crs) -> Result<[f64; 4], Error> {
        let own = self.crs.ok_or_else(|| Error::Coordinates("it has no coordinate system".into()))?;
        let projector = Projector::new(own, crs)?;
        let mut b = [f64::INFINITY, f64::INFINITY, f64::NEG_INFINITY, f64::NEG_INFINITY];
        let (w, h) = (f64::from(self.cols), f64::from(self.rows));
        for i in 0..=OUTLINE_STEPS {
            let t = f64::from(i) / f64::from(OUTLINE_STEPS);
            for (c, r) in [(t * w, 0.0), (t * w, h), (0.0, t * h), (w, t * h)] {
                let (x, y) = self.transform.to_world(c, r);
                if let Some((x, y)) = projector.place(x, y) {
                    b = [b[0].min(x), b[1].min(y), b[2].max(x), b[3].max(y)];
                }
            }
        }
        match b[0] <= b[2] {
            true => Ok(b),
            false => Err(Error::Coordinates(format!("nothing of it has a place in {crs}"))),
        }
    }

    /// Azimuth of true north at the grid's middle, degrees clockwise from its columns; 0 where that is not known. Add it to
    /// an azimuth to have it on the grid.
    ///
    /// # Errors
    /// Where the middle has no longitude and latitude.
    pub fn true_north(&self) -> Result<f64, Error> {
        let Some(crs) = self.crs.filter(|c| !c.is_geographic()) else { return Ok(0.0) };
        let (x, y) = self.transform.to_world(f64::from(self.cols) / 2.0, f64::from(self.rows) / 2.0);
        let (lon, lat) = Projector::new(crs, Crs::LONGITUDE_LATITUDE)?.project(x, y)?;
        let back = Projector::new(Crs::LONGITUDE_LATITUDE, crs)?;
        let (north, south) = (back.project(lon, (lat + 0.01).min(89.99))?, back.project(lon, lat - 0.01)?);
        Ok((north.0 - south.0).atan2(north.1 - south.1).to_degrees())
    }

    /// True where a cell's size is in metres.
    pub fn is_metric(&self) -> bool {
        self.crs.is_some_and(|c| !c.is_geographic())
    }

    /// The smallest grid that holds this one and `others`, on this one's cells.
    ///
    /// # Errors
    /// As [`Grid::offset_of`], with the number of the grid that does not fit.
    pub fn union<'a>(&self, others: impl IntoIterator<Item = &'a Grid>) -> Result<Grid, (usize, String)> {
        let (mut west, mut north) = (0, 0);
        let (mut east, mut south) = (i64::from(self.cols), i64::from(self.rows));
        for (i, g) in others.into_iter().enumerate() {
            let (c, r) = self.offset_of(g).map_err(|e| (i, e))?;
            (west, north) = (west.min(c), north.min(r));
            (east, south) = (east.max(c + i64::from(g.cols)), south.max(r + i64::from(g.rows)));
            if (east - west).max(south - north) > i64::from(u32::MAX) {
                return Err((i, "together they would span too many cells".into()));
            }
        }
        Ok(Grid {
            crs: self.crs,
            transform: self.transform.shifted(west as f64, north as f64),
            cols: (east - west) as u32,
            rows: (south - north) as u32,
        })
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn grid(x: f64, y: f64, cell: f64) -> Grid {
        Grid { crs: Crs::from_epsg(32625).ok(), transform: Affine::north_up(x, y, cell, cell), cols: 10, rows: 8 }
    }

    #[test]
    fn a_half_cell_shift_is_named_in_metres() {
        let e = grid(0.0, 0.0, 30.0).offset_of(&grid(15.0, 0.0, 30.0)).unwrap_err();
        assert_eq!(e, "they are 15.00 m east-west and 0.00 m north-south off whole cells (0.50 and 0.00 of a cell)");
        let e = grid(0.0, 0.0, 30.0).offset_of(&grid(0.0, 0.0, 10.0)).unwrap_err();
        assert_eq!(e, "their cells differ, 30 x 30 m and 10 x 10 m");
    }

    #[test]
    fn other_zones_are_refused() {
        let other = Grid { crs: Crs::from_epsg(32626).ok(), ..grid(0.0, 0.0, 30.0) };
        assert!(grid(0.0, 0.0, 30.0).offset_of(&other).unwrap_err().contains("different coordinate systems"));
    }

    #[test]
    fn union_keeps_the_cells_where_they_are() {
        let g = grid(300.0, 600.0, 30.0);
        let u = g.union([&grid(240.0, 630.0, 30.0), &grid(330.0, 600.0, 30.0)]).unwrap();
        assert_eq!((u.cols, u.rows, u.transform.c, u.transform.f), (13, 9, 240.0, 630.0));
        assert_eq!(u.offset_of(&g), Ok((2, 1)));
    }

    #[test]
    fn worked_convergence() {
        let e = crate::worked::example("grid_convergence");
        let zone = ((e.number("central_meridian") + 183.0) / 6.0) as u32;
        let crs = Crs::utm(zone, true).unwrap();
        let there = Projector::new(Crs::LONGITUDE_LATITUDE, crs).unwrap();
        let (x, y) = there.project(e.number("lon"), e.number("lat")).unwrap();
        let grid = Grid { crs: Some(crs), transform: Affine::north_up(x, y, 0.01, 0.01), cols: 2, rows: 2 };
        // the worked numbers are of the usual approximation, ours are of the projection itself
        let north = grid.true_north().unwrap();
        assert!((north + e.expected("convergence_deg")).abs() < 2e-3, "{north}");
        assert!((e.number("sun_azimuth_deg") + north - e.expected("grid_azimuth_deg")).abs() < 2e-3);
    }
}
