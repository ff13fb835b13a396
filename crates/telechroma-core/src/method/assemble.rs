//! Inputs put together on one grid: planes of different names are stacked, those of one name joined side by side.

use std::sync::Arc;

use super::frame::{Frame, bring};
use crate::error::{Error, Result};
use crate::graph::{Graph, NodeId};
use crate::index::{Names, Program};
use crate::op::{Calibrate, Calibrator, Compute, Gather, Join, Overlap, Pick, limit};
use crate::physics::{Calibration, Line};
use crate::run::Note;
use crate::tile::{Kind, PlaneSource};
use crate::units::Unit;

/// One input: a file or scene with its named planes.
#[derive(Debug, Clone)]
pub struct Piece {
    /// For people.
    pub name: String,
    /// Names and planes, each name once.
    pub planes: Vec<(String, Arc<dyn PlaneSource>)>,
}

/// What was planned.
#[derive(Debug)]
pub struct Assembled {
    /// The planes.
    pub graph: Graph,
    /// Name, plane and unit of each band, in the order in which names first come.
    pub bands: Vec<(String, NodeId, Unit)>,
    /// What to know.
    pub notes: Vec<Note>,
    /// No cell was resampled: values are those of the inputs.
    pub exact: bool,
    /// There may be cells without a value that no input says are missing.
    pub gaps: bool,
}

/// The names a score may use: the planes of every piece.
struct PieceNames<'a>(&'a [Piece]);

impl Names for PieceNames<'_> {
    fn band(&self, name: &str) -> Option<Unit> {
        let plane = self.0.iter().find_map(|p| p.planes.iter().find(|(n, _)| n == name))?;
        Some(plane.1.spec().unit)
    }

    fn formula(&self, _: &str) -> Option<String> {
        None
    }

    fn wavelength_um(&self, _: &str) -> Option<f64> {
        None
    }

    fn all(&self) -> Vec<String> {
        self.0.iter().flat_map(|p| p.planes.iter().map(|(n, _)| n.clone())).collect()
    }
}

/// Plans the bands: `score` is the formula of [`Overlap::Best`], computed of each piece's own planes.
///
/// # Errors
/// Where grids do not fit and no grid is asked for, units of one name differ, or a piece lacks what the score needs.
pub fn plan_assembled(pieces: &[Piece], frame: &Frame, overlap: Overlap, score: Option<&str>) -> Result<Assembled> {
    let grids: Vec<_> = pieces
        .iter()
        .flat_map(|p| p.planes.iter().map(|(n, s)| (format!("{} of {}", n, p.name), s.spec().grid.clone())))
        .collect();
    let framed = frame.over(&grids)?;
    let mut names: Vec<&str> = vec![];
    for (n, _) in pieces.iter().flat_map(|p| &p.planes) {
        if !names.contains(&n.as_str()) {
            names.push(n);
        }
    }
    let mut g = Graph::new(framed.grid);
    let mut exact = true;
    let mut placed: Vec<Vec<(&str, NodeId)>> = vec![];
    for piece in pieces {
        let mut nodes = vec![];
        for (name, source) in &piece.planes {
            exact &= g.fits(&**source);
            nodes.push((name.as_str(), plane(&mut g, source, frame)?));
        }
        placed.push(nodes);
    }
    let picked = match (overlap, score) {
        (Overlap::Best, Some(text)) => Some(pick(&mut g, pieces, &placed, text)?),
        (Overlap::Best, None) => return Err(Error::Usage("the best of several needs a score to be told by".into())),
        _ => None,
    };
    let mut bands = vec![];
    let mut gaps = framed.area.is_some();
    for name in names {
        let of = |nodes: &Vec<(&str, NodeId)>| nodes.iter().find(|(n, _)| *n == name).map(|n| n.1);
        let all: Vec<NodeId> = placed.iter().filter_map(of).collect();
        let unit = g.node(all[0]).spec().unit;
        let whole = all.len() == 1
            && grids.iter().filter(|(n, _)| n.starts_with(&format!("{name} of "))).all(|(_, s)| **s == **g.grid());
        gaps |= !whole;
        let node = match (&picked, all.as_slice()) {
            (_, [one]) => *one,
            // pieces without this band are never picked for it
            (Some(best), all) if all.len() == pieces.len() => g.add(Gather { unit }, &[&[*best], all].concat())?,
            (Some(_), _) => {
                return Err(Error::Usage(format!("every input must have the band '{name}' for the best to be picked")));
            }
            (None, all) => g.add(Join { overlap }, all)?,
        };
        bands.push((name.to_string(), limit(&mut g, node, framed.area.as_ref())?, unit));
    }
    Ok(Assembled { graph: g, bands, notes: framed.notes, exact, gaps })
}

/// A plane as values on the run's grid.
fn plane(g: &mut Graph, source: &Arc<dyn PlaneSource>, frame: &Frame) -> Result<NodeId> {
    let fits = g.fits(&**source);
    let node = if fits { g.source(source.clone(), None)? } else { g.native(source.clone(), None)? };
    let node = match source.spec().kind {
        Kind::Values => node,
        Kind::Flags { .. } => {
            return Err(Error::Usage(format!("{} is a mask: masks are not assembled with values", source.name())));
        }
        Kind::Counts { fill } => {
            let as_they_are = Calibration::Line(Line { gain: 1.0, offset: 0.0 });
            g.add(Calibrate { by: Calibrator::new(as_they_are, fill), unit: Unit::Counts }, &[node])?
        }
    };
    if fits { Ok(node) } else { bring(g, node, frame.resample) }
}

fn pick(g: &mut Graph, pieces: &[Piece], placed: &[Vec<(&str, NodeId)>], text: &str) -> Result<NodeId> {
    let program = Program::compile(text, &PieceNames(pieces))?;
    let mut scores = vec![];
    for (piece, nodes) in pieces.iter().zip(placed) {
        let mut inputs = vec![];
        for name in program.inputs() {
            let node = nodes.iter().find(|(n, _)| n == name).map(|n| n.1);
            inputs.push(node.ok_or_else(|| Error::MissingBand {
                scene: piece.name.clone(),
                role: name.clone(),
                for_what: " (needed by the score)".into(),
                have: piece.planes.iter().map(|(n, _)| n.clone()).collect(),
            })?);
        }
        scores.push(g.add(Compute { program: program.clone(), unit: Unit::One }, &inputs)?);
    }
    g.add(Pick, &scores)
}
