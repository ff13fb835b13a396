//! The plots of a job: read, drawn in, and laid on the grid of a run.

use std::cell::RefCell;
use std::sync::Arc;

use telechroma_core::feature::inset;
use telechroma_core::geo::Crs;
use telechroma_core::grid::Grid;
use telechroma_core::plot::{Laid, Plot, Shape};
use telechroma_core::run::{Note, Observer};
use telechroma_io::vector::PlotFile;

use super::{Job, PlotJob};
use crate::report::Report;

/// Plots that were read.
pub struct OpenPlots {
    /// The file.
    pub file: PlotFile,
    /// How they are summarised.
    pub job: PlotJob,
    /// The plots on the grid on which they were laid last: many rasters share one.
    laid: RefCell<Option<(Grid, Arc<Laid>)>>,
}

/// Reads the job's plots, if it has any.
///
/// # Errors
/// Where the file cannot be used.
pub fn open_plots(job: &Job) -> Result<Option<OpenPlots>, Report> {
    let Some(plots) = &job.plots else { return Ok(None) };
    let file = PlotFile::read(&plots.source, plots.id.as_deref())?;
    Ok(Some(OpenPlots { file, job: plots.clone(), laid: RefCell::default() }))
}

/// Notes what was mended.
pub fn tell_mended(file: &PlotFile, observer: &dyn Observer) {
    const SHOWN: usize = 5;
    for text in file.mended.iter().take(SHOWN) {
        observer.note(Note::Plots(text.clone()));
    }
    if let more @ 1.. = file.mended.len().saturating_sub(SHOWN) {
        observer.note(Note::Plots(format!("{more} more shapes were mended")));
    }
}

/// Plots in the coordinates of a grid, in its cells.
pub fn laid_on(mut plots: Vec<Plot>, grid: &Grid) -> Vec<Plot> {
    for plot in &mut plots {
        let Ok(shape) = plot.shape.map(|x, y| Ok::<_, std::convert::Infallible>(grid.transform.to_cells(x, y)));
        plot.shape = shape;
    }
    plots
}

impl OpenPlots {
    /// False where the plots are only drawn.
    pub fn are_summarised(&self) -> bool {
        !self.job.stats.is_empty()
    }

    /// The plots laid on a grid for their statistics.
    ///
    /// # Errors
    /// As [`OpenPlots::laid_on`].
    pub fn laid(&self, grid: &Grid) -> Result<Arc<Laid>, Report> {
        let mut last = self.laid.borrow_mut();
        if let Some((on, laid)) = last.as_ref()
            && on == grid
        {
            return Ok(laid.clone());
        }
        let laid = Arc::new(Laid::new(self.laid_on(grid)?, grid, self.job.weight));
        *last = Some((grid.clone(), laid.clone()));
        Ok(laid)
    }

    /// The plots in cells of a grid, drawn in if the job says so.
    ///
    /// # Errors
    /// Where plots and grid have no coordinate system in common, or neither has one in which metres are known.
    pub fn laid_on(&self, grid: &Grid) -> Result<Vec<Plot>, Report> {
        let Some(crs) = grid.crs else {
            return Err(Report::usage("the raster has no coordinate system, so plots cannot be laid on it"));
        };
        let plots = match self.job.inset {
            None => self.file.in_crs(crs)?,
            Some(_) => self.drawn_in(crs)?,
        };
        Ok(laid_on(plots, grid))
    }

    fn drawn_in(&self, crs: Crs) -> Result<Vec<Plot>, Report> {
        let distance = self.job.inset.map_or(0.0, |m| m.0);
        // in the plots' own system if that is a map's, so that straight edges stay straight
        let own = self.file.features.crs;
        let metric = [own, crs].into_iter().find_map(|c| Some((c, c.metres()?)));
        let Some((metric, unit)) = metric else {
            return Err(Report::usage("an inset is a length: neither the plots nor the raster are in map coordinates")
                .hint("bring the raster onto a projected grid, such as --grid 10m@EPSG:32633"));
        };
        let mut features = self.file.features.in_crs(metric).map_err(Report::from)?;
        for row in &mut features.rows {
            row.shape = inset(&row.shape, distance / unit);
        }
        let moved = features.in_crs(crs).map_err(Report::from)?;
        Ok(self.file.plots.iter().zip(moved.rows).map(|(p, r)| Plot { id: p.id.clone(), shape: r.shape }).collect())
    }
}

/// Plots narrower than this many cells are noted.
const NARROW: f64 = 2.0;

/// Why a plot has no values on a grid, or only some; empty where all of it lies there.
pub fn lying(laid: &Laid, plot: usize) -> &'static str {
    let nothing = matches!(&laid.plots()[plot].shape, Shape::Polygons(all) if all.is_empty());
    match laid.on_grid()[plot] {
        _ if nothing => "the inset leaves nothing",
        x if x <= 0.0 => "outside",
        x if x < 1.0 - 1e-9 => "partly outside",
        _ => "",
    }
}

/// Notes plots that lie outside, or are too small.
///
/// # Errors
/// Where no plot touches the grid, and it is the only one.
pub fn check(laid: &Laid, grid: &Grid, alone: bool, observer: &dyn Observer) -> Result<(), Report> {
    let (mut outside, mut narrow, mut empty) = (vec![], vec![], vec![]);
    for (i, (plot, bounds)) in laid.plots().iter().zip(laid.bounds()).enumerate() {
        let is_point = matches!(plot.shape, Shape::Points(_));
        match (lying(laid, i), bounds) {
            ("the inset leaves nothing", _) => empty.push(plot.id.clone()),
            ("outside", _) | (_, None) => outside.push(plot.id.clone()),
            (_, Some(b)) if !is_point && f64::from(b.cols.min(b.rows)) < NARROW => narrow.push(plot.id.clone()),
            _ => {}
        }
    }
    if alone && outside.len() == laid.plots().len() {
        return Err(nowhere(laid, grid));
    }
    if alone && !outside.is_empty() {
        observer.note(Note::PlotsOutside(outside));
    }
    if !narrow.is_empty() {
        observer.note(Note::PlotsNarrow(narrow));
    }
    if !empty.is_empty() {
        let ids = telechroma_core::run::listed(&empty);
        observer.note(Note::Plots(format!("the inset leaves nothing of {ids}; the rows are kept, all missing")));
    }
    Ok(())
}

fn nowhere(laid: &Laid, grid: &Grid) -> Report {
    let [w, s, e, n] = grid.bounds();
    let corners: Vec<(f64, f64)> =
        laid.plots().iter().flat_map(|p| p.shape.positions()).map(|(c, r)| grid.transform.to_world(c, r)).collect();
    let fold = |pick: fn(&(f64, f64)) -> f64, best: fn(f64, f64) -> f64| {
        corners.iter().map(pick).reduce(best).unwrap_or(f64::NAN)
    };
    let digits = if grid.crs.is_some_and(Crs::is_geographic) { 5 } else { 0 };
    Report::usage(format!(
        "no plot touches the scenes: in {} the scenes reach from {w:.digits$}, {s:.digits$} to {e:.digits$}, {n:.digits$}, the plots from {:.digits$}, {:.digits$} to {:.digits$}, {:.digits$}",
        grid.crs.map_or("cells".into(), |c| c.name()),
        fold(|p| p.0, f64::min), fold(|p| p.1, f64::min), fold(|p| p.0, f64::max), fold(|p| p.1, f64::max)
    ))
    .hint("check the plots' coordinate system and whether x and y are swapped")
}
