//! All forms by their names.

use emberwort_capture::RevisionMap;

use crate::form::{Form, RowForm, RowStyle};
use crate::row_context::RowContext;
use crate::times::ShownTimes;
use crate::{csv, hex, ndjson, table, tree};

/// The form that a style asks for.
pub fn form_of(revisions: &RevisionMap, style: &RowStyle) -> Box<dyn Form> {
    let known = RowContext::new(revisions, style.raw, style.labels.clone());
    match style.form {
        RowForm::Table => Box::new(table::Table::new(known, revisions, style.clone())),
        RowForm::Tree => Box::new(tree::Tree::new(known, revisions, style.clone())),
        RowForm::Ndjson => Box::new(ndjson::Ndjson::new(known)),
        RowForm::Csv => Box::new(csv::Csv::new(known, matches!(style.times, ShownTimes::Wave))),
        RowForm::Hex => Box::new(hex::Hex::new(known, revisions, style.clone())),
        RowForm::Bytes => Box::new(hex::Bytes),
    }
}
