//! Tasks of the project: `cargo xtask NAME`. No other tool is needed.

mod accuracy;
mod docs;
mod large;
mod layers;

use std::path::{Path, PathBuf};
use std::process::ExitCode;

const USAGE: &str = "\
cargo xtask layers           check who imports whom in the core, against the table in ARCHITECTURE.md
cargo xtask docs [--check]   write the generated parts of the guide (or check that they are current)
cargo xtask accuracy         measure every method on the made-up estate and write docs/accuracy.md
cargo xtask large FOLDER     write a delivery of 8,000 x 8,000 cells, to measure time and memory by";

fn main() -> ExitCode {
    let args: Vec<String> = std::env::args().skip(1).collect();
    let root = root();
    let done = match args.iter().map(String::as_str).collect::<Vec<_>>().as_slice() {
        ["layers"] => layers::check(&root),
        ["docs"] => docs::run(&root, docs::Mode::Write),
        ["docs", "--check"] => docs::run(&root, docs::Mode::Check),
        ["accuracy"] => accuracy::run(&root),
        ["large", folder] => large::write(Path::new(folder)),
        _ => Err(USAGE.into()),
    };
    match done {
        Ok(said) => {
            println!("{said}");
            ExitCode::SUCCESS
        }
        Err(e) => {
            eprintln!("{e}");
            ExitCode::FAILURE
        }
    }
}

/// The project's folder.
fn root() -> PathBuf {
    let here = Path::new(env!("CARGO_MANIFEST_DIR"));
    here.parent().unwrap_or(here).to_path_buf()
}

/// A file's text.
fn read(path: &Path) -> Result<String, String> {
    std::fs::read_to_string(path).map_err(|e| format!("{}: {e}", path.display()))
}
