//! What all commands share: the limits, the way of talking, and standard output.

use std::io::Write;
use std::path::PathBuf;

use telechroma_core::run::Budget;

use crate::progress::Progress;
use crate::report::Report;

/// Settings of one call of the program.
pub struct Context {
    /// Threads and bytes.
    pub budget: Budget,
    /// Results as one JSON object.
    pub json: bool,
    /// Notes are failures.
    pub strict: bool,
    /// More detail.
    pub verbose: bool,
    /// Existing results are replaced.
    pub overwrite: bool,
    /// Nothing is printed: a command is run for its files alone.
    pub mute: bool,
    /// Listens to runs.
    pub progress: Progress,
}

impl Context {
    /// The same settings for another job.
    pub fn again(&self) -> Context {
        Context { progress: Progress::new(self.progress.is_quiet()), ..*self }
    }

    /// Prints a result. A reader that went away is not an error.
    pub fn print(&self, text: &str) {
        if self.mute {
            return;
        }
        let mut out = std::io::stdout().lock();
        let _ = out
            .write_all(text.as_bytes())
            .and_then(|()| if text.ends_with('\n') { Ok(()) } else { out.write_all(b"\n") });
        let _ = out.flush();
    }

    /// Prints a result as JSON.
    pub fn print_json(&self, value: &serde_json::Value) {
        self.print(&serde_json::to_string_pretty(value).unwrap_or_default());
    }
}

/// Bytes from a text such as `500MB` or `2GB`.
///
/// # Errors
/// With what to write instead.
pub fn bytes(text: &str) -> Result<u64, String> {
    let t = text.trim();
    let units =
        [("GB", 1e9), ("MB", 1e6), ("kB", 1e3), ("GiB", 1_073_741_824.0), ("MiB", 1_048_576.0), ("KiB", 1024.0)];
    let found = units.iter().find_map(|(u, f)| Some((t.strip_suffix(u)?.trim(), *f)));
    let Some((number, factor)) = found else {
        return Err(match t.parse::<f64>() {
            Ok(_) => format!("'{t}' has no unit: write {t}MB or {t}GB"),
            Err(_) => format!("'{t}' is not a size: write for example 500MB or 2GB"),
        });
    };
    match number.parse::<f64>() {
        Ok(n) if n > 0.0 && n.is_finite() => Ok((n * factor) as u64),
        _ => Err(format!("'{t}' is not a size: write for example 500MB or 2GB")),
    }
}

/// Half of the memory that is free now; 2 GB where that cannot be told.
pub fn default_memory() -> u64 {
    let text = std::fs::read_to_string("/proc/meminfo").unwrap_or_default();
    let line = text.lines().find_map(|l| l.strip_prefix("MemAvailable:"));
    let free = line.and_then(|l| l.trim().trim_end_matches("kB").trim().parse::<u64>().ok()).map(|kb| kb * 1024);
    free.map_or(2_000_000_000, |f| f / 2)
}

/// The most memory this process has held so far, where the system tells.
pub fn peak_bytes() -> Option<u64> {
    let text = std::fs::read_to_string("/proc/self/status").ok()?;
    let line = text.lines().find_map(|l| l.strip_prefix("VmHWM:"))?;
    line.trim().trim_end_matches("kB").trim().parse::<u64>().ok().map(|kb| kb * 1024)
}

/// Inputs as given, with `@list.txt` replaced by the lines of that file.
///
/// # Errors
/// Where a list cannot be read.
pub fn listed(inputs: &[String]) -> Result<Vec<PathBuf>, Report> {
    let mut paths = vec![];
    for i in inputs {
        let Some(list) = i.strip_prefix('@').filter(|l| !l.to_lowercase().ends_with(".json")) else {
            // a list of STAC items is opened as an input
            paths.push(PathBuf::from(i.strip_prefix('@').unwrap_or(i)));
            continue;
        };
        let text =
            std::fs::read_to_string(list).map_err(|e| Report::from(telechroma_io::Error::io(list.as_ref(), e)))?;
        paths.extend(text.lines().map(str::trim).filter(|l| !l.is_empty() && !l.starts_with('#')).map(PathBuf::from));
    }
    Ok(paths)
}

#[cfg(test)]
mod tests {
    use super::bytes;

    #[test]
    fn sizes_need_a_unit() {
        assert_eq!(bytes("1.5GB"), Ok(1_500_000_000));
        assert_eq!(bytes("100 MiB"), Ok(104_857_600));
        assert!(bytes("100").unwrap_err().contains("write 100MB"));
        assert!(bytes("lots").is_err() && bytes("-1MB").is_err());
    }
}
