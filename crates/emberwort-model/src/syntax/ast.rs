//! What the parser makes of a text: items with their names, numbers and places, nothing looked up yet.

use crate::algorithm::Algorithm;
use crate::number::Decimal;
use crate::source::Span;

/// A name and where it stands.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Name {
    /// The name.
    pub text: String,
    /// Its place.
    pub span: Span,
}

/// A number and where it stands.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Number {
    /// The value, exactly as written.
    pub value: Decimal,
    /// Its place.
    pub span: Span,
}

/// A value that may be given once, and where it stands.
pub type Spanned<T> = (T, Span);

/// The order of bytes, and with it of bits, in a link.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
pub enum ByteOrder {
    /// Least significant byte first; bits fill a byte from its least significant one.
    Little,
    /// Most significant byte first; bits fill a byte from its most significant one.
    Big,
}

/// One of the two ends of a link.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
pub enum End {
    /// The firmware side.
    Device,
    /// The computer side.
    Host,
}

impl End {
    /// The word for this end.
    pub fn as_str(self) -> &'static str {
        match self {
            End::Device => "device",
            End::Host => "host",
        }
    }
}

/// All items of a definition file, in their order.
#[derive(Clone, Debug, Default)]
pub struct File {
    /// `link` items; a definition has one.
    pub links: Vec<LinkItem>,
    /// `enum` and `flags` items.
    pub labelled: Vec<LabelledItem>,
    /// `message` items.
    pub messages: Vec<MessageItem>,
    /// `channel` items.
    pub channels: Vec<ChannelItem>,
}

/// `link NAME { … }`
#[derive(Clone, Debug)]
pub struct LinkItem {
    /// Its documentation.
    pub doc: String,
    /// Its name.
    pub name: Name,
    /// `revision N`
    pub revision: Option<Number>,
    /// `byte_order little|big`
    pub byte_order: Option<Spanned<ByteOrder>>,
    /// Whether a statement of it could not be read.
    pub damaged: bool,
}

/// `enum NAME : uN { … }` or `flags NAME : uN { … }`
#[derive(Clone, Debug)]
pub struct LabelledItem {
    /// Its documentation.
    pub doc: String,
    /// Whether this is a flag set.
    pub flags: bool,
    /// Its name.
    pub name: Name,
    /// Width in bits, 1 to 64.
    pub bits: u8,
    /// The labels in order of declaration.
    pub labels: Vec<LabelItem>,
}

/// `CODE NAME ["TEXT"]`
#[derive(Clone, Debug)]
pub struct LabelItem {
    /// The code of an enum's label, or the bit number of a flag.
    pub code: Number,
    /// The label.
    pub name: Name,
    /// What it means: the quoted text or the documentation comment.
    pub text: String,
}

/// `message NAME { … }`
#[derive(Clone, Debug)]
pub struct MessageItem {
    /// Its documentation.
    pub doc: String,
    /// Its name.
    pub name: Name,
    /// `id N`
    pub id: Option<Number>,
    /// `from device|host`
    pub from: Option<Spanned<End>>,
    /// `every DURATION`, in nanoseconds.
    pub every: Option<u64>,
    /// `on CHANNEL, …`
    pub on: Vec<Name>,
    /// `answered by MESSAGE, …`
    pub answered_by: Vec<Name>,
    /// `within DURATION`, in nanoseconds.
    pub within: Option<u64>,
    /// The fields: those of revision 1 first (`revision` is `None`), then each `added in`.
    pub sections: Vec<SectionItem>,
    /// Whether a statement of it could not be read.
    pub damaged: bool,
}

/// The fields before the first `added in`, or those of one `added in N { … }`.
#[derive(Clone, Debug, Default)]
pub struct SectionItem {
    /// `N`; `None` for the fields that were there from the start.
    pub revision: Option<Number>,
    /// The fields in order of declaration.
    pub fields: Vec<FieldItem>,
}

/// `NAME : TYPE …`, or `spare …`
#[derive(Clone, Debug)]
pub struct FieldItem {
    /// Its documentation.
    pub doc: String,
    /// The name; `None` for spare space.
    pub name: Option<Name>,
    /// The type.
    pub ty: TypeExpr,
    /// Place of the type.
    pub ty_span: Span,
    /// The unit, empty if there is none.
    pub unit: String,
    /// `optional`
    pub optional: bool,
    /// `or none`
    pub none: Option<Span>,
    /// `= VALUE`
    pub default: Option<Spanned<Literal>>,
}

/// A field's type as written.
#[derive(Clone, Debug)]
pub enum TypeExpr {
    /// `u12`, `i16 * 0.1 + 20`
    Integer {
        /// Whether it is `i…`.
        signed: bool,
        /// Width, 1 to 64.
        bits: u8,
        /// `* SCALE`
        scale: Option<Number>,
        /// `+ OFFSET` or `- OFFSET`
        offset: Option<Number>,
    },
    /// `LOW .. HIGH step STEP`
    Steps {
        /// Least value.
        low: Number,
        /// Greatest value.
        high: Number,
        /// Resolution.
        step: Number,
    },
    /// `LOW .. HIGH in N bits`
    Spread {
        /// Least value.
        low: Number,
        /// Greatest value.
        high: Number,
        /// Width in bits, 1 to 64.
        bits: u8,
    },
    /// `bool`
    Bool,
    /// `f32`
    Float32,
    /// The name of an enum or a flag set.
    Named(Name),
    /// `text[..N]`
    Text {
        /// Most bytes.
        max: u32,
    },
    /// `bytes[N]`
    Bytes {
        /// Exact number of bytes.
        length: u32,
    },
    /// `spare N bits`, `spare N bytes`
    Spare {
        /// Number of bits.
        bits: u32,
    },
}

/// A default as written.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Literal {
    /// A number.
    Number(Decimal),
    /// A quoted text, without its quotes.
    Text(String),
    /// A word: `none`, `true`, `false`, an enum's label.
    Word(String),
    /// `[label, …]`: flags that are set.
    Labels(Vec<Name>),
}

/// `channel NAME { … }`
#[derive(Clone, Debug)]
pub struct ChannelItem {
    /// Its documentation.
    pub doc: String,
    /// Its name.
    pub name: Name,
    /// `medium …`
    pub medium: Option<Spanned<Medium>>,
    /// `limit N bytes`
    pub limit: Option<Number>,
    /// `stuffing cobs`, `packet`
    pub finding: Option<Spanned<FrameEnd>>,
    /// `frame { … }`
    pub frame: Option<FrameItem>,
    /// Whether a statement of it could not be read.
    pub damaged: bool,
}

/// What a channel runs over.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Medium {
    /// An asynchronous serial line.
    Uart {
        /// Bits a second.
        baud: u32,
        /// Data bits, 5 to 9.
        data_bits: u8,
        /// Parity: `N`, `E`, `O`.
        parity: char,
        /// Stop bits, 1 or 2.
        stop_bits: u8,
    },
    /// Datagrams of the User Datagram Protocol (RFC 768).
    Udp {
        /// Port number.
        port: u16,
    },
}

/// How the end of a frame is known, where the frame's parts do not say it.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum FrameEnd {
    /// `stuffing cobs`
    Cobs,
    /// `packet`: the medium keeps frames apart.
    Packet,
}

/// `frame { … }`
#[derive(Clone, Debug)]
pub struct FrameItem {
    /// The parts in the order in which they are sent.
    pub parts: Vec<PartItem>,
    /// Place of the word `frame`.
    pub span: Span,
}

/// One part of a frame.
#[derive(Clone, Debug)]
pub struct PartItem {
    /// Its documentation.
    pub doc: String,
    /// Its name: `sync` and `body` for those two.
    pub name: Name,
    /// What it is.
    pub kind: PartKind,
}

/// What a part of a frame is.
#[derive(Clone, Debug)]
pub enum PartKind {
    /// `sync BYTES`
    Sync(Vec<u8>),
    /// `body`
    Body,
    /// `NAME : uN ROLE`
    Value {
        /// Width in bits, 1 to 64.
        bits: u8,
        /// What the value says.
        role: RoleItem,
        /// Place of the role.
        span: Span,
    },
}

/// What the value of a frame part says.
#[derive(Clone, Debug)]
pub enum RoleItem {
    /// `message`
    Message,
    /// `length of A..B [in N bytes]`
    Length {
        /// First part counted.
        from: Name,
        /// Last part counted.
        to: Name,
        /// Bytes that one count stands for.
        unit: u32,
    },
    /// `address`
    Address,
    /// `sequence`
    Sequence,
    /// `revision`
    Revision,
    /// `ALGORITHM over A..B, … [skipping]`
    Checksum {
        /// The algorithm.
        algorithm: Algorithm,
        /// Its name as written.
        name: String,
        /// The ranges of parts, first and last.
        over: Vec<(Name, Name)>,
        /// Whether the checksum part itself is left out where it lies in a range, instead of counting as zero.
        skipping: bool,
    },
    /// `= VALUE`
    Fixed(Number),
}
