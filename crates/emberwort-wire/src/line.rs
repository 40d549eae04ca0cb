//! Text messages: values to a line and back, by the pattern of the definition.

use std::fmt::Write;

use emberwort_model::model::{
    Field, Kind, Length, LineDigits, LineForm, LinePiece, NumberForm, float_bits, float_text,
};
use emberwort_model::number::{Decimal, write_scaled};
use emberwort_model::plan::MessagePlan;

use crate::codec::errors::{BodyError, EncodeError};
use crate::values::{ValueRef, Values, readable, signed};

/// Appends the line of a message, without its end.
///
/// # Errors
/// If a field has no value, or one that no line can say: a raw code without meaning, a text with a line's end in it or with what
/// ends it in the pattern. What is written is read as the same values again.
pub fn write(plan: &MessagePlan, values: &Values, out: &mut Vec<u8>) -> Result<(), EncodeError> {
    let mut line = String::new();
    for piece in plan.message.line.as_deref().unwrap_or_default() {
        match piece {
            LinePiece::Text(text) => line.push_str(text),
            LinePiece::Field { slot, form } => {
                let field = &plan.message.fields[*slot];
                let value = values.get(*slot);
                write_field(field, *form, value, &mut line).ok_or(match value {
                    ValueRef::Raw(raw) => EncodeError::NoMeaning { slot: *slot, raw },
                    ValueRef::Bytes(_) => EncodeError::EndsLine { slot: *slot },
                    _ => EncodeError::Missing { slot: *slot },
                })?;
            }
        }
    }
    if let Some(slot) = read_otherwise(plan, &line, values) {
        return Err(EncodeError::EndsField { slot });
    }
    out.extend_from_slice(line.as_bytes());
    Ok(())
}

/// The field of which a reader of a line would find another value, if there is one: of several the first text.
fn read_otherwise(plan: &MessagePlan, line: &str, values: &Values) -> Option<usize> {
    let mut back = Values::default();
    let fits = read(plan, line.as_bytes(), &mut back) == Ok(true);
    let slots = || {
        plan.message.line.iter().flatten().filter_map(|piece| match piece {
            LinePiece::Field { slot, .. } => Some(*slot),
            LinePiece::Text(_) => None,
        })
    };
    let same = |slot: usize| match (values.get(slot), back.get(slot)) {
        (ValueRef::Raw(one), ValueRef::Raw(other)) => one == other,
        (ValueRef::Bytes(one), ValueRef::Bytes(other)) => one == other,
        _ => false,
    };
    if fits && slots().all(same) {
        return None;
    }
    let is_text = |slot: &usize| matches!(plan.message.fields[*slot].kind, Kind::Text { .. });
    let differs = |slot: &usize| !fits || !same(*slot);
    slots().find(|slot| is_text(slot) && differs(slot)).or_else(|| slots().find(differs))
}

fn write_field(field: &Field, form: LineForm, value: ValueRef<'_>, line: &mut String) -> Option<()> {
    match value {
        ValueRef::Raw(raw) => {
            let number = signed(&field.kind, raw);
            let none = field.kind.none() == Some(number);
            if none && form.blank {
                return Some(());
            }
            if let LineDigits::Hex(digits) = form.digits {
                return write!(line, "{number:0width$X}", width = usize::from(digits)).ok();
            }
            if none {
                line.push_str("none");
                return Some(());
            }
            if !field.kind.is_valid(number) {
                return None;
            }
            match &field.kind {
                Kind::Number(scaled) | Kind::Varint(scaled) => {
                    let start = line.len();
                    match form.digits {
                        LineDigits::Fixed(decimals) => {
                            let value = scaled.scaling.physical(number);
                            let more = 10i128.checked_pow(u32::from(decimals).checked_sub(value.decimals)?)?;
                            write_scaled(line, value.mantissa.checked_mul(more)?, u32::from(decimals)).ok()?;
                        }
                        _ => scaled.scaling.write(number, line).ok()?,
                    }
                    let lacking = usize::from(form.wide).saturating_sub(line.len() - start);
                    let behind_sign = start + usize::from(line[start..].starts_with('-'));
                    line.insert_str(behind_sign, &"0".repeat(lacking));
                    Some(())
                }
                Kind::Bool => {
                    line.push_str(if raw == 0 { "false" } else { "true" });
                    Some(())
                }
                Kind::Float(bits) => {
                    line.push_str(&float_text(*bits, raw));
                    Some(())
                }
                Kind::Enum { labels, .. } => {
                    line.push_str(&labels.label(raw)?.name);
                    Some(())
                }
                _ => write!(line, "{number}").ok(),
            }
        }
        ValueRef::Bytes(bytes) => {
            let Kind::Text { ascii, .. } = field.kind else { return None };
            let text = readable(ascii, bytes).filter(|text| !text.contains(['\r', '\n']))?;
            line.push_str(text);
            Some(())
        }
        _ => None,
    }
}

/// Reads a line, without its end. `Ok(false)` if it does not fit the pattern.
///
/// # Errors
/// If it fits the pattern, but a value is none that its field can have.
pub fn read(plan: &MessagePlan, line: &[u8], values: &mut Values) -> Result<bool, BodyError> {
    let Some(pieces) = &plan.message.line else { return Ok(false) };
    let mut rest = line;
    values.clear(plan);
    values.set_extent(1, 0);
    let mut bad = None;
    for (index, piece) in pieces.iter().enumerate() {
        match piece {
            LinePiece::Text(text) => match rest.strip_prefix(text.as_bytes()) {
                Some(behind) => rest = behind,
                None => return Ok(false),
            },
            LinePiece::Field { slot, form } => {
                let field = &plan.message.fields[*slot];
                let next = match pieces.get(index + 1) {
                    Some(LinePiece::Text(text)) => Some(text.as_str()),
                    _ => None,
                };
                let Some(length) = extent(field, *form, rest, next) else { return Ok(false) };
                let (text, behind) = rest.split_at(length);
                rest = behind;
                // In a field of ASCII any other byte is a wrong value; anywhere else bytes that are no text are no such line.
                let text = match std::str::from_utf8(text) {
                    Ok(text) => Some(text),
                    Err(_) if matches!(field.kind, Kind::Text { ascii: true, .. }) => None,
                    Err(_) => return Ok(false),
                };
                if text.and_then(|text| read_field(field, *form, *slot, text, values)).is_none() {
                    bad.get_or_insert(*slot);
                }
            }
        }
    }
    match bad {
        _ if !rest.is_empty() => Ok(false),
        Some(slot) => Err(BodyError::BadText { slot }),
        None => Ok(true),
    }
}

/// How many bytes of the text belong to a field; `None` if it does not begin like one.
fn extent(field: &Field, form: LineForm, text: &[u8], next: Option<&str>) -> Option<usize> {
    let count = |wanted: fn(u8) -> bool| text.iter().position(|byte| !wanted(*byte)).unwrap_or(text.len());
    let blank = form.blank.then_some(0);
    let whole = |size: u8, wanted: fn(&u8) -> bool| {
        let size = usize::from(size);
        text.get(..size).filter(|text| text.iter().all(wanted)).map(|_| size).or(blank)
    };
    if let LineDigits::Hex(digits) = form.digits {
        return whole(digits, u8::is_ascii_hexdigit);
    }
    if field.kind.none().is_some() && !form.blank && text.starts_with(b"none") {
        return Some(4);
    }
    if form.wide > 0 {
        return whole(form.wide, |c| c.is_ascii_digit() || b"+-.".contains(c));
    }
    let length = match &field.kind {
        Kind::Text { .. } => {
            return match next {
                Some(next) => memchr::memmem::find(text, next.as_bytes()),
                None => Some(text.len()),
            };
        }
        Kind::Enum { .. } | Kind::Bool => count(|c| c.is_ascii_alphanumeric() || c == b'_'),
        Kind::Float(_) => count(|c| c.is_ascii_digit() || b"+-.eE".contains(&c)),
        _ => count(|c| c.is_ascii_digit() || b"+-.".contains(&c)),
    };
    if length > 0 { Some(length) } else { blank }
}

fn read_field(field: &Field, form: LineForm, slot: usize, text: &str, values: &mut Values) -> Option<()> {
    let raw = match &field.kind {
        kind if form.blank && text.is_empty() => kind.none()?,
        Kind::Text { ascii, length } => {
            let fits = match length {
                Length::Exact(most) | Length::UpTo(most) => text.len() <= *most as usize,
                Length::Rest => true,
            };
            if !fits || *ascii && !text.is_ascii() {
                return None;
            }
            values.set_bytes(slot, text.as_bytes());
            return Some(());
        }
        kind if text == "none" && !form.blank && kind.none().is_some() => kind.none()?,
        Kind::Number(number) | Kind::Varint(number) => number_of(number, form, text)?,
        Kind::Bool => match text {
            "true" => 1,
            "false" => 0,
            _ => return None,
        },
        Kind::Float(bits) => i128::from(float_bits(*bits, text)?),
        Kind::Enum { labels, .. } => i128::from(labels.named(text)?.code),
        _ => text.parse::<u64>().ok().map(i128::from)?,
    };
    if !field.kind.is_valid(raw) {
        return None;
    }
    values.set_raw(slot, raw as u64);
    Some(())
}

fn number_of(number: &NumberForm, form: LineForm, text: &str) -> Option<i128> {
    if let LineDigits::Hex(_) = form.digits {
        return u64::from_str_radix(text, 16).ok().map(i128::from);
    }
    let value = Decimal::parse(text)?;
    // More decimals than the field has say something that it cannot hold.
    let shortest = shorten(value);
    if shortest.decimals > number.scaling.decimals() {
        return None;
    }
    // Outside the range it does not fit, even where the nearest code would.
    let (low, high) = (number.scaling.compare(number.low, value), number.scaling.compare(number.high, value));
    if low == high && low.is_ne() {
        return None;
    }
    let raw = number.scaling.nearest_raw(value)?;
    // What lies between two codes is none of them.
    let mut shown = String::new();
    number.scaling.write(raw, &mut shown).ok()?;
    (shorten(Decimal::parse(&shown)?) == shortest).then_some(raw)
}

/// A number without zeros at its end.
fn shorten(mut value: Decimal) -> Decimal {
    while value.decimals > 0 && value.mantissa % 10 == 0 {
        value = Decimal { mantissa: value.mantissa / 10, decimals: value.decimals - 1 };
    }
    value
}
