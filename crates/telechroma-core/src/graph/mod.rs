//! The graph of planes: what is computed from what, before any cell is read.
//!
//! Equal ops on equal inputs become one node, so methods written apart share work without knowing of each other.
//! The identity of an op is its `Debug` text: a parameter that is not shown there is a defect.

mod op;

use std::collections::HashMap;
use std::sync::Arc;

pub use op::{Absence, Inputs, Op, bits_row, values_row};

use crate::error::{Error, Result};
use crate::grid::{Grid, Window};
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

/// All planes of a job, on one grid.
#[derive(Debug)]
pub struct Graph {
    grid: Arc<Grid>,
    nodes: Vec<Node>,
    known: HashMap<(String, Vec<NodeId>), NodeId>,
}

impl Graph {
    /// An empty graph whose planes will lie on `grid`.
    pub fn new(grid: Grid) -> Graph {
        Graph { grid: Arc::new(grid), nodes: vec![], known: HashMap::new() }
    }

    /// The grid of all its planes.
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

    /// A computed plane.
    ///
    /// # Errors
    /// Where the op refuses its inputs' kinds or units.
    pub fn add(&mut self, op: impl Op + 'static, inputs: &[NodeId]) -> Result<NodeId> {
        let key = format!("{op:?}");
        let specs: Vec<&PlaneSpec> = inputs.iter().map(|i| &self.node(*i).spec).collect();
        let (kind, unit) = op.output(&specs)?;
        let spec = PlaneSpec { grid: self.grid.clone(), kind, unit };
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
