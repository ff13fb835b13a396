//! CSV: one header line, missing values empty, numbers with nine significant digits.

use std::path::Path;

use crate::error::{Error, Place, Result};

/// Writes a table.
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

/// A number with nine significant digits and no needless zeros; empty where it is missing.
pub fn number(v: f64) -> String {
    if !v.is_finite() {
        return String::new();
    }
    let rounded: f64 = format!("{v:.8e}").parse().unwrap_or(v);
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
