//! Values as they stand in NDJSON rows. What is written here is read back by [`set`].
//!
//! | field | value |
//! |---|---|
//! | number | physical, with the decimals of its step |
//! | `none` | `null`; `"none"` is read too |
//! | enum | its label |
//! | flags | array of the labels set; a bit without a label as its number |
//! | bool, text | boolean, string |
//! | bytes | hex digits in a string |
//! | time | RFC 3339 in a string |
//! | list, record | array, object |
//! | value with several forms | object with the form's name: `{"level": 3.2}` |
//! | frame inside | object with `message`, `node`, … and `fields`; hex digits if it is no good frame |
//! | what the definition gives no meaning to | `{"raw": NUMBER}`, for text that is not UTF-8 `{"raw": "HEX"}` |

use std::fmt::{self, Write};

use emberwort_model::Plan;
use emberwort_model::diagnostics::{escaped, is_unsafe_to_show, nearest};
use emberwort_model::hex::{parse_hex, write_hex};
use emberwort_model::model::{End, Field, Kind, Labelled, Length, Union, write_float};
use emberwort_model::number::{Decimal, write_integer};
use emberwort_model::plan::MessagePlan;
use serde_json::Value as Json;

use crate::nested_frame;
use crate::text::{
    Filling, Given, Problem, fill_group, forms, holds, label_code, readable, set_float, set_hex, set_label, set_number,
    set_raw, set_string, set_time, signed, write_time,
};
use crate::values::{ValueRef, Values};

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
            let given = object.iter().map(|(name, value)| (name.as_str(), Given::Json(value)));
            return fill_group(&record.name, &record.fields, first, given, filling, values)
                .map_err(|problems| problems.iter().map(Problem::to_string).collect::<Vec<_>>().join("; "));
        }
        Kind::Union(union) => return set_union(field, union, slot, value, filling, values),
        Kind::NestedFrame { channel, .. } if value.is_object() => {
            let bytes = nested_frame::build(filling, *channel, value)?;
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
                    Err(format!("{} bytes are given; {}", bytes.len(), holds(field)))
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

/// How values are written.
#[derive(Clone, Copy, Debug, Default)]
pub struct Writing<'a> {
    /// Raw numbers in place of physical values and labels.
    pub raw: bool,
    /// The link, and which end sent the message: for the frames inside of messages, which are hex without it.
    pub inside: Option<(&'a Plan, End)>,
}

/// Writes the fields of a message as a JSON object. Absent fields are left out.
///
/// # Errors
/// Those of the writer.
pub fn write_fields(
    plan: &MessagePlan,
    values: &Values,
    writing: Writing<'_>,
    out: &mut (impl Write + ?Sized),
) -> fmt::Result {
    write_group(&plan.message.fields, values, 0, writing, out)
}

fn write_group(
    fields: &[Field],
    values: &Values,
    base: usize,
    writing: Writing<'_>,
    out: &mut (impl Write + ?Sized),
) -> fmt::Result {
    out.write_char('{')?;
    let mut first = true;
    for (slot, field) in fields.iter().enumerate() {
        if field.is_spare() || matches!(values.get(base + slot), ValueRef::Absent | ValueRef::Unset) {
            continue;
        }
        if !first {
            out.write_char(',')?;
        }
        first = false;
        out.write_char('"')?;
        out.write_str(&field.name)?;
        out.write_str("\":")?;
        write_value(field, values, base + slot, writing, out)?;
    }
    out.write_char('}')
}

/// Writes one value.
///
/// # Errors
/// Those of the writer.
pub fn write_value(
    field: &Field,
    values: &Values,
    slot: usize,
    writing: Writing<'_>,
    out: &mut (impl Write + ?Sized),
) -> fmt::Result {
    let kind = &field.kind;
    match values.get(slot) {
        ValueRef::Unset | ValueRef::Absent => out.write_str("null"),
        ValueRef::Raw(raw) => {
            let number = signed(kind, raw);
            if writing.raw {
                return write_integer(out, number);
            }
            if kind.none() == Some(number) {
                return out.write_str("null");
            }
            match kind {
                Kind::Flags(labels) => write_flags(labels, raw, out),
                _ if !kind.is_valid(number) => write!(out, "{{\"raw\":{number}}}"),
                Kind::Number(form) | Kind::Varint(form) => form.scaling.write(number, out),
                Kind::Bool => out.write_str(if raw == 0 { "false" } else { "true" }),
                Kind::Float(bits) => write_float(*bits, raw, out),
                Kind::Time { milliseconds } => {
                    out.write_char('"')?;
                    write_time(*milliseconds, raw, out)?;
                    out.write_char('"')
                }
                Kind::Enum { labels, .. } => {
                    out.write_char('"')?;
                    out.write_str(labels.label(raw).map_or("", |label| label.name.as_str()))?;
                    out.write_char('"')
                }
                _ => write_integer(out, raw),
            }
        }
        ValueRef::Bytes(bytes) => match kind {
            Kind::Text { ascii, .. } => match readable(*ascii, bytes) {
                Some(text) => write_string(text, out),
                None => {
                    out.write_str("{\"raw\":\"")?;
                    write_hex(bytes, out)?;
                    out.write_str("\"}")
                }
            },
            Kind::NestedFrame { channel, .. } => nested_frame::write(*channel, bytes, writing, out),
            _ => {
                out.write_char('"')?;
                write_hex(bytes, out)?;
                out.write_char('"')
            }
        },
        ValueRef::Group { first, count } => match kind {
            Kind::Record(record) => write_group(&record.fields, values, first, writing, out),
            Kind::List { element, .. } => {
                out.write_char('[')?;
                for n in 0..count {
                    if n > 0 {
                        out.write_char(',')?;
                    }
                    write_value(element, values, first + n, writing, out)?;
                }
                out.write_char(']')
            }
            _ => out.write_str("null"),
        },
        ValueRef::Chosen { form, slot } => match kind {
            Kind::Union(union) => match union.form(form) {
                Some(form) => {
                    write!(out, "{{\"{}\":", form.name)?;
                    write_value(form, values, slot, writing, out)?;
                    out.write_char('}')
                }
                None => out.write_str("null"),
            },
            _ => out.write_str("null"),
        },
    }
}

fn write_flags(labels: &Labelled, raw: u64, out: &mut (impl Write + ?Sized)) -> fmt::Result {
    out.write_char('[')?;
    let mut first = true;
    let mut rest = raw;
    while rest != 0 {
        let bit = u64::from(rest.trailing_zeros());
        rest &= rest - 1;
        if !first {
            out.write_char(',')?;
        }
        first = false;
        match labels.label(bit) {
            Some(label) => {
                out.write_char('"')?;
                out.write_str(&label.name)?;
                out.write_char('"')?;
            }
            None => write_integer(out, bit)?,
        }
    }
    out.write_char(']')
}

/// Writes a JSON string (RFC 8259). Beside what JSON demands, every character that could change how a terminal shows the
/// text is escaped too.
///
/// # Errors
/// Those of the writer.
pub fn write_string(text: &str, out: &mut (impl Write + ?Sized)) -> fmt::Result {
    out.write_char('"')?;
    if text.bytes().all(|byte| matches!(byte, b' '..=b'~') && byte != b'"' && byte != b'\\') {
        out.write_str(text)?;
        return out.write_char('"');
    }
    for c in text.chars() {
        match c {
            '"' => out.write_str("\\\"")?,
            '\\' => out.write_str("\\\\")?,
            '\n' => out.write_str("\\n")?,
            '\r' => out.write_str("\\r")?,
            '\t' => out.write_str("\\t")?,
            c if is_unsafe_to_show(c) => {
                let mut units = [0; 2];
                for unit in c.encode_utf16(&mut units) {
                    write!(out, "\\u{unit:04x}")?;
                }
            }
            c => out.write_char(c)?,
        }
    }
    out.write_char('"')
}
