//! Pieces of lines that people read.

use std::fmt::Write as _;

use emberwort_model::hex::write_hex;
use emberwort_model::model::Field;
use emberwort_wire::ValueRef;

/// The most bytes of a broken frame or a stray run that a table line shows.
pub const MAX_SHOWN: usize = 24;

/// Whether the unit of a field stands behind this value: what is absent, or a code in place of a number, has none.
pub fn has_unit(field: &Field, value: ValueRef<'_>) -> bool {
    let ValueRef::Raw(raw) = value else { return false };
    if field.unit.is_empty() {
        return false;
    }
    let number = emberwort_wire::values::signed(&field.kind, raw);
    field.kind.is_valid(number) && field.kind.none() != Some(number)
}

pub(crate) fn some_hex(bytes: &[u8]) -> String {
    let mut text = String::new();
    let _ = write_hex(&bytes[..bytes.len().min(MAX_SHOWN)], &mut text);
    if bytes.len() > MAX_SHOWN {
        let _ = write!(text, " … {} more", bytes.len() - MAX_SHOWN);
    }
    text
}
