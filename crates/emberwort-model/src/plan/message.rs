//! The plan of a message's body: sections, and in each a list of steps with their bit places.
//!
//! Records have plans of the same kind, to which the steps of messages (and of other records) point.

use std::collections::HashMap;
use std::sync::Arc;

use crate::ids::MessageId;
use crate::model::{ByteOrder, Field, Kind, Length, Message, Record, Selector, Union, section_revisions};

/// The compiled form of a message's body.
#[derive(Clone, Debug)]
pub struct MessagePlan {
    /// What the message means. Slots of the steps are indices into its fields.
    pub message: Arc<Message>,
    /// The order of bytes and bits.
    pub byte_order: ByteOrder,
    /// The section of revision 1, then one for each later revision that added fields.
    pub sections: Vec<SectionPlan>,
    /// Whether a field reaches to the body's end, however long that is.
    pub has_rest: bool,
    /// Whether a value's form depends on another one.
    pub has_union: bool,
    /// The revisions, rising, in which records grew that lie in it: a sender's revision decides about their size, too.
    pub growth: Vec<u32>,
    /// Most bytes of such a field, as the channels leave them.
    pub rest_bytes: usize,
    /// The request (by index) and its field that decide about a value of this answer.
    pub request: Option<(MessageId, usize)>,
    /// The fields of this request that decide about values of its answers.
    pub deciding: Vec<usize>,
}

/// Most bytes of a field that reaches to the end, in a message that travels on no channel.
const REST_WITHOUT_CHANNEL: usize = 256;

impl MessagePlan {
    /// The index of the section of a revision that a sender of `revision` still writes: how many it writes.
    pub fn sections_of(&self, revision: u32) -> usize {
        held(&self.sections, revision)
    }

    /// The fewest bytes of a body with all sections.
    pub fn least_size(&self) -> usize {
        self.sections.iter().map(|section| section.least_size).sum()
    }

    /// The most bytes of a body with all sections; a field that reaches to the end counts with [`Self::rest_bytes`].
    pub fn greatest_size(&self) -> usize {
        self.greatest_without_rest() + if self.has_rest { self.rest_bytes } else { 0 }
    }

    pub(crate) fn greatest_without_rest(&self) -> usize {
        self.sections.iter().map(|section| section.greatest_size).fold(0, usize::saturating_add)
    }
}

/// The request and its field that decide about a field's value.
fn request_of(field: &Field) -> Option<(MessageId, usize)> {
    let Kind::Union(union) = &field.kind else { return None };
    match union.selector {
        Selector::Request { message, slot } => Some((message, slot)),
        Selector::Field(_) => None,
    }
}

/// How many sections a sender of this revision writes.
fn held(sections: &[SectionPlan], revision: u32) -> usize {
    sections.iter().take_while(|section| section.revision <= revision).count()
}

/// The compiled form of a record.
#[derive(Clone, Debug)]
pub struct RecordPlan {
    /// What the record means. Slots of the steps are indices into its fields.
    pub record: Arc<Record>,
    /// The section of revision 1, then one for each later revision that added fields.
    pub sections: Vec<SectionPlan>,
}

impl RecordPlan {
    /// How many sections a sender of this revision writes.
    pub fn sections_of(&self, revision: u32) -> usize {
        held(&self.sections, revision)
    }

    /// Fewest and most bytes with this many sections.
    pub fn sizes(&self, sections: usize) -> (usize, usize) {
        let add = |size: fn(&SectionPlan) -> usize| {
            self.sections.iter().take(sections).map(size).fold(0, usize::saturating_add)
        };
        (add(|section| section.least_size), add(|section| section.greatest_size))
    }

    /// Whether its size depends on its values.
    pub fn varies(&self) -> bool {
        self.sections.iter().any(|section| section.least_size != section.greatest_size)
    }
}

/// The compiled form of one section.
#[derive(Clone, Debug)]
pub struct SectionPlan {
    /// The revision that added it; 1 for the first.
    pub revision: u32,
    /// Bytes of the presence bitmap at its start; 0 without optional fields.
    pub presence_bytes: usize,
    /// What to do, field after field.
    pub steps: Vec<Step>,
    /// The raw numbers at the section's start whose places are fixed, for reading them fast; `steps` has them too.
    pub lead: Vec<LeadField>,
    /// How many of the steps `lead` stands for, spare space included.
    pub lead_steps: usize,
    /// One past the highest of their bits.
    pub lead_end: usize,
    /// How many steps at the start always lie at the same place and have the same size.
    pub fixed_steps: usize,
    /// The first bit behind all of them.
    pub fixed_end: usize,
    /// Its fewest bytes.
    pub least_size: usize,
    /// Its most bytes, without a field that reaches to the body's end. Equal to `least_size` if all places are fixed.
    pub greatest_size: usize,
    /// Whether its size, and with it every place, is always the same, whatever its bytes are.
    pub fixed: bool,
    /// The bits that no field fills, each byte that has some with a mask, counted from the section's start: where all of them are
    /// zero, the section's values are encoded as the same bytes again. `None` where that cannot be said by bits of known places.
    pub blank: Option<Vec<(u32, u8)>>,
}

/// A raw number at a fixed place, ready to be read with one load of eight bytes.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct LeadField {
    /// Index of the field in the message or record.
    pub slot: u32,
    /// The byte in which it begins, from the section's start.
    pub byte: u32,
    /// The first bit in that byte, in the order in which bits are filled.
    pub shift: u8,
    /// Width; `shift + width` is at most 64.
    pub width: u8,
    /// Whether it is in two's complement.
    pub signed: bool,
    /// The order of its bytes and bits.
    pub order: ByteOrder,
}

/// What to do for one field.
#[derive(Clone, Debug)]
pub struct Step {
    /// Index of the field in the message or record.
    pub slot: usize,
    /// Where it lies.
    pub place: Place,
    /// Its bit in the presence bitmap, if it is optional.
    pub presence: Option<u32>,
    /// What lies there.
    pub action: Action,
}

/// Where a field lies in its section.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Place {
    /// Always at this bit from the section's start, counted in the order in which the field's bits are filled.
    Fixed(u32),
    /// Behind the field before it, whose place or size varies; from the next byte boundary on if `aligned`.
    Behind {
        /// Whether zero bits fill up the byte before.
        aligned: bool,
    },
}

/// What lies at a place.
#[derive(Clone, Debug)]
pub enum Action {
    /// A raw number.
    Bits {
        /// Width, 1 to 64.
        width: u8,
        /// Whether it is in two's complement.
        signed: bool,
        /// The order of its bytes and bits.
        order: ByteOrder,
    },
    /// A raw number of variable length: seven bits a byte, low group first.
    Varint {
        /// Width of the largest value, 1 to 64.
        width: u8,
        /// Whether it is zigzag-mapped.
        signed: bool,
    },
    /// Bytes.
    Run {
        /// How many.
        length: Length,
        /// Whether it is text, which fills a fixed length up with zeros.
        text: bool,
    },
    /// Space without a name.
    Skip {
        /// How many bits.
        bits: u32,
    },
    /// The fields of a record.
    Record(Arc<RecordPlan>),
    /// Several values of one form.
    List(Arc<ListPlan>),
    /// A value whose form depends on another one.
    Union(Arc<UnionPlan>),
}

/// The compiled form of a list.
#[derive(Clone, Debug)]
pub struct ListPlan {
    /// The form of each element.
    pub element: Element,
    /// How many.
    pub length: Length,
    /// How elements that can grow say their size.
    pub sizes: ElementSizes,
}

/// How the elements of a list say their size.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum ElementSizes {
    /// Not at all: they are not of an extensible record.
    None,
    /// Once in front of all of them, in so many bytes.
    Once(u8),
    /// Each in front of itself, in so many bytes.
    Each(u8),
}

/// The compiled form of a union.
#[derive(Clone, Debug)]
pub struct UnionPlan {
    /// What it means.
    pub union: Arc<Union>,
    /// The compiled forms: those of its cases, then that of `otherwise`.
    pub forms: Vec<Element>,
}

/// The form of a list's element, or of a union.
#[derive(Clone, Debug)]
pub struct Element {
    /// What it means.
    pub field: Arc<Field>,
    /// What lies there.
    pub action: Action,
    /// Whether it starts at a byte boundary.
    pub aligned: bool,
}

/// Bytes of the count of something with a maximum: one below 256, else two.
pub fn count_bytes(max: u32) -> u8 {
    if max < 256 { 1 } else { 2 }
}

impl Action {
    /// Fewest and most bits; a field that reaches to the end counts as nothing.
    pub fn bits(&self) -> (u64, u64) {
        match self {
            Action::Bits { width, .. } => (u64::from(*width), u64::from(*width)),
            Action::Varint { width, .. } => (8, u64::from(width.div_ceil(7)) * 8),
            Action::Run { length, .. } => sized(*length, 8, 8, 8),
            Action::Skip { bits } => (u64::from(*bits), u64::from(*bits)),
            Action::Record(record) => {
                let (least, greatest) = record.sizes(record.sections.len());
                (least as u64 * 8, (greatest as u64).saturating_mul(8))
            }
            Action::List(list) => list.bits(),
            Action::Union(union) => {
                let sizes = || union.forms.iter().map(|form| form.action.bits());
                (sizes().map(|(least, _)| least).min().unwrap_or(0), sizes().map(|(_, most)| most).max().unwrap_or(0))
            }
        }
    }

    /// Whether its size can be known without looking at its bytes, and every byte of it can be read.
    fn is_plain(&self) -> bool {
        match self {
            Action::Bits { .. } | Action::Skip { .. } => true,
            Action::Run { length, .. } => matches!(length, Length::Exact(_)),
            Action::Record(record) => record.sections.iter().all(|section| section.fixed),
            Action::List(list) => {
                matches!(list.length, Length::Exact(_))
                    && list.sizes == ElementSizes::None
                    && list.element.action.is_plain()
            }
            Action::Varint { .. } | Action::Union(_) => false,
        }
    }

    /// Whether it reaches to the body's end.
    pub fn has_rest(&self) -> bool {
        match self {
            Action::Run { length, .. } => *length == Length::Rest,
            Action::List(list) => list.length == Length::Rest,
            // Of a value that the request decides about, the bytes without the request are a makeshift.
            Action::Union(union) => match union.union.selector {
                Selector::Field(_) => union.forms.iter().any(|form| form.action.has_rest()),
                Selector::Request { .. } => {
                    union.forms.iter().take(union.union.cases.len()).any(|form| form.action.has_rest())
                }
            },
            Action::Record(record) => record.sections.iter().flat_map(|s| &s.steps).any(|step| step.action.has_rest()),
            Action::Bits { .. } | Action::Varint { .. } | Action::Skip { .. } => false,
        }
    }

    /// Adds the revisions in which records grew that lie in it.
    fn growth(&self, out: &mut Vec<u32>) {
        match self {
            Action::Union(union) => union.forms.iter().for_each(|form| form.action.growth(out)),
            Action::List(list) => list.element.action.growth(out),
            Action::Record(record) => {
                out.extend(record.sections.iter().skip(1).map(|section| section.revision));
                record.sections.iter().flat_map(|s| &s.steps).for_each(|step| step.action.growth(out));
            }
            Action::Bits { .. } | Action::Varint { .. } | Action::Run { .. } | Action::Skip { .. } => {}
        }
    }

    /// Whether a union lies in it.
    fn has_union(&self) -> bool {
        match self {
            Action::Union(_) => true,
            Action::List(list) => list.element.action.has_union(),
            Action::Record(record) => record.sections.iter().flat_map(|s| &s.steps).any(|step| step.action.has_union()),
            _ => false,
        }
    }
}

/// Fewest and most bits of so many items, with their count.
fn sized(length: Length, least: u64, greatest: u64, stride: u64) -> (u64, u64) {
    let all = |count: u32, size: u64| match count {
        0 => 0,
        count => (u64::from(count) - 1).saturating_mul(size.next_multiple_of(stride)).saturating_add(size),
    };
    match length {
        Length::Exact(count) => (all(count, least), all(count, greatest)),
        Length::UpTo(max) => {
            let count = u64::from(count_bytes(max)) * 8;
            (count, all(max, greatest).saturating_add(count))
        }
        Length::Rest => (0, 0),
    }
}

impl ListPlan {
    fn bits(&self) -> (u64, u64) {
        let (mut least, mut greatest) = self.element.action.bits();
        if let (Action::Record(record), true) = (&self.element.action, self.sizes != ElementSizes::None) {
            // A sender of an early revision writes shorter elements.
            least = record.sizes(1).0 as u64 * 8;
        }
        if let ElementSizes::Each(bytes) = self.sizes {
            least += u64::from(bytes) * 8;
            greatest = greatest.saturating_add(u64::from(bytes) * 8);
        }
        let stride = if self.element.aligned || self.sizes != ElementSizes::None { 8 } else { 1 };
        let (least, greatest) = sized(self.length, least, greatest, stride);
        match self.sizes {
            ElementSizes::Once(bytes) if self.length != Length::Rest => {
                (least + u64::from(bytes) * 8, greatest.saturating_add(u64::from(bytes) * 8))
            }
            _ => (least, greatest),
        }
    }
}

/// Compiles messages and records; each record once.
pub(crate) struct Compiler {
    byte_order: ByteOrder,
    records: HashMap<String, Arc<RecordPlan>>,
}

impl Compiler {
    pub(crate) fn new(byte_order: ByteOrder) -> Self {
        Self { byte_order, records: HashMap::new() }
    }

    pub(crate) fn message(&mut self, message: &Arc<Message>) -> MessagePlan {
        let sections = self.sections(&message.fields);
        let any = |wanted: fn(&Action) -> bool| sections.iter().flat_map(|s| &s.steps).any(|step| wanted(&step.action));
        MessagePlan {
            message: message.clone(),
            byte_order: self.byte_order,
            has_rest: any(Action::has_rest),
            has_union: any(Action::has_union),
            growth: {
                let mut growth = Vec::new();
                sections.iter().flat_map(|section| &section.steps).for_each(|step| step.action.growth(&mut growth));
                growth.sort_unstable();
                growth.dedup();
                growth
            },
            rest_bytes: REST_WITHOUT_CHANNEL,
            request: message.fields.iter().find_map(request_of),
            deciding: Vec::new(),
            sections,
        }
    }

    pub(crate) fn record(&mut self, record: &Arc<Record>) -> Arc<RecordPlan> {
        if let Some(plan) = self.records.get(&record.name) {
            return plan.clone();
        }
        let plan = Arc::new(RecordPlan { record: record.clone(), sections: self.sections(&record.fields) });
        self.records.insert(record.name.clone(), plan.clone());
        plan
    }

    fn sections(&mut self, fields: &[Field]) -> Vec<SectionPlan> {
        section_revisions(fields).into_iter().map(|revision| self.section(fields, revision)).collect()
    }

    pub(crate) fn element(&mut self, field: &Arc<Field>) -> Element {
        Element { field: field.clone(), action: self.action(field), aligned: starts_at_byte(&field.kind) }
    }

    pub(crate) fn action(&mut self, field: &Field) -> Action {
        let action = match &field.kind {
            Kind::Varint(form) => Action::Varint { width: form.bits, signed: form.signed },
            Kind::Text { length, .. } => Action::Run { length: *length, text: true },
            Kind::Bytes(length) => Action::Run { length: *length, text: false },
            Kind::NestedFrame { .. } => Action::Run { length: Length::Rest, text: false },
            Kind::Spare { bits } => Action::Skip { bits: *bits },
            Kind::Record(record) => Action::Record(self.record(record)),
            Kind::List { element, length } => Action::List(Arc::new(self.list(element, *length))),
            Kind::Union(union) => {
                let all = union.cases.iter().map(|case| &case.field).chain(&union.otherwise);
                let forms = all.map(|field| self.element(field)).collect();
                Action::Union(Arc::new(UnionPlan { union: union.clone(), forms }))
            }
            Kind::Number(_) | Kind::Bool | Kind::Float(_) | Kind::Time { .. } | Kind::Enum { .. } | Kind::Flags(_) => {
                Action::Bits {
                    width: field.kind.raw_bits().unwrap_or(1),
                    signed: field.kind.is_signed(),
                    order: field.order,
                }
            }
        };
        // What is retired only keeps its place.
        if field.retired { Action::Skip { bits: action.bits().1 as u32 } } else { action }
    }

    fn list(&mut self, element: &Arc<Field>, length: Length) -> ListPlan {
        let element = self.element(element);
        let sizes = match &element.action {
            Action::Record(plan) if plan.record.extensible => {
                let bytes = if plan.sizes(plan.sections.len()).1 > 255 { 2 } else { 1 };
                if plan.varies() { ElementSizes::Each(bytes) } else { ElementSizes::Once(bytes) }
            }
            _ => ElementSizes::None,
        };
        ListPlan { element, length, sizes }
    }

    fn section(&mut self, fields: &[Field], revision: u32) -> SectionPlan {
        let all: Vec<(usize, &Field)> =
            fields.iter().enumerate().filter(|(_, field)| field.since == revision).collect();
        let optional = all.iter().filter(|(_, field)| field.optional).count();
        let presence_bytes = optional.div_ceil(8);

        let mut steps = Vec::with_capacity(all.len());
        let mut presence = 0;
        // Fewest and most bits so far; while they are equal, places are fixed.
        let (mut least, mut greatest) = (presence_bytes as u64 * 8, presence_bytes as u64 * 8);
        let mut fixed = true;
        let (mut fixed_steps, mut fixed_end) = (0, least);
        for (slot, field) in all {
            let aligned = starts_at_byte(&field.kind);
            let action = self.action(field);
            let (fewest, most) = action.bits();
            if let Some(at) = field.at {
                // Only where all places before are fixed; the resolver reports the others by `fixed_steps`.
                let place = place_of(at, field.order);
                let end = self.end_of(place, most, field.order);
                least = least.max(end);
                greatest = greatest.max(end);
                steps.push(Step { slot, place: Place::Fixed(place as u32), presence: None, action });
                if fixed {
                    (fixed_steps, fixed_end) = (steps.len(), greatest);
                }
                continue;
            }
            if aligned {
                greatest = greatest.saturating_add(7) / 8 * 8;
                // An absent field takes no space, and none is filled up in front of it.
                if !field.optional {
                    least = least.next_multiple_of(8);
                }
            }
            let place = if fixed { Place::Fixed(greatest as u32) } else { Place::Behind { aligned } };
            let presence_bit = field.optional.then(|| {
                presence += 1;
                presence - 1
            });
            if !field.optional {
                least = least.saturating_add(fewest);
            }
            greatest = greatest.saturating_add(most);
            fixed &= least == greatest && action.is_plain();
            steps.push(Step { slot, place, presence: presence_bit, action });
            if fixed {
                (fixed_steps, fixed_end) = (steps.len(), greatest);
            }
        }
        let (lead, lead_steps, lead_end) = lead_of(&steps[..fixed_steps], presence_bytes * 8);
        let greatest_size = greatest.div_ceil(8) as usize;
        let is_fixed = fixed && fixed_steps == steps.len();
        let known_bytes = if is_fixed { greatest_size } else { fixed_end.div_ceil(8) as usize };
        let blank = blank_of(&steps, (fixed_steps, fixed_end), (known_bytes, optional), self.byte_order);
        SectionPlan {
            blank,
            revision,
            presence_bytes,
            lead,
            lead_steps,
            lead_end,
            fixed_steps,
            fixed_end: fixed_end as usize,
            least_size: least.div_ceil(8) as usize,
            greatest_size,
            fixed: is_fixed,
            steps,
        }
    }

    /// The first bit that is free behind a field with an explicit place, in the order in which the link fills bits.
    fn end_of(&self, place: u64, bits: u64, order: ByteOrder) -> u64 {
        let last = place + bits - 1;
        // Seen in the other order, the whole last byte (or, within one byte, its other end) is in use.
        if order == self.byte_order { last + 1 } else { in_other_order(place, last) + 1 }
    }
}

/// The highest of the bits from `first` to `last`, when bits are counted in the other order.
fn in_other_order(first: u64, last: u64) -> u64 {
    let begins_in_last_byte = first / 8 == last / 8;
    last / 8 * 8 + if begins_in_last_byte { 7 - first % 8 } else { 7 }
}

/// The first bit of an explicit place, in the order in which a field of this order is filled.
pub(crate) fn place_of((byte, bit): (u32, u8), order: ByteOrder) -> u64 {
    let in_byte = match order {
        ByteOrder::Little => u64::from(bit),
        ByteOrder::Big => 7 - u64::from(bit),
    };
    u64::from(byte) * 8 + in_byte
}

/// Whether fields of this form start at a byte boundary.
pub fn starts_at_byte(kind: &Kind) -> bool {
    match kind {
        Kind::Float(_) | Kind::Varint(_) | Kind::Record(_) | Kind::Union(_) | Kind::NestedFrame { .. } => true,
        Kind::Text { length, .. } | Kind::Bytes(length) => !matches!(length, Length::Exact(_)),
        Kind::List { element, length } => {
            !matches!(length, Length::Exact(_))
                || starts_at_byte(&element.kind)
                || matches!(&element.kind, Kind::Record(_))
        }
        Kind::Number(_) | Kind::Bool | Kind::Time { .. } | Kind::Enum { .. } | Kind::Flags(_) | Kind::Spare { .. } => {
            false
        }
    }
}

/// The bits that no field fills in the first bytes of a section, whose places are known; `None` if what follows, or what lies there,
/// can hold more of them.
fn blank_of(
    steps: &[Step],
    (fixed_steps, fixed_end): (usize, u64),
    (known_bytes, optional): (usize, usize),
    byte_order: ByteOrder,
) -> Option<Vec<(u32, u8)>> {
    let mut filled = vec![0u8; known_bytes];
    for n in 0..optional {
        filled[n / 8] |= 1 << (n % 8);
    }
    for step in &steps[..fixed_steps] {
        let (bits, order) = match step.action {
            Action::Bits { width, order, .. } => (u32::from(width), order),
            Action::Run { length: Length::Exact(count), .. } => (count.checked_mul(8)?, byte_order),
            Action::Skip { .. } => continue,
            _ => return None,
        };
        let Place::Fixed(first) = step.place else { return None };
        for bit in first..first + bits {
            let in_byte = match order {
                ByteOrder::Little => bit % 8,
                ByteOrder::Big => 7 - bit % 8,
            };
            *filled.get_mut(bit as usize / 8)? |= 1 << in_byte;
        }
    }
    // Behind them only whole bytes, so that nothing more is filled up.
    let follows = |step: &Step| {
        let starts = matches!(step.action, Action::Run { length: Length::UpTo(_) | Length::Rest, .. });
        let is_whole = match step.action {
            Action::Run { .. } => true,
            Action::Bits { width, .. } => width % 8 == 0,
            _ => false,
        };
        let is_next = match step.place {
            Place::Fixed(at) => at as usize == known_bytes * 8,
            Place::Behind { .. } => true,
        };
        is_whole && is_next && (starts || fixed_end.is_multiple_of(8))
    };
    if !steps[fixed_steps..].iter().all(follows) {
        return None;
    }
    let blank = filled.iter().enumerate().filter(|(_, filled)| **filled != u8::MAX);
    Some(blank.map(|(byte, filled)| (byte as u32, !filled)).collect())
}

/// The fields at a section's start that can be read with one load each, how many steps they are, and the bit behind them.
fn lead_of(steps: &[Step], start: usize) -> (Vec<LeadField>, usize, usize) {
    let mut lead = Vec::new();
    let mut end = start;
    for (index, step) in steps.iter().enumerate() {
        let Place::Fixed(bit) = step.place else { return (lead, index, end) };
        match step.action {
            Action::Bits { width, signed, order } if bit % 8 + u32::from(width) <= 64 => {
                let (byte, shift) = (bit / 8, (bit % 8) as u8);
                lead.push(LeadField { slot: step.slot as u32, byte, shift, width, signed, order });
            }
            Action::Skip { .. } => {}
            _ => return (lead, index, end),
        }
        end = end.max(bit as usize + step.action.bits().1 as usize);
    }
    (lead, steps.len(), end)
}
