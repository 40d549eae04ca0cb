//! The layout of a message's body as rows: one for each field, with its place, codes and values.

use crate::hex::hex;
use crate::model::{ByteOrder, Kind, Value};
use crate::plan::{MessagePlan, Place};

/// One row of a layout.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct LayoutRow {
    /// The field's name, or `(spare)`, `(presence)`, `(fill)`.
    pub field: String,
    /// Byte and bit of its first bit in the notation of `at`, counted from the body's start, as `3.4`; where earlier
    /// fields vary in size, what it stands behind.
    pub place: String,
    /// Its width in bits, as `12` or `8 .. 104`.
    pub bits: String,
    /// Least and greatest raw code.
    pub raw: String,
    /// Least and greatest physical value, or what else it holds.
    pub physical: String,
    /// The difference of neighbouring values; empty where there is none.
    pub step: String,
    /// The unit; may be empty.
    pub unit: String,
    /// What is assumed when the sender's revision lacks it.
    pub default: String,
    /// The revision that added it.
    pub since: u32,
    /// Its documentation.
    pub doc: String,
}

impl LayoutRow {
    fn of_space(field: &str, place: String, bits: u64, since: u32, physical: &str) -> Self {
        Self {
            field: field.to_owned(),
            place,
            bits: bits.to_string(),
            raw: String::new(),
            physical: physical.to_owned(),
            step: String::new(),
            unit: String::new(),
            default: String::new(),
            since,
            doc: String::new(),
        }
    }
}

/// Byte and bit of a place, in the notation of `at`: bit 0 is the least significant of its byte, and the place is that of
/// the field's least significant bit in little-endian links and of its most significant bit in big-endian ones.
pub fn byte_bit(bit: u64, order: ByteOrder) -> String {
    let in_byte = match order {
        ByteOrder::Little => bit % 8,
        ByteOrder::Big => 7 - bit % 8,
    };
    format!("{}.{in_byte}", bit / 8)
}

/// The rows of a message, in the order of its bits.
pub fn rows(plan: &MessagePlan) -> Vec<LayoutRow> {
    let mut rows = Vec::new();
    // Where the section starts, while all before it is fixed.
    let mut section_start = Some(0u64);
    for section in &plan.sections {
        let base = section_start;
        let since = section.revision;
        let at = |bit: u64| match base {
            Some(start) => byte_bit(start * 8 + bit, plan.byte_order),
            None => format!("+{}", byte_bit(bit, plan.byte_order)),
        };
        let mut behind = None;
        if section.presence_bytes > 0 {
            let row = LayoutRow::of_space(
                "(presence)",
                at(0),
                section.presence_bytes as u64 * 8,
                since,
                "one bit an optional field",
            );
            rows.push(row);
        }
        let mut end = section.presence_bytes as u64 * 8;
        for step in &section.steps {
            let field = &plan.message.fields[step.slot];
            let place = match step.place {
                Place::Fixed(bit) => {
                    let bit = u64::from(bit);
                    if bit > end {
                        rows.push(LayoutRow::of_space("(fill)", at(end), bit - end, since, "zero"));
                    }
                    end = bit + step.action.bits().1;
                    at(bit)
                }
                Place::Behind { .. } => format!("after {}", behind.unwrap_or("(presence)")),
            };
            behind = Some(if field.is_spare() { "(spare)" } else { field.name.as_str() });
            rows.push(field_row(plan, step.slot, place, step.action.bits()));
        }
        if section.fixed && !end.is_multiple_of(8) {
            rows.push(LayoutRow::of_space("(fill)", at(end), 8 - end % 8, since, "zero"));
        }
        section_start = section_start.filter(|_| section.fixed).map(|start| start + section.greatest_size as u64);
    }
    rows
}

fn field_row(plan: &MessagePlan, slot: usize, place: String, (least, greatest): (u64, u64)) -> LayoutRow {
    let field = &plan.message.fields[slot];
    let mut row = LayoutRow {
        field: field.name.clone(),
        place,
        bits: if least == greatest { least.to_string() } else { format!("{least} .. {greatest}") },
        raw: String::new(),
        physical: String::new(),
        step: String::new(),
        unit: field.unit.clone(),
        default: field.default.as_ref().map_or_else(String::new, |value| value_text(&field.kind, value)),
        since: field.since,
        doc: field.doc.clone(),
    };
    match &field.kind {
        Kind::Number(form) => {
            row.raw = format!("{} .. {}", form.low, form.high);
            let (a, b) = (form.scaling.physical(form.low), form.scaling.physical(form.high));
            let (low, high) = if a.compare(b).is_le() { (a, b) } else { (b, a) };
            row.physical = format!("{low} .. {high}");
            row.step = form.scaling.step_text();
        }
        Kind::Bool => {
            row.raw = "0 .. 1".into();
            row.physical = "false, true".into();
        }
        Kind::Float32 => row.physical = "IEEE 754 binary32".into(),
        Kind::Enum { labels, .. } | Kind::Flags(labels) => {
            row.raw = match (labels.flags, labels.bits) {
                (_, 64) => format!("0 .. {}", u64::MAX),
                (_, bits) => format!("0 .. {}", (1u64 << bits) - 1),
            };
            let unit = if labels.flags { "flags" } else { "labels" };
            row.physical = format!("{}: {} {unit}", labels.name, labels.labels.len());
        }
        Kind::Text { max } => row.physical = format!("text, 0 .. {max} bytes"),
        Kind::Bytes { length } => row.physical = format!("{length} bytes"),
        Kind::Spare { .. } => {
            row.field = "(spare)".into();
            row.physical = "sent as zero, ignored".into();
        }
    }
    if let Some(none) = field.kind.none() {
        row.raw.push_str(&format!(", none {none}"));
    }
    if field.optional {
        row.physical.push_str(", optional");
    }
    row
}

/// A default as it is written in a definition.
fn value_text(kind: &Kind, value: &Value) -> String {
    match (kind, value) {
        (kind, Value::Raw(raw)) if kind.none() == Some(signed(kind, *raw)) => "none".into(),
        (Kind::Number(form), Value::Raw(raw)) => form.scaling.physical(signed(kind, *raw)).to_string(),
        (Kind::Bool, Value::Raw(raw)) => (*raw != 0).to_string(),
        (Kind::Float32, Value::Raw(raw)) => f32::from_bits(*raw as u32).to_string(),
        (Kind::Enum { labels, .. }, Value::Raw(raw)) => {
            labels.label(*raw).map_or_else(|| raw.to_string(), |label| label.name.clone())
        }
        (Kind::Flags(labels), Value::Raw(raw)) => {
            let set: Vec<_> =
                labels.labels.iter().filter(|label| raw >> label.code & 1 == 1).map(|l| l.name.as_str()).collect();
            format!("[{}]", set.join(", "))
        }
        (_, Value::Raw(raw)) => raw.to_string(),
        (Kind::Text { .. }, Value::Bytes(bytes)) => format!("{:?}", String::from_utf8_lossy(bytes)),
        (_, Value::Bytes(bytes)) => hex(bytes),
    }
}

/// A raw number as the field's type reads it.
fn signed(kind: &Kind, raw: u64) -> i128 {
    if kind.is_signed() { i128::from(raw as i64) } else { i128::from(raw) }
}
