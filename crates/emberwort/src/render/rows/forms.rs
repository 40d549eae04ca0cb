//! All forms by their names.

use emberwort_capture::Speakers;

use super::form::{Form, RowStyle};
use super::known::Known;
use super::times::ShownTimes;
use super::{csv, hex, ndjson, table, tree};
use crate::cli::RowForm;

pub fn form_of(speakers: &Speakers, style: RowStyle) -> Box<dyn Form> {
    let known = Known::new(speakers, style.raw, style.labels);
    match style.form {
        RowForm::Table => Box::new(table::Table::new(known, speakers, style)),
        RowForm::Tree => Box::new(tree::Tree::new(known, speakers, style)),
        RowForm::Ndjson => Box::new(ndjson::Ndjson::new(known)),
        RowForm::Csv => Box::new(csv::Csv::new(known, style.times == ShownTimes::Wave)),
        RowForm::Hex => Box::new(hex::Hex::new(known, speakers, style)),
        RowForm::Bytes => Box::new(hex::Bytes),
    }
}
