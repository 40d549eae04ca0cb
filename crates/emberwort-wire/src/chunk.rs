//! Bytes with times, as everything brings them that reads a link: a capture, a port, a simulated wire, a waveform.

use std::ops::ControlFlow;

use emberwort_model::ids::ChannelId;
use emberwort_model::model::End;

/// A moment, in nanoseconds since 1970-01-01 00:00 UTC. It reaches to the year 2554.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub struct Time(u64);

impl Time {
    /// So many nanoseconds after 1970-01-01 00:00 UTC.
    pub const fn from_nanoseconds(nanoseconds: u64) -> Self {
        Self(nanoseconds)
    }

    /// Nanoseconds since 1970-01-01 00:00 UTC.
    pub const fn nanoseconds(self) -> u64 {
        self.0
    }

    /// So many nanoseconds later; the last moment that can be said, if that is beyond it.
    #[must_use]
    pub const fn after(self, nanoseconds: u64) -> Self {
        Self(self.0.saturating_add(nanoseconds))
    }

    /// So many nanoseconds earlier; the first moment, if that is before it.
    #[must_use]
    pub const fn before(self, nanoseconds: u64) -> Self {
        Self(self.0.saturating_sub(nanoseconds))
    }

    /// Nanoseconds from another moment to this one; 0 if that one is later.
    pub const fn since(self, earlier: Self) -> u64 {
        self.0.saturating_sub(earlier.0)
    }
}

/// Which bytes belong to one stream: they follow each other, and none of another stream stands between them.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
pub struct StreamId {
    /// Index of the channel in the link's own definition.
    pub channel: ChannelId,
    /// The end that sends, if that is known.
    pub from: Option<End>,
    /// Where it was listened to. What two listeners heard of one line is never mixed.
    pub tap: u32,
}

/// When one byte was on the line.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct ByteTime {
    /// When its first bit began.
    pub start: Time,
    /// When its last bit ended.
    pub end: Time,
}

/// What is known of the times of some bytes.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Times<'a> {
    /// Nothing.
    Unknown,
    /// When the last byte was complete.
    Last(Time),
    /// When each byte was there; as many as there are bytes.
    Each(&'a [ByteTime]),
}

impl Times<'_> {
    /// When the last byte was complete, if that is known.
    pub fn last(&self) -> Option<Time> {
        match self {
            Self::Unknown => None,
            Self::Last(time) => Some(*time),
            Self::Each(times) => times.last().map(|time| time.end),
        }
    }
}

/// Some bytes of a stream: a packet, or as many as came at once.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Chunk<'a> {
    /// The stream that they belong to.
    pub stream: StreamId,
    /// When they came.
    pub times: Times<'a>,
    /// The port or CAN identifier with which a packet came. A chunk that has one is a whole packet.
    pub key: Option<u64>,
    /// The bytes; of a packet there may be none.
    pub bytes: &'a [u8],
}

/// Takes chunks, in the order in which they came.
pub trait ChunkSink {
    /// The next chunk. `Break` ends the reading.
    fn chunk(&mut self, chunk: &Chunk<'_>) -> ControlFlow<()>;

    /// All that is there so far was handed on; what follows may take a while to come.
    fn pause(&mut self) {}
}
