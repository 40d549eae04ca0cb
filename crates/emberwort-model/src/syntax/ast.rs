//! What the parser makes of a text: items with their names, numbers and places, nothing looked up yet.

use crate::algorithm::Algorithm;
use crate::medium::Medium;
use crate::model::Base;
use crate::number::Decimal;
use crate::source::Span;
use crate::stuffing::{Escape, Stuffing};

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
    /// The base in which it is written.
    pub base: Base,
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
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash, PartialOrd, Ord)]
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

    /// The end that this one talks to.
    pub fn other(self) -> Self {
        match self {
            End::Device => End::Host,
            End::Host => End::Device,
        }
    }
}

/// How many elements or bytes.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
pub enum Length {
    /// Exactly so many.
    Exact(u32),
    /// A count in front, and at most so many.
    UpTo(u32),
    /// As many as there are up to the body's end.
    Rest,
}

/// All items of a definition, in their order; those of imported files stand behind those of the importing one.
#[derive(Clone, Debug, Default)]
pub struct File {
    /// `import` items.
    pub imports: Vec<ImportItem>,
    /// `link` items; a definition has one.
    pub links: Vec<LinkItem>,
    /// `enum` and `flags` items.
    pub labelled: Vec<LabelledItem>,
    /// `record` items.
    pub records: Vec<RecordItem>,
    /// `table` items.
    pub tables: Vec<TableItem>,
    /// `message` items.
    pub messages: Vec<MessageItem>,
    /// `channel` items.
    pub channels: Vec<ChannelItem>,
}

impl File {
    /// Takes the items of an imported file in.
    pub(crate) fn absorb(&mut self, mut other: File) {
        self.links.append(&mut other.links);
        self.labelled.append(&mut other.labelled);
        self.records.append(&mut other.records);
        self.tables.append(&mut other.tables);
        self.messages.append(&mut other.messages);
        self.channels.append(&mut other.channels);
    }
}

/// `import "PATH"`
#[derive(Clone, Debug)]
pub struct ImportItem {
    /// The path as written.
    pub path: String,
    /// Its place.
    pub span: Span,
}

/// `record NAME [growing] { … }`
#[derive(Clone, Debug)]
pub struct RecordItem {
    /// Its documentation.
    pub doc: String,
    /// Its name.
    pub name: Name,
    /// Whether `growing` stands behind the name.
    pub extensible: bool,
    /// The fields: those of revision 1 first, then each `added in`.
    pub sections: Vec<SectionItem>,
    /// Whether a statement of it could not be read.
    pub damaged: bool,
}

/// `table NAME : uN { … }`
#[derive(Clone, Debug)]
pub struct TableItem {
    /// Its documentation.
    pub doc: String,
    /// Its name.
    pub name: Name,
    /// Width of its keys in bits.
    pub bits: u8,
    /// The entries in order of declaration.
    pub entries: Vec<EntryItem>,
    /// Whether a statement of it could not be read.
    pub damaged: bool,
}

/// `KEY NAME : TYPE [read] [write] [kept]`
#[derive(Clone, Debug)]
pub struct EntryItem {
    /// The number.
    pub key: Number,
    /// Its name and type.
    pub field: FieldItem,
    /// `read`
    pub read: bool,
    /// `write`
    pub write: bool,
    /// `kept`
    pub kept: bool,
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
    /// Whether a statement of it could not be read.
    pub damaged: bool,
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
    /// `+ node LEAST .. GREATEST` behind it.
    pub id_nodes: Option<NodeRange>,
    /// `from device|host`
    pub from: Option<Spanned<End>>,
    /// `every DURATION`, in nanoseconds.
    pub every: Option<Spanned<u64>>,
    /// `on CHANNEL [port N | endpoint N | can_id N [extended]], …`
    pub on: Vec<OnItem>,
    /// `line "PATTERN"`, with its quotes still around it.
    pub line: Option<Spanned<String>>,
    /// `answered by MESSAGE, …`
    pub answered_by: Vec<Name>,
    /// `within DURATION`, in nanoseconds.
    pub within: Option<u64>,
    /// The fields: those of revision 1 first (`revision` is `None`), then each `added in`.
    pub sections: Vec<SectionItem>,
    /// Whether a statement of it could not be read.
    pub damaged: bool,
}

/// A channel that a message travels on, and its key there.
#[derive(Clone, Debug)]
pub struct OnItem {
    /// The channel.
    pub channel: Name,
    /// What selects the message there, if no frame part does.
    pub key: Option<KeyItem>,
}

/// `node LEAST .. GREATEST`: the nodes whose number is added to a key.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct NodeRange {
    /// The least of them.
    pub least: u64,
    /// The greatest of them.
    pub greatest: u64,
}

/// `port N`, `endpoint N`, `can_id N [extended]`, `can_id N + node LEAST .. GREATEST`
#[derive(Clone, Copy, Debug)]
pub struct KeyItem {
    /// What kind of key it is.
    pub kind: KeyKind,
    /// The key.
    pub number: Number,
    /// `+ node LEAST .. GREATEST`
    pub nodes: Option<NodeRange>,
    /// Whether `extended` stands behind it.
    pub extended: bool,
}

/// What can select a message outside the frame.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
pub enum KeyKind {
    /// A port of the network.
    Port,
    /// A CAN identifier.
    CanId,
    /// An endpoint of USB.
    Endpoint,
    /// The size of the body.
    Size,
}

impl KeyKind {
    /// The word for it.
    pub fn as_str(self) -> &'static str {
        match self {
            KeyKind::Port => "port",
            KeyKind::CanId => "can_id",
            KeyKind::Endpoint => "endpoint",
            KeyKind::Size => "size",
        }
    }
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
    /// The name; `None` for spare space and elements of lists.
    pub name: Option<Name>,
    /// The type.
    pub ty: TypeExpr,
    /// Place of the type.
    pub ty_span: Span,
    /// The unit, empty if there is none.
    pub unit: String,
    /// `optional`
    pub optional: Option<Span>,
    /// `or none`
    pub none: Option<Span>,
    /// `= VALUE`
    pub default: Option<Spanned<Literal>>,
    /// `be`, `le`
    pub order: Option<Spanned<ByteOrder>>,
    /// `at BYTE.BIT`
    pub at: Option<Spanned<(u32, u8)>>,
    /// `counter`
    pub counter: Option<Span>,
    /// `retired`
    pub retired: Option<Span>,
}

impl FieldItem {
    /// Its name; empty without one.
    pub fn shown(&self) -> &str {
        self.name.as_ref().map_or("", |name| name.text.as_str())
    }

    /// The table of a `value of …`; empty for other types.
    pub fn table_name(&self) -> &str {
        if let TypeExpr::ValueOf { table, .. } = &self.ty { &table.text } else { "" }
    }

    /// A field with nothing but a name and a type.
    pub fn plain(name: Option<Name>, ty: TypeExpr, ty_span: Span) -> Self {
        Self {
            doc: String::new(),
            name,
            ty,
            ty_span,
            unit: String::new(),
            optional: None,
            none: None,
            default: None,
            order: None,
            at: None,
            counter: None,
            retired: None,
        }
    }
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
    /// `f16`, `f32`, `f64`
    Float(u8),
    /// `compact u32`
    Varint {
        /// Whether it is `i…`.
        signed: bool,
        /// Width of the largest value.
        bits: u8,
    },
    /// `time s`, `time ms`
    Time {
        /// Whether it counts milliseconds.
        milliseconds: bool,
    },
    /// The name of an enum, a flag set or a record.
    Named(Name),
    /// `text[8]`, `ascii[..N]`, `text[rest]`
    Text {
        /// Whether it is `ascii`.
        ascii: bool,
        /// How many bytes.
        length: Length,
    },
    /// `bytes[N]`, `bytes[..N]`, `bytes[rest]`
    Bytes(Length),
    /// `[N] TYPE`, `[..N] TYPE`, `[rest] TYPE`
    List {
        /// The type of each element.
        element: Box<FieldItem>,
        /// How many.
        length: Length,
    },
    /// `by FIELD { … }`
    By {
        /// The deciding field.
        field: Name,
        /// The forms.
        cases: Vec<CaseItem>,
        /// The form behind `else`.
        otherwise: Option<Box<FieldItem>>,
    },
    /// `key of TABLE`
    KeyOf(Name),
    /// `value of TABLE by [MESSAGE.]FIELD`
    ValueOf {
        /// The table.
        table: Name,
        /// The request whose field decides; `None` for a field of the same message.
        request: Option<Name>,
        /// The deciding field.
        field: Name,
    },
    /// `frame of CHANNEL`
    FrameOf(Name),
    /// `exactly VALUE : TYPE`
    Exactly {
        /// The constant.
        value: Number,
        /// Whether its type is signed.
        signed: bool,
        /// The width of its type in bits.
        bits: u8,
    },
    /// `spare N bits`, `spare N bytes`
    Spare {
        /// Number of bits.
        bits: u32,
    },
}

/// `CASE NAME : TYPE`
#[derive(Clone, Debug)]
pub struct CaseItem {
    /// The number or label that selects it.
    pub case: Spanned<Literal>,
    /// Its name and type.
    pub field: FieldItem,
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
    /// `stuffing cobs`, `packet`, `lines lf`
    pub finding: Option<Spanned<FrameEnd>>,
    /// `select by …`
    pub select: Option<Spanned<KeyKind>>,
    /// `frame { … }`, or one for each direction.
    pub frames: Vec<FrameItem>,
    /// Whether a statement of it could not be read.
    pub damaged: bool,
}

/// How the end of a frame is known, where the frame's parts do not say it.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum FrameEnd {
    /// `stuffing cobs`, `stuffing slip`, `stuffing hdlc`
    Stuffing(Stuffing),
    /// `stuffing escape 7D xor 20 of 7D C6`
    Escape(Escape),
    /// `gap 3.5 characters`
    IdleCharacters(Decimal),
    /// `gap 2 ms`, in nanoseconds
    IdleTime(u64),
    /// `packet`: the medium keeps frames apart.
    Packet,
    /// `lines lf`, `lines crlf`: each line of text is a frame.
    Lines {
        /// Whether lines end with a carriage return and a line feed.
        crlf: bool,
    },
    /// `status bytes`, `status bytes running`: the first byte of a frame, and no other, has bit 7 set.
    StatusBytes {
        /// Whether senders leave out one that is the same as before.
        running: bool,
    },
}

/// `frame { … }`, `frame from host { … }`
#[derive(Clone, Debug)]
pub struct FrameItem {
    /// The end that sends these frames, where the directions differ.
    pub from: Option<End>,
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
    /// `NAME : uN ROLE`, `NAME : hexN ROLE`
    Value {
        /// Width in bits, 1 to 64.
        bits: u8,
        /// `hexN`: the value stands there in N hex digits.
        hex: bool,
        /// `be`, `le`
        order: Option<Spanned<ByteOrder>>,
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
    /// `address`, `address N for all`
    Address {
        /// The node that means all of them.
        all: Option<Number>,
    },
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
    /// `same as PART [inverted]`
    Same {
        /// The other part.
        part: Name,
        /// Whether each bit is the other one.
        inverted: bool,
    },
}
