//! Body bytes to values, and the same walk without values, which only says whether it could be done.

use emberwort_model::model::{ByteOrder, Field, Length, Selector};
use emberwort_model::plan::{
    Action, ElementSizes, ListPlan, MessagePlan, Place, RecordPlan, SectionPlan, Step, UnionPlan, count_bytes,
};

use super::{BodyError, Extent};
use crate::bits;
use crate::values::{ValueRef, Values};

/// What a walk over a body does with what it finds.
trait Target {
    /// Whether it wants the numbers at the start of sections, too.
    const WANTS_VALUES: bool;
    /// Whether it wants to know where each value lies.
    const WANTS_PLACES: bool = false;
    /// Where a value lies: its first bit, and the one behind it.
    fn place(&mut self, slot: usize, bits: (usize, usize)) {
        let _ = (slot, bits);
    }
    fn raw(&mut self, slot: usize, raw: u64);
    fn bytes(&mut self, slot: usize, bytes: &[u8], text_of_fixed_length: bool);
    fn scattered(&mut self, slot: usize, bytes: impl Iterator<Item = u8>, text: bool);
    fn absent(&mut self, slot: usize);
    fn unset(&mut self, slot: usize);
    fn set_missing(&mut self, slot: usize, field: &Field);
    fn group(&mut self, slot: usize, count: usize) -> usize;
    fn unplaced(&mut self) -> usize;
    fn gather(&mut self, slot: usize, slots: &[usize]);
    fn chosen(&mut self, slot: usize, form: usize) -> usize;
    fn selector(&self, slot: usize) -> Option<u64>;
}

impl Target for Values {
    const WANTS_VALUES: bool = true;

    #[inline]
    fn raw(&mut self, slot: usize, raw: u64) {
        self.set_raw(slot, raw);
    }

    fn bytes(&mut self, slot: usize, bytes: &[u8], text_of_fixed_length: bool) {
        self.set_bytes(slot, bytes);
        if text_of_fixed_length {
            self.trim_zeros(slot);
        }
    }

    fn scattered(&mut self, slot: usize, bytes: impl Iterator<Item = u8>, text: bool) {
        self.set_bytes_from(slot, bytes);
        if text {
            self.trim_zeros(slot);
        }
    }

    fn absent(&mut self, slot: usize) {
        self.set_absent(slot);
    }

    fn unset(&mut self, slot: usize) {
        self.set_unset(slot);
    }

    fn set_missing(&mut self, slot: usize, field: &Field) {
        self.set_default(slot, field.default.as_ref());
    }

    fn group(&mut self, slot: usize, count: usize) -> usize {
        self.set_group(slot, count)
    }

    fn unplaced(&mut self) -> usize {
        self.loose_slot()
    }

    fn gather(&mut self, slot: usize, slots: &[usize]) {
        self.list_slots(slot, slots);
    }

    fn chosen(&mut self, slot: usize, form: usize) -> usize {
        self.set_chosen(slot, form)
    }

    fn selector(&self, slot: usize) -> Option<u64> {
        match self.get(slot) {
            ValueRef::Raw(raw) => Some(raw),
            _ => None,
        }
    }
}

/// In place of a slot: a bit that says whether an optional field is there.
pub const PRESENCE: usize = usize::MAX;

/// Where a value lies in a body.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct ValuePlace {
    /// Its slot in the values; [`PRESENCE`] for the bit that says whether an optional field is there.
    pub slot: usize,
    /// Its bits, counted from the first of the body in the order in which bits are filled; with the count in front of a text or a list.
    pub bits: std::ops::Range<usize>,
}

/// Takes the values, and where they lie.
struct Placed<'v> {
    values: &'v mut Values,
    places: Vec<ValuePlace>,
}

impl Target for Placed<'_> {
    const WANTS_VALUES: bool = true;
    const WANTS_PLACES: bool = true;

    fn place(&mut self, slot: usize, (from, to): (usize, usize)) {
        self.places.push(ValuePlace { slot, bits: from..to });
    }
    fn raw(&mut self, slot: usize, raw: u64) {
        self.values.raw(slot, raw);
    }
    fn bytes(&mut self, slot: usize, bytes: &[u8], text_of_fixed_length: bool) {
        self.values.bytes(slot, bytes, text_of_fixed_length);
    }
    fn scattered(&mut self, slot: usize, bytes: impl Iterator<Item = u8>, text: bool) {
        self.values.scattered(slot, bytes, text);
    }
    fn absent(&mut self, slot: usize) {
        self.values.absent(slot);
    }
    fn unset(&mut self, slot: usize) {
        self.values.unset(slot);
    }
    fn set_missing(&mut self, slot: usize, field: &Field) {
        self.values.set_missing(slot, field);
    }
    fn group(&mut self, slot: usize, count: usize) -> usize {
        self.values.group(slot, count)
    }
    fn unplaced(&mut self) -> usize {
        self.values.unplaced()
    }
    fn gather(&mut self, slot: usize, slots: &[usize]) {
        self.values.gather(slot, slots);
    }
    fn chosen(&mut self, slot: usize, form: usize) -> usize {
        self.values.chosen(slot, form)
    }
    fn selector(&self, slot: usize) -> Option<u64> {
        self.values.selector(slot)
    }
}

/// Reads a body into values, as [`decode_answer`] does, and tells where each of them lies. Of messages that are lines of text nothing is told.
///
/// # Errors
/// As [`decode`].
pub fn decode_places(
    plan: &MessagePlan,
    body: &[u8],
    key: Option<u64>,
    values: &mut Values,
) -> Result<Vec<ValuePlace>, BodyError> {
    values.reuse(plan);
    let mut placed = Placed { values, places: Vec::new() };
    let extent = walk(plan, body, body.len(), key, &mut placed)?;
    let places = placed.places;
    values.set_extent(extent.sections, extent.later_bytes);
    Ok(places)
}

/// Takes nothing: for checking whether a body without unions can be decoded.
struct CheckOnly;

impl Target for CheckOnly {
    const WANTS_VALUES: bool = false;

    fn raw(&mut self, _: usize, _: u64) {}
    fn bytes(&mut self, _: usize, _: &[u8], _: bool) {}
    fn scattered(&mut self, _: usize, _: impl Iterator<Item = u8>, _: bool) {}
    fn absent(&mut self, _: usize) {}
    fn unset(&mut self, _: usize) {}
    fn set_missing(&mut self, _: usize, _: &Field) {}
    fn group(&mut self, _: usize, _: usize) -> usize {
        0
    }
    fn unplaced(&mut self) -> usize {
        0
    }
    fn gather(&mut self, _: usize, _: &[usize]) {}
    fn chosen(&mut self, _: usize, _: usize) -> usize {
        0
    }
    fn selector(&self, _: usize) -> Option<u64> {
        None
    }
}

/// Reads a body into values.
///
/// Sections that the body lacks take their defaults or are absent; bytes behind the last section that the plan knows, and those
/// in elements of lists behind the fields that it knows, are counted in [`Values::later_bytes`].
///
/// # Errors
/// If the body ends inside a section, a count is above its maximum, a varint has too many bits, or a number selects
/// no form.
pub fn decode(plan: &MessagePlan, body: &[u8], values: &mut Values) -> Result<(), BodyError> {
    decode_answer(plan, body, None, values)
}

/// Reads the body of a message that answers a request into values, as [`decode`] does: `key` is what the request's deciding field held, if it is known. Without
/// it, a value whose form it decides is read as bytes.
///
/// # Errors
/// As [`decode`].
pub fn decode_answer(plan: &MessagePlan, body: &[u8], key: Option<u64>, values: &mut Values) -> Result<(), BodyError> {
    values.reuse(plan);
    // Short bodies, and most are, get room behind them, so that every field can be read with one load.
    let extent = if body.len() <= SHORT {
        let mut padded = [0; SHORT + 8];
        padded[..body.len()].copy_from_slice(body);
        walk(plan, &padded, body.len(), key, values)
    } else {
        walk(plan, body, body.len(), key, values)
    }
    .map_err(|error| no_form_if_so(plan, body, key, error))?;
    values.set_extent(extent.sections, extent.later_bytes);
    Ok(())
}

/// A body may be too short since the number that decides about a form is wrong, and then that is what to say. So what is missing
/// is filled up in two ways: a number that selects no form both times stands in the body itself.
fn no_form_if_so(plan: &MessagePlan, body: &[u8], key: Option<u64>, error: BodyError) -> BodyError {
    let BodyError::Truncated { needed, .. } = error else { return error };
    if !plan.has_union {
        return error;
    }
    let filled = |with: u8| {
        let mut whole = body.to_vec();
        whole.resize(needed, with);
        whole.extend([0; 8]);
        walk(plan, &whole, needed, key, &mut Values::new(plan)).err()
    };
    match (filled(0x00), filled(0xFF)) {
        (Some(first @ BodyError::NoForm { .. }), Some(second)) if first == second => first,
        _ => error,
    }
}

/// Bodies up to this many bytes are copied before they are read.
const SHORT: usize = 64;

/// Checks whether a body can be decoded, without keeping its values: what [`decode`] says, faster.
///
/// # Errors
/// As [`decode`].
pub fn check(plan: &MessagePlan, body: &[u8]) -> Result<Extent, BodyError> {
    if plan.has_union {
        // Which form a union has, only the values say.
        let mut values = Values::default();
        decode(plan, body, &mut values)?;
        return Ok(Extent { sections: values.sections(), later_bytes: values.later_bytes() });
    }
    walk(plan, body, body.len(), None, &mut CheckOnly)
}

fn walk<T: Target>(
    plan: &MessagePlan,
    bytes: &[u8],
    length: usize,
    key: Option<u64>,
    target: &mut T,
) -> Result<Extent, BodyError> {
    let mut walk = BodyWalk { bytes, order: plan.byte_order, key, surplus: 0, target };
    let (at, sections) = walk.sections(&plan.sections, &plan.message.fields, (0, length), 0)?;
    Ok(Extent { sections, later_bytes: length - at + walk.surplus })
}

/// A walk over a body, behind which there may be more bytes.
struct BodyWalk<'a, T> {
    bytes: &'a [u8],
    order: ByteOrder,
    key: Option<u64>,
    /// Bytes of elements of lists that a later revision added.
    surplus: usize,
    target: &'a mut T,
}

impl<T: Target> BodyWalk<'_, T> {
    /// Reads the sections that stand between two bytes. Returns where they end, and how many there were.
    #[inline]
    fn sections(
        &mut self,
        sections: &[SectionPlan],
        fields: &[Field],
        (start, end): (usize, usize),
        base: usize,
    ) -> Result<(usize, usize), BodyError> {
        let mut at = start;
        for (index, section) in sections.iter().enumerate() {
            if index > 0 && at == end {
                if T::WANTS_VALUES {
                    self.lacking(&sections[index..], fields, base);
                }
                return Ok((at, index));
            }
            at = self.section(section, (at, end), base)?;
        }
        Ok((at, sections.len()))
    }

    #[cold]
    fn lacking(&mut self, sections: &[SectionPlan], fields: &[Field], base: usize) {
        for step in sections.iter().flat_map(|section| &section.steps) {
            if matches!(step.action, Action::Skip { .. }) {
                self.target.unset(base + step.slot);
            } else {
                self.target.set_missing(base + step.slot, &fields[step.slot]);
            }
        }
    }

    fn truncated(&self, end: usize, needed: usize, revision: u32) -> BodyError {
        BodyError::Truncated { length: end, needed, revision }
    }

    /// Reads one section; returns where it ends.
    #[inline]
    fn section(
        &mut self,
        section: &SectionPlan,
        (start, end): (usize, usize),
        base: usize,
    ) -> Result<usize, BodyError> {
        // With this one check every place of a fixed section is inside.
        if end - start < section.least_size {
            return Err(self.truncated(end, start + section.least_size, section.revision));
        }
        if T::WANTS_VALUES {
            read_lead(section, &self.bytes[start..], base, self.target);
        } else if section.fixed {
            return Ok(start + section.greatest_size);
        }
        if T::WANTS_PLACES {
            for step in &section.steps[..section.lead_steps] {
                if let (Place::Fixed(bit), Action::Bits { width, .. }) = (&step.place, &step.action) {
                    let from = start * 8 + *bit as usize;
                    self.target.place(base + step.slot, (from, from + usize::from(*width)));
                }
            }
        }
        if section.lead_steps == section.steps.len() {
            return Ok(start + section.greatest_size);
        }
        // Without values there is nothing to be found in places that are known: they are inside, and hold anything.
        let known = if T::WANTS_VALUES { section.lead_steps..section.fixed_steps } else { 0..0 };
        for step in &section.steps[known] {
            if let Place::Fixed(bit) = step.place {
                self.action(&step.action, start * 8 + bit as usize, end, base + step.slot, base)
                    .map_err(|error| self.located(error, step, section, end))?;
            }
        }
        let mut bit = start * 8 + section.fixed_end;
        for step in &section.steps[section.fixed_steps..] {
            if T::WANTS_PLACES
                && let Some(presence) = step.presence
            {
                let bit = start * 8 + presence as usize;
                self.target.place(PRESENCE, (bit, bit + 1));
            }
            if let Some(presence) = step.presence
                && self.bytes[start + presence as usize / 8] >> (presence % 8) & 1 == 0
            {
                self.target.absent(base + step.slot);
                continue;
            }
            bit = match step.place {
                Place::Fixed(at) => start * 8 + at as usize,
                Place::Behind { aligned: true } => bit.next_multiple_of(8),
                Place::Behind { aligned: false } => bit,
            };
            bit = self
                .action(&step.action, bit, end, base + step.slot, base)
                .map_err(|error| self.located(error, step, section, end))?;
        }
        let size = bit.div_ceil(8).max(start + section.fixed_end.div_ceil(8));
        if size > end { Err(self.truncated(end, size, section.revision)) } else { Ok(size) }
    }

    /// The error as one of a field of this section.
    #[cold]
    fn located(&self, error: BodyError, step: &Step, section: &SectionPlan, end: usize) -> BodyError {
        match error {
            BodyError::Truncated { needed, revision: 0, .. } => self.truncated(end, needed, section.revision),
            other => other.in_field(step.slot),
        }
    }

    /// An error unless so many bits from `bit` on lie before the byte `end`.
    #[inline]
    fn fits(&self, bit: usize, bits: usize, end: usize) -> Result<(), BodyError> {
        if bit + bits <= end * 8 { Ok(()) } else { Err(self.truncated(end, (bit + bits).div_ceil(8), 0)) }
    }

    /// Reads what lies at `bit` into a slot; returns the bit behind it. `base` is the first slot of the group around.
    fn action(
        &mut self,
        action: &Action,
        bit: usize,
        end: usize,
        slot: usize,
        base: usize,
    ) -> Result<usize, BodyError> {
        let behind = self.value(action, bit, end, slot, base)?;
        let is_leaf = matches!(action, Action::Bits { .. } | Action::Varint { .. } | Action::Run { .. });
        if T::WANTS_PLACES && is_leaf {
            self.target.place(slot, (bit, behind));
        }
        Ok(behind)
    }

    #[inline]
    fn value(&mut self, action: &Action, bit: usize, end: usize, slot: usize, base: usize) -> Result<usize, BodyError> {
        match action {
            Action::Bits { width, signed, order } => {
                self.fits(bit, usize::from(*width), end)?;
                if T::WANTS_VALUES {
                    let raw = if *signed {
                        bits::read_signed(self.bytes, bit, *width, *order)
                    } else {
                        bits::read(self.bytes, bit, *width, *order)
                    };
                    self.target.raw(slot, raw);
                }
                Ok(bit + usize::from(*width))
            }
            Action::Skip { bits } => {
                self.fits(bit, *bits as usize, end)?;
                self.target.unset(slot);
                Ok(bit + *bits as usize)
            }
            Action::Varint { width, signed } => self.varint(*width, *signed, bit, end, slot),
            Action::Run { length, text } => self.run(*length, *text, bit, end, slot),
            Action::Record(record) => {
                let first = self.target.group(slot, record.record.fields.len());
                let start = bit.div_ceil(8);
                Ok(self.record(record, (start, end), first)? * 8)
            }
            Action::List(list) => self.list(list, bit, end, slot),
            Action::Union(union) => self.union(union, bit, end, slot, base),
        }
    }

    fn record(&mut self, record: &RecordPlan, extent: (usize, usize), first: usize) -> Result<usize, BodyError> {
        let (at, _) = self.sections(&record.sections, &record.record.fields, extent, first)?;
        Ok(at)
    }

    fn varint(&mut self, width: u8, signed: bool, bit: usize, end: usize, slot: usize) -> Result<usize, BodyError> {
        let start = bit / 8;
        let most = usize::from(width.div_ceil(7));
        let mut value = 0u64;
        for n in 0..most {
            self.fits(bit + n * 8, 8, end)?;
            let byte = self.bytes[start + n];
            let group = u64::from(byte & 0x7F);
            let room = u32::from(width) - n as u32 * 7;
            if room < 7 && group >> room != 0 {
                break;
            }
            value |= group << (n * 7);
            if byte & 0x80 == 0 {
                let raw = if signed { (value >> 1) ^ (value & 1).wrapping_neg() } else { value };
                self.target.raw(slot, raw);
                return Ok((start + n + 1) * 8);
            }
        }
        Err(BodyError::VarintTooLarge { slot: 0, width })
    }

    /// The count in front of a counted item, and the bit behind it.
    fn count(&self, max: u32, bit: usize, end: usize) -> Result<(u32, usize), BodyError> {
        let bits = count_bytes(max) * 8;
        self.fits(bit, usize::from(bits), end)?;
        let count = bits::read(self.bytes, bit, bits, self.order) as u32;
        if count > max {
            return Err(BodyError::CountTooLarge { slot: 0, count, max });
        }
        Ok((count, bit + usize::from(bits)))
    }

    fn run(&mut self, length: Length, text: bool, bit: usize, end: usize, slot: usize) -> Result<usize, BodyError> {
        let (count, bit) = match length {
            Length::Exact(count) => (count as usize, bit),
            Length::UpTo(max) => {
                let (count, bit) = self.count(max, bit, end)?;
                (count as usize, bit)
            }
            Length::Rest => ((end * 8).saturating_sub(bit) / 8, bit),
        };
        self.fits(bit, count * 8, end)?;
        let padded = text && matches!(length, Length::Exact(_));
        if T::WANTS_VALUES {
            if bit.is_multiple_of(8) {
                let bytes = &self.bytes[bit / 8..bit / 8 + count];
                self.target.bytes(slot, bytes, padded);
            } else {
                let (bytes, order) = (self.bytes, self.order);
                let unpacked = (0..count).map(|n| bits::read(bytes, bit + n * 8, 8, order) as u8);
                self.target.scattered(slot, unpacked, padded);
            }
        }
        Ok(bit + count * 8)
    }

    fn list(&mut self, list: &ListPlan, bit: usize, end: usize, slot: usize) -> Result<usize, BodyError> {
        let (count, mut bit) = match list.length {
            Length::Exact(count) => (Some(count as usize), bit),
            Length::UpTo(max) => {
                let (count, bit) = self.count(max, bit, end)?;
                (Some(count as usize), bit)
            }
            Length::Rest => (None, bit),
        };
        let mut once = None;
        if let ElementSizes::Once(bytes) = list.sizes {
            // A list up to the end that holds nothing does not even say the size.
            if list.length != Length::Rest || bit < end * 8 {
                let size = self.size(bytes, bit, end)?;
                bit = bit.next_multiple_of(8) + usize::from(bytes) * 8;
                once = Some(size);
            }
        }
        if let Some(count) = count {
            let first = self.target.group(slot, count);
            for n in 0..count {
                bit = self.element(list, once, bit, end, first + n)?;
            }
            return Ok(bit);
        }
        let mut slots = Vec::new();
        // Less than a byte is the filling at the end.
        while (bit + 8) <= end * 8 {
            let one = self.target.unplaced();
            let next = self.element(list, once, bit, end, one)?;
            if next <= bit {
                // An element of no size would come forever.
                return Err(self.truncated(end, end + 1, 0));
            }
            bit = next;
            slots.push(one);
        }
        self.target.gather(slot, &slots);
        Ok(bit)
    }

    fn size(&self, bytes: u8, bit: usize, end: usize) -> Result<usize, BodyError> {
        let bit = bit.next_multiple_of(8);
        self.fits(bit, usize::from(bytes) * 8, end)?;
        Ok(bits::read(self.bytes, bit, bytes * 8, self.order) as usize)
    }

    fn element(
        &mut self,
        list: &ListPlan,
        once: Option<usize>,
        bit: usize,
        end: usize,
        slot: usize,
    ) -> Result<usize, BodyError> {
        let element = &list.element;
        let mut bit = if element.aligned { bit.next_multiple_of(8) } else { bit };
        let size = match list.sizes {
            ElementSizes::None => return self.action(&element.action, bit, end, slot, slot),
            ElementSizes::Once(_) => once.unwrap_or(0),
            ElementSizes::Each(bytes) => {
                let size = self.size(bytes, bit, end)?;
                bit += usize::from(bytes) * 8;
                size
            }
        };
        // What a later revision added to the element is stepped over.
        self.fits(bit, size * 8, end)?;
        let after = bit / 8 + size;
        if let Action::Record(record) = &element.action {
            let first = self.target.group(slot, record.record.fields.len());
            self.surplus += after - self.record(record, (bit / 8, after), first)?;
        }
        Ok(after * 8)
    }

    fn union(
        &mut self,
        union: &UnionPlan,
        bit: usize,
        end: usize,
        slot: usize,
        base: usize,
    ) -> Result<usize, BodyError> {
        let meaning = &union.union;
        let key = match meaning.selector {
            Selector::Field(decider) => self.target.selector(base + decider),
            Selector::Request { .. } => self.key,
        };
        let form = match key {
            Some(key) => meaning.index_of(key),
            None => Some(meaning.cases.len()).filter(|_| meaning.otherwise.is_some()),
        };
        let Some(form) = form else {
            return Err(BodyError::NoForm { slot: 0, key: key.unwrap_or(0) });
        };
        let inner = self.target.chosen(slot, form);
        self.action(&union.forms[form].action, bit.next_multiple_of(8), end, inner, inner)
    }
}

/// Reads the fields at a section's start. They lie within the section's least size, which has been checked.
#[inline]
fn read_lead<T: Target>(section: &SectionPlan, bytes: &[u8], base: usize, target: &mut T) {
    for field in &section.lead {
        let (first, shift, width) = (field.byte as usize, u32::from(field.shift), u32::from(field.width));
        let slot = base + field.slot as usize;
        let Some(Ok(eight)) = bytes.get(first..first + 8).map(<[u8; 8]>::try_from) else {
            // Near the end of a long body.
            let at = first * 8 + shift as usize;
            let raw = if field.signed {
                bits::read_signed(bytes, at, field.width, field.order)
            } else {
                bits::read(bytes, at, field.width, field.order)
            };
            target.raw(slot, raw);
            continue;
        };
        // The field's highest bit goes to the top, and its lowest back to the bottom.
        let top = match field.order {
            ByteOrder::Little => u64::from_le_bytes(eight) << (64 - shift - width),
            ByteOrder::Big => u64::from_be_bytes(eight) << shift,
        };
        let raw = if field.signed { (top as i64 >> (64 - width)) as u64 } else { top >> (64 - width) };
        target.raw(slot, raw);
    }
    if section.lead.len() < section.lead_steps {
        for step in &section.steps[..section.lead_steps] {
            if matches!(step.action, Action::Skip { .. }) {
                target.unset(base + step.slot);
            }
        }
    }
}
