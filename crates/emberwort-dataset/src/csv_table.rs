//! A table as CSV (RFC 4180), with the names of the columns in the first line.

use std::io::Write;

use crate::columns::{Cell, Column, ColumnKind};

/// Writes a table.
pub(crate) struct CsvTable<W: Write> {
    writer: csv::Writer<W>,
    kinds: Vec<ColumnKind>,
}

impl<W: Write> CsvTable<W> {
    /// Begins one.
    ///
    /// # Errors
    /// Those of the writer; the same holds for the other methods.
    pub fn new(columns: &[Column], out: W) -> csv::Result<Self> {
        let mut writer = csv::Writer::from_writer(out);
        writer.write_record(columns.iter().map(|column| match column.unit.as_str() {
            "" => column.name.clone(),
            unit => format!("{} ({unit})", column.name),
        }))?;
        Ok(Self { writer, kinds: columns.iter().map(|column| column.kind).collect() })
    }

    /// Writes a row.
    pub fn row(&mut self, cells: &[Cell]) -> csv::Result<()> {
        let texts = cells.iter().zip(&self.kinds).map(|(cell, kind)| text(cell, *kind));
        self.writer.write_record(texts)
    }

    /// Ends it.
    pub fn finish(mut self) -> csv::Result<()> {
        Ok(self.writer.flush()?)
    }
}

fn text(cell: &Cell, kind: ColumnKind) -> String {
    match cell {
        Cell::Nothing => String::new(),
        Cell::Integer(nanoseconds) if kind == ColumnKind::Moment => {
            let time = jiff::Timestamp::from_nanosecond(i128::from(*nanoseconds)).unwrap_or_default();
            format!("{time:.9}")
        }
        Cell::Integer(number) => number.to_string(),
        Cell::Float(number) => number.to_string(),
        Cell::Bool(is) => is.to_string(),
        Cell::Bytes(bytes) => emberwort_model::hex::hex(bytes),
        // What a spreadsheet would take for a formula has an apostrophe in front.
        Cell::Text(text) if text.starts_with(['=', '+', '-', '@', '\t', '\r']) => format!("'{text}"),
        Cell::Text(text) => text.clone(),
    }
}
