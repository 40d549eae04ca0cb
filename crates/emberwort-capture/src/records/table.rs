//! Rows of a table, as programs export them: cells between commas, semicolons or tabs (RFC 4180).

use super::cells::{CellKind, Cells};
use super::pattern::named;

/// Which columns of a table say what: by their name in the heading, or by their number from 0.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Columns {
    columns: Vec<(CellKind, String)>,
}

/// Columns that were found in the first row.
#[derive(Clone, Debug)]
pub(crate) struct KnownColumns {
    separator: u8,
    columns: Vec<(CellKind, usize, String)>,
}

impl Columns {
    /// Reads which columns say what: `time=Time,bytes=Data,can_id=ID`.
    ///
    /// # Errors
    /// What is wrong with it.
    pub fn parse(text: &str) -> Result<Self, String> {
        let mut columns: Vec<(CellKind, String)> = Vec::new();
        for part in text.split(',') {
            let (word, column) = part.split_once('=').ok_or_else(|| {
                format!("`{}` is not written as time=COLUMN", emberwort_model::diagnostics::escaped(part))
            })?;
            let what = named(word.trim())?;
            if columns.iter().any(|(known, _)| *known == what) {
                return Err(format!("`{}` stands there twice", word.trim()));
            }
            columns.push((what, column.trim().to_owned()));
        }
        if !columns.iter().any(|(what, _)| *what == CellKind::Bytes) {
            return Err("it does not say which column has the bytes: bytes=COLUMN".to_owned());
        }
        Ok(Self { columns })
    }

    /// Finds the columns in the first row; also says whether that is a heading.
    ///
    /// # Errors
    /// Which one is not there.
    pub(super) fn of_first_row(&self, row: &str) -> Result<(KnownColumns, bool), String> {
        let count = |separator: char| row.matches(separator).count();
        let separator =
            [',', ';', '\t'].into_iter().max_by_key(|separator| (count(*separator), *separator == ',')).unwrap_or(',');
        let cells = cells_of(row.trim_start_matches('\u{FEFF}'), separator as u8);
        let mut is_heading = false;
        let mut columns = Vec::new();
        for (what, wanted) in &self.columns {
            let by_name = || cells.iter().position(|cell| cell.trim() == wanted);
            let found = match wanted.parse::<usize>() {
                Ok(number) => Some(number).filter(|number| *number < cells.len()),
                Err(_) => by_name().inspect(|_| is_heading = true),
            };
            let column = found.ok_or_else(|| {
                let names: Vec<String> =
                    cells.iter().take(24).map(|cell| emberwort_model::diagnostics::escaped(cell.trim())).collect();
                format!(
                    "the first row has no column `{}`; it has {}, and numbers from 0 to {}",
                    emberwort_model::diagnostics::escaped(wanted),
                    names.join(", "),
                    cells.len() - 1
                )
            })?;
            columns.push((*what, column, wanted.clone()));
        }
        // Where all columns are numbers, a heading has no bytes where they should stand.
        if !is_heading {
            let bytes =
                columns.iter().find(|(what, ..)| *what == CellKind::Bytes).and_then(|(_, at, _)| cells.get(*at));
            is_heading = bytes.is_some_and(|cell| {
                !cell.is_empty()
                    && crate::hex_text::bytes_in(cell).is_err()
                    && cell.chars().any(|c| c.is_ascii_alphabetic())
                    && !cell.contains('=')
            });
        }
        Ok((KnownColumns { separator: separator as u8, columns }, is_heading))
    }
}

impl KnownColumns {
    /// Finds the parts of a row.
    ///
    /// # Errors
    /// Which one lacks, or cannot be read.
    pub fn find(&self, row: &str, into: &mut Cells) -> Result<(), String> {
        let cells = cells_of(row, self.separator);
        for (what, at, name) in &self.columns {
            let cell = cells.get(*at).ok_or_else(|| format!("it has no column {name}"))?;
            into.take(*what, cell)?;
        }
        Ok(())
    }
}

fn cells_of(row: &str, separator: u8) -> Vec<String> {
    let mut reader =
        csv::ReaderBuilder::new().has_headers(false).flexible(true).delimiter(separator).from_reader(row.as_bytes());
    let mut record = csv::StringRecord::new();
    match reader.read_record(&mut record) {
        Ok(true) => record.iter().map(str::to_owned).collect(),
        // Text that is not UTF-8 was replaced before.
        _ => Vec::new(),
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::records::Forms;

    fn rows(columns: &str, text: &[&str]) -> Result<Vec<Vec<u8>>, String> {
        let columns = Columns::parse(columns)?;
        let (known, is_heading) = columns.of_first_row(text[0])?;
        let mut found = Vec::new();
        for row in &text[usize::from(is_heading)..] {
            let mut cells = Cells::new(Forms::default());
            known.find(row, &mut cells)?;
            found.push(cells.record()?.bytes.to_vec());
        }
        Ok(found)
    }

    #[test]
    fn columns_are_found_by_name_and_by_number() {
        assert_eq!(rows("bytes=Data", &["Time;Data;ID", "1;0A 0B;3"]), Ok(vec![vec![10, 11]]));
        assert_eq!(rows("bytes=1,time=0", &["1.5,\"0A,0B\"", "2.5,0C"]), Ok(vec![vec![10, 11], vec![12]]));
        assert_eq!(rows("bytes=1", &["when\twhat", "1\t0A"]), Ok(vec![vec![10]]));
        let error = rows("bytes=Daten", &["Time,Data", "1,0A"]).unwrap_err();
        assert!(error.contains("no column `Daten`; it has Time, Data"), "{error}");
        assert!(rows("time=0", &["1"]).unwrap_err().contains("bytes=COLUMN"));
        assert!(rows("bytes=1", &["1,0A", "2"]).unwrap_err().contains("no column 1"));
    }
}
