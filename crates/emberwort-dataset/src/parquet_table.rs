//! A table as Parquet (the format of the Apache project): typed columns, compressed, with units in the metadata of the file.

use std::io::Write;
use std::sync::Arc;

use parquet::basic::{Compression, LogicalType, Repetition, TimeUnit, Type as Physical};
use parquet::data_type::{BoolType, ByteArray, ByteArrayType, DoubleType, Int64Type};
use parquet::errors::Result;
use parquet::file::metadata::KeyValue;
use parquet::file::properties::WriterProperties;
use parquet::file::writer::SerializedFileWriter;
use parquet::schema::types::Type;

use crate::columns::{Cell, Column, ColumnKind};

/// Rows of a group: engines read one at a time.
const GROUP: usize = 1 << 16;

/// Writes a table.
pub(crate) struct ParquetTable<W: Write + Send> {
    writer: SerializedFileWriter<W>,
    columns: Vec<Column>,
    /// Cells of the group at hand, by column.
    cells: Vec<Vec<Cell>>,
}

fn schema(columns: &[Column]) -> Result<Type> {
    let mut fields = Vec::new();
    for column in columns {
        let (physical, logical) = match column.kind {
            ColumnKind::Moment => (Physical::INT64, Some(LogicalType::timestamp(true, TimeUnit::NANOS))),
            ColumnKind::Integer => (Physical::INT64, None),
            ColumnKind::Float => (Physical::DOUBLE, None),
            ColumnKind::Bool => (Physical::BOOLEAN, None),
            ColumnKind::Text => (Physical::BYTE_ARRAY, Some(LogicalType::String)),
            ColumnKind::Bytes => (Physical::BYTE_ARRAY, None),
        };
        let field = Type::primitive_type_builder(&column.name, physical)
            .with_repetition(Repetition::OPTIONAL)
            .with_logical_type(logical)
            .build()?;
        fields.push(Arc::new(field));
    }
    Type::group_type_builder("row").with_fields(fields).build()
}

impl<W: Write + Send> ParquetTable<W> {
    /// Begins one; `about` are pairs of names and texts that stand in the metadata beside the units.
    ///
    /// # Errors
    /// Those of the writer; the same holds for the other methods.
    pub fn new(columns: &[Column], about: &[(String, String)], out: W) -> Result<Self> {
        let units = columns.iter().filter(|column| !column.unit.is_empty());
        let mut metadata: Vec<KeyValue> =
            units.map(|column| KeyValue::new(format!("unit.{}", column.name), column.unit.clone())).collect();
        metadata.extend(about.iter().map(|(name, text)| KeyValue::new(name.clone(), text.clone())));
        let properties = WriterProperties::builder()
            .set_compression(Compression::SNAPPY)
            .set_created_by("emberwort".to_owned())
            .set_key_value_metadata(Some(metadata))
            .build();
        let writer = SerializedFileWriter::new(out, Arc::new(schema(columns)?), Arc::new(properties))?;
        let cells = vec![Vec::new(); columns.len()];
        Ok(Self { writer, columns: columns.to_vec(), cells })
    }

    /// Writes a row.
    pub fn row(&mut self, cells: Vec<Cell>) -> Result<()> {
        for (column, cell) in self.cells.iter_mut().zip(cells) {
            column.push(cell);
        }
        if self.cells.first().is_some_and(|column| column.len() >= GROUP) { self.group() } else { Ok(()) }
    }

    fn group(&mut self) -> Result<()> {
        if self.cells.first().is_none_or(Vec::is_empty) {
            return Ok(());
        }
        let mut group = self.writer.next_row_group()?;
        for (column, cells) in self.columns.iter().zip(&mut self.cells) {
            let Some(mut writer) = group.next_column()? else { break };
            let levels: Vec<i16> = cells.iter().map(|cell| i16::from(*cell != Cell::Nothing)).collect();
            match column.kind {
                ColumnKind::Moment | ColumnKind::Integer => {
                    let values: Vec<i64> = cells
                        .iter()
                        .filter_map(|cell| if let Cell::Integer(value) = cell { Some(*value) } else { None })
                        .collect();
                    writer.typed::<Int64Type>().write_batch(&values, Some(&levels), None)?;
                }
                ColumnKind::Float => {
                    let values: Vec<f64> = cells
                        .iter()
                        .filter_map(|cell| if let Cell::Float(value) = cell { Some(*value) } else { None })
                        .collect();
                    writer.typed::<DoubleType>().write_batch(&values, Some(&levels), None)?;
                }
                ColumnKind::Bool => {
                    let values: Vec<bool> = cells
                        .iter()
                        .filter_map(|cell| if let Cell::Bool(value) = cell { Some(*value) } else { None })
                        .collect();
                    writer.typed::<BoolType>().write_batch(&values, Some(&levels), None)?;
                }
                ColumnKind::Text | ColumnKind::Bytes => {
                    let values: Vec<ByteArray> = cells
                        .iter()
                        .filter_map(|cell| match cell {
                            Cell::Text(text) => Some(ByteArray::from(text.as_str())),
                            Cell::Bytes(bytes) => Some(ByteArray::from(bytes.clone())),
                            _ => None,
                        })
                        .collect();
                    writer.typed::<ByteArrayType>().write_batch(&values, Some(&levels), None)?;
                }
            }
            writer.close()?;
            cells.clear();
        }
        group.close()?;
        Ok(())
    }

    /// Ends it.
    pub fn finish(mut self) -> Result<()> {
        self.group()?;
        self.writer.close()?;
        Ok(())
    }
}
