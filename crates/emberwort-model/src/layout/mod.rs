//! The layout of a message's body as rows: one for each field, with its place, codes and values.

pub mod digest;
pub mod picture;

use crate::hex::hex;
use crate::model::{ByteOrder, Field, Kind, Length, Value, float_text};
use crate::plan::{Action, ElementSizes, MessagePlan, Place, RecordPlan, SectionPlan, Step};

/// One row of a layout.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct LayoutRow {
    /// How deep it lies in records, lists and forms; 0 for the fields of the message itself.
    pub depth: usize,
    /// The field's name, or `(spare)`, `(presence)`, `(fill)`, `(size)`; empty for unnamed elements.
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
            depth: 0,
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

/// The rows of a message, in the order of its bits; those of records, lists and forms stand one level deeper.
pub fn rows(plan: &MessagePlan) -> Vec<LayoutRow> {
    let mut rows = Vec::new();
    let fields = &plan.message.fields;
    sections(&plan.sections, fields, plan.byte_order, Some(0), 0, &mut rows);
    rows
}

/// The rows of a record; places count from its start.
pub fn record_rows(record: &RecordPlan, order: ByteOrder) -> Vec<LayoutRow> {
    let mut rows = Vec::new();
    sections(&record.sections, &record.record.fields, order, Some(0), 0, &mut rows);
    rows
}

/// The rows of sections that follow each other; the first starts at a byte if it always is the same.
fn sections(
    all: &[SectionPlan],
    fields: &[Field],
    order: ByteOrder,
    start: Option<u64>,
    depth: usize,
    rows: &mut Vec<LayoutRow>,
) {
    // Where the section starts, while all before it is fixed.
    let mut section_start = start;
    for section in all {
        section_rows(section, fields, order, section_start, depth, rows);
        let size = section.greatest_size as u64;
        section_start = section_start.filter(|_| section.fixed).map(|start| start + size);
    }
}

fn section_rows(
    section: &SectionPlan,
    fields: &[Field],
    order: ByteOrder,
    start: Option<u64>,
    depth: usize,
    rows: &mut Vec<LayoutRow>,
) {
    let since = section.revision;
    let at = |bit: u64, order: ByteOrder| match start {
        Some(start) => byte_bit(start * 8 + bit, order),
        None => format!("+{}", byte_bit(bit, order)),
    };
    let space = |name: &str, place: String, bits: u64, what: &str| LayoutRow {
        depth,
        ..LayoutRow::of_space(name, place, bits, since, what)
    };
    if section.presence_bytes > 0 {
        let bits = section.presence_bytes as u64 * 8;
        rows.push(space("(presence)", at(0, order), bits, "one bit an optional field"));
    }
    // Fields with explicit places may stand in any order; they are shown in that of their bits.
    let free = free_bits(section, fields, order);
    let mut fixed: Vec<&Step> = section.steps[..section.fixed_steps].iter().collect();
    fixed.sort_by_key(|step| first_bit(step, fields, order));
    let mut free = free.into_iter().peekable();
    let mut behind = "(presence)";
    for (index, step) in fixed.into_iter().chain(&section.steps[section.fixed_steps..]).enumerate() {
        let field = &fields[step.slot];
        if index <= section.fixed_steps {
            let first = first_bit(step, fields, order).unwrap_or(u64::MAX);
            while let Some((from, bits)) = free.next_if(|(from, _)| *from < first || index == section.fixed_steps) {
                rows.push(space("(fill)", at(from, order), bits, "zero"));
            }
        }
        if index == section.fixed_steps
            && let Place::Fixed(bit) = step.place
            && bit as usize > section.fixed_end
        {
            let bits = u64::from(bit) - section.fixed_end as u64;
            rows.push(space("(fill)", at(section.fixed_end as u64, order), bits, "zero"));
        }
        let place = match step.place {
            Place::Fixed(bit) => at(u64::from(bit), if field.at.is_some() { field.order } else { order }),
            Place::Behind { .. } => format!("after {behind}"),
        };
        behind = if field.is_spare() { "(spare)" } else { &field.name };
        rows.push(LayoutRow { depth, ..field_row(field, place, &step.action) });
        inner_rows(&step.action, order, depth + 1, rows);
    }
    for (from, bits) in free {
        rows.push(space("(fill)", at(from, order), bits, "zero"));
    }
}

/// The rows of what a field is made of.
fn inner_rows(action: &Action, order: ByteOrder, depth: usize, rows: &mut Vec<LayoutRow>) {
    match action {
        Action::Record(record) => sections(&record.sections, &record.record.fields, order, None, depth, rows),
        Action::List(list) => {
            if let ElementSizes::Once(bytes) | ElementSizes::Each(bytes) = list.sizes {
                let what = if list.sizes == ElementSizes::Once(bytes) {
                    "bytes of an element, once"
                } else {
                    "bytes of the element, in front of each"
                };
                rows.push(LayoutRow {
                    depth,
                    ..LayoutRow::of_space("(size)", String::new(), u64::from(bytes) * 8, 1, what)
                });
            }
            inner_rows(&list.element.action, order, depth, rows);
        }
        Action::Union(union) => {
            for (index, form) in union.forms.iter().enumerate() {
                let place = match union.union.cases.get(index) {
                    Some(case) => format!("if {}", case.shown),
                    None => "else".to_owned(),
                };
                rows.push(LayoutRow { depth, ..field_row(&form.field, place, &form.action) });
                inner_rows(&form.action, order, depth + 1, rows);
            }
        }
        _ => {}
    }
}

/// The first bit of a step with a fixed place, counted in the order in which the link fills bits.
fn first_bit(step: &Step, fields: &[Field], order: ByteOrder) -> Option<u64> {
    let Place::Fixed(bit) = step.place else { return None };
    let field = &fields[step.slot];
    if field.at.is_none() || field.order == order {
        return Some(u64::from(bit));
    }
    let width = step.action.bits().1;
    (u64::from(bit)..u64::from(bit) + width).map(|bit| bit / 8 * 8 + 7 - bit % 8).min()
}

/// Who has each bit of a section's fixed part: the index of its step; `None` for free bits. Bits are counted in the order in
/// which the link fills them, and presence bits are left out.
pub(crate) fn bit_owners(section: &SectionPlan, fields: &[Field], order: ByteOrder) -> Vec<Option<usize>> {
    let size = if section.fixed { section.greatest_size * 8 } else { section.fixed_end };
    let mut owners = vec![None; size];
    for (index, step) in section.steps[..section.fixed_steps].iter().enumerate() {
        let Place::Fixed(first) = step.place else { continue };
        let turned = fields[step.slot].at.is_some() && fields[step.slot].order != order;
        for bit in u64::from(first)..u64::from(first) + step.action.bits().1 {
            let bit = if turned { bit / 8 * 8 + 7 - bit % 8 } else { bit };
            if let Some(owner) = owners.get_mut(bit as usize) {
                *owner = Some(index);
            }
        }
    }
    owners
}

/// Runs of bits in a section's fixed part that no field has: the first bit and how many.
fn free_bits(section: &SectionPlan, fields: &[Field], order: ByteOrder) -> Vec<(u64, u64)> {
    let mut runs: Vec<(u64, u64)> = Vec::new();
    for (bit, owner) in bit_owners(section, fields, order).iter().enumerate().skip(section.presence_bytes * 8) {
        if owner.is_some() {
            continue;
        }
        match runs.last_mut() {
            Some((from, bits)) if *from + *bits == bit as u64 => *bits += 1,
            _ => runs.push((bit as u64, 1)),
        }
    }
    runs
}

/// What the fields of a form hold, in a few words: `0 .. 100`, `text, at most 12 bytes`, `GateState: 5 labels`.
pub fn content_text(field: &Field) -> String {
    let sized = |length: &Length, what: &str| match length {
        Length::Exact(count) => format!("{count} {what}"),
        Length::UpTo(most) => format!("0 .. {most} {what}"),
        Length::Rest => format!("{what} to the end"),
    };
    match &field.kind {
        Kind::Number(form) | Kind::Varint(form) if form.low == form.high => format!("always {}", form.low),
        Kind::Number(form) | Kind::Varint(form) => {
            let (a, b) = (form.scaling.physical(form.low), form.scaling.physical(form.high));
            let (low, high) = if a.compare(b).is_le() { (a, b) } else { (b, a) };
            format!("{low} .. {high}")
        }
        Kind::Bool => "false, true".into(),
        Kind::Float(bits) => format!("IEEE 754 binary{bits}"),
        Kind::Time { milliseconds } => {
            format!("{} since 1970 UTC", if *milliseconds { "milliseconds" } else { "seconds" })
        }
        Kind::Enum { labels, .. } | Kind::Flags(labels) => {
            let unit = if labels.flags { "flags" } else { "labels" };
            format!("{}: {} {unit}", labels.name, labels.labels.len())
        }
        Kind::Text { ascii, length } => {
            let what = sized(length, "bytes");
            format!("{}, {what}", if *ascii { "ASCII" } else { "text" })
        }
        Kind::Bytes(length) => sized(length, "bytes"),
        Kind::List { element, length } => {
            let inner = match &element.kind {
                Kind::Record(record) => record.name.clone(),
                _ => content_text(element),
            };
            format!("{} of {inner}", sized(length, "elements"))
        }
        Kind::Record(record) => record.name.clone(),
        Kind::Union(union) => match &union.table {
            Some(table) => format!("an entry of {}", table.name),
            None => format!("one of {} forms", union.cases.len() + usize::from(union.otherwise.is_some())),
        },
        Kind::NestedFrame { name, .. } => format!("a frame of {name} to the end"),
        Kind::Spare { .. } => "sent as zero, ignored".into(),
    }
}

fn field_row(field: &Field, place: String, action: &Action) -> LayoutRow {
    let (least, greatest) = action.bits();
    let mut row = LayoutRow {
        depth: 0,
        field: field.name.clone(),
        place,
        bits: match action.has_rest() {
            true => format!("{least} .."),
            false if least == greatest => least.to_string(),
            false => format!("{least} .. {greatest}"),
        },
        raw: String::new(),
        physical: content_text(field),
        step: String::new(),
        unit: field.unit.clone(),
        default: field.default.as_ref().map_or_else(String::new, |value| value_text(&field.kind, value)),
        since: field.since,
        doc: field.doc.clone(),
    };
    match &field.kind {
        Kind::Number(form) | Kind::Varint(form) if form.low < form.high => {
            row.raw = format!("{} .. {}", form.low, form.high);
            row.step = form.scaling.step_text();
        }
        Kind::Bool => row.raw = "0 .. 1".into(),
        Kind::Enum { labels, .. } | Kind::Flags(labels) => {
            row.raw = match labels.bits {
                64 => format!("0 .. {}", u64::MAX),
                bits => format!("0 .. {}", (1u64 << bits) - 1),
            };
        }
        Kind::Spare { .. } => row.field = "(spare)".into(),
        _ => {}
    }
    if field.retired {
        row.field = format!("(retired {})", field.name);
        row.physical = "sent as zero, ignored".into();
        (row.raw, row.step, row.unit) = Default::default();
        return row;
    }
    if let Some(none) = field.kind.none() {
        row.raw.push_str(&format!(", none {none}"));
    }
    for (holds, word) in [(field.optional, "optional"), (field.counter, "counter")] {
        if holds {
            row.physical.push_str(&format!(", {word}"));
        }
    }
    row
}

/// A default as it is written in a definition.
fn value_text(kind: &Kind, value: &Value) -> String {
    match (kind, value) {
        (kind, Value::Raw(raw)) if kind.none() == Some(signed(kind, *raw)) => "none".into(),
        (Kind::Number(form) | Kind::Varint(form), Value::Raw(raw)) => {
            form.scaling.physical(signed(kind, *raw)).to_string()
        }
        (Kind::Bool, Value::Raw(raw)) => (*raw != 0).to_string(),
        (Kind::Float(bits), Value::Raw(raw)) => float_text(*bits, *raw),
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
