//! What line decoders tell.

use crate::wave::Moment;

/// A byte on a line.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct LineByte {
    /// The byte.
    pub byte: u8,
    /// When its first bit began, or was taken.
    pub start: Moment,
    /// When its last bit ended, or was taken.
    pub end: Moment,
}

/// Who sends, as far as the wires say it.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum From {
    /// The device.
    Device,
    /// The host.
    Host,
    /// One wire for both.
    Unknown,
}

impl From {
    /// All of them, in the order of their numbers.
    pub const ALL: [Self; 3] = [Self::Device, Self::Host, Self::Unknown];
}

/// What a line decoder tells.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Event {
    /// A byte.
    Byte(From, LineByte),
    /// What came of this sender since the last packet is one.
    Packet {
        /// Who sent it.
        from: From,
        /// The identifier with which it came.
        key: Option<u64>,
        /// The node that it is of, or for.
        node: Option<u64>,
    },
    /// What came of this sender since the last packet is none: it is broken in a way that receivers notice.
    Dropped(From),
    /// A byte of a packet of the line itself, which carries no message.
    PacketByte(LineByte),
    /// Those bytes since the last such packet are one, by this sender.
    LinePacket(From),
    /// A whole transfer from its first bit to its last, said before it is handed on; whether the line itself shows it to be right.
    Transfer {
        /// Whether it is right.
        is_right: bool,
        /// When it began.
        start: Moment,
        /// When it ended.
        end: Moment,
    },
}

/// The levels of the wires of a line, by their place in the wiring: `None` where nobody knows it.
pub type Levels = [Option<bool>; MAX_WIRES];

/// So many wires a line has at most.
pub(crate) const MAX_WIRES: usize = 24;

/// How often something came, and when first.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub struct Count {
    /// How often.
    pub count: u64,
    /// When first.
    pub first: Moment,
}

impl Count {
    /// It came.
    pub fn add(&mut self, at: Moment) {
        if self.count == 0 {
            self.first = at;
        }
        self.count += 1;
    }

    /// Whether it ever came.
    pub fn any(&self) -> bool {
        self.count > 0
    }
}
