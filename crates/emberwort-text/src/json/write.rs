//! Values to JSON.

use std::fmt::{self, Write};

use emberwort_model::Plan;
use emberwort_model::diagnostics::is_unsafe_to_show;
use emberwort_model::hex::write_hex;
use emberwort_model::ids::ChannelId;
use emberwort_model::model::{End, Field, Kind, Labelled, write_float};
use emberwort_model::number::write_integer;
use emberwort_model::plan::MessagePlan;
use emberwort_wire::values::{readable, signed};
use emberwort_wire::{ValueRef, Values};

use crate::moment::write_time;
use crate::nested_frame;

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
            Kind::NestedFrame { channel, .. } => write_nested_frame(*channel, bytes, writing, out),
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

/// The text of a JSON value (RFC 8259) in which every character that could change how a terminal shows the text is escaped.
pub fn safe_text(value: &serde_json::Value) -> String {
    let text = value.to_string();
    if !text.chars().any(is_unsafe_to_show) {
        return text;
    }
    let mut out = String::with_capacity(text.len());
    // JSON has such characters in strings alone.
    for c in text.chars() {
        match is_unsafe_to_show(c) {
            true => c.encode_utf16(&mut [0; 2]).iter().for_each(|unit| out.push_str(&format!("\\u{unit:04x}"))),
            false => out.push(c),
        }
    }
    out
}

/// Writes the frame that a field holds: as hex, or where the link is known as an object that says what is in it, or why it is
/// broken.
fn write_nested_frame(
    channel: ChannelId,
    bytes: &[u8],
    writing: Writing<'_>,
    out: &mut (impl Write + ?Sized),
) -> fmt::Result {
    let Some((plan, from)) = writing.inside else {
        out.write_char('"')?;
        write_hex(bytes, out)?;
        return out.write_char('"');
    };
    let inner = match nested_frame::open(plan, channel, from, bytes) {
        Ok(inner) => inner,
        Err(fault) => {
            write!(out, "{{\"broken\":\"{}\",\"bytes\":\"", fault.reason())?;
            write_hex(bytes, out)?;
            return out.write_str("\"}");
        }
    };
    let compiled = &plan.messages[inner.message];
    write!(out, "{{\"message\":\"{}\"", compiled.message.name)?;
    for (name, value) in [("node", inner.node), ("sequence", inner.sequence), ("revision", inner.revision)] {
        if let Some(value) = value {
            write!(out, ",\"{name}\":{value}")?;
        }
    }
    out.write_str(",\"fields\":")?;
    // A frame in a frame in a frame is hex: nobody nests them on purpose, and a link could do it without end.
    let writing = Writing { inside: None, ..writing };
    write_fields(compiled, &inner.values, writing, out)?;
    out.write_char('}')
}
