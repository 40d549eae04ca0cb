//! All forms by their names.

use emberwort_capture::RevisionMap;

use super::form::{Form, RowStyle};
use super::row_context::RowContext;
use super::times::ShownTimes;
use super::{csv, hex, ndjson, table, tree};
use crate::cli::RowForm;

pub fn form_of(revisions: &RevisionMap, style: RowStyle) -> Box<dyn Form> {
    let known = RowContext::new(revisions, style.raw, style.labels);
    match style.form {
        RowForm::Table => Box::new(table::Table::new(known, revisions, style)),
        RowForm::Tree => Box::new(tree::Tree::new(known, revisions, style)),
        RowForm::Ndjson => Box::new(ndjson::Ndjson::new(known)),
        RowForm::Csv => Box::new(csv::Csv::new(known, style.times == ShownTimes::Wave)),
        RowForm::Hex => Box::new(hex::Hex::new(known, revisions, style)),
        RowForm::Bytes => Box::new(hex::Bytes),
    }
}
