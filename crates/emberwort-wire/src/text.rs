//! Values as people write and read them: physical numbers, labels, text, bytes in hex.

use std::fmt::{self, Write};

use emberwort_model::diagnostics::{escaped, nearest};
use emberwort_model::hex::{parse_hex, write_hex};
use emberwort_model::model::{Field, Kind, Labelled, NumberForm, Value};
use emberwort_model::number::Decimal;
use emberwort_model::plan::MessagePlan;
use serde_json::Value as Json;

use crate::json;
use crate::values::{ValueRef, Values};

/// A value as given by a user.
#[derive(Clone, Copy, Debug)]
pub enum Given<'a> {
    /// As written behind `FIELD=`.
    Text(&'a str),
    /// As it stands in a row.
    Json(&'a Json),
}

/// What is wrong with one field of a message, and a way out.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Problem {
    /// The field, as the user named it.
    pub field: String,
    /// What is wrong.
    pub message: String,
}

impl fmt::Display for Problem {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "{}: {}", escaped(&self.field), self.message)
    }
}

/// How a message is filled from what a user gives.
#[derive(Clone, Copy, Debug)]
pub struct Filling {
    /// Whether numbers outside a field's values are moved to the nearest one, instead of being a problem.
    pub clamp: bool,
    /// How many sections the sender writes ([`MessagePlan::sections_of`]).
    pub sections: usize,
}

/// Fills the values of a message. Optional fields that are not given are absent; others take their default.
///
/// # Errors
/// All problems at once: unknown and repeated fields, values that do not fit, fields that are missing.
pub fn fill<'a>(
    plan: &MessagePlan,
    given: impl IntoIterator<Item = (&'a str, Given<'a>)>,
    filling: Filling,
    values: &mut Values,
) -> Result<(), Vec<Problem>> {
    values.clear(plan);
    let message = &plan.message;
    let mut problems = Vec::new();
    let mut named = vec![false; message.fields.len()];
    let revision = plan.sections.get(filling.sections.saturating_sub(1)).map_or(1, |section| section.revision);
    for (name, value) in given {
        let problem = |message: String| Problem { field: name.to_owned(), message };
        let Some((slot, field)) = message.field(name) else {
            let names = message.fields.iter().filter(|field| !field.is_spare()).map(|field| field.name.as_str());
            problems.push(problem(match nearest(name, names.clone()) {
                Some(near) => format!("`{}` has no such field; did you mean `{near}`?", message.name),
                None => {
                    format!("`{}` has no such field; it has {}", message.name, names.collect::<Vec<_>>().join(", "))
                }
            }));
            continue;
        };
        if std::mem::replace(&mut named[slot], true) {
            problems.push(problem("given twice; keep one".into()));
            continue;
        }
        let result = match value {
            Given::Text(text) => set_text(field, slot, text, filling.clamp, values),
            Given::Json(value) => json::set(field, slot, value, filling.clamp, values),
        };
        if let Err(message) = result {
            problems.push(problem(message));
        } else if field.since > revision && !is_default(field, values.get(slot)) {
            // A decoded row holds the defaults that stand for what an old sender lacks; another value cannot be sent.
            problems.push(problem(format!(
                "was added in revision {}, but the sender has revision {revision}; leave it out",
                field.since
            )));
        }
    }
    for (slot, field) in message.fields.iter().enumerate() {
        if named[slot] || field.is_spare() {
            continue;
        }
        if field.optional {
            values.set_absent(slot);
        } else if field.default.is_some() || field.since > revision {
            values.set_default(slot, field.default.as_ref());
        } else {
            problems.push(Problem { field: field.name.clone(), message: format!("missing; {}", holds(field)) });
        }
    }
    if problems.is_empty() { Ok(()) } else { Err(problems) }
}

fn is_default(field: &Field, value: ValueRef<'_>) -> bool {
    match (&field.default, value) {
        (Some(Value::Raw(default)), ValueRef::Raw(raw)) => *default == raw,
        (Some(Value::Bytes(default)), ValueRef::Bytes(bytes)) => default == bytes,
        _ => false,
    }
}

/// What a field holds, for a sentence: `it holds 0 .. 100 % in steps of 0.5`.
pub fn holds(field: &Field) -> String {
    let none = if field.kind.none().is_some() { ", or `none`" } else { "" };
    let what = match &field.kind {
        Kind::Number(form) => {
            let (a, b) = ends(form);
            let unit = if field.unit.is_empty() { String::new() } else { format!(" {}", escaped(&field.unit)) };
            format!("{a} .. {b}{unit} in steps of {}", form.scaling.step_text())
        }
        Kind::Bool => "`true` or `false`".into(),
        Kind::Float32 => "a 32-bit float".into(),
        Kind::Enum { labels, .. } => format!("one of {}", some_labels(labels)),
        Kind::Flags(labels) => format!("a set of {}", some_labels(labels)),
        Kind::Text { max } => format!("text of at most {max} bytes"),
        Kind::Bytes { length } => format!("{length} bytes in hex"),
        Kind::Spare { .. } => "nothing".into(),
    };
    format!("it holds {what}{none}")
}

fn some_labels(labels: &Labelled) -> String {
    let mut all: Vec<_> = labels.labels.iter().take(12).map(|label| label.name.as_str()).collect();
    if labels.labels.len() > 12 {
        all.push("…");
    }
    all.join(", ")
}

/// Least and greatest physical value.
fn ends(form: &NumberForm) -> (Decimal, Decimal) {
    let (a, b) = (form.scaling.physical(form.low), form.scaling.physical(form.high));
    if a.compare(b).is_le() { (a, b) } else { (b, a) }
}

/// Sets a number from its physical value.
pub(crate) fn set_number(
    field: &Field,
    form: &NumberForm,
    slot: usize,
    value: Decimal,
    clamp: bool,
    values: &mut Values,
) -> Result<(), String> {
    let (first, last) = (form.scaling.compare(form.low, value), form.scaling.compare(form.high, value));
    // Outside if both ends lie on the same side of it.
    let outside = first == last;
    let raw = match form.scaling.nearest_raw(value) {
        Some(raw) if !outside && (form.low..=form.high).contains(&raw) => raw,
        _ if clamp => {
            let falling = form.scaling.compare(form.low, form.scaling.physical(form.high)).is_gt();
            if first.is_gt() != falling { form.low } else { form.high }
        }
        _ => return Err(format!("{value} does not fit; {}", holds(field))),
    };
    values.set_raw(slot, raw as u64);
    Ok(())
}

/// Sets a raw number, valid or not, if its bits can hold it.
pub(crate) fn set_raw(field: &Field, slot: usize, raw: i128, values: &mut Values) -> Result<(), String> {
    let Some(bits) = field.kind.raw_bits() else {
        return Err("this field has no raw number".into());
    };
    let (low, high) = if field.kind.is_signed() {
        (-(1i128 << (bits - 1)), (1i128 << (bits - 1)) - 1)
    } else {
        (0, (1i128 << bits) - 1)
    };
    if !(low..=high).contains(&raw) {
        return Err(format!("the raw number {raw} does not fit; {bits} bits hold {low} .. {high}"));
    }
    values.set_raw(slot, raw as u64);
    Ok(())
}

pub(crate) fn set_label(labels: &Labelled, slot: usize, text: &str, values: &mut Values) -> Result<(), String> {
    let code = label_code(labels, text)?;
    values.set_raw(slot, code);
    Ok(())
}

pub(crate) fn label_code(labels: &Labelled, text: &str) -> Result<u64, String> {
    if let Some(label) = labels.named(text) {
        return Ok(label.code);
    }
    let near = nearest(text, labels.labels.iter().map(|label| label.name.as_str()));
    Err(match near {
        Some(near) => format!("`{}` has no label `{}`; did you mean `{near}`?", labels.name, escaped(text)),
        None => format!("`{}` has no label `{}`; it has {}", labels.name, escaped(text), some_labels(labels)),
    })
}

pub(crate) fn set_float(field: &Field, slot: usize, text: &str, values: &mut Values) -> Result<(), String> {
    match text.parse::<f32>() {
        Ok(value) if value.is_finite() => {
            values.set_raw(slot, u64::from(value.to_bits()));
            Ok(())
        }
        Ok(_) => Err(format!("{} is beyond a 32-bit float, whose greatest value is about 3.4e38", escaped(text))),
        Err(_) => Err(format!("`{}` is not a number; {}", escaped(text), holds(field))),
    }
}

pub(crate) fn set_string(field: &Field, slot: usize, text: &[u8], values: &mut Values) -> Result<(), String> {
    if let Kind::Text { max } = field.kind
        && text.len() > max as usize
    {
        return Err(format!("this text has {} bytes; {}", text.len(), holds(field)));
    }
    values.set_bytes(slot, text);
    Ok(())
}

pub(crate) fn set_hex(field: &Field, slot: usize, text: &str, values: &mut Values) -> Result<(), String> {
    let Some(bytes) = parse_hex(text) else {
        return Err(format!("`{}` is not hex; write two digits a byte, as in \"C6 39\"", escaped(text)));
    };
    if let Kind::Bytes { length } = field.kind
        && bytes.len() != length as usize
    {
        return Err(format!("{} bytes are given; {}", bytes.len(), holds(field)));
    }
    values.set_bytes(slot, &bytes);
    Ok(())
}

fn set_text(field: &Field, slot: usize, text: &str, clamp: bool, values: &mut Values) -> Result<(), String> {
    if let Some(raw) = text.strip_prefix("raw:")
        && field.kind.raw_bits().is_some()
    {
        let raw = Decimal::parse(raw.trim()).and_then(Decimal::as_integer);
        return match raw {
            Some(raw) => set_raw(field, slot, raw, values),
            None => Err("behind `raw:` a whole number stands, as in raw:943 or raw:0x3AF".into()),
        };
    }
    if text == "none"
        && let Some(none) = field.kind.none()
    {
        values.set_raw(slot, none as u64);
        return Ok(());
    }
    match &field.kind {
        Kind::Number(form) => {
            let number = text.strip_suffix(field.unit.as_str()).unwrap_or(text).trim();
            match Decimal::parse(number) {
                Some(value) => set_number(field, form, slot, value, clamp, values),
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
        Kind::Float32 => set_float(field, slot, text.strip_suffix(field.unit.as_str()).unwrap_or(text).trim(), values),
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
        Kind::Bytes { .. } => set_hex(field, slot, text, values),
        Kind::Spare { .. } => Err("spare space is always sent as zero".into()),
    }
}

/// A raw number as its field's type reads it.
pub fn signed(kind: &Kind, raw: u64) -> i128 {
    if kind.is_signed() { i128::from(raw as i64) } else { i128::from(raw) }
}

/// Writes a value for people, without its unit. Control characters are escaped; what the definition gives no meaning
/// to is shown as `raw …`.
///
/// # Errors
/// Those of the writer.
pub fn write_value(field: &Field, value: ValueRef<'_>, out: &mut (impl Write + ?Sized)) -> fmt::Result {
    let kind = &field.kind;
    match value {
        ValueRef::Unset | ValueRef::Absent => out.write_char('–'),
        ValueRef::Raw(raw) => {
            let number = signed(kind, raw);
            if kind.none() == Some(number) {
                return out.write_str("none");
            }
            match kind {
                Kind::Flags(labels) => write_flags(labels, raw, out),
                _ if !kind.is_valid(number) => write!(out, "raw {number} (no meaning)"),
                Kind::Number(form) => form.scaling.write(number, out),
                Kind::Bool => out.write_str(if raw == 0 { "false" } else { "true" }),
                Kind::Float32 => write!(out, "{}", f32::from_bits(raw as u32)),
                Kind::Enum { labels, .. } => out.write_str(labels.label(raw).map_or("", |label| label.name.as_str())),
                _ => write!(out, "{raw}"),
            }
        }
        ValueRef::Bytes(bytes) => match (kind, std::str::from_utf8(bytes)) {
            (Kind::Text { .. }, Ok(text)) => write!(out, "\"{}\"", escaped(text)),
            (Kind::Text { .. }, Err(_)) => {
                out.write_str("not UTF-8: ")?;
                write_hex(bytes, out)
            }
            _ => write_hex(bytes, out),
        },
    }
}

fn write_flags(labels: &Labelled, raw: u64, out: &mut (impl Write + ?Sized)) -> fmt::Result {
    if raw == 0 {
        return out.write_str("[]");
    }
    let mut separator = "[";
    for bit in 0..64u64 {
        if raw >> bit & 1 == 0 {
            continue;
        }
        out.write_str(separator)?;
        match labels.label(bit) {
            Some(label) => out.write_str(&label.name)?,
            None => write!(out, "bit {bit}")?,
        }
        separator = ", ";
    }
    out.write_char(']')
}
