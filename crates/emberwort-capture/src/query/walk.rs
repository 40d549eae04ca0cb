//! All values of a message, also those inside of others, by their names.

use std::fmt::Write as _;

use emberwort_model::model::{Field, Kind};
use emberwort_wire::{ValueRef, Values};

/// Looks at each value that is there, with its name (`strokes[2].travel`, `level.downstream`), its field and its slot.
pub(crate) fn each_value<'f>(fields: &'f [Field], values: &Values, mut act: impl FnMut(&str, &'f Field, usize)) {
    let mut name = String::new();
    for (slot, field) in fields.iter().enumerate() {
        name.clear();
        name.push_str(&field.name);
        visit(field, values, slot, &mut name, &mut act);
    }
}

fn visit<'f>(
    field: &'f Field,
    values: &Values,
    slot: usize,
    name: &mut String,
    act: &mut impl FnMut(&str, &'f Field, usize),
) {
    if field.is_spare() {
        return;
    }
    let length = name.len();
    match (values.get(slot), &field.kind) {
        (ValueRef::Unset | ValueRef::Absent, _) => {}
        (ValueRef::Group { first, count }, Kind::Record(record)) => {
            for (n, inner) in record.fields.iter().enumerate().take(count) {
                // Writing to memory cannot fail.
                let _ = write!(name, ".{}", inner.name);
                visit(inner, values, first + n, name, act);
                name.truncate(length);
            }
        }
        (ValueRef::Group { first, count }, Kind::List { element, .. }) => {
            for n in 0..count {
                let _ = write!(name, "[{n}]");
                visit(element, values, first + n, name, act);
                name.truncate(length);
            }
        }
        (ValueRef::Chosen { form, slot }, Kind::Union(union)) => {
            if let Some(inner) = union.form(form) {
                let _ = write!(name, ".{}", inner.name);
                visit(inner, values, slot, name, act);
                name.truncate(length);
            }
        }
        _ => act(name, field, slot),
    }
}
