//! The parts of the guide that are made from the program: help texts, catalogues, the table of layers.
//!
//! They stand between `<!-- made: NAME -->` and `<!-- end -->` lines; nothing else of a file is touched.

use std::path::Path;
use std::process::Command;

use crate::{layers, read};

/// Write, or only compare.
#[derive(Clone, Copy, PartialEq)]
pub enum Mode {
    /// Files are brought up to date.
    Write,
    /// Files that are not current are an error.
    Check,
}

const FILES: &[&str] = &["ARCHITECTURE.md", "docs/commands.md", "docs/campaign.md", "docs/methods.md"];

const COMMANDS: &[&[&str]] = &[
    &["demo"],
    &["run"],
    &["inspect"],
    &["calibrate"],
    &["mask"],
    &["composite"],
    &["index"],
    &["summarise"],
    &["draw", "scene"],
    &["draw", "map"],
    &["draw", "mask"],
    &["draw", "plots"],
    &["series"],
    &["plots", "lay"],
    &["plots", "align"],
    &["plots", "scatter"],
    &["plots", "ring"],
    &["plots", "pick"],
    &["plots", "join"],
    &["plots", "check"],
    &["indices"],
    &["sensors"],
    &["completions"],
    &["man"],
];

/// Runs the program and takes what it prints.
fn program(root: &Path, args: &[&str]) -> Result<String, String> {
    let run = Command::new(env!("CARGO"))
        .current_dir(root)
        .args(["run", "--quiet", "--package", "telechroma-cli", "--"])
        .args(args)
        .output()
        .map_err(|e| format!("cargo: {e}"))?;
    match run.status.success() {
        true => Ok(String::from_utf8_lossy(&run.stdout).into_owned()),
        false => Err(format!("telechroma {}: {}", args.join(" "), String::from_utf8_lossy(&run.stderr))),
    }
}

fn made(root: &Path, name: &str) -> Result<String, String> {
    match name {
        "layers" => Ok(layers::table()),
        "commands" => {
            let mut t = String::new();
            for command in COMMANDS {
                let help = program(root, &[*command, &["--help"]].concat())?;
                let help: Vec<&str> = help.lines().map(str::trim_end).collect();
                t += &format!("## {}\n\n```text\n{}\n```\n\n", command.join(" "), help.join("\n"));
            }
            Ok(t.trim_end().to_string() + "\n")
        }
        "keys" => program(root, &["run", "--keys"]),
        "indices" => {
            let list: serde_json::Value =
                serde_json::from_str(&program(root, &["indices", "list", "--json"])?).map_err(|e| e.to_string())?;
            let mut t = String::from("| index | what | formula | source |\n| --- | --- | --- | --- |\n");
            for d in list.as_array().into_iter().flatten() {
                let of = |key: &str| d[key].as_str().unwrap_or_default();
                t += &format!("| `{}` | {} | `{}` | {} |\n", of("id"), of("name"), of("formula"), of("source"));
            }
            Ok(t)
        }
        other => Err(format!("nothing is made under the name '{other}'")),
    }
}

/// The text with each made part as it should be now.
fn current(root: &Path, text: &str) -> Result<String, String> {
    let mut out = String::new();
    let mut skipping = false;
    for line in text.lines() {
        if line.trim() == "<!-- end -->" {
            skipping = false;
        }
        if !skipping {
            out += line;
            out += "\n";
        }
        if let Some(name) = line.trim().strip_prefix("<!-- made: ").and_then(|l| l.strip_suffix(" -->")) {
            out += &format!("\n{}\n", made(root, name)?);
            skipping = true;
        }
    }
    match skipping {
        true => Err("a made part has no <!-- end -->".into()),
        false => Ok(out),
    }
}

/// Brings the files up to date or says which are not.
///
/// # Errors
/// Where one is not current, or cannot be read or written.
pub fn run(root: &Path, mode: Mode) -> Result<String, String> {
    let mut stale = vec![];
    for name in FILES {
        let path = root.join(name);
        let text = read(&path)?;
        let now = current(root, &text).map_err(|e| format!("{name}: {e}"))?;
        if now == text {
            continue;
        }
        stale.push(*name);
        if mode == Mode::Write {
            std::fs::write(&path, now).map_err(|e| format!("{name}: {e}"))?;
        }
    }
    match (mode, stale.is_empty()) {
        (Mode::Check, false) => Err(format!("not current: {}; run `cargo xtask docs`", stale.join(", "))),
        (_, true) => Ok("the made parts of the guide are current".into()),
        (Mode::Write, false) => Ok(format!("written: {}", stale.join(", "))),
    }
}
