//! A table being written row by row, however long it is: typed columns, in any of the formats of tables.

use std::fs::File;
use std::io::{BufWriter, ErrorKind, Write};
use std::path::{Path, PathBuf};

use serde_json::{Value as Json, json};
use telechroma_core::attribute::Value;
use telechroma_core::feature::FieldKind;
use telechroma_io::Error as Io;
use telechroma_io::table::{csv, parquet};

use crate::report::Report;

/// A column.
#[derive(Debug, Clone)]
pub struct Column {
    /// Its name.
    pub name: String,
    /// Its type.
    pub kind: FieldKind,
    /// The sign of its unit.
    pub unit: String,
    /// In words.
    pub meaning: String,
}

impl Column {
    /// One without a unit.
    pub fn new(name: &str, kind: FieldKind, meaning: &str) -> Column {
        Column { name: name.into(), kind, unit: String::new(), meaning: meaning.into() }
    }
}

/// Rows on their way.
pub struct Sheet {
    columns: Vec<Column>,
    to: To,
    count: u64,
}

enum To {
    Nowhere,
    Memory(Vec<Json>),
    /// Standard output, whose reader may go away.
    Shown(csv::Rows),
    Csv(csv::Rows),
    JsonLines(BufWriter<File>, PathBuf),
    /// With the rows of the group that is not yet full.
    Parquet(parquet::Writer, Vec<Vec<Value>>),
}

/// Rows of a group in a Parquet file.
const GROUP: usize = 200_000;

impl Sheet {
    /// A table whose rows go nowhere yet.
    pub fn new(columns: Vec<Column>) -> Sheet {
        Sheet { columns, to: To::Nowhere, count: 0 }
    }

    fn names(&self) -> Vec<String> {
        self.columns.iter().map(|c| c.name.clone()).collect()
    }

    /// Rows go to a file, by its ending as JSON lines, Parquet or CSV.
    ///
    /// # Errors
    /// Where it cannot be made.
    pub fn open(&mut self, path: &Path, style: csv::Style) -> Result<(), Report> {
        let ending = path.extension().map_or(String::new(), |e| e.to_string_lossy().to_lowercase());
        self.to = match ending.as_str() {
            "parquet" => {
                let column = |c: &Column| parquet::Column {
                    name: c.name.clone(),
                    cells: parquet::Cells::Values(c.kind, vec![]),
                };
                let about = |c: &Column| (c.name.clone(), json!({"unit": c.unit, "meaning": c.meaning}));
                let about = Json::Object(self.columns.iter().map(about).collect()).to_string();
                let columns: Vec<_> = self.columns.iter().map(column).collect();
                To::Parquet(parquet::Writer::create(path, &columns, &[("columns", about)])?, vec![])
            }
            "jsonl" => {
                let file = File::create(path).map_err(|e| Io::io(path, e))?;
                To::JsonLines(BufWriter::new(file), path.to_path_buf())
            }
            _ => To::Csv(csv::Rows::create(path, &self.names(), style)?),
        };
        Ok(())
    }

    /// Rows go to standard output, as CSV.
    ///
    /// # Errors
    /// Where nothing can be written there.
    pub fn show(&mut self, style: csv::Style) -> Result<(), Report> {
        let out = Box::new(BufWriter::new(std::io::stdout()));
        self.to = To::Shown(csv::Rows::to(out, &self.names(), style)?);
        Ok(())
    }

    /// Rows are kept, to come back as JSON objects.
    pub fn keep(&mut self) {
        self.to = To::Memory(vec![]);
    }

    /// Adds a row.
    ///
    /// # Errors
    /// Where writing fails.
    pub fn push(&mut self, row: Vec<Value>) -> Result<(), Report> {
        self.count += 1;
        match &mut self.to {
            To::Nowhere => {}
            To::Memory(rows) => rows.push(object(&self.columns, &row)),
            To::Csv(out) => out.write(&row)?,
            To::Shown(out) => match out.write(&row) {
                Err(e) if went_away(&e) => self.to = To::Nowhere,
                other => other?,
            },
            To::JsonLines(out, path) => {
                writeln!(out, "{}", object(&self.columns, &row)).map_err(|e| Io::io(path, e))?
            }
            To::Parquet(out, rows) => {
                rows.push(row);
                if rows.len() == GROUP {
                    out.group(cells(&self.columns, std::mem::take(rows)))?;
                }
            }
        }
        Ok(())
    }

    /// How many rows there are.
    pub fn count(&self) -> u64 {
        self.count
    }

    /// Ends the table; rows that were kept come back.
    ///
    /// # Errors
    /// Where writing fails.
    pub fn finish(self) -> Result<Vec<Json>, Report> {
        match self.to {
            To::Nowhere => {}
            To::Memory(rows) => return Ok(rows),
            To::Csv(out) => out.finish()?,
            To::Shown(out) => match out.finish() {
                Err(e) if went_away(&e) => {}
                other => other?,
            },
            To::JsonLines(mut out, path) => out.flush().map_err(|e| Io::io(&path, e))?,
            To::Parquet(mut out, rows) => {
                out.group(cells(&self.columns, rows))?;
                out.finish()?;
            }
        }
        Ok(vec![])
    }

    /// Writes what the columns mean, as a table of its own.
    ///
    /// # Errors
    /// Where writing fails.
    pub fn write_dictionary(&self, path: &Path) -> Result<(), Report> {
        let row = |c: &Column| vec![c.name.clone(), c.unit.clone(), c.meaning.clone()];
        let rows: Vec<Vec<String>> = self.columns.iter().map(row).collect();
        Ok(csv::write(path, &["column", "unit", "meaning"].map(String::from), &rows)?)
    }
}

/// A reader that went away is not an error.
fn went_away(e: &Io) -> bool {
    matches!(e, Io::Io { cause, .. } if cause.kind() == ErrorKind::BrokenPipe)
}

fn object(columns: &[Column], row: &[Value]) -> Json {
    Json::Object(columns.iter().zip(row).map(|(c, v)| (c.name.clone(), csv::json(v))).collect())
}

/// Rows turned into columns.
fn cells(columns: &[Column], rows: Vec<Vec<Value>>) -> Vec<parquet::Cells> {
    let mut by_column: Vec<Vec<Value>> = columns.iter().map(|_| Vec::with_capacity(rows.len())).collect();
    for row in rows {
        by_column.iter_mut().zip(row).for_each(|(c, v)| c.push(v));
    }
    columns.iter().zip(by_column).map(|(c, v)| parquet::Cells::Values(c.kind, v)).collect()
}
