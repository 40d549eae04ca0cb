//! What a definition means: names looked up, numbers checked, ranges turned into raw codes.

use std::sync::Arc;

use crate::number::Scaling;
pub use crate::syntax::ast::{ByteOrder, End, Medium};

/// A whole link: what a device and a host say to each other.
#[derive(Clone, Debug, PartialEq)]
pub struct Link {
    /// Its name.
    pub name: String,
    /// Its documentation.
    pub doc: String,
    /// The number of this definition, from 1.
    pub revision: u32,
    /// The order of bytes and bits.
    pub byte_order: ByteOrder,
    /// Enums and flag sets, in order of declaration.
    pub labelled: Vec<Arc<Labelled>>,
    /// Messages, in order of declaration.
    pub messages: Vec<Arc<Message>>,
}

/// An enum or a flag set.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Labelled {
    /// Its name.
    pub name: String,
    /// Its documentation.
    pub doc: String,
    /// Whether the codes are bit numbers of a flag set.
    pub flags: bool,
    /// Width in bits, 1 to 64.
    pub bits: u8,
    /// The labels, in order of declaration.
    pub labels: Vec<Label>,
}

impl Labelled {
    /// The label with this code (an enum) or bit number (a flag set).
    pub fn label(&self, code: u64) -> Option<&Label> {
        // Codes mostly count up from 0, so the code is mostly the index.
        match self.labels.get(code as usize) {
            Some(label) if label.code == code => Some(label),
            _ => self.labels.iter().find(|label| label.code == code),
        }
    }

    /// The label with this name.
    pub fn named(&self, name: &str) -> Option<&Label> {
        self.labels.iter().find(|label| label.name == name)
    }
}

/// One label of an enum or a flag set.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Label {
    /// The code of an enum's label, or the bit number of a flag.
    pub code: u64,
    /// The label.
    pub name: String,
    /// What it means; may be empty.
    pub text: String,
}

/// A message: what a frame's body carries.
#[derive(Clone, Debug, PartialEq)]
pub struct Message {
    /// Its name.
    pub name: String,
    /// Its documentation.
    pub doc: String,
    /// The key that selects it in a frame.
    pub id: Option<u64>,
    /// The end that sends it.
    pub from: End,
    /// Its period in nanoseconds, if it is sent regularly.
    pub every: Option<u64>,
    /// Indices of the channels that it travels on.
    pub channels: Vec<usize>,
    /// Indices of the messages that answer it.
    pub answered_by: Vec<usize>,
    /// How soon an answer is due, in nanoseconds.
    pub within: Option<u64>,
    /// The fields of all sections, in order; spare space has an empty name.
    pub fields: Vec<Field>,
}

impl Message {
    /// The index and the field with this name.
    pub fn field(&self, name: &str) -> Option<(usize, &Field)> {
        self.fields.iter().enumerate().find(|(_, field)| field.name == name && !field.is_spare())
    }

    /// The revisions in which fields were added: 1 first, then each later one, rising.
    pub fn section_revisions(&self) -> Vec<u32> {
        let mut revisions = vec![1];
        for field in &self.fields {
            if field.since != revisions[revisions.len() - 1] {
                revisions.push(field.since);
            }
        }
        revisions
    }
}

/// One field of a message.
#[derive(Clone, Debug, PartialEq)]
pub struct Field {
    /// Its name; empty for spare space.
    pub name: String,
    /// Its documentation.
    pub doc: String,
    /// The revision that added it.
    pub since: u32,
    /// Its form.
    pub kind: Kind,
    /// The unit of its physical value; may be empty.
    pub unit: String,
    /// Whether a presence bit says if it is there.
    pub optional: bool,
    /// What a receiver assumes when the sender's revision lacks it.
    pub default: Option<Value>,
}

impl Field {
    /// Whether this is spare space.
    pub fn is_spare(&self) -> bool {
        matches!(self.kind, Kind::Spare { .. })
    }
}

/// The form of a field.
#[derive(Clone, Debug, PartialEq)]
pub enum Kind {
    /// An integer, possibly with a scale, or a range.
    Number(NumberForm),
    /// One bit.
    Bool,
    /// IEEE 754 binary32.
    Float32,
    /// A code with a label.
    Enum {
        /// The labels.
        labels: Arc<Labelled>,
        /// The raw code that means "no reading".
        none: Option<u64>,
    },
    /// A set of labelled bits.
    Flags(Arc<Labelled>),
    /// Counted UTF-8 text.
    Text {
        /// Most bytes.
        max: u32,
    },
    /// A fixed number of bytes.
    Bytes {
        /// How many.
        length: u32,
    },
    /// Space without a name.
    Spare {
        /// How many bits.
        bits: u32,
    },
}

impl Kind {
    /// Width in bits of a field that is one raw number; `None` for text, bytes and spare space.
    pub fn raw_bits(&self) -> Option<u8> {
        match self {
            Kind::Number(form) => Some(form.bits),
            Kind::Bool => Some(1),
            Kind::Float32 => Some(32),
            Kind::Enum { labels, .. } | Kind::Flags(labels) => Some(labels.bits),
            Kind::Text { .. } | Kind::Bytes { .. } | Kind::Spare { .. } => None,
        }
    }

    /// Whether the raw number is in two's complement.
    pub fn is_signed(&self) -> bool {
        matches!(self, Kind::Number(form) if form.signed)
    }

    /// The raw code that means "no reading", if one is kept for it.
    pub fn none(&self) -> Option<i128> {
        match self {
            Kind::Number(form) => form.none,
            Kind::Enum { none, .. } => none.map(i128::from),
            _ => None,
        }
    }

    /// Whether a raw number is one that the definition gives a meaning to: a value, a label, "no reading".
    pub fn is_valid(&self, raw: i128) -> bool {
        match self {
            Kind::Number(form) => (form.low..=form.high).contains(&raw) || form.none == Some(raw),
            Kind::Enum { labels, none } => {
                u64::try_from(raw).is_ok_and(|code| labels.label(code).is_some() || *none == Some(code))
            }
            Kind::Flags(labels) => {
                let known = labels.labels.iter().fold(0u64, |all, label| all | 1 << label.code);
                u64::try_from(raw).is_ok_and(|bits| bits & !known == 0)
            }
            Kind::Bool => raw == 0 || raw == 1,
            Kind::Float32 => u32::try_from(raw).is_ok_and(|bits| f32::from_bits(bits).is_finite()),
            Kind::Text { .. } | Kind::Bytes { .. } | Kind::Spare { .. } => true,
        }
    }
}

/// How a number lies in its bits.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct NumberForm {
    /// Width, 1 to 64 bits.
    pub bits: u8,
    /// Whether the raw code is in two's complement.
    pub signed: bool,
    /// From raw code to physical value.
    pub scaling: Scaling,
    /// Least valid raw code.
    pub low: i128,
    /// Greatest valid raw code.
    pub high: i128,
    /// The raw code that means "no reading".
    pub none: Option<i128>,
}

/// A value as it lies in a message: a raw number, or bytes.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Value {
    /// A raw number; signed ones are sign-extended to 64 bits.
    Raw(u64),
    /// The bytes of a text or byte field.
    Bytes(Vec<u8>),
}
