//! Values to body bytes.

use emberwort_model::model::{ByteOrder, Length, Selector};
use emberwort_model::plan::{
    Action, ElementSizes, ListPlan, MessagePlan, Place, RecordPlan, SectionPlan, UnionPlan, count_bytes,
};

use super::EncodeError;
use crate::bits;
use crate::values::{ValueRef, Values};

/// Appends the body of a message as a sender of `revision` writes it.
///
/// Invalid codes (out of range, without a label) are written as they are, so that a capture can be encoded again; what
/// users give is checked where text becomes values (the crate `emberwort-text`).
///
/// # Errors
/// If a field has no value, or one that its bits cannot hold. `out` is then as before.
pub fn encode(plan: &MessagePlan, values: &Values, revision: u32, out: &mut Vec<u8>) -> Result<(), EncodeError> {
    let before = out.len();
    let mut writer = Writer { origin: before, order: plan.byte_order, revision, values, out };
    for section in plan.sections.iter().take(plan.sections_of(revision).max(1)) {
        if let Err(error) = writer.section(section, 0) {
            out.truncate(before);
            return Err(error);
        }
    }
    Ok(())
}

/// Writes the body that begins at byte `origin` of `out`.
struct Writer<'a> {
    origin: usize,
    order: ByteOrder,
    revision: u32,
    values: &'a Values,
    out: &'a mut Vec<u8>,
}

/// Whether a raw number, sign-extended if it is signed, fits so many bits.
#[inline]
fn fits_width(slot: usize, raw: u64, width: u8, signed: bool) -> Result<(), EncodeError> {
    let unused = 64 - u32::from(width);
    let kept = if signed { ((raw << unused) as i64 >> unused) as u64 } else { (raw << unused) >> unused };
    if kept == raw { Ok(()) } else { Err(EncodeError::TooWide { slot, raw, width }) }
}

/// Where the presence bit of the `index`th optional field lies, in the order in which bits are filled.
///
/// 20-wire puts the first field's bit in bit 0, the least significant, of the first byte in both byte orders.
fn presence_bit(index: u32, order: ByteOrder) -> usize {
    match order {
        ByteOrder::Little => index as usize,
        ByteOrder::Big => (index as usize / 8) * 8 + 7 - index as usize % 8,
    }
}

impl Writer<'_> {
    /// Makes sure that the body reaches up to this bit; what is new is zero.
    fn reach(&mut self, bit: usize) {
        let bytes = self.origin + bit.div_ceil(8);
        if self.out.len() < bytes {
            self.out.resize(bytes, 0);
        }
    }

    fn put(&mut self, bit: usize, width: u8, value: u64, order: ByteOrder) {
        self.reach(bit + usize::from(width));
        bits::write(&mut self.out[self.origin..], bit, width, value, order);
    }

    /// The byte at which the body ends now.
    fn end(&self) -> usize {
        self.out.len() - self.origin
    }

    /// Appends a section; `base` is the first slot of its message or record.
    fn section(&mut self, section: &SectionPlan, base: usize) -> Result<(), EncodeError> {
        let start = self.end();
        self.lead(section, base)?;
        for step in &section.steps[section.lead_steps..section.fixed_steps] {
            if let Place::Fixed(bit) = step.place {
                self.action(&step.action, start * 8 + bit as usize, base + step.slot, base)
                    .map_err(|error| error.in_field(step.slot))?;
            }
        }
        self.reach(start * 8 + if section.fixed { section.greatest_size * 8 } else { section.fixed_end });
        let mut bit = start * 8 + section.fixed_end;
        for step in &section.steps[section.fixed_steps..] {
            if let Some(presence) = step.presence {
                if matches!(self.values.get(base + step.slot), ValueRef::Absent | ValueRef::Unset) {
                    continue;
                }
                let at = start * 8 + presence_bit(presence, self.order);
                bits::write(&mut self.out[self.origin..], at, 1, 1, self.order);
            }
            bit = match step.place {
                Place::Fixed(at) => start * 8 + at as usize,
                Place::Behind { aligned: true } => bit.next_multiple_of(8),
                Place::Behind { aligned: false } => bit,
            };
            bit = self.action(&step.action, bit, base + step.slot, base).map_err(|error| error.in_field(step.slot))?;
        }
        Ok(())
    }

    /// Appends the presence bitmap, still empty, and the fields at the section's start.
    fn lead(&mut self, section: &SectionPlan, base: usize) -> Result<(), EncodeError> {
        let start = self.out.len();
        let end = start + section.lead_end.div_ceil(8);
        // Room behind them, so that every field can be written with one store.
        self.out.resize(end + 8, 0);
        for field in &section.lead {
            let (first, shift, width) = (start + field.byte as usize, u32::from(field.shift), u32::from(field.width));
            let slot = field.slot as usize;
            let Some(raw) = self.values.raw(base + slot) else { return Err(EncodeError::Missing { slot }) };
            fits_width(slot, raw, field.width, field.signed)?;
            let Some(eight) = self.out[first..].first_chunk_mut::<8>() else {
                bits::write(&mut self.out[first..], shift as usize, field.width, raw, field.order);
                continue;
            };
            // The unused bits of a negative number fall off at the top.
            let top = raw << (64 - width);
            *eight = match field.order {
                ByteOrder::Little => (u64::from_le_bytes(*eight) | top >> (64 - width - shift)).to_le_bytes(),
                ByteOrder::Big => (u64::from_be_bytes(*eight) | top >> shift).to_be_bytes(),
            };
        }
        self.out.truncate(end);
        Ok(())
    }

    /// Writes what a slot holds at `bit`; returns the bit behind it. `base` is the first slot of the group around.
    fn action(&mut self, action: &Action, bit: usize, slot: usize, base: usize) -> Result<usize, EncodeError> {
        let missing = EncodeError::Missing { slot };
        let value = self.values.get(slot);
        match (action, value) {
            (Action::Skip { bits }, _) => {
                self.reach(bit + *bits as usize);
                Ok(bit + *bits as usize)
            }
            (Action::Bits { width, signed, order }, ValueRef::Raw(raw)) => {
                fits_width(slot, raw, *width, *signed)?;
                self.put(bit, *width, raw, *order);
                Ok(bit + usize::from(*width))
            }
            (Action::Varint { width, signed }, ValueRef::Raw(raw)) => {
                fits_width(slot, raw, *width, *signed)?;
                self.reach(bit);
                // Zigzag: 0, -1, 1, -2, … become 0, 1, 2, 3, …
                let mut left = if *signed { (raw << 1) ^ ((raw as i64 >> 63) as u64) } else { raw };
                loop {
                    let more = u8::from(left > 0x7F) << 7;
                    self.out.push(left as u8 & 0x7F | more);
                    left >>= 7;
                    if more == 0 {
                        return Ok(self.end() * 8);
                    }
                }
            }
            (Action::Run { length, text }, ValueRef::Bytes(bytes)) => self.run(*length, *text, bytes, bit, slot),
            (Action::Record(record), ValueRef::Group { first, .. }) => {
                self.reach(bit);
                self.record(record, first)?;
                Ok(self.end() * 8)
            }
            (Action::List(list), ValueRef::Group { first, count }) => self.list(list, (first, count), bit, slot),
            (Action::Union(union), ValueRef::Chosen { form, slot: inner }) => {
                self.selects(union, form, slot, base)?;
                let Some(chosen) = union.forms.get(form) else { return Err(missing) };
                self.action(&chosen.action, bit.next_multiple_of(8), inner, inner)
            }
            _ => Err(missing),
        }
    }

    /// Whether the deciding field selects the form that is given.
    fn selects(&self, union: &UnionPlan, form: usize, slot: usize, base: usize) -> Result<(), EncodeError> {
        let Selector::Field(decider) = union.union.selector else { return Ok(()) };
        match self.values.get(base + decider) {
            ValueRef::Raw(key) if union.union.index_of(key) == Some(form) => Ok(()),
            ValueRef::Raw(key) => Err(EncodeError::OtherForm { slot, key }),
            _ => Err(EncodeError::Missing { slot }),
        }
    }

    fn record(&mut self, record: &RecordPlan, first: usize) -> Result<(), EncodeError> {
        for section in record.sections.iter().take(record.sections_of(self.revision).max(1)) {
            self.section(section, first)?;
        }
        Ok(())
    }

    fn run(&mut self, length: Length, text: bool, bytes: &[u8], bit: usize, slot: usize) -> Result<usize, EncodeError> {
        let wrong = |wanted: u32| Err(EncodeError::WrongLength { slot, length: bytes.len(), wanted });
        let mut bit = bit;
        match length {
            Length::Exact(exact) => {
                let exact_bytes = exact as usize;
                if bytes.len() > exact_bytes || (!text && bytes.len() != exact_bytes) {
                    return wrong(exact);
                }
                // A shorter text is filled up with zeros.
                self.reach(bit + exact_bytes * 8);
                for (n, byte) in bytes.iter().enumerate() {
                    self.put(bit + n * 8, 8, u64::from(*byte), self.order);
                }
                return Ok(bit + exact_bytes * 8);
            }
            Length::UpTo(max) => {
                if bytes.len() > max as usize {
                    return wrong(max);
                }
                self.reach(bit);
                let count = count_bytes(max) * 8;
                self.put(bit, count, bytes.len() as u64, self.order);
                bit += usize::from(count);
            }
            Length::Rest => self.reach(bit),
        }
        self.out.extend_from_slice(bytes);
        Ok(bit + bytes.len() * 8)
    }

    fn list(
        &mut self,
        list: &ListPlan,
        (first, count): (usize, usize),
        bit: usize,
        slot: usize,
    ) -> Result<usize, EncodeError> {
        let wrong = |wanted: u32| Err(EncodeError::WrongLength { slot, length: count, wanted });
        let mut bit = bit;
        match list.length {
            Length::Exact(exact) if count != exact as usize => return wrong(exact),
            Length::UpTo(max) if count > max as usize => return wrong(max),
            Length::UpTo(max) => {
                let width = count_bytes(max) * 8;
                self.put(bit, width, count as u64, self.order);
                bit += usize::from(width);
            }
            Length::Exact(_) | Length::Rest => {}
        }
        if let (ElementSizes::Once(bytes), Action::Record(record)) = (list.sizes, &list.element.action)
            && (list.length != Length::Rest || count > 0)
        {
            let (size, _) = record.sizes(record.sections_of(self.revision).max(1));
            bit = bit.next_multiple_of(8);
            fits_width(slot, size as u64, bytes * 8, false)?;
            self.put(bit, bytes * 8, size as u64, self.order);
            bit += usize::from(bytes) * 8;
        }
        for element in first..first + count {
            if list.element.aligned {
                bit = bit.next_multiple_of(8);
            }
            if let ElementSizes::Each(bytes) = list.sizes {
                self.reach(bit);
                let start = bit / 8 + usize::from(bytes);
                self.reach(start * 8);
                self.action(&list.element.action, start * 8, element, element)?;
                let size = self.end() - start;
                fits_width(slot, size as u64, bytes * 8, false)?;
                bits::write(&mut self.out[self.origin..], bit, bytes * 8, size as u64, self.order);
                bit = self.end() * 8;
            } else {
                bit = self.action(&list.element.action, bit, element, element)?;
            }
        }
        Ok(bit)
    }
}
