//! Conditions on attributes: `crop = "flax" and area_ha >= 0.5`.
//!
//! ```text
//! or   and   not   = != < <= > >=   in ("a", "b")   name = missing
//! ```

use std::collections::BTreeMap;

use crate::error::{Error, Result};

/// An attribute's value.
#[derive(Debug, Clone, PartialEq)]
pub enum Value {
    /// Not there.
    Missing,
    /// Text.
    Text(String),
    /// A number.
    Number(f64),
    /// A whole number: ids beyond 2⁵³ stay exact.
    Whole(i64),
    /// True or false.
    Truth(bool),
}

impl Value {
    /// The number, if it is one.
    pub fn number(&self) -> Option<f64> {
        match self {
            Value::Number(v) => Some(*v),
            Value::Whole(v) => Some(*v as f64),
            Value::Missing | Value::Text(_) | Value::Truth(_) => None,
        }
    }
}

impl std::fmt::Display for Value {
    /// As tables write it; missing values are empty.
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        match self {
            Value::Missing => Ok(()),
            Value::Text(t) => f.write_str(t),
            Value::Number(v) => write!(f, "{v}"),
            Value::Whole(v) => write!(f, "{v}"),
            Value::Truth(v) => write!(f, "{v}"),
        }
    }
}

/// A condition, ready to be asked.
#[derive(Debug, Clone, PartialEq)]
pub struct Condition(Node);

#[derive(Debug, Clone, PartialEq)]
enum Node {
    Any(Vec<Node>),
    All(Vec<Node>),
    Not(Box<Node>),
    Compare(String, Sign, Value),
    Among(String, Vec<Value>),
}

#[derive(Debug, Clone, Copy, PartialEq)]
enum Sign {
    Equal,
    Unequal,
    Less,
    LessEqual,
    Greater,
    GreaterEqual,
}

const SIGNS: &[(&str, Sign)] = &[
    ("!=", Sign::Unequal),
    ("<=", Sign::LessEqual),
    (">=", Sign::GreaterEqual),
    ("=", Sign::Equal),
    ("<", Sign::Less),
    (">", Sign::Greater),
];
/// Deeper nesting than any condition has.
const DEEPEST: usize = 64;

impl Condition {
    /// Reads a condition.
    ///
    /// # Errors
    /// [`Error::Formula`] with the place and what was expected.
    pub fn parse(text: &str) -> Result<Condition> {
        let mut p = Parser { text, at: 0 };
        let node = p.any(0)?;
        match p.rest().is_empty() {
            true => Ok(Condition(node)),
            false => Err(p.wrong("expected 'and', 'or' or the end")),
        }
    }

    /// Names of the attributes it asks for.
    pub fn names(&self) -> Vec<&str> {
        fn walk<'a>(n: &'a Node, out: &mut Vec<&'a str>) {
            match n {
                Node::Any(all) | Node::All(all) => all.iter().for_each(|n| walk(n, out)),
                Node::Not(n) => walk(n, out),
                Node::Compare(name, ..) | Node::Among(name, _) => out.push(name),
            }
        }
        let mut out = vec![];
        walk(&self.0, &mut out);
        out
    }

    /// True where attributes meet it. A missing attribute meets only `= missing`, and `!=` of anything else.
    pub fn holds(&self, attributes: &BTreeMap<String, Value>) -> bool {
        holds(&self.0, attributes)
    }
}

fn holds(node: &Node, attributes: &BTreeMap<String, Value>) -> bool {
    let value = |name: &str| attributes.get(name).unwrap_or(&Value::Missing);
    match node {
        Node::Any(all) => all.iter().any(|n| holds(n, attributes)),
        Node::All(all) => all.iter().all(|n| holds(n, attributes)),
        Node::Not(n) => !holds(n, attributes),
        Node::Among(name, list) => list.iter().any(|v| same(value(name), v)),
        Node::Compare(name, sign, wanted) => match (sign, value(name), wanted) {
            (Sign::Equal, found, wanted) => same(found, wanted),
            (Sign::Unequal, found, wanted) => !same(found, wanted),
            (sign, Value::Text(a), Value::Text(b)) => ordered(*sign, Some(a.cmp(b))), // ISO dates among them
            (sign, found, wanted) => match (found.number(), wanted.number()) {
                (Some(a), Some(b)) => ordered(*sign, a.partial_cmp(&b)),
                _ => false,
            },
        },
    }
}

fn same(a: &Value, b: &Value) -> bool {
    match (a.number(), b.number()) {
        (Some(a), Some(b)) => a == b,
        _ => a == b,
    }
}

fn ordered(sign: Sign, found: Option<std::cmp::Ordering>) -> bool {
    found.is_some_and(|o| match sign {
        Sign::Less => o.is_lt(),
        Sign::LessEqual => o.is_le(),
        Sign::Greater => o.is_gt(),
        Sign::GreaterEqual => o.is_ge(),
        Sign::Equal | Sign::Unequal => false,
    })
}

struct Parser<'a> {
    text: &'a str,
    at: usize,
}

impl<'a> Parser<'a> {
    fn rest(&mut self) -> &'a str {
        let text = &self.text[self.at..];
        let trimmed = text.trim_start();
        self.at += text.len() - trimmed.len();
        trimmed
    }

    fn wrong(&self, message: &str) -> Error {
        Error::Formula { formula: self.text.into(), at: self.at, message: message.into() }
    }

    fn word(&mut self, word: &str) -> bool {
        let rest = self.rest();
        let found = rest.strip_prefix(word).is_some_and(|r| !r.starts_with(|c: char| c.is_alphanumeric() || c == '_'));
        self.at += if found { word.len() } else { 0 };
        found
    }

    fn sign(&mut self, sign: &str) -> bool {
        let found = self.rest().starts_with(sign);
        self.at += if found { sign.len() } else { 0 };
        found
    }

    fn any(&mut self, depth: usize) -> Result<Node> {
        let mut all = vec![self.all(depth)?];
        while self.word("or") {
            all.push(self.all(depth)?);
        }
        Ok(if all.len() == 1 { all.remove(0) } else { Node::Any(all) })
    }

    fn all(&mut self, depth: usize) -> Result<Node> {
        let mut all = vec![self.one(depth)?];
        while self.word("and") {
            all.push(self.one(depth)?);
        }
        Ok(if all.len() == 1 { all.remove(0) } else { Node::All(all) })
    }

    fn one(&mut self, depth: usize) -> Result<Node> {
        if depth > DEEPEST {
            return Err(self.wrong("is nested too deeply"));
        }
        if self.word("not") {
            return Ok(Node::Not(Box::new(self.one(depth + 1)?)));
        }
        if self.sign("(") {
            let inner = self.any(depth + 1)?;
            return if self.sign(")") { Ok(inner) } else { Err(self.wrong("expected ')'")) };
        }
        let rest = self.rest();
        let end = rest.find(|c: char| !(c.is_alphanumeric() || c == '_' || c == ':')).unwrap_or(rest.len());
        if end == 0 || rest.starts_with(|c: char| c.is_ascii_digit()) {
            return Err(self.wrong("expected the name of an attribute"));
        }
        let name = rest[..end].to_string();
        self.at += end;
        if self.word("in") {
            if !self.sign("(") {
                return Err(self.wrong("expected '(' and values"));
            }
            let mut list = vec![self.value()?];
            while self.sign(",") {
                list.push(self.value()?);
            }
            return if self.sign(")") { Ok(Node::Among(name, list)) } else { Err(self.wrong("expected ',' or ')'")) };
        }
        for (text, sign) in SIGNS {
            if self.sign(text) {
                return Ok(Node::Compare(name, *sign, self.value()?));
            }
        }
        Err(self.wrong("expected =, !=, <, <=, >, >= or in"))
    }

    fn value(&mut self) -> Result<Value> {
        for (word, value) in [("missing", Value::Missing), ("true", Value::Truth(true)), ("false", Value::Truth(false))]
        {
            if self.word(word) {
                return Ok(value);
            }
        }
        let rest = self.rest();
        if let Some(quote) = rest.chars().next().filter(|c| matches!(c, '"' | '\'')) {
            let Some(len) = rest[1..].find(quote) else { return Err(self.wrong("this text has no end")) };
            self.at += len + 2;
            return Ok(Value::Text(rest[1..=len].into()));
        }
        let end = rest.find(|c: char| !(c.is_ascii_digit() || "+-.eE".contains(c))).unwrap_or(rest.len());
        match rest[..end].parse::<f64>() {
            Ok(v) if v.is_finite() => {
                self.at += end;
                Ok(Value::Number(v))
            }
            _ => Err(self.wrong("expected a number, a text in quotes, true, false or missing")),
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn asks(text: &str) -> bool {
        let of = |k: &str, v: Value| (k.to_string(), v);
        let row = BTreeMap::from([
            of("crop", Value::Text("flax".into())),
            of("area_ha", Value::Number(0.5)),
            of("trial", Value::Truth(true)),
            of("block", Value::Whole(3)),
            of("note", Value::Missing),
        ]);
        Condition::parse(text).unwrap().holds(&row)
    }

    #[test]
    fn conditions_are_met_as_they_read() {
        for (text, met) in [
            ("crop = \"flax\" and area_ha >= 0.5", true),
            ("crop = 'lupin' or area_ha < 0.6", true),
            ("not crop in (\"lupin\", \"flax\")", false),
            ("crop != 'flax' or (trial = true and note = missing)", true),
            ("area_ha > 5e-1", false),
            ("absent = missing", true),
            ("block = 3 and block in (2, 3) and block > 2.5", true),
            ("absent < 3", false),
            ("crop < 3", false),
        ] {
            assert_eq!(asks(text), met, "{text}");
        }
    }

    #[test]
    fn troubles_point_at_their_place() {
        for (text, at, said) in [
            ("crop = ", 7, "expected a number"),
            ("crop flax", 5, "expected =, !="),
            ("crop = 'flax", 7, "no end"),
            ("(crop = 'x'", 11, "expected ')'"),
            ("crop = 'x' area = 2", 11, "'and', 'or'"),
        ] {
            match Condition::parse(text).unwrap_err() {
                Error::Formula { at: found, message, .. } => {
                    assert!(found == at && message.contains(said), "{text}: {found} {message}")
                }
                other => panic!("{other}"),
            }
        }
        assert!(Condition::parse(&"(".repeat(5000)).is_err());
    }
}
