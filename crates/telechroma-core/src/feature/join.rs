//! A table joined to features by their ids.

use std::collections::BTreeMap;

use super::{Features, Field, as_kind, kind_of};
use crate::attribute::Value;
use crate::error::{Error, Result};

/// Features with the columns of a table, and what found no partner.
#[derive(Debug, Clone, PartialEq)]
pub struct Joined {
    /// All features, in their order.
    pub features: Features,
    /// Ids of features that the table does not have.
    pub without_row: Vec<String>,
    /// Ids of the table that no feature has.
    pub without_plot: Vec<String>,
}

/// Joins rows of a table, given by its columns' names and its texts; `key` is the table's column that holds the ids of
/// `id`. Texts that are numbers become numbers where the whole column is.
///
/// # Errors
/// Where a column is not there, an id is in the table twice, or a column's name is taken.
pub fn join(mut features: Features, id: usize, columns: &[String], table: &[Vec<String>], key: &str) -> Result<Joined> {
    let key = columns
        .iter()
        .position(|c| c == key)
        .ok_or_else(|| Error::unknown("column", key, columns.iter().map(String::as_str)))?;
    if let Some(taken) = columns.iter().enumerate().find(|(i, c)| *i != key && features.column(c).is_some()) {
        return Err(Error::Usage(format!("the plots have a column '{}' already: rename one of the two", taken.1)));
    }
    let mut rows: BTreeMap<String, usize> = BTreeMap::new();
    for (n, row) in table.iter().enumerate() {
        let text = row.get(key).map_or("", |t| t.trim());
        if let Some(first) = rows.insert(text.to_string(), n) {
            return Err(Error::Usage(format!(
                "'{text}' is in rows {} and {} of the table: one row a plot is needed",
                first + 1,
                n + 1
            )));
        }
    }
    let plots = features.plots(id)?;
    let found: Vec<Option<usize>> = plots.iter().map(|p| rows.get(p.id.as_str()).copied()).collect();
    for (i, name) in columns.iter().enumerate().filter(|(i, _)| *i != key) {
        let values: Vec<Value> = table.iter().map(|r| value(r.get(i).map_or("", String::as_str))).collect();
        let kind = kind_of(values.iter());
        let of = |row: &Option<usize>| row.map_or(Value::Missing, |r| as_kind(values[r].clone(), kind));
        features.fields.push(Field { name: name.clone(), kind });
        features.rows.iter_mut().zip(&found).for_each(|(f, r)| f.values.push(of(r)));
    }
    let known: std::collections::BTreeSet<&str> = plots.iter().map(|p| p.id.as_str()).collect();
    let without_plot = table.iter().filter_map(|r| r.get(key)).map(|t| t.trim().to_string());
    Ok(Joined {
        features,
        without_row: plots.iter().zip(&found).filter(|(_, r)| r.is_none()).map(|(p, _)| p.id.clone()).collect(),
        without_plot: without_plot.filter(|t| !known.contains(t.as_str())).collect(),
    })
}

/// What a text of a table says.
pub fn value(text: &str) -> Value {
    let text = text.trim();
    match text {
        "" => Value::Missing,
        "true" => Value::Truth(true),
        "false" => Value::Truth(false),
        // a code such as 007 is no number
        t if t.len() > 1 && t.starts_with('0') && t.bytes().all(|b| b.is_ascii_digit()) => Value::Text(t.into()),
        t => match (t.parse::<i64>(), t.parse::<f64>()) {
            (Ok(n), _) => Value::Whole(n),
            (_, Ok(n)) if n.is_finite() => Value::Number(n),
            _ => Value::Text(t.into()),
        },
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::feature::{Feature, FieldKind};
    use crate::geo::Crs;
    use crate::plot::Shape;

    fn two() -> Features {
        let row = |id: i64| Feature { values: vec![Value::Whole(id)], shape: Shape::Points(vec![(0.0, 0.0)]) };
        let fields = vec![Field { name: "plot".into(), kind: FieldKind::Whole }];
        Features { crs: Crs::LONGITUDE_LATITUDE, fields, rows: vec![row(1), row(2), row(3)] }
    }

    fn texts(rows: &[&[&str]]) -> Vec<Vec<String>> {
        rows.iter().map(|r| r.iter().map(ToString::to_string).collect()).collect()
    }

    #[test]
    fn rows_find_their_plots_and_the_others_are_listed_both_ways() {
        let columns = ["id", "yield", "code", "harvest"].map(String::from);
        let table = texts(&[&["3", "4.5", "007", "1"], &["1", "5", "12", ""], &["9", "1", "x", ""]]);
        let j = join(two(), 0, &columns, &table, "id").unwrap();
        assert_eq!((j.without_row, j.without_plot), (vec!["2".to_string()], vec!["9".to_string()]));
        let kinds: Vec<FieldKind> = j.features.fields.iter().map(|f| f.kind).collect();
        assert_eq!(kinds, [FieldKind::Whole, FieldKind::Number, FieldKind::Text, FieldKind::Whole]);
        let row = |i: usize| j.features.rows[i].values[1..].to_vec();
        assert_eq!(row(0), [Value::Number(5.0), Value::Text("12".into()), Value::Missing]);
        assert_eq!(row(1), [Value::Missing, Value::Missing, Value::Missing]);
        assert_eq!(row(2), [Value::Number(4.5), Value::Text("007".into()), Value::Whole(1)]);
    }

    #[test]
    fn what_is_not_clear_is_refused() {
        let twice = texts(&[&["1", "2"], &["1", "3"]]);
        let columns = ["plot", "yield"].map(String::from);
        let said = |r: Result<Joined>| r.unwrap_err().to_string();
        assert!(said(join(two(), 0, &columns, &twice, "plot")).contains("rows 1 and 2"));
        assert!(said(join(two(), 0, &columns, &[], "plt")).contains("did you mean 'plot'"));
        assert!(said(join(two(), 0, &["id", "plot"].map(String::from), &[], "id")).contains("'plot' already"));
    }
}
