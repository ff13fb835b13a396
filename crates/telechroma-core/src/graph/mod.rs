//! The graph of planes: what is computed from what, before any cell is read.
//!
//! Planes lie on the run's grid. Where a source does not, it and what is computed from it stay on the source's own grid
//! until an op brings them over ([`Graph::onto_run`]).
//!
//! Equal ops on equal inputs become one node, so methods written apart share work without knowing of each other.
//! The identity of an op is its `Debug` text: a parameter that is not shown there is a defect.

mod op;

use std::collections::HashMap;
use std::sync::Arc;

pub use op::{Absence, Inputs, Op, bits_row, values_row};

use crate::error::{Error, Result};
use crate::grid::{Grid, Mapping, Window};
use crate::tile::{Kind, PlaneSource, PlaneSpec};

/// A plane in a graph.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub struct NodeId(pub(crate) u32);

impl NodeId {
    pub(crate) fn index(self) -> usize {
        self.0 as usize
    }
}

/// A source laid on the graph's grid: its first cell is cell (`col`, `row`) there.
#[derive(Debug, Clone)]
pub struct Placed {
    /// The source.
    pub source: Arc<dyn PlaneSource>,
    /// Column of its first cell.
    pub col: i64,
    /// Row of its first cell.
    pub row: i64,
}

impl Placed {
    /// The source's cells, on the graph's grid.
    pub fn extent(&self) -> Window {
        self.source.spec().grid.window().moved(self.col, self.row)
    }
}

#[derive(Debug)]
pub(crate) enum Work {
    /// Read from storage, unless the one input (flags) hides every cell of the window.
    Source(Placed),
    /// Computed.
    Op(Box<dyn Op>),
}

/// One plane.
#[derive(Debug)]
pub struct Node {
    pub(crate) work: Work,
    pub(crate) inputs: Vec<NodeId>,
    pub(crate) spec: PlaneSpec,
}

impl Node {
    /// The op's or source's name without its parameters, to group timings and explanations by.
    pub fn step(&self) -> &'static str {
        match &self.work {
            Work::Source(_) => "read and decode",
            Work::Op(op) => op.step(),
        }
    }

    /// What the plane is.
    pub fn spec(&self) -> &PlaneSpec {
        &self.spec
    }

    /// The nodes whose cells it reads. A source only asks its gate whether it is closed.
    pub(crate) fn reads(&self) -> &[NodeId] {
        match &self.work {
            Work::Source(_) => &[],
            Work::Op(_) => &self.inputs,
        }
    }

    pub(crate) fn needs(&self, out: Window) -> Window {
        match &self.work {
            Work::Source(_) => out,
            Work::Op(op) => op.needs(out),
        }
    }
}

/// All planes of a job.
#[derive(Debug)]
pub struct Graph {
    grid: Arc<Grid>,
    nodes: Vec<Node>,
    known: HashMap<(String, Vec<NodeId>), NodeId>,
    mappings: Vec<Arc<Mapping>>,
}

impl Graph {
    /// An empty graph whose results will lie on `grid`.
    pub fn new(grid: Grid) -> Graph {
        Graph { grid: Arc::new(grid), nodes: vec![], known: HashMap::new(), mappings: vec![] }
    }

    /// The grid of its results.
    pub fn grid(&self) -> &Arc<Grid> {
        &self.grid
    }

    /// A node.
    pub fn node(&self, id: NodeId) -> &Node {
        &self.nodes[id.index()]
    }

    /// All nodes, in the order they were added: inputs before what uses them.
    pub fn nodes(&self) -> &[Node] {
        &self.nodes
    }

    /// A plane from storage. Where the flags plane `unless` is set in every cell of a tile, nothing is decoded.
    ///
    /// # Errors
    /// [`Error::GridMismatch`] where the source's cells are not cells of this graph's grid.
    pub fn source(&mut self, source: Arc<dyn PlaneSource>, unless: Option<NodeId>) -> Result<NodeId> {
        let (col, row) = self.grid.offset_of(&source.spec().grid).map_err(|difference| Error::GridMismatch {
            first: "the run's grid".into(),
            second: source.name(),
            difference,
        })?;
        let spec = PlaneSpec { grid: self.grid.clone(), ..source.spec().clone() };
        let key = format!("{source:?}");
        self.insert(key, Work::Source(Placed { source, col, row }), unless.into_iter().collect(), spec)
    }

    /// A plane from storage on its own grid, to be brought over by [`Graph::onto_run`].
    ///
    /// # Errors
    /// Where the plane `unless` lies on another grid.
    pub fn native(&mut self, source: Arc<dyn PlaneSource>, unless: Option<NodeId>) -> Result<NodeId> {
        let spec = source.spec().clone();
        if let Some(gate) = unless {
            self.same_grid(&spec.grid, gate)?;
        }
        let key = format!("{source:?} on its own grid");
        self.insert(key, Work::Source(Placed { source, col: 0, row: 0 }), unless.into_iter().collect(), spec)
    }

    /// True where a source's cells are cells of the run's grid, wherever it begins.
    pub fn fits(&self, source: &dyn PlaneSource) -> bool {
        self.grid.offset_of(&source.spec().grid).is_ok()
    }

    /// A plane of the run's grid computed of one that lies on another.
    ///
    /// # Errors
    /// Where the op refuses its input's kind.
    pub fn onto_run(&mut self, op: impl Op + 'static, input: NodeId) -> Result<NodeId> {
        let (kind, unit) = op.output(&[&self.node(input).spec])?;
        let spec = PlaneSpec { grid: self.grid.clone(), kind, unit };
        self.insert(format!("{op:?}"), Work::Op(Box::new(op)), vec![input], spec)
    }

    /// Where the run's cells lie in another grid.
    ///
    /// # Errors
    /// Where a coordinate system is not known.
    pub fn mapping(&mut self, from: &Arc<Grid>) -> Result<Arc<Mapping>> {
        if let Some(known) = self.mappings.iter().find(|m| *m.from == **from) {
            return Ok(known.clone());
        }
        let made = Arc::new(Mapping::new(from.clone(), self.grid.clone())?);
        self.mappings.push(made.clone());
        Ok(made)
    }

    fn same_grid(&self, grid: &Arc<Grid>, other: NodeId) -> Result<()> {
        let found = &self.node(other).spec.grid;
        match Arc::ptr_eq(grid, found) || **grid == **found {
            true => Ok(()),
            false => Err(Error::Usage(
                "planes on different grids cannot be computed with before they are brought to one".into(),
            )),
        }
    }

    /// A computed plane, on the grid of its inputs.
    ///
    /// # Errors
    /// Where the op refuses its inputs' kinds or units, or they lie on different grids.
    pub fn add(&mut self, op: impl Op + 'static, inputs: &[NodeId]) -> Result<NodeId> {
        let key = format!("{op:?}");
        let specs: Vec<&PlaneSpec> = inputs.iter().map(|i| &self.node(*i).spec).collect();
        let (kind, unit) = op.output(&specs)?;
        let grid = inputs.first().map_or(self.grid.clone(), |i| self.node(*i).spec.grid.clone());
        for i in inputs {
            self.same_grid(&grid, *i)?;
        }
        let spec = PlaneSpec { grid, kind, unit };
        self.insert(key, Work::Op(Box::new(op)), inputs.to_vec(), spec)
    }

    fn insert(&mut self, key: String, work: Work, inputs: Vec<NodeId>, spec: PlaneSpec) -> Result<NodeId> {
        if let Some(id) = self.known.get(&(key.clone(), inputs.clone())) {
            return Ok(*id);
        }
        let id = NodeId(self.nodes.len() as u32);
        self.known.insert((key, inputs.clone()), id);
        self.nodes.push(Node { work, inputs, spec });
        Ok(id)
    }

    /// True where the node holds values.
    pub fn holds_values(&self, id: NodeId) -> bool {
        self.node(id).spec.kind == Kind::Values
    }
}
