//! Why a frame is broken, or cannot be read.

use emberwort_model::Plan;
use emberwort_model::hex::hex;
use emberwort_model::ids::MessageId;
use emberwort_model::plan::{Direction, Role};

use crate::codec::BodyError;

/// Why a frame is broken, or cannot be read ([`FrameFault::is_unread`]). Parts are indices into the channel's parts.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum FrameFault {
    /// The length part says something that no frame of this channel can have.
    Length {
        /// Bytes that the frame would have.
        length: u64,
        /// Fewest bytes of a frame.
        least: usize,
        /// Most bytes of a frame.
        greatest: usize,
    },
    /// The input ends, or the delimiter comes, before the frame is complete.
    Truncated {
        /// Bytes that are there.
        length: usize,
        /// Bytes that are needed at least.
        needed: usize,
    },
    /// A checksum differs.
    Checksum {
        /// The part.
        part: usize,
        /// As computed from the bytes.
        expected: u64,
        /// As it stands in the frame.
        found: u64,
    },
    /// It does not begin with the sync bytes.
    Sync,
    /// A part with a fixed value, or with that of an earlier one, has another.
    Fixed {
        /// The part.
        part: usize,
        /// The value of the definition.
        expected: u64,
        /// As it stands in the frame.
        found: u64,
    },
    /// Other characters stand where a part has hex digits.
    Digits {
        /// The part.
        part: usize,
    },
    /// The stuffing is wrong at this byte.
    Stuffing {
        /// Offset in the stuffed frame.
        at: usize,
    },
    /// No message of the channel has this key, whose size would say where the frame ends.
    UnknownSize {
        /// The key.
        key: u64,
    },
    /// No message of the channel has this key.
    UnknownMessage {
        /// The key.
        key: u64,
    },
    /// The line fits no pattern; lines like this are stray.
    NoPattern,
    /// The body cannot be decoded.
    Body {
        /// Index of the message.
        message: MessageId,
        /// Why.
        error: BodyError,
    },
}

impl FrameFault {
    /// Whether the frame itself is right (framing, constants, checksums), and only its body cannot be read: such a frame is unread,
    /// not broken.
    pub fn is_unread(&self) -> bool {
        matches!(self, FrameFault::UnknownMessage { .. } | FrameFault::NoPattern | FrameFault::Body { .. })
    }

    /// All short names that [`FrameFault::reason`] gives.
    pub const REASONS: [&'static str; 7] =
        ["checksum", "length", "truncated", "fixed", "stuffing", "unknown message", "body"];

    /// The reason in one or two words, for counting.
    pub fn reason(&self) -> &'static str {
        Self::REASONS[match self {
            FrameFault::Checksum { .. } => 0,
            FrameFault::Length { .. } | FrameFault::UnknownSize { .. } => 1,
            FrameFault::Truncated { .. } => 2,
            FrameFault::Fixed { .. } | FrameFault::Sync | FrameFault::Digits { .. } => 3,
            FrameFault::Stuffing { .. } => 4,
            FrameFault::UnknownMessage { .. } | FrameFault::NoPattern => 5,
            FrameFault::Body { .. } => 6,
        }]
    }

    /// What is wrong, in a sentence with the numbers; `channel` is the one of the frame, as frames from its sender go over it.
    ///
    /// # Panics
    /// If the fault is of another link or channel.
    pub fn sentence(&self, plan: &Plan, channel: &Direction) -> String {
        let width = |part: usize| usize::from(channel.parts[part].bits).div_ceil(4);
        match self {
            FrameFault::Checksum { part, expected, found } => {
                let (name, width) = (&channel.parts[*part].name, width(*part));
                format!("`{name}` is 0x{found:0width$X}, computed 0x{expected:0width$X}")
            }
            FrameFault::Length { length, least, greatest } if least == greatest => {
                format!("the length part says {length} bytes, but there are {least}")
            }
            FrameFault::Length { length, least, greatest } => {
                format!("a frame has {least} to {greatest} bytes, not {length}")
            }
            FrameFault::Truncated { length, needed } => {
                format!("ends after {length} bytes, needs at least {needed}")
            }
            FrameFault::Fixed { part, expected, found } => {
                let (name, width) = (&channel.parts[*part].name, width(*part));
                let why = match channel.parts[*part].role {
                    Role::Same { part: of, inverted: false } => format!(", `{}`", channel.parts[of].name),
                    Role::Same { part: of, inverted: true } => format!(", `{}` inverted,", channel.parts[of].name),
                    _ => ", always".to_owned(),
                };
                format!("`{name}` is 0x{found:0width$X}{why} 0x{expected:0width$X}")
            }
            FrameFault::Digits { part } => {
                format!("`{}` should be {} hex digits", channel.parts[*part].name, width(*part))
            }
            FrameFault::Sync => format!("does not begin with the sync bytes {}", hex(&channel.sync)),
            FrameFault::Stuffing { at } => format!("the stuffing is wrong at byte {at}"),
            FrameFault::UnknownSize { key } => {
                format!(
                    "no message on `{}` has {}, so nothing says how long the frame is",
                    channel.name,
                    channel.key_text(*key)
                )
            }
            FrameFault::UnknownMessage { key } => {
                format!("no message on `{}` has {}", channel.name, channel.key_text(*key))
            }
            FrameFault::NoPattern => format!("the line fits no pattern of `{}`", channel.name),
            FrameFault::Body { message, error } => {
                let message = &plan.messages[*message].message;
                let field = error.slot().map_or(String::new(), |slot| format!(".{}", message.fields[slot].name));
                format!("{}{field}: {error}", message.name)
            }
        }
    }
}
