//! The affine transform of a grid: cell positions to coordinates and back.

/// `x = a·col + b·row + c`, `y = d·col + e·row + f`; (0, 0) is the outer corner of the first cell.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Affine {
    /// Coordinates for a step of one column.
    pub a: f64,
    /// x for a step of one row.
    pub b: f64,
    /// x of the outer corner.
    pub c: f64,
    /// y for a step of one column.
    pub d: f64,
    /// y for a step of one row; negative in north-up grids.
    pub e: f64,
    /// y of the outer corner.
    pub f: f64,
}

impl Affine {
    /// A north-up transform from the outer corner and the cell's width and height.
    pub fn north_up(x: f64, y: f64, width: f64, height: f64) -> Affine {
        Affine { a: width, b: 0.0, c: x, d: 0.0, e: -height, f: y }
    }

    /// Coordinates of a position in cells.
    pub fn to_world(&self, col: f64, row: f64) -> (f64, f64) {
        (self.a * col + self.b * row + self.c, self.d * col + self.e * row + self.f)
    }

    /// Position in cells of coordinates.
    pub fn to_cells(&self, x: f64, y: f64) -> (f64, f64) {
        let (dx, dy) = (x - self.c, y - self.f);
        if self.b == 0.0 && self.d == 0.0 {
            return (dx / self.a, dy / self.e); // exact for whole cells, where the general form is not
        }
        let det = self.determinant();
        ((self.e * dx - self.b * dy) / det, (self.a * dy - self.d * dx) / det)
    }

    /// Signed area of a cell; zero means that the transform cannot be undone.
    pub fn determinant(&self) -> f64 {
        self.a * self.e - self.b * self.d
    }

    /// Width and height of a cell along its own axes.
    pub fn cell(&self) -> (f64, f64) {
        (self.a.hypot(self.d), self.b.hypot(self.e))
    }

    /// The transform of a grid that starts `cols`, `rows` cells on.
    pub fn shifted(&self, cols: f64, rows: f64) -> Affine {
        let (c, f) = self.to_world(cols, rows);
        Affine { c, f, ..*self }
    }

    /// The transform of a grid with cells `k` times as large and the same corner.
    pub fn coarser(&self, kx: f64, ky: f64) -> Affine {
        Affine { a: self.a * kx, d: self.d * kx, b: self.b * ky, e: self.e * ky, ..*self }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    proptest! {
        #[test]
        fn cells_and_back(col in -1e4..1e4f64, row in -1e4..1e4f64, turn in 0.0..6.2f64, size in 0.5..100.0f64) {
            let t = Affine { a: size * turn.cos(), b: size * turn.sin(), c: 5e5, d: size * turn.sin(), e: -size * turn.cos(), f: 4e6 };
            let (x, y) = t.to_world(col, row);
            let (c, r) = t.to_cells(x, y);
            prop_assert!((c - col).abs() < 1e-6 && (r - row).abs() < 1e-6);
        }
    }
}
