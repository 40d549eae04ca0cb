//! What a field holds that nothing is said about.

use emberwort_model::model::{Field, Kind, Length, Selector};
use emberwort_wire::{ValueRef, Values};

/// Sets a field that no signal is given for: to its default, else absent if it is optional, else to what is nearest to
/// nothing: the number nearest to zero, the first label, no flags, an empty text, zero bytes, an empty list.
///
/// `selector` gives the raw number that decides about a form, by its field's index.
pub fn rest(field: &Field, slot: usize, selector: &dyn Fn(usize) -> Option<u64>, values: &mut Values) {
    if field.default.is_some() || field.optional {
        values.set_default(slot, field.default.as_ref());
        return;
    }
    match &field.kind {
        Kind::Number(form) | Kind::Varint(form) => {
            let zero = emberwort_model::number::Decimal::integer(0);
            let raw = form.scaling.nearest_raw(zero).unwrap_or(form.low).clamp(form.low, form.high);
            values.set_raw(slot, raw as u64);
        }
        Kind::Enum { labels, .. } => values.set_raw(slot, labels.labels.first().map_or(0, |label| label.code)),
        Kind::Bool | Kind::Flags(_) | Kind::Float(_) | Kind::Time { .. } => values.set_raw(slot, 0),
        Kind::Bytes(Length::Exact(count)) => values.set_bytes(slot, &vec![0; *count as usize]),
        Kind::Text { .. } | Kind::Bytes(_) | Kind::NestedFrame { .. } => values.set_bytes(slot, &[]),
        Kind::List { element, length } => {
            let count = if let Length::Exact(count) = length { *count as usize } else { 0 };
            let first = values.set_group(slot, count);
            for n in 0..count {
                rest(element, first + n, &|_| None, values);
            }
        }
        Kind::Record(record) => {
            let first = values.set_group(slot, record.fields.len());
            for (n, field) in record.fields.iter().enumerate() {
                rest_in(&record.fields, field, n, first, values);
            }
        }
        Kind::Union(union) => {
            let form = match union.selector {
                Selector::Field(decider) => selector(decider).and_then(|raw| union.index_of(raw)),
                Selector::Request { .. } => None,
            };
            let form = form.unwrap_or(0);
            if let Some(field) = union.form(form) {
                let at = values.set_chosen(slot, form);
                rest(field, at, &|_| None, values);
            }
        }
        Kind::Spare { .. } => {}
    }
}

/// Gives a field of a message or record whose first slot is `base` its value at rest; the fields before it are set already.
pub fn rest_in(fields: &[Field], field: &Field, slot: usize, base: usize, values: &mut Values) {
    let deciders: Vec<Option<u64>> = (0..fields.len().min(slot))
        .map(|n| match values.get(base + n) {
            ValueRef::Raw(raw) => Some(raw),
            _ => None,
        })
        .collect();
    rest(field, base + slot, &|n| deciders.get(n).copied().flatten(), values);
}
