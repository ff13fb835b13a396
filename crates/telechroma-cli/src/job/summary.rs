//! What a job did: for people, for `--json`, and for `run.json`.

use std::time::Instant;

use serde_json::{Value as Json, json};
use telechroma_core::run::{Note, Plan, RunReport};
use telechroma_io::raster::description::tool;

use super::outputs::RECORD;
use super::{Job, Staged, Table};
use crate::context::peak_bytes;
use crate::report::Report;

/// One result.
#[derive(Debug, Clone)]
pub struct Output {
    /// composite, layer, picture, table, columns, plots.
    pub kind: &'static str,
    /// The layer, or the plots.
    pub layer: String,
    /// The period.
    pub period: String,
    /// Path below the results' folder.
    pub path: String,
    /// The unit's label.
    pub unit: String,
}

/// What a job did.
pub struct Outcome {
    name: String,
    started: Instant,
    threads: usize,
    /// Results.
    pub outputs: Vec<Output>,
    /// True where all inputs were rasters made earlier.
    pub of_rasters: bool,
    /// Inputs: id and fingerprint.
    pub inputs: Vec<(String, String)>,
    /// What to know.
    pub notes: Vec<Note>,
    /// The table.
    pub table: Option<Table>,
    /// Counts of all runs.
    pub report: RunReport,
    /// Planned bytes of the largest run.
    pub planned: u64,
}

impl Outcome {
    /// Nothing done yet.
    pub fn new(job: &Job) -> Outcome {
        Outcome {
            name: job.name.clone(),
            started: Instant::now(),
            threads: 0,
            outputs: vec![],
            of_rasters: false,
            inputs: vec![],
            notes: vec![],
            table: None,
            report: RunReport::default(),
            planned: 0,
        }
    }

    /// Adds a run.
    pub fn ran(&mut self, plan: &Plan, r: &RunReport) {
        self.planned = self.planned.max(plan.bytes);
        self.threads = plan.threads;
        self.report.blocks += r.blocks;
        self.report.decoded += r.decoded;
        self.report.decoded_again += r.decoded_again;
        self.report.cells += r.cells;
        self.report.tiles += r.tiles;
        for (step, s) in &r.seconds {
            match self.report.seconds.iter_mut().find(|(n, _)| n == step) {
                Some((_, sum)) => *sum += s,
                None => self.report.seconds.push((step, *s)),
            }
        }
    }

    /// Seconds since the job began.
    pub fn seconds(&self) -> f64 {
        self.started.elapsed().as_secs_f64()
    }

    /// The record of the run. Only `measured` differs between two runs of the same job.
    pub fn to_json(&self) -> Json {
        let r = &self.report;
        let round = |s: f64| (s * 1000.0).round() / 1000.0;
        json!({
            "tool": tool(),
            "name": self.name,
            "outputs": self.outputs.iter().map(|o| json!({
                "kind": o.kind, "layer": o.layer, "period": o.period, "path": o.path, "unit": o.unit,
            })).collect::<Vec<_>>(),
            "inputs": self.inputs.iter().map(|(id, digest)| json!({"id": id, "digest": digest})).collect::<Vec<_>>(),
            "notes": self.notes.iter().map(ToString::to_string).collect::<Vec<_>>(),
            "counts": {
                "cells": r.cells, "tiles": r.tiles, "blocks": r.blocks, "blocks_decoded": r.decoded,
                "blocks_decoded_again": r.decoded_again,
            },
            "measured": {
                "seconds": round(self.seconds()), "threads": self.threads, "planned_bytes": self.planned, "peak_bytes": peak_bytes(),
                "step_seconds": r.seconds.iter().map(|(k, v)| ((*k).to_string(), json!(round(*v)))).collect::<serde_json::Map<_, _>>(),
            },
        })
    }

    /// Writes the record if the job wants it.
    ///
    /// # Errors
    /// Where writing fails.
    pub fn write_record(&self, job: &Job, stage: &Staged) -> Result<(), Report> {
        if let (true, Some(path)) = (job.wanted.record, stage.get(RECORD)) {
            let text = serde_json::to_string_pretty(&self.to_json()).unwrap_or_default() + "\n";
            std::fs::write(path, text).map_err(|e| telechroma_io::Error::io(path, e))?;
        }
        Ok(())
    }
}
