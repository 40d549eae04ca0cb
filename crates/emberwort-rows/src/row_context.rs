//! What all forms know of the definitions in use, and the values of a row as they show them.

use std::fmt::{self, Write as _};
use std::sync::Arc;

use emberwort_capture::labels::{LabelledFields, Labels};
use emberwort_capture::{BrokenFrame, DefinitionId, RevisionMap, Row};
use emberwort_model::Plan;
use emberwort_model::counting::plural;
use emberwort_model::counting::some_of;
use emberwort_model::diagnostics::escaped;
use emberwort_model::hex::hex;
use emberwort_model::ids::{ChannelId, MessageId};
use emberwort_model::model::{End, Field, Kind};
use emberwort_model::plan::MessagePlan;
use emberwort_text::json::{self, Writing};
use emberwort_text::nested_frame;
use emberwort_wire::{ValueRef, Values, is_lossless, sender_revision};

use crate::text_buffer::{ShortText, TextBuffer};

/// What all forms know of the definitions in use.
pub struct RowContext {
    /// The link's own.
    pub plan: Arc<Plan>,
    /// Raw codes for numbers.
    pub raw: bool,
    /// By definition and message.
    pub readings: Vec<Vec<MessageReading>>,
    /// Room to encode bodies in.
    pub again: Vec<u8>,
    /// The parts of rows that are the same for all rows of a message.
    pub texts: Texts,
    /// Texts beside nodes and values.
    pub labels: Option<Arc<Labels>>,
    labelled: LabelledFields,
}

/// What was written last for numbers, by definition, message and slot; made when it is first needed.
#[derive(Default)]
pub struct Texts(Vec<Vec<Vec<WrittenOfField>>>);

impl Texts {
    fn of(&mut self, definition: DefinitionId, message: MessageId, fields: usize) -> &mut [WrittenOfField] {
        if self.0.len() <= definition.index() {
            self.0.resize_with(definition.index() + 1, Vec::new);
        }
        let messages = &mut self.0[definition.index()];
        if messages.len() <= message.index() {
            messages.resize_with(message.index() + 1, Vec::new);
        }
        let slots = &mut messages[message.index()];
        if slots.len() < fields {
            slots.resize_with(fields, WrittenOfField::default);
        }
        slots
    }
}

/// What was written last for numbers of a field: at most one of those that have the same place. Most fields have a few values again and
/// again.
#[derive(Default)]
struct WrittenOfField([Written; 8]);

/// A raw number, and what was written for it; empty if nothing was, or too much to be kept.
#[derive(Clone, Copy, Default)]
struct Written {
    raw: u64,
    text: ShortText,
}

impl WrittenOfField {
    /// Where a number is kept, or another one that has the same place.
    #[inline]
    fn place_of(&mut self, raw: u64) -> &mut Written {
        // Multiplicative hashing (Knuth, The Art of Computer Programming 3, 6.4): the top bits depend on all of them.
        &mut self.0[(raw.wrapping_mul(0x9E37_79B9_7F4A_7C15) >> 61) as usize]
    }
}

/// What there is to say of all rows of a message that were read with one definition.
pub struct MessageReading {
    /// Whether the link's own definition has that message.
    pub is_known: bool,
    /// The fields that it has beyond those of the definition.
    pub lacks: Vec<String>,
    /// The units of the fields, as they are shown.
    pub units: Vec<String>,
    /// The slots of all fields but spare ones.
    pub slots: Vec<usize>,
}

impl MessageReading {
    /// Of a message in one of the definitions in use.
    pub fn of(own: &Plan, plan: &MessagePlan) -> Self {
        let name = &plan.message.name;
        let known = own.messages.iter().find(|own| own.message.name == *name);
        let all = known.iter().flat_map(|own| &own.message.fields).filter(|field| !field.is_spare());
        let lacking = all.filter(|field| plan.message.field(&field.name).is_none());
        Self {
            is_known: known.is_some(),
            lacks: lacking.map(|field| field.name.clone()).collect(),
            units: plan.message.fields.iter().map(|field| escaped(&field.unit)).collect(),
            slots: (0..plan.message.fields.len()).filter(|slot| !plan.message.fields[*slot].is_spare()).collect(),
        }
    }
}

impl RowContext {
    /// Of the definitions in use; `raw` asks for codes in place of what they mean.
    pub fn new(revisions: &RevisionMap, raw: bool, labels: Option<Arc<Labels>>) -> Self {
        let plan = revisions.own().clone();
        let (readings, again, texts, labelled) = Default::default();
        let mut known = Self { plan, raw, readings, again, texts, labels, labelled };
        known.update_revisions(revisions);
        known
    }

    /// The text beside the value in a slot of a row.
    pub fn label(&self, row: &Row<'_>, slot: usize) -> Option<&str> {
        self.labels.as_ref().and_then(|_| self.labelled.of_slot(row, slot))
    }

    /// What the sender's node is called.
    pub fn node_label(&self, node: Option<u64>) -> Option<&str> {
        self.labels.as_ref()?.of_node(node?)
    }

    /// Who sent a row: `from device 3 (north gate)`.
    pub fn sender(&self, row: &Row<'_>) -> String {
        let mut text = format!("from {}", row.from.as_str());
        // Writing to memory cannot fail.
        let _ = row.frame.node.map_or(Ok(()), |node| write!(text, " {node}"));
        let _ = self.node_label(row.frame.node).map_or(Ok(()), |label| write!(text, " ({})", escaped(label)));
        text
    }

    /// There may be more definitions than before.
    pub fn update_revisions(&mut self, revisions: &RevisionMap) {
        let reading = |message: &MessagePlan| MessageReading::of(&self.plan, message);
        let definitions = revisions.definitions()[self.readings.len()..].iter();
        let readings: Vec<_> = definitions.map(|one| one.plan.messages.iter().map(reading).collect()).collect();
        self.readings.extend(readings);
        if let Some(labels) = &self.labels {
            self.labelled.update_revisions(labels, revisions);
        }
    }

    /// What there is to say of all rows of this one's message.
    ///
    /// # Panics
    /// If the row was read with a definition that [`Self::update_revisions`] was not told of.
    pub fn reading(&self, row: &Row<'_>) -> &MessageReading {
        &self.readings[row.definition.index()][row.message.index()]
    }

    /// The sender's revision, if the frame does not say it and the body shows that it is not the definition's own.
    pub(crate) fn assumed_revision(&mut self, row: &Row<'_>) -> Option<u32> {
        let plan = &row.plan.messages[row.message];
        let own = row.plan.link.revision;
        if plan.growth.is_empty() {
            let held = row.values.sections();
            return (held < plan.sections.len()).then(|| plan.sections[held - 1].revision);
        }
        sender_revision(plan, own, row.frame.body, row.values, &mut self.again).filter(|revision| *revision != own)
    }

    /// Whether the fields say all that the body holds, for a sender of the revision that the row says.
    pub fn is_lossless(&mut self, row: &Row<'_>) -> bool {
        let said = row.frame.revision.map(|revision| u32::try_from(revision).unwrap_or(u32::MAX));
        let revision = said.or_else(|| self.assumed_revision(row)).unwrap_or(row.plan.link.revision);
        is_lossless(&row.plan.messages[row.message], row.frame.body, row.values, revision, &mut self.again)
    }

    /// What is worth a word behind a row: bytes of a later revision, a sender of an earlier one.
    pub fn remark(&mut self, row: &Row<'_>) -> Option<String> {
        let mut parts = Vec::new();
        if row.definition != DefinitionId::default() {
            let reading = self.reading(row);
            let mut part = match row.plan.link.revision {
                own if own == self.plan.link.revision => "read with a definition of its own".to_owned(),
                other => format!("read as revision {other}"),
            };
            if !reading.is_known {
                part.push_str("; now there is no such message");
            } else if !reading.lacks.is_empty() {
                let _ = write!(part, ", which has no {}", some_of(reading.lacks.iter().map(String::as_str)));
            }
            parts.push(part);
        }
        let later = row.values.later_bytes();
        let plan = &row.plan.messages[row.message];
        // A line can say a number in several ways.
        let own = row.plan.link.revision;
        let mut is_plain = || sender_revision(plan, own, row.frame.body, row.values, &mut self.again).is_some();
        if later == 0 && plan.message.line.is_none() && !is_plain() {
            parts.push("spare bits are set, or numbers longer than they have to be".to_owned());
        }
        if later > 0 {
            parts.push(format!("{} from a later revision", plural(later, "byte")));
        } else if let Some(lacking) = plan.sections.get(row.values.sections()) {
            parts.push(format!("sender of a revision before {}", lacking.revision));
        }
        (!parts.is_empty()).then(|| format!("({})", parts.join("; ")))
    }

    /// Writes what a form shows of each field that is there, which depends on the field and its value alone.
    pub fn write_fields(
        &mut self,
        row: &Row<'_>,
        out: &mut TextBuffer,
        around: &mut impl FieldMarkup,
        mut write: impl FnMut(&MessageReading, &Shown<'_>, &mut TextBuffer),
    ) {
        let reading = &self.readings[row.definition.index()][row.message.index()];
        let fields = &row.plan.messages[row.message].message.fields;
        let texts = self.texts.of(row.definition, row.message, fields.len());
        for &slot in &reading.slots {
            let value = row.values.get(slot);
            if matches!(value, ValueRef::Absent | ValueRef::Unset) {
                continue;
            }
            around.before(slot, out);
            let kept = match value {
                ValueRef::Raw(number) => Some((number, texts[slot].place_of(number))),
                _ => None,
            };
            match kept {
                Some((number, Written { raw, text })) if *raw == number && !text.is_empty() => out.push_short(text),
                kept => {
                    let (start, field) = (out.len(), &fields[slot]);
                    let shown =
                        Shown { plan: row.plan, from: row.from, field, values: row.values, slot, raw: self.raw };
                    write(reading, &shown, out);
                    if let Some((raw, written)) = kept {
                        *written = Written { raw, text: out.short_since(start).unwrap_or_default() };
                    }
                }
            }
            if let Some(label) = self.labels.as_ref().and_then(|_| self.labelled.of_slot(row, slot)) {
                around.label(label, out);
            }
            around.after(out);
        }
    }

    /// What is wrong with a frame.
    pub fn sentence(&self, broken: &BrokenFrame<'_>) -> String {
        let sentence = broken.fault.sentence(broken.plan, broken.direction);
        match Arc::ptr_eq(broken.plan, &self.plan) {
            true => sentence,
            false if broken.plan.link.revision == self.plan.link.revision => {
                format!("{sentence} (read with a definition of its own)")
            }
            false => format!("{sentence} (read as revision {})", broken.plan.link.revision),
        }
    }

    /// The name of a channel of the link's own definition.
    pub fn channel(&self, channel: ChannelId) -> &str {
        &self.plan.channels[channel].name
    }
}

/// What a form writes around each field of a row.
pub trait FieldMarkup {
    /// In front of the field in a slot.
    fn before(&mut self, _slot: usize, _: &mut TextBuffer) {}
    fn after(&mut self, _: &mut TextBuffer) {}
    /// Behind a value that has a text beside it, before `after`.
    fn label(&mut self, _: &str, _: &mut TextBuffer) {}
}

/// A text beside a value, as people read it.
pub(crate) fn write_label(label: &str, out: &mut TextBuffer) {
    out.push_str(" (");
    out.push_str(&escaped(label));
    out.push(')');
}

impl FieldMarkup for () {}

/// A value to be shown.
pub struct Shown<'a> {
    pub plan: &'a Plan,
    pub from: End,
    pub field: &'a Field,
    pub values: &'a Values,
    pub slot: usize,
    /// Raw codes for numbers.
    pub raw: bool,
}

impl Shown<'_> {
    pub fn value(&self) -> ValueRef<'_> {
        self.values.get(self.slot)
    }

    /// Writes it for people; a frame inside is shown by what it carries.
    pub fn write(&self, out: &mut impl fmt::Write) {
        write_value(self.plan, self.from, self.field, (self.values, self.slot), self.raw, out);
    }

    /// Writes it as NDJSON has it.
    pub(crate) fn write_json(&self, out: &mut impl fmt::Write) {
        let writing = Writing { raw: self.raw, inside: Some((self.plan, self.from)) };
        // Writing to memory cannot fail.
        let _ = json::write_value(self.field, self.values, self.slot, writing, out);
    }
}

/// Writes one value as a table has it, without its unit.
pub fn write_value(
    plan: &Plan,
    from: End,
    field: &Field,
    (values, slot): (&Values, usize),
    raw: bool,
    out: &mut impl fmt::Write,
) {
    // Writing to memory cannot fail.
    let _ = try_write_value((plan, from), field, (values, slot), raw, out);
}

fn try_write_value(
    (plan, from): (&Plan, End),
    field: &Field,
    (values, slot): (&Values, usize),
    raw: bool,
    out: &mut impl fmt::Write,
) -> fmt::Result {
    let write_plain = |field: &Field, values: &Values, slot, out: &mut _| match raw {
        true => emberwort_text::write_raw_value(field, values, slot, out),
        false => emberwort_text::write_value(field, values, slot, out),
    };
    if let (Kind::NestedFrame { channel, .. }, ValueRef::Bytes(bytes)) = (&field.kind, values.get(slot)) {
        match nested_frame::open(plan, *channel, from, bytes) {
            Ok(inner) => {
                let message = &plan.messages[inner.message].message;
                out.write_str(&message.name)?;
                if let Some(node) = inner.node {
                    write!(out, " node {node}")?;
                }
                out.write_str(" {")?;
                let mut first = true;
                for (n, field) in message.fields.iter().enumerate() {
                    if field.is_spare() || matches!(inner.values.get(n), ValueRef::Absent | ValueRef::Unset) {
                        continue;
                    }
                    write!(out, "{}{}=", if first { "" } else { "  " }, field.name)?;
                    first = false;
                    write_plain(field, &inner.values, n, out)?;
                }
                return out.write_char('}');
            }
            Err(fault) => return write!(out, "{} (no good frame: {})", hex(bytes), fault.reason()),
        }
    }
    write_plain(field, values, slot, out)
}
