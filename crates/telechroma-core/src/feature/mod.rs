//! Features: shapes with attributes, as plot files hold them, and what is done with them before cells come in.

mod choose;
mod geometry;
mod join;

use std::collections::BTreeMap;

pub use choose::{dissolve, pick};
pub(crate) use geometry::to_geo;
pub use geometry::{inset, mend, overlap, ring_round, united};
pub use join::{Joined, join, value};

use crate::attribute::Value;
use crate::error::{Error, Result};
use crate::geo::{Crs, Projector};
use crate::plot::{Plot, Shape};

/// The type of a column.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum FieldKind {
    /// True or false.
    Truth,
    /// Whole numbers.
    Whole,
    /// Numbers.
    Number,
    /// Text.
    Text,
    /// Days, as text `2031-07-09`.
    Date,
    /// Moments, as text `2031-07-09T10:20:30Z`.
    Instant,
}

/// A column.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Field {
    /// Its name.
    pub name: String,
    /// Its type.
    pub kind: FieldKind,
}

/// A shape with a value for each column.
#[derive(Debug, Clone, PartialEq)]
pub struct Feature {
    /// In the columns' order.
    pub values: Vec<Value>,
    /// Where it is.
    pub shape: Shape,
}

/// Features of one table.
#[derive(Debug, Clone, PartialEq)]
pub struct Features {
    /// The coordinate system of the shapes.
    pub crs: Crs,
    /// The columns.
    pub fields: Vec<Field>,
    /// The rows.
    pub rows: Vec<Feature>,
}

/// Names that an id is looked for under, if none is given.
pub const USUAL_IDS: &[&str] = &["id", "plot", "plot_id", "field", "field_id", "name"];

impl Features {
    /// The place of a column.
    pub fn column(&self, name: &str) -> Option<usize> {
        self.fields.iter().position(|f| f.name == name)
    }

    /// The place of a column that must be there.
    ///
    /// # Errors
    /// Where there is none of that name, with what there is.
    pub fn named(&self, name: &str) -> Result<usize> {
        self.column(name).ok_or_else(|| Error::unknown("attribute", name, self.fields.iter().map(|f| f.name.as_str())))
    }

    /// The attributes of a row by their names, for conditions.
    pub fn attributes(&self, row: usize) -> BTreeMap<String, Value> {
        let names = self.fields.iter().map(|f| f.name.clone());
        names.zip(self.rows[row].values.iter().cloned()).collect()
    }

    /// The column of the ids: the one asked for, or the first of the usual names.
    ///
    /// # Errors
    /// Where it is not there, or none is asked for and none is usual.
    pub fn id_column(&self, asked: Option<&str>) -> Result<usize> {
        if let Some(name) = asked {
            return self.named(name);
        }
        USUAL_IDS.iter().find_map(|n| self.column(n)).ok_or_else(|| {
            let names: Vec<&str> = self.fields.iter().map(|f| f.name.as_str()).collect();
            let list = if names.is_empty() { "none".to_string() } else { names.join(", ") };
            Error::Usage(format!("which attribute is the plots' id is not clear; they have {list}"))
        })
    }

    /// The plots, with ids from a column.
    ///
    /// # Errors
    /// Where an id is missing or double, or a shape is neither polygons nor points.
    pub fn plots(&self, id: usize) -> Result<Vec<Plot>> {
        let name = &self.fields[id].name;
        let mut seen: BTreeMap<String, usize> = BTreeMap::new();
        let mut plots = Vec::with_capacity(self.rows.len());
        for (n, row) in self.rows.iter().enumerate() {
            let wrong = |what: String| Err(Error::Usage(format!("feature {}: {what}", n + 1)));
            let text = match &row.values[id] {
                Value::Text(t) if t.trim().is_empty() => String::new(),
                value => value.to_string(),
            };
            if text.is_empty() {
                return wrong(format!("the plot has no '{name}', which should be its id"));
            }
            if let Some(what) = row.shape.no_plot() {
                return wrong(format!("plot {text} is {what}, but plots are polygons or points"));
            }
            if let Some(first) = seen.insert(text.clone(), n) {
                return wrong(format!("its {name} '{text}' is that of feature {} too: ids must be unique", first + 1));
            }
            plots.push(Plot { id: text, shape: row.shape.clone() });
        }
        Ok(plots)
    }

    /// The same in another coordinate system. Long edges get corners in between first.
    ///
    /// # Errors
    /// Where a position has no coordinates there.
    pub fn in_crs(&self, crs: Crs) -> Result<Features> {
        let projector = Projector::new(self.crs, crs)?;
        if projector.is_identity() {
            return Ok(self.clone());
        }
        let degrees = self.crs.is_geographic();
        let one = |(n, row): (usize, &Feature)| {
            let shape = row.shape.dense(degrees).map(|x, y| projector.project(x, y));
            let shape = shape.map_err(|e| Error::Coordinates(format!("feature {}: {e}", n + 1)))?;
            Ok(Feature { values: row.values.clone(), shape })
        };
        let rows = self.rows.iter().enumerate().map(one).collect::<Result<_>>()?;
        Ok(Features { crs, fields: self.fields.clone(), rows })
    }

    /// Least and greatest coordinates of all: west, south, east, north; none where there is no position.
    pub fn bounds(&self) -> Option<[f64; 4]> {
        let all = self.rows.iter().filter_map(|r| r.shape.bounds());
        all.reduce(|a, b| [a[0].min(b[0]), a[1].min(b[1]), a[2].max(b[2]), a[3].max(b[3])])
    }

    /// Adds a column, or replaces one of that name; `values` has one for each row.
    pub fn set(&mut self, name: &str, kind: FieldKind, values: Vec<Value>) {
        let field = Field { name: name.into(), kind };
        match self.column(name) {
            Some(at) => {
                self.fields[at] = field;
                self.rows.iter_mut().zip(values).for_each(|(r, v)| r.values[at] = v);
            }
            None => {
                self.fields.push(field);
                self.rows.iter_mut().zip(values).for_each(|(r, v)| r.values.push(v));
            }
        }
    }
}

/// The type of a column from its values: numbers that are all whole are whole, and mixtures are text.
pub fn kind_of<'a>(values: impl Iterator<Item = &'a Value>) -> FieldKind {
    let mut found: Option<FieldKind> = None;
    for v in values {
        let kind = match v {
            Value::Missing => continue,
            Value::Text(_) => FieldKind::Text,
            Value::Number(_) => FieldKind::Number,
            Value::Whole(_) => FieldKind::Whole,
            Value::Truth(_) => FieldKind::Truth,
        };
        found = Some(match (found, kind) {
            (None, k) => k,
            (Some(a), b) if a == b => a,
            (Some(FieldKind::Whole | FieldKind::Number), FieldKind::Whole | FieldKind::Number) => FieldKind::Number,
            _ => return FieldKind::Text,
        });
    }
    found.unwrap_or(FieldKind::Text)
}

/// A value as a column of a type holds it: numbers where numbers are mixed, text where all is text.
pub fn as_kind(value: Value, kind: FieldKind) -> Value {
    match (kind, value) {
        (FieldKind::Number, Value::Whole(v)) => Value::Number(v as f64),
        (FieldKind::Text, v @ (Value::Number(_) | Value::Whole(_) | Value::Truth(_))) => Value::Text(v.to_string()),
        (_, v) => v,
    }
}
