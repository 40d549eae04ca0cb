//! Values as they stand in NDJSON rows. What is written here is read back by [`set`].
//!
//! | field | value |
//! |---|---|
//! | number | physical, with the decimals of its step |
//! | `none` | `null` |
//! | enum | its label |
//! | flags | array of the labels set; a bit without a label as its number |
//! | bool, text | boolean, string |
//! | bytes | hex digits in a string |
//! | what the definition gives no meaning to | `{"raw": NUMBER}`, for text that is not UTF-8 `{"raw": "HEX"}` |

use std::fmt::{self, Write};

use emberwort_model::diagnostics::{escaped, is_unsafe_to_show};
use emberwort_model::hex::{parse_hex, write_hex};
use emberwort_model::model::{Field, Kind, Labelled};
use emberwort_model::number::Decimal;
use emberwort_model::plan::MessagePlan;
use serde_json::Value as Json;

use crate::text::{holds, label_code, set_float, set_hex, set_label, set_number, set_raw, set_string, signed};
use crate::values::{ValueRef, Values};

/// Sets a field from JSON.
///
/// # Errors
/// What is wrong, and a way out.
pub fn set(field: &Field, slot: usize, value: &Json, clamp: bool, values: &mut Values) -> Result<(), String> {
    if let Json::Object(object) = value {
        return match (object.get("raw"), object.len()) {
            (Some(raw), 1) => set_from_raw(field, slot, raw, values),
            _ => Err(format!("an object can only be {{\"raw\": …}} here; {}", holds(field))),
        };
    }
    if value.is_null() {
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
        (Kind::Number(form), Json::Number(number)) => match Decimal::parse(&number.to_string()) {
            Some(value) => set_number(field, form, slot, value, clamp, values),
            None => Err(format!("{number} has too many digits; {}", holds(field))),
        },
        (Kind::Float32, Json::Number(number)) => set_float(field, slot, &number.to_string(), values),
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
        (Kind::Bytes { .. }, Json::String(text)) => set_hex(field, slot, text, values),
        _ => Err(format!("{} does not fit; {}", escaped(&value.to_string()), holds(field))),
    }
}

fn set_from_raw(field: &Field, slot: usize, raw: &Json, values: &mut Values) -> Result<(), String> {
    match raw {
        Json::Number(number) => match Decimal::parse(&number.to_string()).and_then(Decimal::as_integer) {
            Some(raw) => set_raw(field, slot, raw, values),
            None => Err(format!("the raw number {number} is not whole")),
        },
        Json::String(hex) => match &field.kind {
            Kind::Text { .. } => match parse_hex(hex) {
                Some(bytes) => set_string(field, slot, &bytes, values),
                None => Err("behind \"raw\" stand hex digits, two a byte".into()),
            },
            _ => set_hex(field, slot, hex, values),
        },
        _ => Err("behind \"raw\" stands a number, or hex digits in quotes".into()),
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
            other => return Err(format!("{} is no flag; write labels in quotes", escaped(&other.to_string()))),
        };
    }
    Ok(raw)
}

/// Writes the fields of a message as a JSON object. Absent fields are left out. With `raw`, raw numbers stand in place of
/// physical values and labels.
///
/// # Errors
/// Those of the writer.
pub fn write_fields(plan: &MessagePlan, values: &Values, raw: bool, out: &mut (impl Write + ?Sized)) -> fmt::Result {
    out.write_char('{')?;
    let mut first = true;
    for (slot, field) in plan.message.fields.iter().enumerate() {
        let value = values.get(slot);
        if field.is_spare() || matches!(value, ValueRef::Absent | ValueRef::Unset) {
            continue;
        }
        if !first {
            out.write_char(',')?;
        }
        first = false;
        write!(out, "\"{}\":", field.name)?;
        write_value(field, value, raw, out)?;
    }
    out.write_char('}')
}

fn write_value(field: &Field, value: ValueRef<'_>, as_raw: bool, out: &mut (impl Write + ?Sized)) -> fmt::Result {
    let kind = &field.kind;
    match value {
        ValueRef::Unset | ValueRef::Absent => out.write_str("null"),
        ValueRef::Raw(raw) => {
            let number = signed(kind, raw);
            if as_raw {
                return write!(out, "{number}");
            }
            if kind.none() == Some(number) {
                return out.write_str("null");
            }
            match kind {
                Kind::Flags(labels) => write_flags(labels, raw, out),
                _ if !kind.is_valid(number) => write!(out, "{{\"raw\":{number}}}"),
                Kind::Number(form) => form.scaling.write(number, out),
                Kind::Bool => out.write_str(if raw == 0 { "false" } else { "true" }),
                Kind::Float32 => write!(out, "{}", f32::from_bits(raw as u32)),
                Kind::Enum { labels, .. } => {
                    write!(out, "\"{}\"", labels.label(raw).map_or("", |label| label.name.as_str()))
                }
                _ => write!(out, "{raw}"),
            }
        }
        ValueRef::Bytes(bytes) => match (kind, std::str::from_utf8(bytes)) {
            (Kind::Text { .. }, Ok(text)) => write_string(text, out),
            (Kind::Text { .. }, Err(_)) => {
                out.write_str("{\"raw\":\"")?;
                write_hex(bytes, out)?;
                out.write_str("\"}")
            }
            _ => {
                out.write_char('"')?;
                write_hex(bytes, out)?;
                out.write_char('"')
            }
        },
    }
}

fn write_flags(labels: &Labelled, raw: u64, out: &mut (impl Write + ?Sized)) -> fmt::Result {
    out.write_char('[')?;
    let mut first = true;
    for bit in (0..64u64).filter(|bit| raw >> bit & 1 == 1) {
        if !first {
            out.write_char(',')?;
        }
        first = false;
        match labels.label(bit) {
            Some(label) => write!(out, "\"{}\"", label.name)?,
            None => write!(out, "{bit}")?,
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
