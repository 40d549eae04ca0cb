//! Values as people write and read them: physical numbers, labels, text, bytes in hex.

use std::cell::RefCell;
use std::fmt::{self, Write};

use emberwort_model::Plan;
use emberwort_model::diagnostics::{escaped, nearest};
use emberwort_model::hex::{parse_hex, write_hex};
use emberwort_model::model::{Field, Kind, Labelled, Length, NumberForm, Union, Value, float_bits, write_float};
use emberwort_model::number::{Decimal, write_integer};
use emberwort_model::plan::MessagePlan;
use jiff::Timestamp;
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
pub struct Filling<'a> {
    /// Whether numbers outside a field's values are moved to the nearest one, instead of being a problem.
    pub clamp: bool,
    /// The sender's revision: fields added later take their default.
    pub revision: u32,
    /// The link, for frames inside of messages; without it they can only be given as hex.
    pub plan: Option<&'a Plan>,
    /// Where sentences about numbers go that lie between two steps of their field, or were moved to its end by `clamp`:
    /// `.soil[1]: 40.7 % became 40.5 %`.
    pub changed: Option<&'a RefCell<Vec<String>>>,
}

impl<'a> Filling<'a> {
    /// Filling for a sender of the link's own revision.
    pub fn of(plan: &'a Plan) -> Self {
        Self { clamp: false, revision: plan.link.revision, plan: Some(plan), changed: None }
    }

    /// How many sentences about changed numbers there are so far.
    pub(crate) fn changes(self) -> usize {
        self.changed.map_or(0, |changed| changed.borrow().len())
    }

    /// Puts the place before sentences from the given one on: `.soil`, `[1]`.
    pub(crate) fn inside(self, from: usize, place: impl Fn() -> String) {
        if let Some(changed) = self.changed {
            changed.borrow_mut()[from..].iter_mut().for_each(|sentence| sentence.insert_str(0, &place()));
        }
    }

    /// Filling where no link is known: all fields are there, and frames inside can only be given as hex.
    pub fn alone(clamp: bool) -> Self {
        Self { clamp, revision: u32::MAX, plan: None, changed: None }
    }
}

/// Fills the values of a message. Optional fields that are not given are absent; others take their default.
///
/// # Errors
/// All problems at once: unknown and repeated fields, values that do not fit, fields that are missing.
pub fn fill<'g>(
    plan: &MessagePlan,
    given: impl IntoIterator<Item = (&'g str, Given<'g>)>,
    filling: Filling<'_>,
    values: &mut Values,
) -> Result<(), Vec<Problem>> {
    values.clear(plan);
    let message = &plan.message;
    fill_group(&message.name, &message.fields, 0, given, filling, values)
}

/// Fills the fields of a message or record, whose first slot is `base`.
pub(crate) fn fill_group<'g>(
    owner: &str,
    fields: &[Field],
    base: usize,
    given: impl IntoIterator<Item = (&'g str, Given<'g>)>,
    filling: Filling<'_>,
    values: &mut Values,
) -> Result<(), Vec<Problem>> {
    let mut problems = Vec::new();
    let mut named = vec![false; fields.len()];
    let revision = filling.revision;
    for (name, value) in given {
        let problem = |message: String| Problem { field: name.to_owned(), message };
        let found = fields.iter().enumerate().find(|(_, field)| field.name == name && !field.is_spare());
        let Some((slot, field)) = found else {
            let names = fields.iter().filter(|field| !field.is_spare()).map(|field| field.name.as_str());
            problems.push(problem(match nearest(name, names.clone()) {
                Some(near) => format!("`{owner}` has no such field; did you mean `{near}`?"),
                None => format!("`{owner}` has no such field; it has {}", names.collect::<Vec<_>>().join(", ")),
            }));
            continue;
        };
        if std::mem::replace(&mut named[slot], true) {
            problems.push(problem("given twice; keep one".into()));
            continue;
        }
        let changes = filling.changes();
        let result = match value {
            Given::Text(text) => set_text(field, base + slot, text, filling, values),
            Given::Json(value) => json::set(field, base + slot, value, filling, values),
        };
        filling.inside(changes, || format!(".{name}"));
        if let Err(message) = result {
            problems.push(problem(message));
        } else if field.since > revision && !is_default(field, values.get(base + slot)) {
            // A decoded row holds the defaults that stand for what an old sender lacks; another value cannot be sent.
            problems.push(problem(format!(
                "was added in revision {}, but the sender has revision {revision}; leave it out",
                field.since
            )));
        }
    }
    for (slot, field) in fields.iter().enumerate() {
        if named[slot] || field.is_spare() {
            continue;
        }
        if field.optional {
            values.set_absent(base + slot);
        } else if field.default.is_some() || field.since > revision {
            values.set_default(base + slot, field.default.as_ref());
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
        Kind::Number(form) | Kind::Varint(form) if form.low == form.high => format!("{}, always", form.low),
        Kind::Number(form) | Kind::Varint(form) => {
            let (a, b) = ends(form);
            let unit = if field.unit.is_empty() { String::new() } else { format!(" {}", escaped(&field.unit)) };
            format!("{a} .. {b}{unit} in steps of {}", form.scaling.step_text())
        }
        Kind::Bool => "`true` or `false`".into(),
        Kind::Float(bits) => format!("a {bits}-bit float"),
        Kind::Time { .. } => "a moment, as in 2026-11-23T04:30:00Z".into(),
        Kind::Enum { labels, .. } => format!("one of {}", some_labels(labels)),
        Kind::Flags(labels) => format!("a set of {}", some_labels(labels)),
        Kind::Text { ascii, length } => {
            let what = if *ascii { "ASCII text" } else { "text" };
            match length {
                Length::Exact(most) | Length::UpTo(most) => format!("{what} of at most {most} bytes"),
                Length::Rest => what.into(),
            }
        }
        Kind::Bytes(Length::Exact(count)) => format!("{count} bytes in hex"),
        Kind::Bytes(Length::UpTo(most)) => format!("at most {most} bytes in hex"),
        Kind::Bytes(Length::Rest) => "bytes in hex".into(),
        Kind::List { element, length } => {
            let count = match length {
                Length::Exact(count) => format!("{count}"),
                Length::UpTo(most) => format!("at most {most}"),
                Length::Rest => "any number of".into(),
            };
            format!("a JSON array of {count} elements; of each, {}", holds(element))
        }
        Kind::Record(record) => {
            let names: Vec<_> = record.fields.iter().filter(|f| !f.is_spare()).map(|f| f.name.as_str()).collect();
            format!("a JSON object with {}", names.join(", "))
        }
        Kind::Union(union) => {
            let names: Vec<_> = forms(union).take(12).map(|form| form.name.as_str()).collect();
            let example = names.first().map_or_else(String::new, |name| format!(", as in {{\"{name}\": …}}"));
            format!("a JSON object with one of {}{example}", names.join(", "))
        }
        Kind::NestedFrame { name, .. } => {
            format!("a frame of {name}: hex, or a JSON object with message, node, sequence and fields")
        }
        Kind::Spare { .. } => "nothing".into(),
    };
    format!("it holds {what}{none}")
}

/// All forms of a union, in the order of their indices.
pub fn forms(union: &Union) -> impl Iterator<Item = &Field> {
    union.cases.iter().map(|case| &*case.field).chain(union.otherwise.as_deref())
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
    filling: Filling<'_>,
    values: &mut Values,
) -> Result<(), String> {
    let (first, last) = (form.scaling.compare(form.low, value), form.scaling.compare(form.high, value));
    // Outside if both ends lie on the same side of it.
    let outside = first == last && first.is_ne();
    let raw = match form.scaling.nearest_raw(value) {
        Some(raw) if !outside && (form.low..=form.high).contains(&raw) => raw,
        _ if filling.clamp => {
            let falling = form.scaling.compare(form.low, form.scaling.physical(form.high)).is_gt();
            if first.is_gt() != falling { form.low } else { form.high }
        }
        _ => return Err(format!("{value} does not fit; {}", holds(field))),
    };
    // What is shown for the code is what was given, if it was shown before.
    let shown = form.scaling.physical(raw);
    if let Some(changed) = filling.changed
        && form.scaling.compare(raw, value).is_ne()
        && shown.compare(value).is_ne()
    {
        let unit = if field.unit.is_empty() { String::new() } else { format!(" {}", escaped(&field.unit)) };
        changed.borrow_mut().push(format!(": {value}{unit} became {shown}{unit}"));
    }
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

pub(crate) fn set_float(field: &Field, bits: u8, slot: usize, text: &str, values: &mut Values) -> Result<(), String> {
    match (float_bits(bits, text), text.parse::<f64>()) {
        (Some(raw), _) => {
            values.set_raw(slot, raw);
            Ok(())
        }
        (None, Ok(_)) => Err(format!("{} is beyond a {bits}-bit float", escaped(text))),
        (None, Err(_)) => Err(format!("`{}` is not a number; {}", escaped(text), holds(field))),
    }
}

pub(crate) fn set_string(field: &Field, slot: usize, text: &[u8], values: &mut Values) -> Result<(), String> {
    if let Kind::Text { ascii, length } = &field.kind {
        if let Length::Exact(most) | Length::UpTo(most) = length
            && text.len() > *most as usize
        {
            return Err(format!("this text has {} bytes; {}", text.len(), holds(field)));
        }
        if *ascii && !text.is_ascii() {
            return Err(format!("only ASCII can stand here; {}", holds(field)));
        }
        if matches!(length, Length::Exact(_)) && text.last() == Some(&0) {
            return Err("a text of fixed length cannot end with a zero, which only fills it up".into());
        }
    }
    values.set_bytes(slot, text);
    Ok(())
}

pub(crate) fn set_hex(field: &Field, slot: usize, text: &str, values: &mut Values) -> Result<(), String> {
    let Some(bytes) = parse_hex(text) else {
        return Err(format!("`{}` is not hex; write two digits per byte, as in \"C6 39\"", escaped(text)));
    };
    let fits = match &field.kind {
        Kind::Bytes(Length::Exact(count)) => bytes.len() == *count as usize,
        Kind::Bytes(Length::UpTo(most)) => bytes.len() <= *most as usize,
        _ => true,
    };
    if !fits {
        return Err(format!("{} bytes are given; {}", bytes.len(), holds(field)));
    }
    values.set_bytes(slot, &bytes);
    Ok(())
}

/// Sets a moment from RFC 3339 text.
pub(crate) fn set_time(
    field: &Field,
    milliseconds: bool,
    slot: usize,
    text: &str,
    values: &mut Values,
) -> Result<(), String> {
    let Ok(moment) = text.parse::<Timestamp>() else {
        return Err(format!("`{}` is not a time; {}", escaped(text), holds(field)));
    };
    let raw = if milliseconds { i128::from(moment.as_millisecond()) } else { i128::from(moment.as_second()) };
    let exact = moment.subsec_nanosecond() % if milliseconds { 1_000_000 } else { 1_000_000_000 } == 0;
    if !exact {
        let unit = if milliseconds { "milliseconds" } else { "seconds" };
        return Err(format!("this field counts whole {unit}; leave the smaller part out"));
    }
    if raw < 0 || !field.kind.is_valid(raw) || !milliseconds && raw > i128::from(u32::MAX) {
        return Err(format!("{} is out of reach: the field counts from 1970 on", escaped(text)));
    }
    values.set_raw(slot, raw as u64);
    Ok(())
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

/// A raw number as its field's type reads it.
pub fn signed(kind: &Kind, raw: u64) -> i128 {
    if kind.is_signed() { i128::from(raw as i64) } else { i128::from(raw) }
}

/// Writes a moment as RFC 3339.
///
/// # Errors
/// Those of the writer.
pub(crate) fn write_time(milliseconds: bool, raw: u64, out: &mut (impl Write + ?Sized)) -> fmt::Result {
    let moment = match i64::try_from(raw) {
        Ok(raw) if milliseconds => Timestamp::from_millisecond(raw).ok(),
        Ok(raw) => Timestamp::from_second(raw).ok(),
        Err(_) => None,
    };
    match moment {
        Some(moment) if milliseconds => write!(out, "{moment:.3}"),
        Some(moment) => write!(out, "{moment}"),
        None => write!(out, "{raw}"),
    }
}

/// Whether bytes are a text that the field can have.
pub(crate) fn readable(ascii: bool, bytes: &[u8]) -> Option<&str> {
    std::str::from_utf8(bytes).ok().filter(|_| !ascii || bytes.is_ascii())
}

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
