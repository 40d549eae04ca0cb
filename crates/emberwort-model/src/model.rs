//! What a definition means: names looked up, numbers checked, ranges turned into raw codes.

pub use crate::float::{float_bits, float_text, float_value, write_float};
use std::sync::Arc;

use crate::ids::{ChannelId, MessageId};
pub use crate::medium::{Medium, MediumKind};
use crate::number::Scaling;
pub use crate::syntax::ast::{ByteOrder, End, Length, NodeRange};

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
    /// Records, in order of declaration.
    pub records: Vec<Arc<Record>>,
    /// Tables, in order of declaration.
    pub tables: Vec<Arc<Table>>,
    /// Messages, in order of declaration.
    pub messages: Vec<Arc<Message>>,
}

impl Link {
    /// The messages with their indices, in order of declaration.
    pub fn message_ids(&self) -> impl DoubleEndedIterator<Item = (MessageId, &Arc<Message>)> {
        self.messages.iter().enumerate().map(|(index, message)| (MessageId::new(index), message))
    }
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
    /// How their codes are written.
    pub base: Base,
}

impl Labelled {
    /// A code as the definition writes those that it has; in hex with all digits of its width.
    pub fn code_text(&self, code: u64) -> String {
        self.base.text(code, usize::from(self.bits).div_ceil(4))
    }

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

/// A named group of fields used inside messages.
#[derive(Clone, Debug, PartialEq)]
pub struct Record {
    /// Its name.
    pub name: String,
    /// Its documentation.
    pub doc: String,
    /// Whether later revisions may add fields to it; lists of it then carry the size of their elements.
    pub extensible: bool,
    /// The fields of all sections, in order.
    pub fields: Vec<Field>,
}

/// Numbered settings or variables.
#[derive(Clone, Debug, PartialEq)]
pub struct Table {
    /// Its name.
    pub name: String,
    /// Its documentation.
    pub doc: String,
    /// The keys with the entries' names as labels: what `key of` refers to.
    pub keys: Arc<Labelled>,
    /// The entries, in order of declaration.
    pub entries: Vec<Entry>,
}

/// One entry of a table.
#[derive(Clone, Debug, PartialEq)]
pub struct Entry {
    /// Its number.
    pub key: u64,
    /// Its name and the form of its value.
    pub field: Arc<Field>,
    /// Whether the host may read it.
    pub read: bool,
    /// Whether the host may write it.
    pub write: bool,
    /// Whether the device keeps it over a restart.
    pub kept: bool,
}

/// A value whose form depends on another field.
#[derive(Clone, Debug, PartialEq)]
pub struct Union {
    /// Where the deciding raw number is found.
    pub selector: Selector,
    /// The forms by raw number, in order of declaration.
    pub cases: Vec<Case>,
    /// The form for all other numbers.
    pub otherwise: Option<Arc<Field>>,
    /// The table whose entries the cases are.
    pub table: Option<Arc<Table>>,
}

impl Union {
    /// The index of the form for a raw number; that of `otherwise` is one past the last case.
    pub fn index_of(&self, raw: u64) -> Option<usize> {
        let case = self.cases.iter().position(|case| case.raw == raw);
        case.or(self.otherwise.as_ref().map(|_| self.cases.len()))
    }

    /// The form with this index.
    pub fn form(&self, index: usize) -> Option<&Arc<Field>> {
        match self.cases.get(index) {
            Some(case) => Some(&case.field),
            None => self.otherwise.as_ref().filter(|_| index == self.cases.len()),
        }
    }
}

/// One form of a [`Union`].
#[derive(Clone, Debug, PartialEq)]
pub struct Case {
    /// The raw number that selects it; signed ones sign-extended to 64 bits.
    pub raw: u64,
    /// The value that selects this form as people know it: a label, the physical number, the key of a table in hex.
    pub shown: String,
    /// Its name and form.
    pub field: Arc<Field>,
}

/// Where the number that decides a [`Union`] is found.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Selector {
    /// In an earlier field of the same message or record, by index.
    Field(usize),
    /// In the request that the message answers.
    Request {
        /// Index of the request's message.
        message: MessageId,
        /// Index of its field.
        slot: usize,
    },
}

/// The base in which a number stands in the definition, so that it comes back as it was written.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub enum Base {
    /// `0x1F`, and `0b11111`.
    #[default]
    Hex,
    /// `31`.
    Decimal,
}

impl Base {
    /// The base of a number as it is written.
    pub fn of(text: &str) -> Self {
        let based = ["0x", "0X", "0b", "0B"].iter().any(|start| text.starts_with(start));
        if based { Base::Hex } else { Base::Decimal }
    }

    /// The one base of several numbers: decimal if all of them are.
    pub fn of_all(mut all: impl Iterator<Item = Base>) -> Self {
        if all.all(|base| base == Base::Decimal) { Base::Decimal } else { Base::Hex }
    }

    /// A number in this base; in hex with at least so many digits.
    pub fn text(self, number: u64, digits: usize) -> String {
        match self {
            Base::Hex => format!("0x{number:0digits$X}"),
            Base::Decimal => number.to_string(),
        }
    }
}

/// What selects a message on one of its channels, where no frame part does.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct ChannelKey {
    /// The port or CAN identifier.
    pub value: u64,
    /// The nodes whose number is added to it, if any is.
    pub nodes: Option<NodeRange>,
    /// Whether it is a CAN identifier of 29 bits.
    pub extended: bool,
    /// How `value` is written.
    pub base: Base,
}

/// One piece of a text message's line.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum LinePiece {
    /// These characters.
    Text(String),
    /// A field.
    Field {
        /// Index of the field.
        slot: usize,
        /// How it is written.
        form: LineForm,
    },
}

/// How a field is written in a line.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub struct LineForm {
    /// The digits of a number.
    pub digits: LineDigits,
    /// Exactly so many characters, with zeros behind the sign; 0 for as many as it takes.
    pub wide: u8,
    /// Whether "no reading" is written as nothing, not as the word `none`.
    pub blank: bool,
}

impl LineForm {
    /// Whether each value takes as many characters as any other, "no reading" aside.
    pub(crate) fn has_one_size(self) -> bool {
        self.wide > 0 || matches!(self.digits, LineDigits::Hex(_))
    }
}

/// How a number is written in a line.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub enum LineDigits {
    /// Numbers in decimal, labels and texts as they are.
    #[default]
    Plain,
    /// The raw number in so many hex digits.
    Hex(u8),
    /// The physical number with so many decimals.
    Fixed(u8),
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
    /// How `id` is written.
    pub id_base: Base,
    /// The nodes whose number is added to the key, if any is.
    pub id_nodes: Option<NodeRange>,
    /// The end that sends it.
    pub from: End,
    /// Its period in nanoseconds, if it is sent regularly.
    pub every: Option<u64>,
    /// Indices of the channels that it travels on.
    pub channels: Vec<ChannelId>,
    /// Its key on each of these channels, where the channel selects by something outside the frame.
    pub keys: Vec<Option<ChannelKey>>,
    /// The pattern of its line, if it is a text message.
    pub line: Option<Vec<LinePiece>>,
    /// Indices of the messages that answer it.
    pub answered_by: Vec<MessageId>,
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
}

/// The revisions in which fields were added: 1 first, then each later one, rising.
pub fn section_revisions(fields: &[Field]) -> Vec<u32> {
    let mut revisions = vec![1];
    for field in fields {
        if field.since != revisions[revisions.len() - 1] {
            revisions.push(field.since);
        }
    }
    revisions
}

/// One field of a message or record, the element of a list, or a form of a union.
#[derive(Clone, Debug, PartialEq)]
pub struct Field {
    /// Its name; empty for spare space and elements.
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
    /// The order of its bytes and bits.
    pub order: ByteOrder,
    /// Its explicit place in its section: byte, and bit (0 is the least significant).
    pub at: Option<(u32, u8)>,
    /// Whether it goes up by one a message.
    pub counter: bool,
    /// Whether it only keeps its place: sent as zero, ignored when received.
    pub retired: bool,
}

impl Field {
    /// A field with this name and form, and nothing else said of it.
    pub fn plain(name: &str, kind: Kind, order: ByteOrder) -> Self {
        Self {
            name: name.to_owned(),
            doc: String::new(),
            since: 1,
            kind,
            unit: String::new(),
            optional: false,
            default: None,
            order,
            at: None,
            counter: false,
            retired: false,
        }
    }

    /// Whether this is space that carries no value: spare, or retired.
    pub fn is_spare(&self) -> bool {
        self.retired || matches!(self.kind, Kind::Spare { .. })
    }
}

/// The form of a field.
#[derive(Clone, Debug, PartialEq)]
pub enum Kind {
    /// An integer, possibly with a scale, or a range.
    Number(NumberForm),
    /// An integer of variable length: seven bits a byte, low group first; signed ones zigzag-mapped.
    Varint(NumberForm),
    /// One bit.
    Bool,
    /// IEEE 754 binary16, binary32 or binary64, by its bits.
    Float(u8),
    /// A moment: seconds in 32 bits, or milliseconds in 64, since 1970-01-01 UTC.
    Time {
        /// Whether it counts milliseconds.
        milliseconds: bool,
    },
    /// A code with a label.
    Enum {
        /// The labels.
        labels: Arc<Labelled>,
        /// The raw code that means "no reading".
        none: Option<u64>,
    },
    /// A set of labelled bits.
    Flags(Arc<Labelled>),
    /// Text: UTF-8, or ASCII alone. Of fixed length, it is filled up with zeros.
    Text {
        /// Whether only ASCII may stand in it.
        ascii: bool,
        /// How many bytes.
        length: Length,
    },
    /// Bytes.
    Bytes(Length),
    /// Several values of one form.
    List {
        /// The form of each.
        element: Arc<Field>,
        /// How many.
        length: Length,
    },
    /// The fields of a record.
    Record(Arc<Record>),
    /// A value whose form depends on another field.
    Union(Arc<Union>),
    /// A complete frame of another channel, to the end of the body.
    NestedFrame {
        /// Index of the channel.
        channel: ChannelId,
        /// Its name.
        name: Arc<str>,
    },
    /// Space without a name.
    Spare {
        /// How many bits.
        bits: u32,
    },
}

impl Kind {
    /// Width in bits of a field that is one raw number (for a compact one, of its largest value); `None` for all others.
    pub fn raw_bits(&self) -> Option<u8> {
        match self {
            Kind::Number(form) | Kind::Varint(form) => Some(form.bits),
            Kind::Bool => Some(1),
            Kind::Float(bits) => Some(*bits),
            Kind::Time { milliseconds } => Some(if *milliseconds { 64 } else { 32 }),
            Kind::Enum { labels, .. } | Kind::Flags(labels) => Some(labels.bits),
            Kind::Text { .. }
            | Kind::Bytes(_)
            | Kind::List { .. }
            | Kind::Record(_)
            | Kind::Union(_)
            | Kind::NestedFrame { .. }
            | Kind::Spare { .. } => None,
        }
    }

    /// Whether it is an integer of variable length.
    pub fn is_varint(&self) -> bool {
        matches!(self, Kind::Varint(_))
    }

    /// Whether the raw number is in two's complement.
    pub fn is_signed(&self) -> bool {
        matches!(self, Kind::Number(form) | Kind::Varint(form) if form.signed)
    }

    /// The raw code that means "no reading", if one is kept for it.
    pub fn none(&self) -> Option<i128> {
        match self {
            Kind::Number(form) | Kind::Varint(form) => form.none,
            Kind::Enum { none, .. } => none.map(i128::from),
            _ => None,
        }
    }

    /// Whether a raw number is one that the definition gives a meaning to: a value, a label, "no reading".
    pub fn is_valid(&self, raw: i128) -> bool {
        match self {
            Kind::Number(form) | Kind::Varint(form) => (form.low..=form.high).contains(&raw) || form.none == Some(raw),
            Kind::Enum { labels, none } => {
                u64::try_from(raw).is_ok_and(|code| labels.label(code).is_some() || *none == Some(code))
            }
            Kind::Flags(labels) => {
                let known = labels.labels.iter().fold(0u64, |all, label| all | 1 << label.code);
                u64::try_from(raw).is_ok_and(|bits| bits & !known == 0)
            }
            Kind::Bool => raw == 0 || raw == 1,
            Kind::Float(bits) => u64::try_from(raw).is_ok_and(|raw| float_value(*bits, raw).is_finite()),
            Kind::Time { milliseconds } => raw <= LAST_TIME * if *milliseconds { 1000 } else { 1 },
            _ => true,
        }
    }
}

/// The last moment, in seconds since 1970-01-01 UTC: 9999-12-30T22:00:00Z, which has a year of four digits in every time zone.
pub const LAST_TIME: i128 = 253_402_207_200;

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
    /// Whether it was written as a range: its ends were chosen, and its step or its bits follow.
    pub is_range: bool,
}

/// A value as it lies in a message: a raw number, or bytes.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Value {
    /// A raw number; signed ones are sign-extended to 64 bits.
    Raw(u64),
    /// The bytes of a text or byte field.
    Bytes(Vec<u8>),
}
