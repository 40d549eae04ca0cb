//! Values as people write them, behind `FIELD=` and in place of JSON.

use emberwort_model::diagnostics::escaped;
use emberwort_model::model::{Field, Kind};
use emberwort_model::number::Decimal;
use emberwort_model::plan::MessagePlan;
use emberwort_wire::{ValueRef, Values};
use serde_json::Value as Json;

use crate::filling::{
    Filling, Problem, fill_group, holds, label_code, set_float, set_hex, set_label, set_number, set_raw, set_string,
    set_time,
};
use crate::json;

/// A value as given by a user.
#[derive(Clone, Copy, Debug)]
pub enum GivenValue<'a> {
    /// As written behind `FIELD=`.
    Text(&'a str),
    /// As it stands in a row.
    Json(&'a Json),
}

/// Fills the values of a message. Optional fields that are not given are absent; others take their default.
///
/// # Errors
/// All problems at once: unknown and repeated fields, values that do not fit, fields that are missing.
pub fn fill<'g>(
    plan: &MessagePlan,
    given: impl IntoIterator<Item = (&'g str, GivenValue<'g>)>,
    filling: Filling<'_>,
    values: &mut Values,
) -> Result<(), Vec<Problem>> {
    values.clear(plan);
    let message = &plan.message;
    fill_group((&message.name, &message.fields, 0), given, filling, values, |field, slot, given, values| match given {
        GivenValue::Text(text) => set_text(field, slot, text, filling, values),
        GivenValue::Json(value) => json::set(field, slot, value, filling, values),
    })
}

/// The raw number that a value written as behind `FIELD=` stands for.
///
/// # Errors
/// What is wrong, and a way out; also for fields that are not one raw number.
pub fn raw_of(field: &Field, text: &str) -> Result<u64, String> {
    if field.kind.raw_bits().is_none() {
        return Err(format!("this type is not a single number; {}", holds(field)));
    }
    let mut values = Values::default();
    values.resize(1);
    set_text(field, 0, text, Filling::alone(false), &mut values)?;
    match values.get(0) {
        ValueRef::Raw(raw) => Ok(raw),
        _ => Err("this is not a single number".into()),
    }
}

fn set_text(field: &Field, slot: usize, text: &str, filling: Filling<'_>, values: &mut Values) -> Result<(), String> {
    if let Some(raw) = text.strip_prefix("raw:")
        && field.kind.raw_bits().is_some()
    {
        let raw = Decimal::parse(raw.trim()).and_then(Decimal::as_integer);
        return match raw {
            Some(raw) => set_raw(field, slot, raw, values),
            None => Err("`raw:` needs a whole number after it, as in raw:943 or raw:0x3AF".into()),
        };
    }
    if text == "none"
        && let Some(none) = field.kind.none()
    {
        values.set_raw(slot, none as u64);
        return Ok(());
    }
    match &field.kind {
        Kind::Number(form) | Kind::Varint(form) => {
            let number = text.strip_suffix(field.unit.as_str()).unwrap_or(text).trim();
            match Decimal::parse(number) {
                Some(value) => set_number(field, form, slot, value, filling, values),
                None => Err(format!("`{}` is not a number; {}", escaped(text), holds(field))),
            }
        }
        Kind::Bool => match text {
            "true" | "1" => {
                values.set_raw(slot, 1);
                Ok(())
            }
            "false" | "0" => {
                values.set_raw(slot, 0);
                Ok(())
            }
            _ => Err(format!("`{}` is neither `true` nor `false`", escaped(text))),
        },
        Kind::Float(bits) => {
            let number = text.strip_suffix(field.unit.as_str()).unwrap_or(text).trim();
            set_float(field, *bits, slot, number, values)
        }
        Kind::Time { milliseconds } => set_time(field, *milliseconds, slot, text, values),
        Kind::Enum { labels, .. } => set_label(labels, slot, text, values),
        Kind::Flags(labels) => {
            let mut raw = 0;
            let inner = text.trim_start_matches('[').trim_end_matches(']');
            for label in inner.split(',').map(str::trim).filter(|label| !label.is_empty()) {
                raw |= 1 << label_code(labels, label)?;
            }
            values.set_raw(slot, raw);
            Ok(())
        }
        Kind::Text { .. } => set_string(field, slot, text.as_bytes(), values),
        Kind::Bytes(_) => set_hex(field, slot, text, values),
        Kind::NestedFrame { .. } if !text.trim_start().starts_with('{') => set_hex(field, slot, text, values),
        Kind::List { .. } | Kind::Record(_) | Kind::Union(_) | Kind::NestedFrame { .. } => {
            let value: Json = serde_json::from_str(text)
                .or_else(|error| serde_json::from_str(&with_quotes(text)).map_err(|_| error))
                .map_err(|error| format!("`{}` is not JSON ({error}); {}", escaped(text), holds(field)))?;
            json::set(field, slot, &value, filling, values)
        }
        Kind::Spare { .. } => Err("spare space is always sent as zero".into()),
    }
}

/// JSON whose bare words stand in quotes: `[12, none]` and `{at: 3}` as people write them on a command line.
fn with_quotes(text: &str) -> String {
    let mut quoted = String::with_capacity(text.len() + 8);
    let mut rest = text;
    while let Some(first) = rest.chars().next() {
        let of_word = |c: char| c.is_ascii_alphanumeric() || c == '_';
        let length = if first == '"' {
            let mut escaped = false;
            let end = rest[1..].find(|c| {
                let ends = c == '"' && !escaped;
                escaped = c == '\\' && !escaped;
                ends
            });
            end.map_or(rest.len(), |end| end + 2)
        } else if of_word(first) || first == '.' {
            rest.find(|c| !of_word(c) && !matches!(c, '.' | '+' | '-')).unwrap_or(rest.len())
        } else {
            first.len_utf8()
        };
        let (token, behind) = rest.split_at(length);
        if (first.is_ascii_alphabetic() || first == '_') && !matches!(token, "true" | "false" | "null") {
            quoted.extend(["\"", token, "\""]);
        } else {
            quoted.push_str(token);
        }
        rest = behind;
    }
    quoted
}
