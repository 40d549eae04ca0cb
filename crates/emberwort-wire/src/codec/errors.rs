//! Why bodies cannot be decoded, and values not be encoded.

use thiserror::Error;

/// Why a body cannot be decoded. Slots are indices into the message's fields.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Error)]
pub enum BodyError {
    /// The body ends inside a section.
    #[error(
        "the body has {length} {}, but its section of revision {revision} needs at least {needed}",
        if *length == 1 { "byte" } else { "bytes" }
    )]
    Truncated {
        /// Bytes of the body (of an element of a list, up to its end).
        length: usize,
        /// Bytes that it would need at least, all before included.
        needed: usize,
        /// The revision of the section in which it ends.
        revision: u32,
    },
    /// A count exceeds the maximum that the definition gives.
    #[error("a count of {count} stands where at most {max} can be")]
    CountTooLarge {
        /// The counted field, or the one that holds it.
        slot: usize,
        /// The count in the body.
        count: u32,
        /// The maximum.
        max: u32,
    },
    /// A varint has more bits than its type.
    #[error("a compact number goes on beyond {width} bits")]
    VarintTooLarge {
        /// The field, or the one that holds it.
        slot: usize,
        /// The width of its type.
        width: u8,
    },
    /// No form belongs to the number that decides about a value.
    #[error("{key} selects none of the forms that the value can have")]
    NoForm {
        /// The value's field, or the one that holds it.
        slot: usize,
        /// The deciding number.
        key: u64,
    },
    /// The line of a text message does not hold a value that fits.
    #[error("what the line has here is no value of this field")]
    BadText {
        /// The field.
        slot: usize,
    },
}

impl BodyError {
    /// Turns an error of an inner field into one of the field that holds it.
    pub(super) fn in_field(self, outer: usize) -> Self {
        match self {
            BodyError::Truncated { .. } => self,
            BodyError::CountTooLarge { count, max, .. } => BodyError::CountTooLarge { slot: outer, count, max },
            BodyError::VarintTooLarge { width, .. } => BodyError::VarintTooLarge { slot: outer, width },
            BodyError::NoForm { key, .. } => BodyError::NoForm { slot: outer, key },
            BodyError::BadText { .. } => BodyError::BadText { slot: outer },
        }
    }

    /// The field of the message in which it happened, where that says something.
    pub fn slot(&self) -> Option<usize> {
        match self {
            BodyError::Truncated { .. } => None,
            BodyError::CountTooLarge { slot, .. }
            | BodyError::VarintTooLarge { slot, .. }
            | BodyError::NoForm { slot, .. }
            | BodyError::BadText { slot } => Some(*slot),
        }
    }
}

/// Why values cannot be encoded. Slots are indices into the message's fields.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Error)]
pub enum EncodeError {
    /// A field that is not optional has no value.
    #[error("a value is missing")]
    Missing {
        /// The field, or the one that holds it.
        slot: usize,
    },
    /// A raw number needs more bits than the field has.
    #[error("the raw number 0x{raw:X} does not fit {width} bits")]
    TooWide {
        /// The field, or the one that holds it.
        slot: usize,
        /// The number.
        raw: u64,
        /// The field's width in bits.
        width: u8,
    },
    /// A text, byte field or list has the wrong number of bytes or elements.
    #[error("{length} bytes or elements stand where the field has {wanted}")]
    WrongLength {
        /// The field, or the one that holds it.
        slot: usize,
        /// The bytes or elements given.
        length: usize,
        /// The most, or the exact number.
        wanted: u32,
    },
    /// A raw number without a meaning, which no line can say.
    #[error("the raw number {raw} has no meaning, so a line cannot say it")]
    NoMeaning {
        /// The field.
        slot: usize,
        /// The number; signed ones are sign-extended.
        raw: u64,
    },
    /// A text that would end its line, or is none.
    #[error("a text with the end of a line in it, or that is not text, cannot stand in a line")]
    EndsLine {
        /// The field.
        slot: usize,
    },
    /// In the line that would be written, a reader would find another value.
    #[error("in the line it would be read as something else: it holds what ends it in the pattern")]
    EndsField {
        /// The field.
        slot: usize,
    },
    /// The form of a value is not the one that the deciding field selects.
    #[error("another form is given than the one that the deciding number, {key}, selects")]
    OtherForm {
        /// The value's field, or the one that holds it.
        slot: usize,
        /// The deciding number.
        key: u64,
    },
}

impl EncodeError {
    pub(super) fn in_field(self, outer: usize) -> Self {
        match self {
            EncodeError::Missing { .. } => EncodeError::Missing { slot: outer },
            EncodeError::TooWide { raw, width, .. } => EncodeError::TooWide { slot: outer, raw, width },
            EncodeError::WrongLength { length, wanted, .. } => EncodeError::WrongLength { slot: outer, length, wanted },
            EncodeError::NoMeaning { raw, .. } => EncodeError::NoMeaning { slot: outer, raw },
            EncodeError::EndsLine { .. } => EncodeError::EndsLine { slot: outer },
            EncodeError::EndsField { .. } => EncodeError::EndsField { slot: outer },
            EncodeError::OtherForm { key, .. } => EncodeError::OtherForm { slot: outer, key },
        }
    }

    /// The field of the message in which it happened.
    pub fn slot(&self) -> usize {
        match self {
            EncodeError::Missing { slot }
            | EncodeError::TooWide { slot, .. }
            | EncodeError::WrongLength { slot, .. }
            | EncodeError::NoMeaning { slot, .. }
            | EncodeError::EndsLine { slot }
            | EncodeError::EndsField { slot }
            | EncodeError::OtherForm { slot, .. } => *slot,
        }
    }
}
