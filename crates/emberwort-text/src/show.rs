//! Values as people read them.

use std::fmt::{self, Write};

use emberwort_model::diagnostics::escaped;
use emberwort_model::hex::write_hex;
use emberwort_model::model::{Field, Kind, Labelled, write_float};
use emberwort_model::number::write_integer;
use emberwort_wire::values::{readable, signed};
use emberwort_wire::{ValueRef, Values};

use crate::moment::write_time;

/// Writes a value for people, without its unit. Control characters are escaped; what the definition gives no meaning
/// to is shown as `raw …`. Lists stand in brackets, records in braces.
///
/// # Errors
/// Those of the writer.
pub fn write_value(field: &Field, values: &Values, slot: usize, out: &mut (impl Write + ?Sized)) -> fmt::Result {
    write_value_as(field, values, slot, false, out)
}

/// Writes a value as [`write_value`] does, but with the raw codes of all numbers, in lists, records and forms, too.
///
/// # Errors
/// Those of the writer.
pub fn write_raw_value(field: &Field, values: &Values, slot: usize, out: &mut (impl Write + ?Sized)) -> fmt::Result {
    write_value_as(field, values, slot, true, out)
}

fn write_value_as(
    field: &Field,
    values: &Values,
    slot: usize,
    as_raw: bool,
    out: &mut (impl Write + ?Sized),
) -> fmt::Result {
    let kind = &field.kind;
    match values.get(slot) {
        ValueRef::Unset | ValueRef::Absent => out.write_char('–'),
        ValueRef::Raw(raw) => {
            let number = signed(kind, raw);
            if as_raw {
                return write_integer(out, number);
            }
            if kind.none() == Some(number) {
                return out.write_str("none");
            }
            match kind {
                Kind::Flags(labels) => write_flags(labels, raw, out),
                Kind::Number(form) | Kind::Varint(form) if form.low == form.high && number != form.low => {
                    write!(out, "raw {number} (must be {})", form.low)
                }
                _ if !kind.is_valid(number) => write!(out, "raw {number} (no meaning)"),
                Kind::Number(form) | Kind::Varint(form) => form.scaling.write(number, out),
                Kind::Bool => out.write_str(if raw == 0 { "false" } else { "true" }),
                Kind::Float(bits) => write_float(*bits, raw, out),
                Kind::Time { milliseconds } => write_time(*milliseconds, raw, out),
                Kind::Enum { labels, .. } => out.write_str(labels.label(raw).map_or("", |label| label.name.as_str())),
                _ => write_integer(out, raw),
            }
        }
        ValueRef::Bytes(bytes) => match kind {
            Kind::Text { ascii, .. } => match readable(*ascii, bytes) {
                Some(text) => write!(out, "\"{}\"", escaped(text)),
                None => {
                    out.write_str(if *ascii { "not ASCII: " } else { "not UTF-8: " })?;
                    write_hex(bytes, out)
                }
            },
            _ => write_hex(bytes, out),
        },
        ValueRef::Group { first, count } => match kind {
            Kind::List { element, .. } => {
                for n in 0..count {
                    out.write_str(if n == 0 { "[" } else { ", " })?;
                    write_value_as(element, values, first + n, as_raw, out)?;
                }
                out.write_str(if count == 0 { "[]" } else { "]" })
            }
            Kind::Record(record) => {
                let mut separator = "{";
                for (n, field) in record.fields.iter().enumerate() {
                    if field.is_spare() || matches!(values.get(first + n), ValueRef::Absent | ValueRef::Unset) {
                        continue;
                    }
                    write!(out, "{separator}{} ", field.name)?;
                    write_value_as(field, values, first + n, as_raw, out)?;
                    separator = ", ";
                }
                out.write_str(if separator == "{" { "{}" } else { "}" })
            }
            _ => Ok(()),
        },
        ValueRef::Chosen { form, slot } => match kind {
            Kind::Union(union) => match union.form(form) {
                Some(form) => {
                    write!(out, "{} ", form.name)?;
                    write_value_as(form, values, slot, as_raw, out)?;
                    if form.unit.is_empty() || as_raw { Ok(()) } else { write!(out, " {}", escaped(&form.unit)) }
                }
                None => Ok(()),
            },
            _ => Ok(()),
        },
    }
}

fn write_flags(labels: &Labelled, raw: u64, out: &mut (impl Write + ?Sized)) -> fmt::Result {
    if raw == 0 {
        return out.write_str("[]");
    }
    let mut separator = "[";
    let mut rest = raw;
    while rest != 0 {
        let bit = u64::from(rest.trailing_zeros());
        rest &= rest - 1;
        out.write_str(separator)?;
        match labels.label(bit) {
            Some(label) => out.write_str(&label.name)?,
            None => write!(out, "bit {bit}")?,
        }
        separator = ", ";
    }
    out.write_char(']')
}
