//! How the body of a message, or a record, is read and written: a tree of operations, the same one for both directions.
//!
//! The plan says what each field is and where it lies; this says what is done for it, step by step, so that a generator prints each operation
//! and decides nothing. An interpreter in the tests agrees with the library on random definitions.

use std::fmt::{self, Write};

use emberwort_model::model::{ByteOrder, Length, Selector};
use emberwort_model::plan::{Action, Element, ElementSizes, ListPlan, Place, RecordPlan, SectionPlan, UnionPlan};

use super::{FixedItemKind, FixedLayout, Group};

/// One section.
#[derive(Clone, Debug)]
pub struct Section<'a> {
    /// What it was made from.
    pub plan: &'a SectionPlan,
    /// With fewer bytes than this from its start on it cannot be read.
    pub need: usize,
    /// The numbers at known places, which are safe behind that test.
    pub fixed: FixedLayout,
    /// All else, in order; a number or bits of spare space at known places need no operation.
    pub ops: Vec<Op<'a>>,
    /// How many bytes it always has; `None` where it ends with the byte that the last operation ends in.
    pub size: Option<usize>,
}

/// An operation at the place that has been reached in a body. "The value" is a field's, an element's, or a form's, around the operation.
#[derive(Clone, Debug)]
pub enum Op<'a> {
    /// Go to this bit, counted from the section's start.
    Seek(usize),
    /// Go on to the next whole byte; bits that are left out are zero when they are written.
    Align,
    /// Step over so many bits, which are zero when they are written.
    Skip(u32),
    /// These operations are for the value of the field with this slot.
    Field(usize, Vec<Op<'a>>),
    /// Only if this bit of the section says that there is something; it is set where the field with the slot has a value. Without a slot nobody
    /// sends it any more.
    If {
        /// The field.
        slot: Option<usize>,
        /// Its bit, from the section's start.
        bit: u32,
        /// What is done.
        then: Vec<Op<'a>>,
    },
    /// The value is so many whole bytes, always from this byte of the section on.
    Bytes {
        /// The byte.
        byte: usize,
        /// How many.
        count: u32,
    },
    /// The value is a number of so many bits.
    Number {
        /// Width, 1 to 64.
        width: u8,
        /// Whether it is in two's complement.
        signed: bool,
        /// The order of its bytes and bits.
        order: ByteOrder,
    },
    /// The value is a number in as many bytes as it needs, seven bits in each, the lowest ones first.
    Varint {
        /// Width of the largest value, 1 to 64.
        width: u8,
        /// Whether it is zigzag-mapped.
        signed: bool,
    },
    /// The value is bytes, with their count in front if it has a maximum.
    Run {
        /// How many.
        length: Length,
        /// Whether they are text, which fills a fixed length up with zeros.
        text: bool,
    },
    /// The value is a record, which stands here.
    Call(&'a RecordPlan),
    /// The value is a record that may have grown: what its size says and nobody knows here is stepped over.
    Sized {
        /// The bytes in front of it that say its size; `None` if the list has said it.
        bytes: Option<u8>,
        /// The record.
        record: &'a RecordPlan,
    },
    /// The value is several ones, with their count in front if it has a maximum.
    Repeat {
        /// Of what, and how many.
        list: &'a ListPlan,
        /// Bytes in front of all of them, from a whole byte on, that say the size of each; they are not there if the list reaches to the end of the
        /// body and nothing is left.
        once: Option<u8>,
        /// What is done for each.
        each: Vec<Op<'a>>,
    },
    /// The value has one of several forms.
    Select {
        /// Which, and what decides.
        union: &'a UnionPlan,
        /// What is done for each of its forms.
        forms: Vec<Vec<Op<'a>>>,
    },
}

/// The sections of a message or a record.
pub fn sections<'a>(group: &Group<'a>) -> Vec<Section<'a>> {
    (0..group.sections.len()).map(|index| section(group, index)).collect()
}

fn section<'a>(group: &Group<'a>, index: usize) -> Section<'a> {
    let plan = &group.sections[index];
    let known = FixedLayout::of(group.sections, index);
    let mut ops = Vec::new();
    for item in &known.items {
        let step = &plan.steps[item.step];
        match (&item.kind, step.place) {
            (FixedItemKind::Number(_) | FixedItemKind::Spare, _) => {}
            (FixedItemKind::Bytes { byte, count, text: false }, _) => {
                ops.push(Op::Field(item.slot, vec![Op::Bytes { byte: *byte, count: *count as u32 }]));
            }
            (_, place) => {
                ops.extend(go(place));
                ops.push(Op::Field(item.slot, value(&step.action)));
            }
        }
    }
    if !plan.fixed {
        ops.push(Op::Seek(plan.fixed_end));
    }
    for step in &plan.steps[plan.fixed_steps..] {
        let spare = group.fields[step.slot].is_spare();
        let mut then: Vec<Op<'a>> = go(step.place).into_iter().collect();
        match spare {
            true => then.extend(value(&step.action)),
            false => then.push(Op::Field(step.slot, value(&step.action))),
        }
        match step.presence {
            Some(bit) => ops.push(Op::If { slot: (!spare).then_some(step.slot), bit, then }),
            None => ops.extend(then),
        }
    }
    let size = plan.fixed.then_some(plan.greatest_size);
    Section { plan, need: plan.least_size, fixed: known, ops: without_idle(ops), size }
}

fn go<'a>(place: Place) -> Option<Op<'a>> {
    match place {
        Place::Fixed(bit) => Some(Op::Seek(bit as usize)),
        Place::Behind { aligned: true } => Some(Op::Align),
        Place::Behind { aligned: false } => None,
    }
}

/// Of two operations that both say where to go on, the second one alone.
fn without_idle(ops: Vec<Op<'_>>) -> Vec<Op<'_>> {
    let mut kept: Vec<Op<'_>> = Vec::with_capacity(ops.len());
    for op in ops {
        let goes_itself = matches!(op, Op::Seek(_));
        if goes_itself && matches!(kept.last(), Some(Op::Seek(_) | Op::Align)) {
            kept.pop();
        }
        if matches!(op, Op::Align) && matches!(kept.last(), Some(Op::Align)) {
            continue;
        }
        kept.push(op);
    }
    kept
}

/// What is done for a value.
fn value(action: &Action) -> Vec<Op<'_>> {
    match action {
        Action::Bits { width, signed, order } => vec![Op::Number { width: *width, signed: *signed, order: *order }],
        Action::Varint { width, signed } => vec![Op::Varint { width: *width, signed: *signed }],
        Action::Skip { bits } => vec![Op::Skip(*bits)],
        Action::Run { length, text } => vec![Op::Run { length: *length, text: *text }],
        Action::Record(record) => vec![Op::Align, Op::Call(record)],
        Action::List(list) => {
            let once = match list.sizes {
                ElementSizes::Once(bytes) => Some(bytes),
                _ => None,
            };
            vec![Op::Repeat { list, once, each: element(&list.element, list.sizes) }]
        }
        Action::Union(union) => {
            let forms = union.forms.iter().map(|form| value(&form.action)).collect();
            vec![Op::Align, Op::Select { union, forms }]
        }
    }
}

/// What is done for an element of a list.
fn element(element: &Element, sizes: ElementSizes) -> Vec<Op<'_>> {
    let mut ops: Vec<Op<'_>> = element.aligned.then_some(Op::Align).into_iter().collect();
    match (&element.action, sizes) {
        (Action::Record(record), ElementSizes::Once(_)) => ops.push(Op::Sized { bytes: None, record }),
        (Action::Record(record), ElementSizes::Each(bytes)) => {
            ops.push(Op::Align);
            ops.push(Op::Sized { bytes: Some(bytes), record });
        }
        (action, _) => ops.extend(value(action)),
    }
    without_idle(ops)
}

/// The operations as text, one on each line.
pub fn text(group: &Group<'_>) -> String {
    let mut out = format!("{}\n", group.name);
    for section in sections(group) {
        // Writing to a String cannot fail.
        let _ = section_text(group, &section, &mut out);
    }
    out
}

fn section_text(group: &Group<'_>, section: &Section<'_>, out: &mut String) -> fmt::Result {
    writeln!(out, "  section of revision {}: need {} bytes", section.plan.revision, section.need)?;
    for item in &section.fixed.items {
        let name = &group.fields[item.slot].name;
        if let FixedItemKind::Number(pieces) = &item.kind {
            write!(out, "    {name}: bits")?;
            for piece in pieces.iter().rev() {
                write!(out, " {}[{}..{}]", piece.byte, piece.low + piece.bits - 1, piece.low)?;
            }
            writeln!(out)?;
        }
    }
    ops_text(group, &section.ops, 2, out)?;
    match section.size {
        Some(size) => writeln!(out, "    end behind {size} bytes"),
        None => writeln!(out, "    end with this byte"),
    }
}

fn ops_text(group: &Group<'_>, ops: &[Op<'_>], level: usize, out: &mut String) -> fmt::Result {
    let pad = "  ".repeat(level);
    let inner = |ops: &[Op<'_>], out: &mut String| ops_text(group, ops, level + 1, out);
    for op in ops {
        write!(out, "{pad}")?;
        match op {
            Op::Seek(bit) => writeln!(out, "go to bit {bit}")?,
            Op::Align => writeln!(out, "align")?,
            Op::Skip(bits) => writeln!(out, "skip {bits} bits")?,
            Op::Field(slot, ops) => {
                writeln!(out, "{}:", group.fields[*slot].name)?;
                inner(ops, out)?;
            }
            Op::If { bit, then, .. } => {
                writeln!(out, "if bit {} of byte {}", bit % 8, bit / 8)?;
                inner(then, out)?;
            }
            Op::Bytes { byte, count } => writeln!(out, "{count} bytes from byte {byte}")?,
            Op::Number { width, signed, order } => {
                let order = if *order == ByteOrder::Little { "little" } else { "big" };
                writeln!(out, "number of {width} bits, {order}{}", if *signed { ", signed" } else { "" })?;
            }
            Op::Varint { width, signed } => {
                writeln!(out, "compact number of {width} bits{}", if *signed { ", signed" } else { "" })?;
            }
            Op::Run { length, text } => {
                writeln!(out, "{} {}", length_text(*length), if *text { "bytes of text" } else { "bytes" })?;
            }
            Op::Call(record) => writeln!(out, "record {}", record.record.name)?,
            Op::Sized { bytes: Some(bytes), record } => {
                writeln!(out, "record {}, with its size in {bytes} bytes", record.record.name)?;
            }
            Op::Sized { bytes: None, record } => writeln!(out, "record {} of that size", record.record.name)?,
            Op::Repeat { list, once, each } => {
                let said = once.map_or(String::new(), |bytes| format!(", with their size in {bytes} bytes"));
                writeln!(out, "{} times{said}", length_text(list.length))?;
                inner(each, out)?;
            }
            Op::Select { union, forms } => {
                match union.union.selector {
                    Selector::Field(slot) => writeln!(out, "by {}", group.fields[slot].name)?,
                    Selector::Request { .. } => writeln!(out, "by the request")?,
                }
                for (index, ops) in forms.iter().enumerate() {
                    let case = union.union.cases.get(index);
                    let number = case.map_or("else".to_owned(), |case| case.raw.to_string());
                    writeln!(out, "{pad}  {number}: {}", union.forms[index].field.name)?;
                    ops_text(group, ops, level + 2, out)?;
                }
            }
        }
    }
    Ok(())
}

fn length_text(length: Length) -> String {
    match length {
        Length::Exact(count) => count.to_string(),
        Length::UpTo(most) => format!("a count of at most {most}, so many"),
        Length::Rest => "to the end,".to_owned(),
    }
}
