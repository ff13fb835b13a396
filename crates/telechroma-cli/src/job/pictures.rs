//! The pictures of a job.

use telechroma_core::method::{PlannedPeriod, PlannedSeason};
use telechroma_core::run::Sink;

use super::{Job, Outcome, Staged};
use crate::report::Report;

/// One picture being gathered.
pub struct PictureOut {}

impl PictureOut {
    /// Its sink.
    pub fn sink(&mut self) -> Sink<'_> {
        unreachable!("no picture is made yet")
    }
}

/// Names of a period's pictures.
pub fn names(_job: &Job, _period: &PlannedPeriod) -> Vec<String> {
    vec![]
}

/// The picture sinks of one graph.
pub fn sinks(_job: &Job, _season: &PlannedSeason) -> Vec<PictureOut> {
    vec![]
}

/// Draws.
///
/// # Errors
/// Where writing fails.
pub fn finish(_job: &Job, _outs: Vec<PictureOut>, _stage: &Staged, _outcome: &mut Outcome) -> Result<(), Report> {
    Ok(())
}
