//! The values of one message: raw numbers and bytes in slots that are reused from message to message.

use emberwort_model::model::Value;
use emberwort_model::plan::MessagePlan;

/// The values of one message, a slot for each field. Clearing keeps the memory.
#[derive(Clone, Debug, Default)]
pub struct Values {
    slots: Vec<Slot>,
    pool: Vec<u8>,
    sections: usize,
    later_bytes: usize,
}

#[derive(Clone, Copy, Debug, Default)]
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
        if self.slots.len() != plan.message.fields.len() {
            self.resize(plan.message.fields.len());
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
        self.pool.clear();
        self.sections = 1;
        self.later_bytes = 0;
    }

    /// How many sections the decoded body held. Fields of the others hold their defaults, or are absent.
    pub fn sections(&self) -> usize {
        self.sections
    }

    /// How many bytes of the decoded body came from a revision later than the plan's.
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
}

impl PartialEq for Values {
    /// Whether all fields have the same values.
    fn eq(&self, other: &Self) -> bool {
        self.slots.len() == other.slots.len() && (0..self.slots.len()).all(|slot| self.get(slot) == other.get(slot))
    }
}

impl Eq for Values {}
