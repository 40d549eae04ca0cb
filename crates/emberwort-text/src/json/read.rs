//! JSON to values.

use emberwort_model::counting::plural;
use emberwort_model::diagnostics::{escaped, nearest};
use emberwort_model::hex::parse_hex;
use emberwort_model::ids::ChannelId;
use emberwort_model::model::{Field, Kind, Labelled, Length, Union};
use emberwort_model::number::Decimal;
use emberwort_wire::frame::body_on;
use emberwort_wire::{Framed, Values};
use serde_json::Value as Json;

use crate::filling::{
    Filling, Problem, fill_group, forms, holds, label_code, set_float, set_hex, set_label, set_number, set_raw,
    set_string, set_time,
};
use crate::row::RowHeader;

/// Sets a field from JSON.
///
/// # Errors
/// What is wrong, and a way out.
pub fn set(field: &Field, slot: usize, value: &Json, filling: Filling<'_>, values: &mut Values) -> Result<(), String> {
    match &field.kind {
        Kind::List { element, length } => return set_list(field, (element, *length), slot, value, filling, values),
        Kind::Record(record) => {
            let Json::Object(object) = value else { return misfit(field, value) };
            let first = values.set_group(slot, record.fields.len());
            let given = object.iter().map(|(name, value)| (name.as_str(), value));
            let set_one = |field: &Field, slot: usize, value: &Json, values: &mut Values| {
                set(field, slot, value, filling, values)
            };
            return fill_group((&record.name, &record.fields, first), given, filling, values, set_one)
                .map_err(|problems| problems.iter().map(Problem::to_string).collect::<Vec<_>>().join("; "));
        }
        Kind::Union(union) => return set_union(field, union, slot, value, filling, values),
        Kind::NestedFrame { channel, .. } if value.is_object() => {
            let bytes = nested_frame(filling, *channel, value)?;
            values.set_bytes(slot, &bytes);
            return Ok(());
        }
        _ => {}
    }
    if let Json::Object(object) = value {
        return match (object.get("raw"), object.len()) {
            (Some(raw), 1) => set_from_raw(field, slot, raw, values),
            _ => Err(format!("an object can only be {{\"raw\": …}} here; {}", holds(field))),
        };
    }
    let none_in_words = value.as_str() == Some("none") && field.kind.none().is_some();
    if value.is_null() || none_in_words {
        return match field.kind.none() {
            Some(none) => {
                values.set_raw(slot, none as u64);
                Ok(())
            }
            None if field.optional => {
                values.set_absent(slot);
                Ok(())
            }
            None => Err(format!("it cannot be null; {}", holds(field))),
        };
    }
    match (&field.kind, value) {
        (Kind::Number(form) | Kind::Varint(form), Json::Number(number)) => match Decimal::parse(&number.to_string()) {
            Some(value) => set_number(field, form, slot, value, filling, values),
            None => Err(format!("{number} has too many digits; {}", holds(field))),
        },
        (Kind::Float(bits), Json::Number(number)) => set_float(field, *bits, slot, &number.to_string(), values),
        (Kind::Time { milliseconds }, Json::String(text)) => set_time(field, *milliseconds, slot, text, values),
        (Kind::Bool, Json::Bool(value)) => {
            values.set_raw(slot, u64::from(*value));
            Ok(())
        }
        (Kind::Enum { labels, .. }, Json::String(text)) => set_label(labels, slot, text, values),
        (Kind::Flags(labels), Json::Array(set)) => {
            let raw = flags(labels, set)?;
            values.set_raw(slot, raw);
            Ok(())
        }
        (Kind::Text { .. }, Json::String(text)) => set_string(field, slot, text.as_bytes(), values),
        (Kind::Bytes(_) | Kind::NestedFrame { .. }, Json::String(text)) => set_hex(field, slot, text, values),
        _ => misfit(field, value),
    }
}

fn misfit(field: &Field, value: &Json) -> Result<(), String> {
    Err(format!("{} does not fit; {}", escaped(&value.to_string()), holds(field)))
}

fn set_list(
    field: &Field,
    (element, length): (&Field, Length),
    slot: usize,
    value: &Json,
    filling: Filling<'_>,
    values: &mut Values,
) -> Result<(), String> {
    let Json::Array(elements) = value else { return misfit(field, value) };
    let fits = match length {
        Length::Exact(count) => elements.len() == count as usize,
        Length::UpTo(most) => elements.len() <= most as usize,
        Length::Rest => true,
    };
    if !fits {
        return Err(format!("{} elements are given; {}", elements.len(), holds(field)));
    }
    let first = values.set_group(slot, elements.len());
    for (n, value) in elements.iter().enumerate() {
        let changes = filling.changes();
        set(element, first + n, value, filling, values).map_err(|problem| format!("element {n}: {problem}"))?;
        filling.inside(changes, || format!("[{n}]"));
    }
    Ok(())
}

fn set_union(
    field: &Field,
    union: &Union,
    slot: usize,
    value: &Json,
    filling: Filling<'_>,
    values: &mut Values,
) -> Result<(), String> {
    let Some((name, inner)) = value.as_object().filter(|object| object.len() == 1).and_then(|o| o.iter().next()) else {
        return misfit(field, value);
    };
    let Some((index, form)) = forms(union).enumerate().find(|(_, form)| form.name == *name) else {
        return Err(match nearest(name, forms(union).map(|form| form.name.as_str())) {
            Some(near) => format!("there is no form `{}`; did you mean `{near}`?", escaped(name)),
            None => format!("there is no form `{}`; {}", escaped(name), holds(field)),
        });
    };
    let at = values.set_chosen(slot, index);
    let changes = filling.changes();
    set(form, at, inner, filling, values).map_err(|problem| format!("{name}: {problem}"))?;
    filling.inside(changes, || format!(".{name}"));
    Ok(())
}

fn set_from_raw(field: &Field, slot: usize, raw: &Json, values: &mut Values) -> Result<(), String> {
    match raw {
        Json::Number(number) => match Decimal::parse(&number.to_string()).and_then(Decimal::as_integer) {
            Some(raw) => set_raw(field, slot, raw, values),
            None => Err(format!("the raw number {number} is not whole")),
        },
        Json::String(hex) => match &field.kind {
            // Bytes that are no text, from a capture: as they were, if there is room.
            Kind::Text { length, .. } => match (parse_hex(hex), length) {
                (Some(bytes), Length::Exact(most) | Length::UpTo(most)) if bytes.len() > *most as usize => {
                    Err(format!("{} given; {}", plural(bytes.len(), "byte"), holds(field)))
                }
                (Some(bytes), _) => {
                    values.set_bytes(slot, &bytes);
                    Ok(())
                }
                (None, _) => Err("\"raw\" takes hex digits, two per byte".into()),
            },
            _ => set_hex(field, slot, hex, values),
        },
        _ => Err("\"raw\" takes a number, or hex digits in quotes".into()),
    }
}

fn flags(labels: &Labelled, set: &[Json]) -> Result<u64, String> {
    let mut raw = 0u64;
    for flag in set {
        raw |= match flag {
            Json::String(text) => 1 << label_code(labels, text)?,
            Json::Number(number) => match number.as_u64() {
                Some(bit) if bit < u64::from(labels.bits) => 1 << bit,
                _ => return Err(format!("there is no bit {number}; `{}` has {} bits", labels.name, labels.bits)),
            },
            other => return Err(format!("{} is not a flag; write labels in quotes", escaped(&other.to_string()))),
        };
    }
    Ok(raw)
}

/// Builds the frame that a row says: `{"message": …, "node": …, "sequence": …, "fields": {…}}`, or the bytes that a row says
/// of a broken one: `{"broken": …, "bytes": …}`.
///
/// # Errors
/// What is wrong, and a way out.
fn nested_frame(filling: Filling<'_>, channel: ChannelId, row: &Json) -> Result<Vec<u8>, String> {
    let Some(plan) = filling.plan else { return Err("a frame can only be given as hex here".into()) };
    let usual = "a frame inside is {\"message\": …, \"fields\": {…}}, or hex";
    let Json::Object(row) = row else { return Err(usual.into()) };
    if let (Some(_), Some(Json::String(bytes)), 2) = (row.get("broken"), row.get("bytes"), row.len()) {
        return parse_hex(bytes).ok_or_else(|| "`bytes` are hex digits, two per byte".into());
    }
    let numbers = RowHeader::of(row)?;
    let (Some(name), Some(fields)) =
        (row.get("message").and_then(Json::as_str), row.get("fields").and_then(Json::as_object))
    else {
        return Err(usual.into());
    };
    let Some(index) = plan.message_index(name).filter(|index| plan.channels[channel].carries(*index)) else {
        let names = plan.messages.iter().map(|plan| plan.message.name.as_str());
        let near = nearest(name, names).map_or(String::new(), |near| format!("; did you mean `{near}`?"));
        return Err(format!("`{}` does not travel on `{}`{near}", escaped(name), plan.channels[channel].name));
    };
    let compiled = &plan.messages[index];
    let mut values = Values::default();
    let revision = numbers.revision.unwrap_or(filling.revision);
    values.clear(compiled);
    let given = fields.iter().map(|(name, value)| (name.as_str(), value));
    let inside = Filling { revision, ..filling };
    let set_one =
        |field: &Field, slot: usize, value: &Json, values: &mut Values| set(field, slot, value, inside, values);
    fill_group((name, &compiled.message.fields, 0), given, inside, &mut values, set_one)
        .map_err(|problems| problems.iter().map(Problem::to_string).collect::<Vec<_>>().join("; "))?;
    let mut body = Vec::new();
    let framing = plan.channels[channel].framing(compiled.message.from);
    let direction = framing.plan();
    body_on(direction, compiled, &values, revision, &mut body).map_err(|error| error.to_string())?;
    numbers.fits(direction, index)?;
    let header = numbers.header(direction, index, revision);
    let mut frame = Vec::new();
    framing.encode(&header, &body, &mut frame).map_err(|error| error.to_string())?;
    Ok(frame)
}
