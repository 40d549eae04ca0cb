//! Values to body bytes and back, by the steps of a plan.

use emberwort_model::model::ByteOrder;
use emberwort_model::plan::{Action, MessagePlan, Place, SectionPlan, Step};
use thiserror::Error;

use crate::bits;
use crate::values::{ValueRef, Values};

/// Why a body cannot be decoded. Slots are indices into the message's fields.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Error)]
pub enum BodyError {
    /// The body ends inside a section.
    #[error("the body has {length} bytes, but its section of revision {revision} needs at least {needed}")]
    Truncated {
        /// Bytes of the body.
        length: usize,
        /// Bytes that it would need at least, all sections before included.
        needed: usize,
        /// The revision of the section in which it ends.
        revision: u32,
    },
    /// A count exceeds the maximum that the definition gives.
    #[error("a count of {count} stands where at most {max} can be")]
    CountTooLarge {
        /// The counted field.
        slot: usize,
        /// The count in the body.
        count: u32,
        /// The maximum.
        max: u32,
    },
}

/// Why values cannot be encoded. Slots are indices into the message's fields.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Error)]
pub enum EncodeError {
    /// A field that is not optional has no value.
    #[error("a field has no value")]
    Missing {
        /// The field.
        slot: usize,
    },
    /// A raw number needs more bits than the field has.
    #[error("the raw number {raw:#x} does not fit {width} bits")]
    TooWide {
        /// The field.
        slot: usize,
        /// The number.
        raw: u64,
        /// The field's width in bits.
        width: u8,
    },
    /// A text or byte field has the wrong number of bytes.
    #[error("{length} bytes stand where the field has {wanted}")]
    WrongLength {
        /// The field.
        slot: usize,
        /// The bytes given.
        length: usize,
        /// The most, or the exact number.
        wanted: u32,
    },
}

/// Reads a body into values.
///
/// Sections that the body lacks take their defaults or are absent; bytes behind the last section that the plan knows are
/// counted in [`Values::later_bytes`].
///
/// # Errors
/// If the body ends inside a section, or a count is above its maximum.
pub fn decode(plan: &MessagePlan, body: &[u8], values: &mut Values) -> Result<(), BodyError> {
    // Short bodies, and most are, get room behind them, so that every field can be read with one load.
    if body.len() <= SHORT {
        let mut padded = [0; SHORT + 8];
        padded[..body.len()].copy_from_slice(body);
        decode_padded(plan, &padded, body.len(), values)
    } else {
        decode_padded(plan, body, body.len(), values)
    }
}

/// Bodies up to this many bytes are copied before they are read.
const SHORT: usize = 64;

/// Reads the body that the first `length` of `bytes` are.
fn decode_padded(plan: &MessagePlan, bytes: &[u8], length: usize, values: &mut Values) -> Result<(), BodyError> {
    values.reuse(plan);
    let mut at = 0;
    for (index, section) in plan.sections.iter().enumerate() {
        if index > 0 && at == length {
            for step in plan.sections[index..].iter().flat_map(|section| &section.steps) {
                if matches!(step.action, Action::Skip { .. }) {
                    values.set_unset(step.slot);
                } else {
                    values.set_default(step.slot, plan.message.fields[step.slot].default.as_ref());
                }
            }
            values.set_extent(index, 0);
            return Ok(());
        }
        at += decode_section(plan, section, bytes, (at, length), values)?;
    }
    values.set_extent(plan.sections.len(), length - at);
    Ok(())
}

/// Reads one section that starts at byte `start` of a body of `length` bytes; returns its size.
fn decode_section(
    plan: &MessagePlan,
    section: &SectionPlan,
    bytes: &[u8],
    (start, length): (usize, usize),
    values: &mut Values,
) -> Result<usize, BodyError> {
    let order = plan.byte_order;
    let truncated = |needed: usize| BodyError::Truncated { length, needed: start + needed, revision: section.revision };
    let bytes = &bytes[start..];
    let length_here = length - start;
    // With this one check every place of a fixed section is inside.
    if length_here < section.least_size {
        return Err(truncated(section.least_size));
    }
    read_lead(section, bytes, order, values);
    let total = length_here * 8;
    let mut bit = section.lead_end;
    for step in &section.steps[section.lead_steps..] {
        if let Some(presence) = step.presence
            && bytes[presence as usize / 8] >> (presence % 8) & 1 == 0
        {
            values.set_absent(step.slot);
            continue;
        }
        bit = begin(step, bit);
        let fits = |bits: usize| if bit + bits <= total { Ok(()) } else { Err(truncated((bit + bits).div_ceil(8))) };
        match step.action {
            Action::Bits { width, signed } => {
                fits(usize::from(width))?;
                let raw = if signed {
                    bits::read_signed(bytes, bit, width, order)
                } else {
                    bits::read(bytes, bit, width, order)
                };
                values.set_raw(step.slot, raw);
                bit += usize::from(width);
            }
            Action::Skip { bits } => {
                fits(bits as usize)?;
                values.set_unset(step.slot);
                bit += bits as usize;
            }
            Action::Counted { max, count_bytes } => {
                let count_bits = count_bytes * 8;
                fits(usize::from(count_bits))?;
                let count = bits::read(bytes, bit, count_bits, order) as u32;
                if count > max {
                    return Err(BodyError::CountTooLarge { slot: step.slot, count, max });
                }
                fits(usize::from(count_bits) + count as usize * 8)?;
                let first = bit / 8 + usize::from(count_bytes);
                values.set_bytes(step.slot, &bytes[first..first + count as usize]);
                bit += usize::from(count_bits) + count as usize * 8;
            }
            Action::Bytes { length } => {
                fits(length as usize * 8)?;
                if bit.is_multiple_of(8) {
                    values.set_bytes(step.slot, &bytes[bit / 8..bit / 8 + length as usize]);
                } else {
                    let unpacked = (0..length as usize).map(|n| bits::read(bytes, bit + n * 8, 8, order) as u8);
                    values.set_bytes_from(step.slot, unpacked);
                }
                bit += length as usize * 8;
            }
        }
    }
    let size = bit.div_ceil(8);
    if size > length_here { Err(truncated(size)) } else { Ok(size) }
}

/// Reads the fields at a section's start. They lie within the section's least size, which has been checked.
#[inline]
fn read_lead(section: &SectionPlan, bytes: &[u8], order: ByteOrder, values: &mut Values) {
    for field in &section.lead {
        let (first, shift, width) = (field.byte as usize, u32::from(field.shift), u32::from(field.width));
        let slot = field.slot as usize;
        let Some(Ok(eight)) = bytes.get(first..first + 8).map(<[u8; 8]>::try_from) else {
            // Near the end of a long body.
            let at = first * 8 + shift as usize;
            let raw = if field.signed {
                bits::read_signed(bytes, at, field.width, order)
            } else {
                bits::read(bytes, at, field.width, order)
            };
            values.set_raw(slot, raw);
            continue;
        };
        // The field's highest bit goes to the top, and its lowest back to the bottom.
        let top = match order {
            ByteOrder::Little => u64::from_le_bytes(eight) << (64 - shift - width),
            ByteOrder::Big => u64::from_be_bytes(eight) << shift,
        };
        let raw = if field.signed { (top as i64 >> (64 - width)) as u64 } else { top >> (64 - width) };
        values.set_raw(slot, raw);
    }
    for step in &section.steps[..section.lead_steps] {
        if matches!(step.action, Action::Skip { .. }) {
            values.set_unset(step.slot);
        }
    }
}

/// How far a body reaches: how many sections it holds, and how many bytes come from a later revision.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub struct Extent {
    /// Sections held.
    pub sections: usize,
    /// Bytes behind the last section that the plan knows.
    pub later_bytes: usize,
}

/// Checks whether a body can be decoded, without reading its values: what [`decode`] says, faster.
///
/// # Errors
/// As [`decode`].
pub fn check(plan: &MessagePlan, body: &[u8]) -> Result<Extent, BodyError> {
    let mut at = 0;
    for (index, section) in plan.sections.iter().enumerate() {
        if index > 0 && at == body.len() {
            return Ok(Extent { sections: index, later_bytes: 0 });
        }
        at += check_section(plan, section, body, at)?;
    }
    Ok(Extent { sections: plan.sections.len(), later_bytes: body.len() - at })
}

/// The size of a section that starts at byte `start`, if the body holds it.
fn check_section(plan: &MessagePlan, section: &SectionPlan, body: &[u8], start: usize) -> Result<usize, BodyError> {
    let order = plan.byte_order;
    let truncated =
        |needed: usize| BodyError::Truncated { length: body.len(), needed: start + needed, revision: section.revision };
    let bytes = &body[start..];
    if bytes.len() < section.least_size {
        return Err(truncated(section.least_size));
    }
    if section.fixed {
        return Ok(section.greatest_size);
    }
    let total = bytes.len() * 8;
    let mut bit = section.lead_end;
    for step in &section.steps[section.lead_steps..] {
        if let Some(presence) = step.presence
            && bytes[presence as usize / 8] >> (presence % 8) & 1 == 0
        {
            continue;
        }
        bit = begin(step, bit);
        let (least, _) = step.action.bits();
        let mut bits = least as usize;
        if bit + bits > total {
            return Err(truncated((bit + bits).div_ceil(8)));
        }
        if let Action::Counted { max, count_bytes } = step.action {
            let count = bits::read(bytes, bit, count_bytes * 8, order) as u32;
            if count > max {
                return Err(BodyError::CountTooLarge { slot: step.slot, count, max });
            }
            bits += count as usize * 8;
        }
        if bit + bits > total {
            return Err(truncated((bit + bits).div_ceil(8)));
        }
        bit += bits;
    }
    let size = bit.div_ceil(8);
    if size > bytes.len() { Err(truncated(size)) } else { Ok(size) }
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

/// The first bit of a step, when the field before it ended at `bit`.
fn begin(step: &Step, bit: usize) -> usize {
    match step.place {
        Place::Fixed(at) => at as usize,
        Place::Behind { aligned: true } => bit.next_multiple_of(8),
        Place::Behind { aligned: false } => bit,
    }
}

/// Appends the body of a message with the first `sections` sections (at least 1).
///
/// Invalid codes (out of range, without a label) are written as they are, so that a capture can be encoded again; what
/// users give is checked where text becomes values ([`crate::text`], [`crate::json`]).
///
/// # Errors
/// If a field has no value, or one that its bits cannot hold. `out` is then as before.
pub fn encode(plan: &MessagePlan, values: &Values, sections: usize, out: &mut Vec<u8>) -> Result<(), EncodeError> {
    let before = out.len();
    for section in plan.sections.iter().take(sections) {
        if let Err(error) = encode_section(plan, section, values, out) {
            out.truncate(before);
            return Err(error);
        }
    }
    Ok(())
}

/// Whether a raw number, sign-extended if it is signed, fits so many bits.
fn fits_width(slot: usize, raw: u64, width: u8, signed: bool) -> Result<(), EncodeError> {
    let unused = 64 - u32::from(width);
    let kept = if signed { ((raw << unused) as i64 >> unused) as u64 } else { (raw << unused) >> unused };
    if kept == raw { Ok(()) } else { Err(EncodeError::TooWide { slot, raw, width }) }
}

/// Appends the presence bitmap, still empty, and the fields at the section's start, as [`read_lead`] reads them.
fn write_lead(section: &SectionPlan, values: &Values, order: ByteOrder, out: &mut Vec<u8>) -> Result<(), EncodeError> {
    let start = out.len();
    let end = start + section.lead_end.div_ceil(8);
    // Room behind them, so that every field can be written with one store.
    out.resize(end + 8, 0);
    for field in &section.lead {
        let (first, shift, width) = (start + field.byte as usize, u32::from(field.shift), u32::from(field.width));
        let slot = field.slot as usize;
        let ValueRef::Raw(raw) = values.get(slot) else { return Err(EncodeError::Missing { slot }) };
        fits_width(slot, raw, field.width, field.signed)?;
        let Some(eight) = out[first..].first_chunk_mut::<8>() else {
            bits::write(&mut out[first..], shift as usize, field.width, raw, order);
            continue;
        };
        // The unused bits of a negative number fall off at the top.
        let top = raw << (64 - width);
        *eight = match order {
            ByteOrder::Little => (u64::from_le_bytes(*eight) | top >> (64 - width - shift)).to_le_bytes(),
            ByteOrder::Big => (u64::from_be_bytes(*eight) | top >> shift).to_be_bytes(),
        };
    }
    out.truncate(end);
    Ok(())
}

fn encode_section(
    plan: &MessagePlan,
    section: &SectionPlan,
    values: &Values,
    out: &mut Vec<u8>,
) -> Result<(), EncodeError> {
    let order = plan.byte_order;
    let start = out.len();
    write_lead(section, values, order, out)?;
    let mut bit = section.lead_end;
    for step in &section.steps[section.lead_steps..] {
        let slot = step.slot;
        let value = values.get(slot);
        if let Some(presence) = step.presence {
            if matches!(value, ValueRef::Absent | ValueRef::Unset) {
                continue;
            }
            bits::write(&mut out[start..], presence_bit(presence, order), 1, 1, order);
        }
        bit = begin(step, bit);
        // Room for the bits of this step, zero until they are written.
        let mut reach = |bits: usize| out.resize(out.len().max(start + (bit + bits).div_ceil(8)), 0);
        match (step.action, value) {
            (Action::Skip { bits }, _) => {
                reach(bits as usize);
                bit += bits as usize;
            }
            (_, ValueRef::Absent | ValueRef::Unset) => return Err(EncodeError::Missing { slot }),
            (Action::Bits { width, signed }, ValueRef::Raw(raw)) => {
                fits_width(slot, raw, width, signed)?;
                reach(usize::from(width));
                bits::write(&mut out[start..], bit, width, raw, order);
                bit += usize::from(width);
            }
            (Action::Counted { max, count_bytes }, ValueRef::Bytes(bytes)) => {
                if bytes.len() > max as usize {
                    return Err(EncodeError::WrongLength { slot, length: bytes.len(), wanted: max });
                }
                let count_bits = usize::from(count_bytes) * 8;
                reach(count_bits);
                bits::write(&mut out[start..], bit, count_bytes * 8, bytes.len() as u64, order);
                out.extend_from_slice(bytes);
                bit += count_bits + bytes.len() * 8;
            }
            (Action::Bytes { length }, ValueRef::Bytes(bytes)) => {
                if bytes.len() != length as usize {
                    return Err(EncodeError::WrongLength { slot, length: bytes.len(), wanted: length });
                }
                reach(bytes.len() * 8);
                for (n, byte) in bytes.iter().enumerate() {
                    bits::write(&mut out[start..], bit + n * 8, 8, u64::from(*byte), order);
                }
                bit += bytes.len() * 8;
            }
            (Action::Bits { .. }, ValueRef::Bytes(_)) | (_, ValueRef::Raw(_)) => {
                return Err(EncodeError::Missing { slot });
            }
        }
    }
    Ok(())
}
