//! The files of a job's table, one format each.

use std::io::{BufWriter, Write};
use std::path::Path;

use telechroma_core::attribute::Value;
use telechroma_io::table::{csv, parquet};
use telechroma_io::vector;

use super::plots::OpenPlots;
use super::table::{RowsBy, Table};
use super::{Job, Naming, Outcome, Output, Staged};
use crate::report::Report;

/// How a table is written.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum How {
    Csv,
    JsonLines,
    Parquet,
    /// As columns of the plots.
    Joined,
}

/// A format of tables.
#[derive(Debug, PartialEq, Eq)]
pub struct TableFormat {
    /// The ending of its files, and its name in the campaign file.
    pub ending: &'static str,
    how: How,
}

/// All formats; the first is the usual one.
pub const TABLE_FORMATS: &[TableFormat] = &[
    TableFormat { ending: "csv", how: How::Csv },
    TableFormat { ending: "jsonl", how: How::JsonLines },
    TableFormat { ending: "parquet", how: How::Parquet },
    TableFormat { ending: "gpkg", how: How::Joined },
    TableFormat { ending: "geojson", how: How::Joined },
    TableFormat { ending: "shp", how: How::Joined },
    TableFormat { ending: "geoparquet", how: How::Joined },
];

/// Endings of all formats.
pub fn endings() -> Vec<&'static str> {
    TABLE_FORMATS.iter().map(|f| f.ending).collect()
}

/// The format of an ending.
pub fn format_of(ending: &str) -> Option<&'static TableFormat> {
    TABLE_FORMATS.iter().find(|f| f.ending.eq_ignore_ascii_case(ending))
}

impl TableFormat {
    /// Name of its file, or its main file.
    pub fn name(&self, naming: &Naming, stem: &str) -> String {
        naming.table(stem, self.ending, self.how == How::Joined)
    }

    /// Names of all its files.
    pub fn names(&self, naming: &Naming, stem: &str) -> Vec<String> {
        vector::parts(&self.name(naming, stem))
    }
}

/// Names of all files of a job's table.
pub fn names(job: &Job, plots: &OpenPlots) -> Vec<String> {
    let stem = &plots.file.stem;
    let mut names: Vec<String> = job.wanted.tables.iter().flat_map(|f| f.names(&job.naming, stem)).collect();
    if job.wanted.tables.iter().any(|f| f.how != How::Joined) {
        names.push(job.naming.columns(stem));
    }
    names
}

/// Writes the files of the table.
///
/// # Errors
/// Where writing fails.
pub fn write(
    job: &Job,
    table: &Table,
    stem: &str,
    stage: &Staged,
    outcome: &mut Outcome,
) -> Result<Vec<String>, Report> {
    let mut notes = vec![];
    let output =
        |kind, path: String| Output { kind, layer: stem.into(), period: String::new(), path, unit: String::new() };
    for format in &job.wanted.tables {
        let name = format.name(&job.naming, stem);
        let Some(path) = stage.get(&name) else { continue };
        match format.how {
            How::Csv => write_csv(path, table, job.rows, job.csv)?,
            How::JsonLines => write_json(path, table, job.rows)?,
            How::Parquet => write_parquet(path, table, job.rows)?,
            How::Joined => notes.extend(vector::write(path, &table.joined())?),
        }
        outcome.outputs.push(output(if format.how == How::Joined { "plots" } else { "table" }, name));
    }
    let columns = job.naming.columns(stem);
    if let Some(path) = stage.get(&columns) {
        let header = ["column", "unit", "meaning"].map(String::from);
        csv::write(path, &header, &table.dictionary(job.rows))?;
        outcome.outputs.push(output("columns", columns));
    }
    Ok(notes)
}

fn write_csv(path: &Path, table: &Table, by: RowsBy, style: csv::Style) -> Result<(), Report> {
    let header: Vec<String> = table.columns(by).into_iter().map(|c| c.name).collect();
    let mut out = csv::Rows::create(path, &header, style)?;
    table.each_row(by, |row| out.write(&row))?;
    Ok(out.finish()?)
}

fn write_json(path: &Path, table: &Table, by: RowsBy) -> Result<(), Report> {
    let failed = |e: std::io::Error| Report::from(telechroma_io::Error::io(path, e));
    let names: Vec<String> = table.columns(by).into_iter().map(|c| c.name).collect();
    let mut out = BufWriter::new(std::fs::File::create(path).map_err(failed)?);
    table.each_row(by, |row| {
        let object: serde_json::Map<_, _> = names.iter().cloned().zip(row.iter().map(csv::json)).collect();
        writeln!(out, "{}", serde_json::Value::Object(object)).map_err(failed)
    })?;
    out.flush().map_err(failed)
}

fn write_parquet(path: &Path, table: &Table, by: RowsBy) -> Result<(), Report> {
    let columns = table.columns(by);
    let mut cells: Vec<Vec<Value>> = vec![vec![]; columns.len()];
    let Ok(()) = table.each_row(by, |row| {
        cells.iter_mut().zip(row).for_each(|(c, v)| c.push(v));
        Ok::<_, std::convert::Infallible>(())
    });
    let meaning: serde_json::Map<_, _> =
        columns.iter().map(|c| (c.name.clone(), serde_json::json!({"unit": c.unit, "meaning": c.meaning}))).collect();
    let columns = columns
        .into_iter()
        .zip(cells)
        .map(|(c, values)| parquet::Column { name: c.name, cells: parquet::Cells::Values(c.kind, values) })
        .collect();
    Ok(parquet::write(path, columns, &[("columns", serde_json::Value::Object(meaning).to_string())])?)
}
