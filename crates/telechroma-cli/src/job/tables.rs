//! The files of a job's table, one format each.

use telechroma_io::vector;

use super::plots::OpenPlots;
use super::sheet::Sheet;
use super::table::Table;
use super::{Job, Naming, Outcome, Output, Staged};
use crate::report::Report;

/// How a table is written.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum How {
    /// By its ending.
    Table,
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
    TableFormat { ending: "csv", how: How::Table },
    TableFormat { ending: "jsonl", how: How::Table },
    TableFormat { ending: "parquet", how: How::Table },
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
            How::Table => {
                let mut sheet = Sheet::new(table.columns(job.rows));
                sheet.open(path, job.csv)?;
                table.each_row(job.rows, |row| sheet.push(row))?;
                sheet.finish()?;
            }
            How::Joined => notes.extend(vector::write(path, &table.joined())?),
        }
        outcome.outputs.push(output(if format.how == How::Joined { "plots" } else { "table" }, name));
    }
    let columns = job.naming.columns(stem);
    if let Some(path) = stage.get(&columns) {
        Sheet::new(table.columns(job.rows)).write_dictionary(path)?;
        outcome.outputs.push(output("columns", columns));
    }
    Ok(notes)
}
