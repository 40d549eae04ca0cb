//! The plan of a channel: where the parts of a frame lie, how its end is found, which key selects which message.

use std::ops::RangeInclusive;

use crate::algorithm::Algorithm;
use crate::ids::MessageId;
use crate::model::{Base, ByteOrder, Medium};
use crate::stuffing::{Escape, Stuffing};

/// A channel as the frames of one end go over it, compiled.
#[derive(Clone, Debug, PartialEq)]
pub struct Direction {
    /// The channel's name.
    pub name: String,
    /// Its documentation.
    pub doc: String,
    /// What it runs over.
    pub medium: Medium,
    /// Most bytes of a frame as it is sent, stuffing and delimiters included.
    pub limit: usize,
    /// The node that means all of them, if there is one.
    pub broadcast: Option<u64>,
    /// What selects the message.
    pub selected_by: KeySource,
    /// How a receiver finds frames.
    pub finder: FrameFinder,
    /// The order of bytes and bits.
    pub byte_order: ByteOrder,
    /// The sync bytes at the start; empty without any.
    pub sync: Vec<u8>,
    /// The parts with a value, in the order in which they are sent.
    pub parts: Vec<Part>,
    /// Bytes before the body, sync included.
    pub head_bytes: usize,
    /// Bytes behind the body.
    pub tail_bytes: usize,
    /// Which key selects which message (an index into the link's messages), by rising key.
    pub keys: Vec<(u64, MessageId)>,
    /// How the definition writes keys here.
    pub key_base: Base,
    /// For each of `keys` that a node's number was added to, what it was added to.
    pub node_bases: Vec<Option<u64>>,
    /// Bytes of the body for each of `keys`, where they and not a length part say how long a frame is; else empty. `None` for
    /// bodies of several sizes, which status bytes allow.
    pub body_sizes: Vec<Option<usize>>,
    /// Most bytes of a body of any message on this channel.
    pub greatest_body: usize,
}

/// How a receiver finds frames in what it receives.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum FrameFinder {
    /// Sync bytes in front; the length part, or the size of the message, says where the frame ends.
    Sync,
    /// A delimiter that cannot occur inside of frames.
    Stuffed(Stuffing),
    /// Sync bytes in front that cannot occur in the rest; the length part or [`Direction::terminator`] says where the frame
    /// ends.
    Escaped(Escape),
    /// Silence between frames.
    Idle {
        /// How long it lasts at least.
        nanoseconds: u64,
    },
    /// The medium keeps frames apart.
    Packet,
    /// The first byte of a frame, and no other, has bit 7 set: its status byte, which is the key. One from F8 on is a frame of
    /// its own that may stand anywhere, even inside of another. Other frames end where the size of their message says, or with
    /// the next status byte. (The "running status" of the MIDI 1.0 specification.)
    StatusBytes {
        /// Whether senders leave out a status byte below F0 that is the same as in the frame before. Receivers always
        /// understand that.
        running: bool,
    },
    /// Each line of text is a frame.
    Lines {
        /// Whether lines end with a carriage return and a line feed, not with a line feed alone.
        crlf: bool,
    },
}

impl FrameFinder {
    /// Whether frames are packets that the medium keeps apart; else they stand in a stream of bytes.
    pub fn is_packet(self) -> bool {
        self == Self::Packet
    }

    /// Whether each frame is a line of text.
    pub fn is_text(self) -> bool {
        matches!(self, Self::Lines { .. })
    }

    /// How long nothing comes between two frames at least, in nanoseconds, where that tells them apart.
    pub fn silence(self) -> Option<u64> {
        match self {
            Self::Idle { nanoseconds } => Some(nanoseconds),
            _ => None,
        }
    }

    /// Whether frames are told apart without looking into them, so that no part has to say where one begins or ends.
    pub fn separates(self) -> bool {
        match self {
            Self::Stuffed(_) | Self::Idle { .. } | Self::Packet | Self::Lines { .. } => true,
            Self::Sync | Self::Escaped(_) | Self::StatusBytes { .. } => false,
        }
    }

    /// Whether what the frame itself says alone tells where it ends, and its bytes are sent as they are: after damage, bytes of
    /// the next one can be taken for its own.
    pub fn runs_on(self) -> bool {
        self == Self::Sync
    }
}

/// What selects the message that a frame carries.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum KeySource {
    /// The value of a frame part.
    Part,
    /// A port of the network below.
    Port,
    /// The CAN identifier; those of 29 bits have bit 31 set too ([`EXTENDED_ID`]).
    CanId,
    /// The endpoint of USB.
    Endpoint,
    /// The number of bytes of the body.
    Size,
    /// The pattern that the line fits.
    Line,
    /// Nothing: a single message travels here.
    Single,
}

/// Set in keys that are CAN identifiers of 29 bits.
pub const EXTENDED_ID: u64 = 1 << 31;

/// One part of a frame that has a value.
#[derive(Clone, Debug, PartialEq)]
pub struct Part {
    /// Its name.
    pub name: String,
    /// Its documentation.
    pub doc: String,
    /// Width of its value, 1 to 64 bits.
    pub bits: u8,
    /// Whether the value is written in hex digits (ASCII, the most significant one first), each of which holds four bits of it.
    pub hex: bool,
    /// Before or behind the body.
    pub zone: Zone,
    /// First bit, counted from the start of its zone in the order in which bits are filled.
    pub at_bit: u32,
    /// The order of its bytes; other than the channel's only for whole bytes at a byte boundary.
    pub order: ByteOrder,
    /// What the value says.
    pub role: Role,
}

/// The two stretches of a frame around its body.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Zone {
    /// From the frame's first byte (sync included) to the body.
    Head,
    /// From the body's end to the frame's last byte.
    Tail,
}

/// What the value of a part says.
#[derive(Clone, Debug, PartialEq)]
pub enum Role {
    /// The key that selects the message.
    Message,
    /// How long the frame is: `(other_bytes + the body's bytes) / unit`.
    Length {
        /// Bytes counted besides the body's.
        other_bytes: usize,
        /// Bytes that one count stands for.
        unit: usize,
    },
    /// The node.
    Address,
    /// Goes up by one a frame.
    Sequence,
    /// The sender's revision.
    Revision,
    /// A checksum.
    Checksum {
        /// The algorithm.
        algorithm: Algorithm,
        /// Its name as written in the definition.
        name: String,
        /// The stretches that it covers, in their order.
        over: Vec<Covered>,
        /// Whether the part itself is left out where it lies in a stretch, instead of counting as zero.
        skipping: bool,
    },
    /// Always this value.
    Fixed(u64),
    /// The value of an earlier part again.
    Same {
        /// Its index among the channel's parts.
        part: usize,
        /// Whether each bit is the other one.
        inverted: bool,
    },
}

/// A stretch of a frame, from one bound up to another.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Covered {
    /// First byte.
    pub from: Bound,
    /// One past the last byte.
    pub to: Bound,
}

/// A byte place in a frame whose body's size is not known yet.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Bound {
    /// So many bytes from the frame's start.
    Head(usize),
    /// So many bytes from the body's end.
    Tail(usize),
}

impl Part {
    /// The greatest value that it can have.
    pub fn greatest(&self) -> u64 {
        u64::MAX >> (64 - u32::from(self.bits))
    }

    /// Bits that it takes in the frame.
    pub fn wire_bits(&self) -> usize {
        usize::from(self.bits) * if self.hex { 2 } else { 1 }
    }
}

impl Bound {
    /// The byte offset in a frame whose body ends at `body_end`.
    #[inline]
    pub fn at(self, body_end: usize) -> usize {
        match self {
            Bound::Head(offset) => offset,
            Bound::Tail(offset) => body_end + offset,
        }
    }
}

impl Bound {
    /// Whether this place lies before another one for every size of the body; the ends of an empty body count as apart.
    pub fn is_before(self, other: Bound) -> bool {
        match (self, other) {
            (Bound::Head(a), Bound::Head(b)) | (Bound::Tail(a), Bound::Tail(b)) => a < b,
            (Bound::Head(_), Bound::Tail(_)) => true,
            (Bound::Tail(_), Bound::Head(_)) => false,
        }
    }
}

impl Direction {
    /// Whether frames have a checksum.
    pub fn has_checksum(&self) -> bool {
        self.parts.iter().any(|part| matches!(part.role, Role::Checksum { .. }))
    }

    /// Whether receivers look for frames inside of one that is right as far as it can be seen, but that nobody can read. They do
    /// so where no checksum says that it is a frame at all, and neither do stuffing, silence, or the medium.
    pub fn looks_inside_unread(&self) -> bool {
        !self.has_checksum() && matches!(self.finder, FrameFinder::Sync | FrameFinder::Escaped(_))
    }

    /// Whether the message's key does not stand in the frame itself.
    pub fn key_is_outside(&self) -> bool {
        matches!(self.selected_by, KeySource::Port | KeySource::CanId | KeySource::Endpoint)
    }

    /// A key as people write it where it stands outside the frame, or as the number that the frame holds: `port 4850`,
    /// `can_id 0x1A4`, `can_id 0x0CF00400, extended`, `the key 0x21`.
    pub fn key_text(&self, key: u64) -> String {
        let number = self.key_number(key);
        match self.selected_by {
            KeySource::CanId if key & EXTENDED_ID != 0 => format!("can_id {number}, extended"),
            KeySource::CanId => format!("can_id {number}"),
            KeySource::Port => format!("port {number}"),
            KeySource::Endpoint => format!("endpoint {number}"),
            _ => format!("the key {number}"),
        }
    }

    /// The number alone of a key, as the definition writes those of its messages here; in hex CAN identifiers have the 3 or 8
    /// digits of their kind, others at least 2.
    pub fn key_number(&self, key: u64) -> String {
        match self.selected_by {
            KeySource::CanId if key & EXTENDED_ID != 0 => self.key_base.text(key & !EXTENDED_ID, 8),
            KeySource::CanId => self.key_base.text(key, 3),
            _ => self.key_base.text(key, 2),
        }
    }

    /// The key of a message (by index) from or to a node; `None` if it does not travel here, or has no key for this node.
    pub fn key_for(&self, message: MessageId, node: u64) -> Option<u64> {
        let at = self.keys.iter().position(|(_, index)| *index == message)?;
        let Some(base) = self.node_bases.get(at).copied().flatten() else { return Some(self.keys[at].0) };
        let key = base.checked_add(node)?;
        (self.message_of(key) == Some(message)).then_some(key)
    }

    /// The nodes that the keys of a message (by index) are for; `None` if its key does not say the node.
    pub fn nodes_of(&self, message: MessageId) -> Option<RangeInclusive<u64>> {
        let own = || self.keys.iter().zip(&self.node_bases).filter(|((_, index), _)| *index == message);
        let (((least, _), base), ((greatest, _), _)) = own().next().zip(own().next_back())?;
        let base = (*base)?;
        Some(least - base..=greatest - base)
    }

    /// The node that a key says.
    #[inline]
    pub fn node_in_key(&self, key: u64) -> Option<u64> {
        if self.node_bases.is_empty() {
            return None;
        }
        let at = self.keys.binary_search_by_key(&key, |(key, _)| *key).ok()?;
        self.node_bases[at].map(|base| key - base)
    }

    /// A key of a message (by index) on this channel: of those for several nodes, the least.
    pub fn key_of(&self, message: MessageId) -> Option<u64> {
        self.keys.iter().find(|(_, index)| *index == message).map(|(key, _)| *key)
    }

    /// The part with this role, if there is one.
    pub fn part(&self, wanted: impl Fn(&Role) -> bool) -> Option<&Part> {
        self.parts.iter().find(|part| wanted(&part.role))
    }

    /// Whether a part (by index) stands in the frame again, so that damage to one of the two is seen.
    pub(crate) fn is_repeated(&self, part: usize) -> bool {
        self.part(|role| matches!(role, Role::Same { part: of, .. } if *of == part)).is_some()
    }

    /// The part that selects the message.
    pub fn key_part(&self) -> Option<&Part> {
        self.part(|role| *role == Role::Message)
    }

    /// The index of the message that a key selects.
    #[inline]
    pub fn message_of(&self, key: u64) -> Option<MessageId> {
        self.keys.binary_search_by_key(&key, |(key, _)| *key).ok().map(|at| self.keys[at].1)
    }

    /// Whether a message (by index) travels here.
    pub fn carries(&self, message: MessageId) -> bool {
        self.key_of(message).is_some()
    }

    /// Most bytes on the wire of a frame with a body of this size, stuffing and delimiters included.
    pub fn frame_size(&self, body: usize) -> usize {
        let plain = self.head_bytes + body + self.tail_bytes;
        match self.finder {
            FrameFinder::Sync | FrameFinder::Packet | FrameFinder::Idle { .. } | FrameFinder::StatusBytes { .. } => {
                plain
            }
            FrameFinder::Stuffed(stuffing) => stuffing.longest(plain),
            FrameFinder::Escaped(_) => {
                let bare = self.sync.len() + self.terminator().len();
                bare + 2 * (plain - bare)
            }
            FrameFinder::Lines { crlf } => plain + 1 + usize::from(crlf),
        }
    }

    /// Fewest bytes on the wire of a frame with a body of this size.
    pub fn least_frame_size(&self, body: usize) -> usize {
        let plain = self.head_bytes + body + self.tail_bytes;
        match self.finder {
            FrameFinder::Stuffed(stuffing) => stuffing.shortest(plain),
            FrameFinder::Escaped(_) => plain,
            _ => self.frame_size(body),
        }
    }

    /// The bytes that end an escaped frame: those of a last part with a fixed value, if its first byte is one of those escaped,
    /// so that it stands for nothing else. Empty without.
    pub fn terminator(&self) -> Vec<u8> {
        let FrameFinder::Escaped(escape) = self.finder else { return Vec::new() };
        let Some(Part { role: Role::Fixed(value), zone: Zone::Tail, at_bit, bits, order, hex: false, .. }) =
            self.parts.last()
        else {
            return Vec::new();
        };
        if at_bit % 8 != 0 || bits % 8 != 0 {
            return Vec::new();
        }
        let count = usize::from(bits / 8);
        let bytes = match order {
            ByteOrder::Little => value.to_le_bytes()[..count].to_vec(),
            ByteOrder::Big => value.to_be_bytes()[8 - count..].to_vec(),
        };
        if escape.escaped.contains(bytes[0]) { bytes } else { Vec::new() }
    }

    /// The longest body that a frame within the limit can have.
    pub fn longest_body(&self) -> usize {
        (0..=self.limit).rev().find(|body| self.frame_size(*body) <= self.limit).unwrap_or(0)
    }
}
