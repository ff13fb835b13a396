//! Tables written and read back: by ourselves, and by the Parquet library's own rows.

use std::path::Path;

use parquet::file::reader::{FileReader, SerializedFileReader};
use parquet::record::Field;
use proptest::prelude::*;
use telechroma_core::attribute::Value;
use telechroma_core::feature::FieldKind;
use telechroma_io::table::csv::{self, Rows, Style};
use telechroma_io::table::parquet::{Cells, Column, Writer};

/// Texts that a careless table would tear apart.
fn text() -> impl Strategy<Value = String> {
    proptest::string::string_regex("[ -~äß€;,\"\n]{0,12}").unwrap()
}

fn written(path: &Path, header: &[String], rows: &[Vec<Value>], style: Style) {
    let mut out = Rows::create(path, header, style).unwrap();
    rows.iter().for_each(|r| out.write(r).unwrap());
    out.finish().unwrap();
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(80))]

    #[test]
    fn texts_come_back_whatever_they_hold(
        rows in proptest::collection::vec((text(), text(), any::<f64>()), 1..8), local in any::<bool>(),
    ) {
        let dir = tempfile::tempdir().unwrap();
        let path = dir.path().join("t.csv");
        let style = if local { Style { separator: b';', decimal: ',' } } else { Style::default() };
        let header = ["plot", "note", "value"].map(String::from);
        let cells = |r: &(String, String, f64)| vec![Value::Text(r.0.clone()), Value::Text(r.1.clone()), Value::Number(r.2)];
        written(&path, &header, &rows.iter().map(cells).collect::<Vec<_>>(), style);
        let (names, back) = csv::read(&path).unwrap();
        prop_assert_eq!(&names, &header);
        prop_assert_eq!(back.len(), rows.len());
        for (got, want) in back.iter().zip(&rows) {
            prop_assert_eq!((&got[0], &got[1]), (&want.0, &want.1));
            let number = got[2].replace(',', ".");
            match want.2.is_finite() {
                // nine digits
                true => prop_assert!((number.parse::<f64>().unwrap() - want.2).abs() <= 5.1e-9 * want.2.abs()),
                false => prop_assert!(number.is_empty(), "{}", number),
            }
        }
    }
}

#[test]
fn tables_of_other_locales_are_read_and_broken_ones_told() {
    let dir = tempfile::tempdir().unwrap();
    let path = dir.path().join("t.csv");
    let read = |text: &str| {
        std::fs::write(&path, text).unwrap();
        csv::read(&path).map_err(|e| e.to_string())
    };
    for text in ["plot,kg\na,1\n", "plot;kg\na;1\n", "plot\tkg\na\t1\n", "\u{feff}plot, kg \na,1", "plot,kg\r\na,1\r\n"]
    {
        let (header, rows) = read(text).unwrap();
        assert_eq!(header, ["plot", "kg"], "{text:?}");
        assert_eq!(rows, [["a", "1"]], "{text:?}");
    }
    assert!(read("").unwrap_err().contains("is empty"));
    assert!(read("plot,kg,plot\n1,2,3\n").unwrap_err().contains("two columns 'plot'"));
    let e = read("plot,kg\na,1\nb\n").unwrap_err();
    assert!(e.contains("line 3") && e.contains("is no table"), "{e}");
    std::fs::write(&path, b"plot\n\xff\xfe\n").unwrap();
    assert!(csv::read(&path).unwrap_err().to_string().contains("UTF-8"));
}

#[test]
fn parquet_keeps_kinds_and_what_is_missing() {
    let dir = tempfile::tempdir().unwrap();
    let path = dir.path().join("t.parquet");
    let cells = |k: FieldKind, v: [Value; 2]| Cells::Values(k, v.to_vec());
    let text = |t: &str| Value::Text(t.into());
    let all = || {
        [
            ("truth", cells(FieldKind::Truth, [Value::Truth(true), Value::Missing])),
            ("whole", cells(FieldKind::Whole, [Value::Whole(i64::MIN), Value::Missing])),
            ("number", cells(FieldKind::Number, [Value::Number(0.1), Value::Number(f64::NAN)])),
            ("text", cells(FieldKind::Text, [text("größer, \"kleiner\""), Value::Missing])),
            ("date", cells(FieldKind::Date, [text("1969-12-31"), Value::Missing])),
            ("instant", cells(FieldKind::Instant, [text("2031-06-24T12:20:17.4Z"), Value::Missing])),
            ("bytes", Cells::Bytes(vec![Some(vec![0, 255]), None])),
        ]
    };
    let columns: Vec<Column> = all().into_iter().map(|(name, cells)| Column { name: name.into(), cells }).collect();
    let mut out = Writer::create(&path, &columns, &[("about", "made up".into())]).unwrap();
    // two groups of rows
    for _ in 0..2 {
        out.group(all().into_iter().map(|(_, c)| c).collect()).unwrap();
    }
    out.finish().unwrap();
    let reader = SerializedFileReader::new(std::fs::File::open(&path).unwrap()).unwrap();
    let about = reader.metadata().file_metadata().key_value_metadata().unwrap();
    assert!(about.iter().any(|kv| kv.key == "about" && kv.value.as_deref() == Some("made up")));
    assert_eq!((reader.metadata().num_row_groups(), reader.metadata().file_metadata().num_rows()), (2, 4));
    let rows: Vec<Vec<Field>> = reader
        .get_row_iter(None)
        .unwrap()
        .map(|r| r.unwrap().into_columns().into_iter().map(|c| c.1).collect())
        .collect();
    let moment: jiff::Timestamp = "2031-06-24T12:20:17.4Z".parse().unwrap();
    let first = [
        Field::Bool(true),
        Field::Long(i64::MIN),
        Field::Double(0.1),
        Field::Str("größer, \"kleiner\"".into()),
        Field::Date(-1),
        Field::TimestampMicros(moment.as_microsecond()),
        Field::Bytes(vec![0, 255].into()),
    ];
    assert_eq!(rows[0], first);
    assert!(rows[1].iter().all(|f| *f == Field::Null), "{:?}", rows[1]);
    assert_eq!(rows[2..], rows[..2]);
}
