//! How plots fit the cells of a raster: their size in cells, how much lies on it, and which overlap.

use geo::MinimumRotatedRect;

use crate::feature::overlap;
use crate::grid::Grid;
use crate::plot::{Laid, Plot, Shape, Weighting};

/// Cells below which a mean is not worth much, and below which a spread or a percentile is not: three by three, and
/// five by five.
pub const FEW: (u64, u64) = (9, 25);

/// A plot as it lies on a grid.
#[derive(Debug, Clone, PartialEq)]
pub struct Checked {
    /// Its area, in cells.
    pub area: f64,
    /// Cells whose centre is inside.
    pub centres: u64,
    /// Cells that it touches.
    pub touched: u64,
    /// Share of it on the grid, 0–1.
    pub on_grid: f64,
    /// Its shorter side, in cells; NaN for points.
    pub short_side: f64,
}

/// The shorter side of the smallest rectangle round a shape's largest polygon, in its coordinates; NaN for points.
pub fn short_side(shape: &Shape) -> f64 {
    let largest = shape.polygons().iter().max_by(|a, b| a.area().total_cmp(&b.area()));
    let Some(p) = largest else { return f64::NAN };
    let line = geo::LineString::from(p.outer.clone());
    let Some(rectangle) = geo::Polygon::new(line, vec![]).minimum_rotated_rect() else { return f64::NAN };
    let corners = &rectangle.exterior().0;
    let side = |i: usize| (corners[i + 1].x - corners[i].x).hypot(corners[i + 1].y - corners[i].y);
    if corners.len() < 3 { f64::NAN } else { side(0).min(side(1)) }
}

/// How plots, given in cells of a grid, lie on it.
pub fn check_plots(plots: &[Plot], grid: &Grid) -> Vec<Checked> {
    let [centre, touch] = [Weighting::Centre, Weighting::Touch].map(|w| Laid::new(plots.to_vec(), grid, w));
    let cells = |laid: &Laid, i: usize| {
        let window = laid.bounds()[i];
        let found =
            window.map(|w| laid.within(w).iter().find(|l| l.plot as usize == i).map_or(0, |l| l.coverage.cells));
        found.unwrap_or(0)
    };
    let one = |(i, plot): (usize, &Plot)| Checked {
        area: plot.shape.area(),
        centres: cells(&centre, i),
        touched: cells(&touch, i),
        on_grid: centre.on_grid()[i],
        short_side: short_side(&plot.shape),
    };
    plots.iter().enumerate().map(one).collect()
}

/// Pairs of plots that overlap, with the shared area in squares of the coordinates; what is less than a millionth of the
/// smaller one is rounding.
pub fn overlaps(plots: &[Plot]) -> Vec<(usize, usize, f64)> {
    let mut order: Vec<(usize, [f64; 4])> =
        plots.iter().enumerate().filter_map(|(i, p)| Some((i, p.shape.bounds()?))).collect();
    order.sort_by(|a, b| a.1[0].total_cmp(&b.1[0]));
    let mut found = vec![];
    for (n, (i, a)) in order.iter().enumerate() {
        for (j, b) in order[n + 1..].iter().take_while(|(_, b)| b[0] < a[2]) {
            if b[1] >= a[3] || a[1] >= b[3] {
                continue;
            }
            let (one, two) = (&plots[*i].shape, &plots[*j].shape);
            let shared = overlap(one, two);
            if shared > 1e-6 * one.area().min(two.area()) {
                found.push(((*i).min(*j), (*i).max(*j), shared));
            }
        }
    }
    found.sort_by_key(|f| (f.0, f.1));
    found
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::geo::Affine;
    use crate::plot::Polygon;

    fn plot(id: &str, x: f64, y: f64, w: f64, h: f64) -> Plot {
        let outer = vec![(x, y), (x + w, y), (x + w, y + h), (x, y + h)];
        Plot { id: id.into(), shape: Shape::Polygons(vec![Polygon { outer, holes: vec![] }]) }
    }

    #[test]
    fn plots_are_measured_in_cells_and_neighbours_do_not_overlap() {
        let grid = Grid { crs: None, transform: Affine::north_up(0.0, 0.0, 1.0, 1.0), cols: 20, rows: 20 };
        let plots = [
            plot("a", 2.0, 2.0, 3.0, 4.0),
            plot("b", 5.0, 2.0, 3.0, 4.0),
            plot("c", 4.5, 5.0, 2.0, 2.0),
            plot("d", 18.0, 0.0, 4.0, 1.2),
        ];
        let found = check_plots(&plots, &grid);
        assert_eq!((found[0].centres, found[0].touched, found[0].area, found[0].on_grid), (12, 12, 12.0, 1.0));
        assert!((found[0].short_side - 3.0).abs() < 1e-9 && (found[3].on_grid - 0.5).abs() < 1e-12);
        let pairs = overlaps(&plots);
        assert_eq!(pairs.iter().map(|p| (p.0, p.1)).collect::<Vec<_>>(), [(0, 2), (1, 2)]);
        assert!((pairs[0].2 - 0.5).abs() < 1e-6 && (pairs[1].2 - 1.5).abs() < 1e-6);
    }
}
