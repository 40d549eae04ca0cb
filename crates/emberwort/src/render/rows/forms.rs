//! All forms by their names.

use emberwort_capture::RevisionMap;

use super::form::{Form, RowStyle};
use super::row_context::RowContext;
use super::times::ShownTimes;
use super::{csv, hex, ndjson, table, tree};
use crate::cli::RowForm;

pub fn form_of(speakers: &RevisionMap, style: RowStyle) -> Box<dyn Form> {
    let known = RowContext::new(speakers, style.raw, style.labels);
    match style.form {
        RowForm::Table => Box::new(table::Table::new(known, speakers, style)),
        RowForm::Tree => Box::new(tree::Tree::new(known, speakers, style)),
        RowForm::Ndjson => Box::new(ndjson::Ndjson::new(known)),
        RowForm::Csv => Box::new(csv::Csv::new(known, style.times == ShownTimes::Wave)),
        RowForm::Hex => Box::new(hex::Hex::new(known, speakers, style)),
        RowForm::Bytes => Box::new(hex::Bytes),
    }
}
