//! Features chosen by their attributes, and united by them.

use super::{Feature, Features, united};
use crate::attribute::{Condition, Value};
use crate::error::{Error, Result};

/// The features that meet a condition.
///
/// # Errors
/// Where it asks for an attribute that is not there.
pub fn pick(all: Features, condition: &Condition) -> Result<Features> {
    if let Some(name) = condition.names().into_iter().find(|n| all.column(n).is_none()) {
        return Err(Error::unknown("attribute", name, all.fields.iter().map(|f| f.name.as_str())));
    }
    let kept: Vec<bool> = (0..all.rows.len()).map(|i| condition.holds(&all.attributes(i))).collect();
    let rows = all.rows.into_iter().zip(kept).filter_map(|(r, k)| k.then_some(r)).collect();
    Ok(Features { rows, ..all })
}

/// One feature for each value of an attribute, its shapes united, in the order in which values are first met. Other
/// attributes stay where all features of a value agree, and are missing elsewhere.
///
/// # Errors
/// Where the attribute is not there.
pub fn dissolve(all: &Features, by: &str) -> Result<Features> {
    let column = all.named(by)?;
    let mut groups: Vec<(&Value, Vec<&Feature>)> = vec![];
    for row in &all.rows {
        let value = &row.values[column];
        match groups.iter_mut().find(|g| g.0 == value) {
            Some(group) => group.1.push(row),
            None => groups.push((value, vec![row])),
        }
    }
    let one = |(_, rows): (&Value, Vec<&Feature>)| {
        let first = &rows[0].values;
        let agreed = |i: usize| rows.iter().all(|r| r.values[i] == first[i]);
        let values = (0..first.len()).map(|i| if agreed(i) { first[i].clone() } else { Value::Missing }).collect();
        Feature { values, shape: united(rows.iter().map(|r| &r.shape)) }
    };
    Ok(Features { crs: all.crs, fields: all.fields.clone(), rows: groups.into_iter().map(one).collect() })
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::feature::{Field, FieldKind};
    use crate::geo::Crs;
    use crate::plot::{Polygon, Shape};

    fn squares(rows: &[(&str, i64, f64)]) -> Features {
        let square =
            |x: f64| Polygon { outer: vec![(x, 0.0), (x + 1.0, 0.0), (x + 1.0, 1.0), (x, 1.0)], holes: vec![] };
        let field = |name: &str, kind| Field { name: name.into(), kind };
        Features {
            crs: Crs::utm(25, true).unwrap(),
            fields: vec![field("crop", FieldKind::Text), field("year", FieldKind::Whole)],
            rows: rows
                .iter()
                .map(|(crop, year, x)| Feature {
                    values: vec![Value::Text((*crop).into()), Value::Whole(*year)],
                    shape: Shape::Polygons(vec![square(*x)]),
                })
                .collect(),
        }
    }

    #[test]
    fn neighbours_of_one_crop_become_one_and_what_differs_is_missing() {
        let all = squares(&[("flax", 2031, 0.0), ("hay", 2031, 5.0), ("flax", 2031, 1.0), ("hay", 2032, 9.0)]);
        let by = dissolve(&all, "crop").unwrap();
        assert_eq!(by.rows.len(), 2);
        assert_eq!(by.rows[0].values, [Value::Text("flax".into()), Value::Whole(2031)]);
        assert_eq!((by.rows[0].shape.polygons().len(), by.rows[1].shape.polygons().len()), (1, 2));
        assert!((by.rows[0].shape.area() - 2.0).abs() < 1e-6);
        assert_eq!(by.rows[1].values[1], Value::Missing);
        assert!(dissolve(&all, "corp").unwrap_err().to_string().contains("did you mean 'crop'"));
        let hay = pick(all, &Condition::parse("crop = 'hay' and year > 2031").unwrap()).unwrap();
        assert_eq!(hay.rows.len(), 1);
    }
}
