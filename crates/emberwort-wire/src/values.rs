//! The values of one message: raw numbers and bytes in slots that are reused from message to message.
//!
//! The first slots are those of the message's fields, by index. The elements of a list, the fields of a record and the form
//! of a union have slots of their own further back, to which the slot of the field points.

use emberwort_model::model::{Kind, Value};
use emberwort_model::plan::MessagePlan;

/// The values of one message, a slot for each field. Clearing keeps the memory.
#[derive(Clone, Debug, Default)]
pub struct Values {
    slots: Vec<Slot>,
    pool: Vec<u8>,
    /// How many slots are those of the message's fields.
    fields: usize,
    sections: usize,
    later_bytes: usize,
}

#[derive(Clone, Copy, Debug, Default, PartialEq)]
enum Slot {
    #[default]
    Unset,
    Absent,
    Raw(u64),
    /// A stretch of the pool; bodies are far shorter than 4 GB.
    Bytes {
        start: u32,
        length: u32,
    },
    /// The elements of a list, or the fields of a record.
    Group {
        first: u32,
        count: u32,
    },
    /// A form of a union, and where its value is.
    Chosen {
        form: u32,
        slot: u32,
    },
}

/// One value, borrowed.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum ValueRef<'a> {
    /// Nothing was given for this field.
    Unset,
    /// The field is not there.
    Absent,
    /// A raw number; signed ones are sign-extended to 64 bits.
    Raw(u64),
    /// The bytes of a text or byte field.
    Bytes(&'a [u8]),
    /// The elements of a list, or the fields of a record: their slots.
    Group {
        /// The slot of the first.
        first: usize,
        /// How many there are.
        count: usize,
    },
    /// The form of a union (its index in [`emberwort_model::model::Union::form`]), and the slot of its value.
    Chosen {
        /// Which form.
        form: usize,
        /// The slot.
        slot: usize,
    },
}

impl Values {
    /// Empty values for a message.
    pub fn new(plan: &MessagePlan) -> Self {
        let mut values = Self::default();
        values.clear(plan);
        values
    }

    /// Forgets all values, and makes room for those of a message.
    pub fn clear(&mut self, plan: &MessagePlan) {
        self.resize(plan.message.fields.len());
        self.sections = plan.sections.len();
    }

    /// Makes room for the fields of a message whose every value is about to be set.
    pub(crate) fn reuse(&mut self, plan: &MessagePlan) {
        let fields = plan.message.fields.len();
        if self.fields != fields || self.slots.len() < fields {
            self.resize(fields);
        } else {
            self.slots.truncate(fields);
        }
        self.pool.clear();
    }

    /// Says that nothing is known of a field.
    pub(crate) fn set_unset(&mut self, slot: usize) {
        self.slots[slot] = Slot::Unset;
    }

    /// Forgets all values, and makes room for this many fields.
    pub fn resize(&mut self, fields: usize) {
        self.slots.clear();
        self.slots.resize(fields, Slot::Unset);
        self.fields = fields;
        self.pool.clear();
        self.sections = 1;
        self.later_bytes = 0;
    }

    /// How many sections the decoded body held. Fields of the others hold their defaults, or are absent.
    pub fn sections(&self) -> usize {
        self.sections
    }

    /// How many bytes of the decoded body came from a revision later than the plan's, in elements of lists too.
    pub fn later_bytes(&self) -> usize {
        self.later_bytes
    }

    pub(crate) fn set_extent(&mut self, sections: usize, later_bytes: usize) {
        self.sections = sections;
        self.later_bytes = later_bytes;
    }

    /// The value of a field.
    ///
    /// # Panics
    /// If the message has no such slot.
    #[inline]
    pub fn get(&self, slot: usize) -> ValueRef<'_> {
        match self.slots[slot] {
            Slot::Unset => ValueRef::Unset,
            Slot::Absent => ValueRef::Absent,
            Slot::Raw(raw) => ValueRef::Raw(raw),
            Slot::Bytes { start, length } => ValueRef::Bytes(&self.pool[start as usize..][..length as usize]),
            Slot::Group { first, count } => ValueRef::Group { first: first as usize, count: count as usize },
            Slot::Chosen { form, slot } => ValueRef::Chosen { form: form as usize, slot: slot as usize },
        }
    }

    /// The raw number in a slot, if it holds one.
    ///
    /// # Panics
    /// If the message has no such slot.
    #[inline]
    pub(crate) fn raw(&self, slot: usize) -> Option<u64> {
        match self.slots[slot] {
            Slot::Raw(raw) => Some(raw),
            _ => None,
        }
    }

    /// Sets a raw number; signed ones sign-extended to 64 bits.
    ///
    /// # Panics
    /// If the message has no such slot. The same holds for the other setters.
    #[inline]
    pub fn set_raw(&mut self, slot: usize, raw: u64) {
        self.slots[slot] = Slot::Raw(raw);
    }

    /// Sets the bytes of a text or byte field.
    pub fn set_bytes(&mut self, slot: usize, bytes: &[u8]) {
        let start = self.pool.len() as u32;
        self.pool.extend_from_slice(bytes);
        self.slots[slot] = Slot::Bytes { start, length: bytes.len() as u32 };
    }

    /// Sets the bytes of a text or byte field that do not lie together.
    pub(crate) fn set_bytes_from(&mut self, slot: usize, bytes: impl Iterator<Item = u8>) {
        let start = self.pool.len() as u32;
        self.pool.extend(bytes);
        self.slots[slot] = Slot::Bytes { start, length: self.pool.len() as u32 - start };
    }

    /// Cuts zeros from the end of the bytes set last.
    pub(crate) fn trim_zeros(&mut self, slot: usize) {
        if let Slot::Bytes { start, length } = &mut self.slots[slot] {
            let bytes = &self.pool[*start as usize..][..*length as usize];
            *length = bytes.iter().rposition(|byte| *byte != 0).map_or(0, |last| last as u32 + 1);
        }
    }

    /// Says that the field is not there.
    pub fn set_absent(&mut self, slot: usize) {
        self.slots[slot] = Slot::Absent;
    }

    /// Sets what is assumed when the sender does not say: the default, or absence.
    pub fn set_default(&mut self, slot: usize, default: Option<&Value>) {
        match default {
            Some(Value::Raw(raw)) => self.set_raw(slot, *raw),
            Some(Value::Bytes(bytes)) => self.set_bytes(slot, bytes),
            None => self.set_absent(slot),
        }
    }

    /// Makes room for the elements of a list, or the fields of a record; returns the slot of the first.
    pub fn set_group(&mut self, slot: usize, count: usize) -> usize {
        let first = self.slots.len();
        self.slots.resize(first + count, Slot::Unset);
        self.slots[slot] = Slot::Group { first: first as u32, count: count as u32 };
        first
    }

    /// Adds an element to a list that was made last, and whose elements have no slots of their own behind them yet.
    pub(crate) fn list_slots(&mut self, slot: usize, slots: &[usize]) {
        // Elements found one by one lie apart; they are moved together behind everything else.
        let first = self.slots.len();
        for element in slots {
            let value = self.slots[*element];
            self.slots.push(value);
        }
        self.slots[slot] = Slot::Group { first: first as u32, count: slots.len() as u32 };
    }

    /// A slot of its own, for an element of a list of unknown length.
    pub(crate) fn loose_slot(&mut self) -> usize {
        self.slots.push(Slot::Unset);
        self.slots.len() - 1
    }

    /// Chooses a form; returns the slot of its value.
    pub fn set_chosen(&mut self, slot: usize, form: usize) -> usize {
        let at = self.loose_slot();
        self.slots[slot] = Slot::Chosen { form: form as u32, slot: at as u32 };
        at
    }

    /// Becomes a copy of other values, in the memory that it has.
    pub fn assign(&mut self, other: &Self) {
        self.slots.clone_from(&other.slots);
        self.pool.clone_from(&other.pool);
        (self.fields, self.sections, self.later_bytes) = (other.fields, other.sections, other.later_bytes);
    }

    /// Sets what a slot of other values holds, with all that it points to.
    ///
    /// # Panics
    /// If there is no such slot, here or there.
    pub fn copy_from(&mut self, slot: usize, other: &Self, other_slot: usize) {
        match other.get(other_slot) {
            ValueRef::Bytes(bytes) => self.set_bytes(slot, bytes),
            ValueRef::Group { first, count } => {
                let own = self.set_group(slot, count);
                (0..count).for_each(|n| self.copy_from(own + n, other, first + n));
            }
            ValueRef::Chosen { form, slot: there } => {
                let own = self.set_chosen(slot, form);
                self.copy_from(own, other, there);
            }
            ValueRef::Unset | ValueRef::Absent | ValueRef::Raw(_) => self.slots[slot] = other.slots[other_slot],
        }
    }

    /// Whether a slot holds the same as one of other values, with all that they point to.
    ///
    /// # Panics
    /// If there is no such slot, here or there.
    pub fn is_same(&self, slot: usize, other: &Self, other_slot: usize) -> bool {
        match (self.get(slot), other.get(other_slot)) {
            (ValueRef::Group { first: a, count }, ValueRef::Group { first: b, count: other_count }) => {
                count == other_count && (0..count).all(|n| self.is_same(a + n, other, b + n))
            }
            (ValueRef::Chosen { form, slot: a }, ValueRef::Chosen { form: other_form, slot: b }) => {
                form == other_form && self.is_same(a, other, b)
            }
            (one, another) => one == another,
        }
    }
}

impl PartialEq for Values {
    /// Whether all fields have the same values.
    fn eq(&self, other: &Self) -> bool {
        if self.fields != other.fields {
            return false;
        }
        // Most lie alike; what lies otherwise can still be the same.
        (self.slots == other.slots && self.pool == other.pool)
            || (0..self.fields).all(|slot| self.is_same(slot, other, slot))
    }
}

impl Eq for Values {}

/// A raw number as its field's type reads it.
pub fn signed(kind: &Kind, raw: u64) -> i128 {
    if kind.is_signed() { i128::from(raw as i64) } else { i128::from(raw) }
}

/// Whether bytes are a text that the field can have.
pub fn readable(ascii: bool, bytes: &[u8]) -> Option<&str> {
    std::str::from_utf8(bytes).ok().filter(|_| !ascii || bytes.is_ascii())
}

#[cfg(test)]
mod tests {
    use emberwort_model::{Source, check};

    use super::*;
    use crate::codec::decode;

    #[test]
    fn values_that_are_used_again_keep_nothing_of_the_body_before() {
        let text = "link l { revision 1  byte_order little }\nmessage M { from device\n note : text[..8]\n marks : [..4] u8\n more : text[..8] optional }\n";
        let plan = check(&Source::new("l.ember", text)).plan.unwrap();
        let plan = &plan.messages[0];
        let bodies: [&[u8]; 3] =
            [b"\x01\x05fresh\x04\x01\x02\x03\x04\x03all", b"\x00\x00\x00", b"\x01\x08longer..\x01\x09\x08other..."];
        let mut values = Values::new(plan);
        let mut room = Vec::new();
        for round in 0..300 {
            let body = bodies[round % bodies.len()];
            decode(plan, body, &mut values).unwrap();
            let mut alone = Values::new(plan);
            decode(plan, body, &mut alone).unwrap();
            assert_eq!(values, alone);
            room.push((values.pool.len(), values.slots.len()));
        }
        // As much for the last rounds as for the first.
        assert_eq!(room[..3], room[297..]);
        assert!(room[0].0 <= bodies[0].len(), "{room:?}");
    }
}
