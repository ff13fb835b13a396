//! Parquet: typed columns with missing values, packed with Zstandard.
//!
//! Source: Apache Parquet format 2.10.

use std::fs::File;
use std::path::Path;
use std::sync::Arc;

use parquet::basic::{Compression, LogicalType, Repetition, TimeUnit, Type as Physical, ZstdLevel};
use parquet::data_type::{BoolType, ByteArray, ByteArrayType, DataType, DoubleType, Int32Type, Int64Type};
use parquet::errors::ParquetError;
use parquet::file::metadata::KeyValue;
use parquet::file::properties::WriterProperties;
use parquet::file::writer::{SerializedFileWriter, SerializedRowGroupWriter};
use parquet::schema::types::{Type, TypePtr};
use telechroma_core::attribute::Value;
use telechroma_core::feature::FieldKind;

use crate::error::{Error, Place, Result};

/// A column.
pub struct Column {
    /// Its name.
    pub name: String,
    /// Its cells.
    pub cells: Cells,
}

/// The cells of a column.
pub enum Cells {
    /// Values of one kind.
    Values(FieldKind, Vec<Value>),
    /// Bytes.
    Bytes(Vec<Option<Vec<u8>>>),
}

/// A file that grows by groups of rows.
pub struct Writer {
    place: Place,
    out: SerializedFileWriter<File>,
}

impl Writer {
    /// A new file for columns, whose cells are not written yet, with texts about the file.
    ///
    /// # Errors
    /// Where writing fails.
    pub fn create(path: &Path, columns: &[Column], about: &[(&str, String)]) -> Result<Writer> {
        let place = Place::file(path);
        let failed = |e: ParquetError| Error::malformed(place.clone(), format!("cannot be written: {e}"));
        let fields = columns.iter().map(field).collect::<std::result::Result<Vec<TypePtr>, _>>().map_err(failed)?;
        let schema = Type::group_type_builder("schema").with_fields(fields).build().map_err(failed)?;
        let about = about.iter().map(|(k, v)| KeyValue { key: (*k).to_string(), value: Some(v.clone()) }).collect();
        let properties = WriterProperties::builder()
            .set_compression(Compression::ZSTD(ZstdLevel::default()))
            .set_created_by(crate::raster::description::tool())
            .set_key_value_metadata(Some(about))
            .build();
        let file = File::create(path).map_err(|e| Error::io(path, e))?;
        let out = SerializedFileWriter::new(file, Arc::new(schema), Arc::new(properties)).map_err(failed)?;
        Ok(Writer { place, out })
    }

    /// Adds rows, given by the cells of every column.
    ///
    /// # Errors
    /// Where writing fails.
    pub fn group(&mut self, columns: Vec<Cells>) -> Result<()> {
        let place = self.place.clone();
        let failed = |e: ParquetError| Error::malformed(place.clone(), format!("cannot be written: {e}"));
        let mut group = self.out.next_row_group().map_err(failed)?;
        for cells in columns {
            put(&mut group, cells).map_err(failed)?;
        }
        group.close().map_err(failed)?;
        Ok(())
    }

    /// Ends the file.
    ///
    /// # Errors
    /// Where writing fails.
    pub fn finish(self) -> Result<()> {
        let failed = |e: ParquetError| Error::malformed(self.place, format!("cannot be written: {e}"));
        self.out.close().map_err(failed).map(drop)
    }
}

/// Writes a table in one group of rows, with texts about the file.
///
/// # Errors
/// Where writing fails.
pub fn write(path: &Path, columns: Vec<Column>, about: &[(&str, String)]) -> Result<()> {
    let mut out = Writer::create(path, &columns, about)?;
    out.group(columns.into_iter().map(|c| c.cells).collect())?;
    out.finish()
}

fn field(c: &Column) -> std::result::Result<TypePtr, ParquetError> {
    let (physical, logical) = match &c.cells {
        Cells::Bytes(_) => (Physical::BYTE_ARRAY, None),
        Cells::Values(kind, _) => match kind {
            FieldKind::Truth => (Physical::BOOLEAN, None),
            FieldKind::Whole => (Physical::INT64, None),
            FieldKind::Number => (Physical::DOUBLE, None),
            FieldKind::Text => (Physical::BYTE_ARRAY, Some(LogicalType::String)),
            FieldKind::Date => (Physical::INT32, Some(LogicalType::Date)),
            FieldKind::Instant => (Physical::INT64, Some(LogicalType::timestamp(true, TimeUnit::MICROS))),
        },
    };
    Ok(Arc::new(
        Type::primitive_type_builder(&c.name, physical)
            .with_repetition(Repetition::OPTIONAL)
            .with_logical_type(logical)
            .build()?,
    ))
}

type Group<'a> = SerializedRowGroupWriter<'a, File>;

fn put(group: &mut Group, cells: Cells) -> std::result::Result<(), ParquetError> {
    match cells {
        Cells::Bytes(all) => one::<ByteArrayType>(group, all.into_iter().map(|b| b.map(ByteArray::from)).collect()),
        Cells::Values(kind, all) => match kind {
            FieldKind::Truth => one::<BoolType>(
                group,
                all.iter().map(|v| if let Value::Truth(b) = v { Some(*b) } else { None }).collect(),
            ),
            FieldKind::Whole => one::<Int64Type>(
                group,
                all.iter().map(|v| if let Value::Whole(n) = v { Some(*n) } else { None }).collect(),
            ),
            FieldKind::Number => {
                one::<DoubleType>(group, all.iter().map(|v| v.number().filter(|n| n.is_finite())).collect())
            }
            FieldKind::Text => {
                let text = |v: &Value| (*v != Value::Missing).then(|| ByteArray::from(v.to_string().into_bytes()));
                one::<ByteArrayType>(group, all.iter().map(text).collect())
            }
            FieldKind::Date => one::<Int32Type>(group, all.iter().map(days).collect()),
            FieldKind::Instant => one::<Int64Type>(group, all.iter().map(microseconds).collect()),
        },
    }
}

/// Days since 1970.
fn days(v: &Value) -> Option<i32> {
    let Value::Text(t) = v else { return None };
    let day: jiff::civil::Date = t.parse().ok()?;
    Some((day - jiff::civil::date(1970, 1, 1)).get_days())
}

fn microseconds(v: &Value) -> Option<i64> {
    let Value::Text(t) = v else { return None };
    let moment: jiff::Timestamp = t.parse().ok()?;
    Some(moment.as_microsecond())
}

fn one<T: DataType>(group: &mut Group, cells: Vec<Option<T::T>>) -> std::result::Result<(), ParquetError> {
    let levels: Vec<i16> = cells.iter().map(|c| i16::from(c.is_some())).collect();
    let values: Vec<T::T> = cells.into_iter().flatten().collect();
    let Some(mut column) = group.next_column()? else {
        return Err(ParquetError::General("there are more columns than the schema has".into()));
    };
    column.typed::<T>().write_batch(&values, Some(&levels), None)?;
    column.close()
}
