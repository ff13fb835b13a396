//! One pass over planes as they are stored: what `inspect` shows of their cells.

use std::sync::Arc;

use telechroma_core::graph::{Graph, NodeId};
use telechroma_core::run::{Plan, run};
use telechroma_core::survey::Surveyor;
use telechroma_core::tile::PlaneSource;

pub use telechroma_core::survey::Survey as Surveyed;

use crate::context::Context;
use crate::report::Report;

/// Surveys planes, in their order; planes on one grid are read in one run.
///
/// # Errors
/// Where reading fails.
pub fn survey(planes: &[Arc<dyn PlaneSource>], ctx: &Context) -> Result<Vec<Surveyed>, Report> {
    let mut found: Vec<Option<Surveyed>> = planes.iter().map(|_| None).collect();
    while let Some(first) = found.iter().position(Option::is_none) {
        let grid = planes[first].spec().grid.clone();
        let together: Vec<usize> =
            (first..planes.len()).filter(|i| found[*i].is_none() && *planes[*i].spec().grid == *grid).collect();
        let mut g = Graph::new((*grid).clone());
        let nodes = together.iter().map(|i| g.source(planes[*i].clone(), None)).collect::<Result<Vec<NodeId>, _>>()?;
        let (surveyor, mut surveys) =
            Surveyor::new(together.iter().map(|i| planes[*i].spec().kind).collect(), grid.window());
        let sinks = vec![surveyor.sink(&mut surveys, &nodes)];
        let plan = Plan::new(g, &sinks, ctx.budget)?;
        run(&plan, sinks, &ctx.progress)?;
        for (i, s) in together.into_iter().zip(surveys.finish()) {
            found[i] = Some(s);
        }
    }
    Ok(found.into_iter().flatten().collect())
}
