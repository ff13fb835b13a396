//! The metadata of a Landsat delivery, as text (`GROUP = X … KEY = value … END`) or as JSON: one tree of groups.
//!
//! The group stays part of a key: Level-2 metadata hold some keys in two groups with different values.

use crate::bytes::ByteRange;
use crate::error::{Error, Result};

/// Metadata files are some ten kilobytes long.
const LARGEST: u64 = 1 << 22;

/// Group, key, value, in the order of the file.
#[derive(Debug)]
pub(crate) struct Mtl {
    entries: Vec<(String, String, String)>,
    pub(crate) bytes: Vec<u8>,
    file: ByteRange,
}

impl Mtl {
    pub(crate) fn read(file: &ByteRange) -> Result<Mtl> {
        let bytes = file.read_all(LARGEST)?;
        let text = String::from_utf8_lossy(&bytes).into_owned();
        let entries =
            if file.file_name().ends_with(".json") { from_json(&text, file)? } else { from_text(&text, file)? };
        Ok(Mtl { entries, bytes, file: file.clone() })
    }

    pub(crate) fn get(&self, group: &str, key: &str) -> Option<&str> {
        self.entries.iter().find(|(g, k, _)| g == group && k == key).map(|e| e.2.as_str())
    }

    /// The group that holds a key, of several in which collections keep it.
    fn group_of<'g>(&self, groups: &[&'g str], key: &str) -> &'g str {
        groups.iter().find(|g| self.get(g, key).is_some()).unwrap_or(&groups[0])
    }

    pub(crate) fn any(&self, groups: &[&str], key: &str) -> Option<&str> {
        groups.iter().find_map(|g| self.get(g, key))
    }

    pub(crate) fn needed(&self, groups: &[&str], key: &str) -> Result<&str> {
        self.any(groups, key).ok_or_else(|| Error::malformed(self.file.place(groups[0]), format!("has no key {key}")))
    }

    pub(crate) fn any_number(&self, groups: &[&str], key: &str) -> Result<Option<f64>> {
        self.number(self.group_of(groups, key), key)
    }

    /// A number; an error where it is there but is none.
    pub(crate) fn number(&self, group: &str, key: &str) -> Result<Option<f64>> {
        let Some(text) = self.get(group, key) else { return Ok(None) };
        match text.parse::<f64>() {
            Ok(n) if n.is_finite() => Ok(Some(n)),
            _ => Err(self.wrong(group, key, &format!("is '{text}', not a number"))),
        }
    }

    pub(crate) fn wrong(&self, group: &str, key: &str, what: &str) -> Error {
        Error::malformed(self.file.place(group), format!("{key} {what}"))
    }
}

type Entries = Vec<(String, String, String)>;

fn from_text(text: &str, file: &ByteRange) -> Result<Entries> {
    let mut groups: Vec<String> = vec![];
    let mut entries = vec![];
    for (n, line) in text.lines().enumerate() {
        let wrong = |what: &str| Error::malformed(file.place(format!("line {}", n + 1)), what);
        let line = line.trim();
        if line == "END" {
            return Ok(entries);
        }
        if line.is_empty() {
            continue;
        }
        let (key, value) = line.split_once('=').ok_or_else(|| wrong("is not 'KEY = value'"))?;
        let (key, value) = (key.trim(), value.trim());
        match key {
            "GROUP" => groups.push(value.into()),
            "END_GROUP" => match groups.pop() {
                Some(g) if g == value => {}
                _ => return Err(wrong(&format!("ends the group {value}, which is not open"))),
            },
            _ => {
                let value = value.strip_prefix('"').and_then(|v| v.strip_suffix('"')).unwrap_or(value);
                entries.push((groups.last().cloned().unwrap_or_default(), key.into(), value.into()));
            }
        }
    }
    Err(Error::malformed(file.place(""), "has no END: it is cut off"))
}

fn from_json(text: &str, file: &ByteRange) -> Result<Entries> {
    let tree: serde_json::Value = serde_json::from_str(text)
        .map_err(|e| Error::malformed(file.place(format!("line {}", e.line())), format!("is not JSON: {e}")))?;
    let mut entries = vec![];
    walk("", &tree, &mut entries);
    Ok(entries)
}

fn walk(group: &str, tree: &serde_json::Value, entries: &mut Entries) {
    let Some(map) = tree.as_object() else { return };
    for (key, value) in map {
        match value {
            serde_json::Value::Object(_) => walk(key, value, entries),
            serde_json::Value::String(s) => entries.push((group.into(), key.clone(), s.clone())),
            other => entries.push((group.into(), key.clone(), other.to_string())),
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn read(name: &str, text: &str) -> Result<Mtl> {
        let dir = tempfile::tempdir().unwrap();
        let path = dir.path().join(name);
        std::fs::write(&path, text).unwrap();
        Mtl::read(&ByteRange::whole(&path).unwrap())
    }

    #[test]
    fn a_key_that_stands_twice_keeps_its_group() {
        let text = "GROUP = A\n  GROUP = B\n    X = 1.5\n  END_GROUP = B\n  GROUP = C\n    X = \"two\"\n  END_GROUP = C\nEND_GROUP = A\nEND\n";
        let m = read("m_MTL.txt", text).unwrap();
        assert_eq!((m.get("B", "X"), m.get("C", "X")), (Some("1.5"), Some("two")));
        let m = read("m_MTL.json", r#"{"A": {"B": {"X": "1.5"}, "C": {"X": "two", "Y": 3}}}"#).unwrap();
        assert_eq!((m.get("B", "X"), m.get("C", "X"), m.get("C", "Y")), (Some("1.5"), Some("two"), Some("3")));
        assert!(m.number("C", "X").unwrap_err().to_string().contains("X is 'two', not a number"));
    }

    #[test]
    fn cut_off_metadata_are_named() {
        let e = read("m_MTL.txt", "GROUP = A\n  X = 1\n").unwrap_err().to_string();
        assert!(e.contains("has no END: it is cut off"), "{e}");
        let e = read("m_MTL.json", "{\"A\": {").unwrap_err().to_string();
        assert!(e.contains("line 1") && e.contains("not JSON"), "{e}");
    }
}
