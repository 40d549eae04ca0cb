//! What lies at known places of a section: one test of its length makes all of it safe.

use emberwort_model::model::Length;
use emberwort_model::plan::{Action, Place, SectionPlan};

use super::bits::{Piece, pieces};

/// What lies at known places of a section, whatever its bytes are. Bytes are counted from the section's start.
#[derive(Clone, Debug)]
pub struct FixedLayout {
    /// Where the section begins in its message or record, if that is always the same.
    pub start: Option<usize>,
    /// How many bytes these places take, the last one perhaps not to its end.
    pub bytes: usize,
    /// In the order of the fields.
    pub items: Vec<FixedItem>,
}

/// Something at a known place.
#[derive(Clone, Debug)]
pub struct FixedItem {
    /// The index of the step among those of the section.
    pub step: usize,
    /// The index of the field.
    pub slot: usize,
    /// What it is.
    pub kind: FixedItemKind,
}

/// What lies at a known place.
#[derive(Clone, Debug)]
pub enum FixedItemKind {
    /// A number, and the bytes that it lies in.
    Number(Vec<Piece>),
    /// So many whole bytes from this byte on.
    Bytes {
        /// The first one.
        byte: usize,
        /// How many.
        count: usize,
        /// Whether they are a text, which zeros fill up.
        text: bool,
    },
    /// Space without a name.
    Spare,
    /// What has parts of its own, or lies across bytes, from this bit on.
    Group {
        /// The bit.
        bit: usize,
        /// How many bits it has.
        bits: usize,
    },
}

/// A byte at a known place, and the numbers that have a part in it, by field.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Byte {
    /// Which one.
    pub byte: usize,
    /// The parts, from the lowest bit up; where there are none it is zero.
    pub parts: Vec<(usize, Piece)>,
}

impl FixedLayout {
    /// Of the section with this index.
    pub fn of(sections: &[SectionPlan], index: usize) -> Self {
        let before = &sections[..index];
        let start = before.iter().all(|section| section.fixed);
        let section = &sections[index];
        let items = section.steps[..section.fixed_steps].iter().enumerate().filter_map(|(at, step)| {
            let Place::Fixed(bit) = step.place else { return None };
            let bit = bit as usize;
            let what = match &step.action {
                Action::Bits { width, order, .. } => FixedItemKind::Number(pieces(bit, *width, *order)),
                Action::Skip { .. } => FixedItemKind::Spare,
                Action::Run { length: Length::Exact(count), text } if bit.is_multiple_of(8) => {
                    FixedItemKind::Bytes { byte: bit / 8, count: *count as usize, text: *text }
                }
                action => FixedItemKind::Group { bit, bits: action.bits().1 as usize },
            };
            Some(FixedItem { step: at, slot: step.slot, kind: what })
        });
        let bytes = match section.fixed {
            true => section.greatest_size,
            false => section.fixed_end.div_ceil(8).max(section.presence_bytes),
        };
        Self {
            start: start.then(|| before.iter().map(|section| section.greatest_size).sum()),
            bytes,
            items: items.collect(),
        }
    }

    /// The bytes that are written as sums of numbers' parts, without those whose fields `is_sent` does not name: all but those that something else
    /// fills as a whole.
    pub fn sums(&self, is_sent: impl Fn(usize) -> bool) -> Vec<Byte> {
        let is_filled = |byte: usize| {
            self.items.iter().any(|item| match item.kind {
                FixedItemKind::Bytes { byte: first, count, text: false } => (first..first + count).contains(&byte),
                FixedItemKind::Group { bit, bits } => {
                    byte * 8 >= bit && byte * 8 + 8 <= bit + bits && bit.is_multiple_of(8)
                }
                _ => false,
            })
        };
        let sum = |byte: usize| {
            let of_item = |item: &FixedItem| match &item.kind {
                FixedItemKind::Number(pieces) if is_sent(item.slot) => {
                    let here = pieces.iter().find(|piece| piece.byte == byte);
                    here.map(|piece| (item.slot, *piece))
                }
                _ => None,
            };
            let mut parts: Vec<(usize, Piece)> = self.items.iter().filter_map(of_item).collect();
            parts.sort_by_key(|(_, piece)| piece.low);
            Byte { byte, parts }
        };
        (0..self.bytes).filter(|byte| !is_filled(*byte)).map(sum).collect()
    }
}
