//! CSV: one header line, missing values empty, numbers with nine significant digits.

use std::fs::File;
use std::io::Write;
use std::path::Path;

use telechroma_core::attribute::Value;

use crate::error::{Error, Place, Result};

/// How fields are parted and numbers written: spreadsheets of many countries want `;` and a decimal comma.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Style {
    /// Between fields.
    pub separator: u8,
    /// Before the fraction of a number.
    pub decimal: char,
}

impl Default for Style {
    fn default() -> Style {
        Style { separator: b',', decimal: '.' }
    }
}

/// Writes a table of texts.
///
/// # Errors
/// Where writing fails.
pub fn write(path: &Path, header: &[String], rows: &[Vec<String>]) -> Result<()> {
    std::fs::write(path, to_text(header, rows)?).map_err(|e| Error::io(path, e))
}

/// A table as text.
///
/// # Errors
/// Where rows differ in length, which is a defect.
pub fn to_text(header: &[String], rows: &[Vec<String>]) -> Result<String> {
    let failed = |e: csv::Error| Error::malformed(Place::part("the table", ""), e.to_string());
    let mut out = csv::Writer::from_writer(vec![]);
    out.write_record(header).map_err(failed)?;
    for row in rows {
        out.write_record(row).map_err(failed)?;
    }
    let bytes = out.into_inner().map_err(|e| Error::malformed(Place::part("the table", ""), e.to_string()))?;
    Ok(String::from_utf8_lossy(&bytes).into_owned())
}

/// A table written row by row, however long it is.
pub struct Rows {
    place: Place,
    out: csv::Writer<Box<dyn Write>>,
    style: Style,
}

impl Rows {
    /// A new file with its header.
    ///
    /// # Errors
    /// Where writing fails.
    pub fn create(path: &Path, header: &[String], style: Style) -> Result<Rows> {
        let file = File::create(path).map_err(|e| Error::io(path, e))?;
        Rows::new(Box::new(file), Place::file(path), header, style)
    }

    /// The header on what is open already.
    ///
    /// # Errors
    /// Where writing fails.
    pub fn to(out: Box<dyn Write>, header: &[String], style: Style) -> Result<Rows> {
        Rows::new(out, Place::part("the table", ""), header, style)
    }

    fn new(out: Box<dyn Write>, place: Place, header: &[String], style: Style) -> Result<Rows> {
        let out = csv::WriterBuilder::new().delimiter(style.separator).from_writer(out);
        let mut rows = Rows { place, out, style };
        rows.record(header.iter().cloned())?;
        Ok(rows)
    }

    /// Adds a row.
    ///
    /// # Errors
    /// Where writing fails.
    pub fn write(&mut self, row: &[Value]) -> Result<()> {
        let decimal = self.style.decimal;
        self.record(row.iter().map(|v| match v {
            Value::Number(_) if decimal != '.' => text(v).replace('.', &decimal.to_string()),
            v => text(v),
        }))
    }

    fn record(&mut self, row: impl Iterator<Item = String>) -> Result<()> {
        let place = || self.place.clone();
        self.out.write_record(row).map_err(|e| {
            let text = e.to_string();
            match e.into_kind() {
                csv::ErrorKind::Io(cause) => Error::Io { place: place(), cause },
                _ => Error::malformed(place(), format!("cannot be written: {text}")),
            }
        })
    }

    /// Ends the table.
    ///
    /// # Errors
    /// Where writing fails.
    pub fn finish(mut self) -> Result<()> {
        self.out.flush().map_err(|cause| Error::Io { place: self.place, cause })
    }
}

/// A value as a table's text.
pub fn text(v: &Value) -> String {
    match v {
        Value::Number(n) => number(*n),
        other => other.to_string(),
    }
}

/// A value as JSON.
pub fn json(v: &Value) -> serde_json::Value {
    crate::vector::json(v)
}

/// A number with nine significant digits.
pub fn rounded(v: f64) -> f64 {
    format!("{v:.8e}").parse().unwrap_or(v)
}

/// Header and rows of a table, as texts.
///
/// # Errors
/// Where the file cannot be read, is no table, or names a column twice.
pub fn read(path: &Path) -> Result<(Vec<String>, Vec<Vec<String>>)> {
    let bytes = crate::bytes::ByteRange::whole(path)?.read_all(1 << 32)?;
    let text = String::from_utf8(bytes).map_err(|_| Error::malformed(Place::file(path), "is not UTF-8 text"))?;
    let text = text.trim_start_matches('\u{feff}');
    let first = text.lines().next().unwrap_or_default();
    // a table of another locale: fields parted by semicolons or tabs
    let separator =
        [b',', b';', b'\t'].into_iter().max_by_key(|s| first.bytes().filter(|b| b == s).count()).unwrap_or(b',');
    let wrong = |e: csv::Error| {
        let line = e.position().map_or(String::new(), |p| format!("line {}", p.line()));
        Error::malformed(Place::part(path.display().to_string(), line), format!("is no table: {e}"))
    };
    let mut reader = csv::ReaderBuilder::new().delimiter(separator).from_reader(text.as_bytes());
    let header: Vec<String> = reader.headers().map_err(wrong)?.iter().map(|h| h.trim().to_string()).collect();
    if header.iter().all(String::is_empty) {
        return Err(Error::malformed(Place::file(path), "is empty: a table begins with its columns' names"));
    }
    if let Some(twice) = header.iter().enumerate().find(|(i, h)| header[..*i].contains(h)) {
        return Err(Error::malformed(Place::file(path), format!("has two columns '{}'", twice.1)));
    }
    let row = |r: std::result::Result<csv::StringRecord, csv::Error>| r.map(|r| r.iter().map(String::from).collect());
    let rows = reader.records().map(row).collect::<std::result::Result<_, _>>().map_err(wrong)?;
    Ok((header, rows))
}

/// A number with nine significant digits and no needless zeros; empty where it is missing.
pub fn number(v: f64) -> String {
    if !v.is_finite() {
        return String::new();
    }
    let rounded = rounded(v);
    match rounded.abs() {
        0.0 => "0".into(),
        a if (1e-5..1e15).contains(&a) => format!("{rounded}"),
        _ => format!("{rounded:e}"),
    }
}

#[cfg(test)]
mod tests {
    use super::number;

    #[test]
    fn nine_digits() {
        let all = [0.1 + 0.2, 301.918_065_870_344, 1.0 / 3.0, 4096.0, -1e-7, f64::NAN, 0.0, -0.0];
        let text = ["0.3", "301.918066", "0.333333333", "4096", "-1e-7", "", "0", "0"];
        assert_eq!(all.map(number), text);
    }
}
