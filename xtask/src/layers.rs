//! Who may import whom in the core: a table, checked against every `use crate::` line.

use std::collections::{BTreeMap, BTreeSet};
use std::path::Path;

use crate::read;

/// A module and the modules it may use, besides `error` and `units`.
const ALLOWED: &[(&str, &[&str])] = &[
    ("units", &[]),
    ("error", &[]),
    ("wide", &[]),
    ("geo", &[]),
    ("grid", &["geo"]),
    ("tile", &["grid"]),
    ("physics", &[]),
    ("stat", &["wide"]),
    ("mask", &["stat"]),
    ("scene", &["grid", "mask", "physics", "tile"]),
    ("index", &["physics", "scene", "wide"]),
    ("sensor", &["index", "mask", "scene"]),
    ("attribute", &[]),
    ("graph", &["grid", "tile"]),
    ("run", &["graph", "grid", "tile"]),
    ("plot", &["graph", "grid", "run", "stat"]),
    ("feature", &["attribute", "geo", "plot"]),
    ("layout", &["feature", "geo", "graph", "grid", "plot", "run"]),
    ("series", &["stat"]),
    ("area", &["geo", "grid", "plot"]),
    ("class", &["graph", "grid", "run", "tile"]),
    ("op", &["area", "class", "graph", "grid", "tile", "index", "mask", "physics", "wide"]),
    ("survey", &["graph", "grid", "run", "tile"]),
    ("held", &["graph", "grid", "run", "tile"]),
    (
        "method",
        &[
            "area", "class", "geo", "graph", "grid", "held", "tile", "index", "mask", "op", "physics", "run", "scene",
            "survey",
        ],
    ),
];

/// Every module that a line of code uses: `crate::name`, also in lists.
fn used(line: &str) -> Vec<String> {
    let code = line.split("//").next().unwrap_or_default();
    code.match_indices("crate::")
        .map(|(at, _)| code[at + 7..].chars().take_while(|c| c.is_ascii_lowercase() || *c == '_').collect::<String>())
        .filter(|name| !name.is_empty())
        .collect()
}

fn files(dir: &Path, all: &mut Vec<std::path::PathBuf>) -> Result<(), String> {
    for entry in std::fs::read_dir(dir).map_err(|e| format!("{}: {e}", dir.display()))?.flatten() {
        let path = entry.path();
        if path.is_dir() {
            files(&path, all)?;
        } else if path.extension().is_some_and(|e| e == "rs") {
            all.push(path);
        }
    }
    Ok(())
}

/// The table as it stands in ARCHITECTURE.md.
pub fn table() -> String {
    let mut t = String::from("| module | may use, besides `error` and `units` |\n| --- | --- |\n");
    for (module, may) in ALLOWED {
        t += &format!("| {module} | {} |\n", if may.is_empty() { "nothing".into() } else { may.join(", ") });
    }
    t
}

/// Checks all files of the core; tests may use anything.
///
/// # Errors
/// With every line that reaches where it may not.
pub fn check(root: &Path) -> Result<String, String> {
    let source = root.join("crates/telechroma-core/src");
    let allowed: BTreeMap<&str, BTreeSet<&str>> =
        ALLOWED.iter().map(|(m, a)| (*m, a.iter().copied().collect())).collect();
    let mut all = vec![];
    files(&source, &mut all)?;
    all.sort();
    let (mut wrong, mut lines) = (vec![], 0);
    for file in &all {
        let inside = file.strip_prefix(&source).unwrap_or(file);
        let first = inside.components().next().map_or(String::new(), |c| c.as_os_str().to_string_lossy().into_owned());
        let module = first.trim_end_matches(".rs");
        if ["lib", "worked"].contains(&module) {
            continue;
        }
        let Some(may) = allowed.get(module) else {
            wrong.push(format!("{}: the module {module} is not in the table", inside.display()));
            continue;
        };
        for (n, line) in read(file)?.lines().enumerate() {
            if line.trim_start().starts_with("#[cfg(test)]") {
                break;
            }
            for name in used(line) {
                lines += 1;
                let free = name == module || ["error", "units"].contains(&name.as_str());
                if !free && allowed.contains_key(name.as_str()) && !may.contains(name.as_str()) {
                    wrong.push(format!("{}:{}: {module} may not use {name}", inside.display(), n + 1));
                }
            }
        }
    }
    match wrong.is_empty() {
        true => Ok(format!("{} files, {lines} imports: all as the table says", all.len())),
        false => Err(wrong.join("\n")),
    }
}
