//! What a decoder finds, and who takes it: printers, filters, and whatever else looks at rows.

use std::convert::Infallible;
use std::ops::ControlFlow;
use std::sync::Arc;

use emberwort_model::Plan;
use emberwort_model::ids::{ChannelId, MessageId};
use emberwort_model::model::End;
use emberwort_model::plan::Direction;
use emberwort_wire::chunk::ByteTime;
use emberwort_wire::codec::Extent;
use emberwort_wire::{FrameFault, FrameView, StreamId, Time, Values};

use crate::revision_map::DefinitionId;
use crate::revision_map::RevisionMap;

/// When the first of some bytes began.
pub(crate) fn began(times: &[ByteTime]) -> Option<Time> {
    times.first().map(|time| time.start)
}

/// One thing that a decoder found. Every byte of a lane is in exactly one of them.
#[derive(Clone, Copy, Debug)]
pub enum Item<'a> {
    /// A good frame.
    Row(&'a Row<'a>),
    /// A broken frame, or an unread one ([`BrokenFrame::is_unread`]).
    Broken(&'a BrokenFrame<'a>),
    /// Stray bytes.
    Stray(&'a StrayBytes<'a>),
}

impl<'a> Item<'a> {
    /// When its last byte came.
    pub fn time(&self) -> Option<Time> {
        match self {
            Self::Row(row) => row.time,
            Self::Broken(broken) => broken.time,
            Self::Stray(stray) => stray.time,
        }
    }

    /// When each of its bytes was there, where that is known, as in waveforms; else nothing.
    pub fn times(&self) -> &'a [ByteTime] {
        match self {
            Self::Row(row) => row.times,
            Self::Broken(broken) => broken.times,
            Self::Stray(stray) => stray.times,
        }
    }

    /// When its first bit began, where each byte has its time.
    pub fn began(&self) -> Option<Time> {
        began(self.times())
    }

    /// Index of its channel in the link's own definition.
    pub fn channel(&self) -> ChannelId {
        match self {
            Self::Row(row) => row.channel,
            Self::Broken(broken) => broken.channel,
            Self::Stray(stray) => stray.channel,
        }
    }

    /// The end that sent it, if that is known.
    pub fn from(&self) -> Option<End> {
        match self {
            Self::Row(row) => Some(row.from),
            Self::Broken(broken) => broken.from,
            Self::Stray(stray) => stray.from,
        }
    }

    /// The stream that it was found in.
    pub fn stream(&self) -> StreamId {
        match self {
            Self::Row(row) => row.stream,
            Self::Broken(broken) => broken.stream,
            Self::Stray(stray) => stray.stream,
        }
    }

    /// The offset of its first byte in its stream.
    pub fn offset(&self) -> u64 {
        match self {
            Self::Row(row) => row.offset,
            Self::Broken(broken) => broken.offset,
            Self::Stray(stray) => stray.offset,
        }
    }

    /// Its number among all frames that were found, from 1; `None` for stray bytes.
    pub fn number(&self) -> Option<u64> {
        match self {
            Self::Row(row) => Some(row.number),
            Self::Broken(broken) => Some(broken.number),
            Self::Stray(_) => None,
        }
    }

    /// The frame, if it is one.
    pub fn frame(&self) -> Option<&'a FrameView<'a>> {
        match self {
            Self::Row(row) => Some(row.frame),
            Self::Broken(broken) => broken.frame,
            Self::Stray(_) => None,
        }
    }

    /// Its bytes as they came.
    pub fn wire(&self) -> &'a [u8] {
        match self {
            Self::Row(row) => row.wire,
            Self::Broken(broken) => broken.wire,
            Self::Stray(stray) => stray.wire,
        }
    }
}

/// A decoded frame.
#[derive(Clone, Copy, Debug)]
pub struct Row<'a> {
    /// Its number among all frames that were found, broken ones too, from 1.
    pub number: u64,
    /// When each of its bytes was there, where that is known, as in waveforms; else nothing.
    pub times: &'a [ByteTime],
    /// When its last byte came, if the capture has times.
    pub time: Option<Time>,
    /// Index of the channel in the link's own definition.
    pub channel: ChannelId,
    /// The stream that it was found in.
    pub stream: StreamId,
    /// The end that sent it: as the capture says, else as the message says.
    pub from: End,
    /// Offset of its first byte in the lane.
    pub offset: u64,
    /// Index of the definition that it was read with in [`RevisionMap::definitions`]; 0 for the link's own.
    pub definition: DefinitionId,
    /// What that definition means.
    pub plan: &'a Arc<Plan>,
    /// Index of the message in that plan.
    pub message: MessageId,
    /// How far the body reaches.
    pub extent: Extent,
    /// The values; all unset if the sink does not want them.
    pub values: &'a Values,
    /// The frame.
    pub frame: &'a FrameView<'a>,
    /// Its bytes as they came.
    pub wire: &'a [u8],
}

/// A frame that gives no row: a broken one, or one that cannot be read.
#[derive(Clone, Copy, Debug)]
pub struct BrokenFrame<'a> {
    /// Its number among all frames that were found, good ones too, from 1.
    pub number: u64,
    /// When each of its bytes was there, where that is known, as in waveforms; else nothing.
    pub times: &'a [ByteTime],
    /// When its last byte came.
    pub time: Option<Time>,
    /// Index of the channel.
    pub channel: ChannelId,
    /// The stream that it was found in.
    pub stream: StreamId,
    /// The end that sent it, if the capture says it.
    pub from: Option<End>,
    /// Offset of its first byte in the lane.
    pub offset: u64,
    /// What is wrong. Its parts are those of `direction`, its message is one of `plan`.
    pub fault: &'a FrameFault,
    /// The channel, as frames of this sender go over it.
    pub direction: &'a Direction,
    /// The definition with which it was read.
    pub plan: &'a Arc<Plan>,
    /// The frame, if its framing and checksums are right and only its body cannot be read.
    pub frame: Option<&'a FrameView<'a>>,
    /// Its bytes as they came.
    pub wire: &'a [u8],
}

impl BrokenFrame<'_> {
    /// Whether it is unread: the frame itself is right.
    pub fn is_unread(&self) -> bool {
        self.fault.is_unread()
    }
}

/// Bytes that belong to no frame.
#[derive(Clone, Copy, Debug)]
pub struct StrayBytes<'a> {
    /// Whether they are a packet of the line itself, as a token of USB is: it carries no message, and that is no fault. Its bytes are
    /// none of a lane.
    pub is_packet: bool,
    /// When each of them was there, where that is known, as in waveforms; else nothing.
    pub times: &'a [ByteTime],
    /// When the last of them came.
    pub time: Option<Time>,
    /// Index of the channel.
    pub channel: ChannelId,
    /// The stream that they were found in.
    pub stream: StreamId,
    /// The end that sent them, if the capture says it.
    pub from: Option<End>,
    /// Offset of the first byte in the lane.
    pub offset: u64,
    /// The bytes.
    pub wire: &'a [u8],
}

/// How much of a message's frames a sink wants.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord)]
pub enum Wants {
    /// Not even to be told of them.
    Nothing,
    /// The frame; [`Row::values`] are then all unset, and need not be decoded.
    Frame,
    /// The values, too.
    Values,
}

/// Takes what a decoder finds, in the order of each lane.
pub trait ItemSink {
    /// Why it cannot take any more.
    type Error;

    /// The definitions in use, before the first item; and again when there are more, which then stand behind those before.
    fn update_revisions(&mut self, revisions: &RevisionMap) {
        let _ = revisions;
    }

    /// What it wants of a message, both by index in [`RevisionMap::definitions`] and there. Asked once for each.
    fn wants(&self, definition: DefinitionId, message: MessageId) -> Wants {
        let _ = (definition, message);
        Wants::Values
    }

    /// Whether it may want a row with this body, of a message by index in [`RevisionMap::definitions`] and there; what it does not want is
    /// counted, and its values are not decoded.
    fn wants_body(&self, definition: DefinitionId, message: MessageId, body: &[u8]) -> bool {
        let _ = (definition, message, body);
        true
    }

    /// The next item. `Break` ends the decoding.
    ///
    /// # Errors
    /// Those of the sink, which end the decoding too.
    fn item(&mut self, item: Item<'_>) -> Result<ControlFlow<()>, Self::Error>;

    /// An item between others that is not asked for, for sinks that compare each with the one before it.
    fn skip_item(&mut self, item: Item<'_>) {
        let _ = item;
    }

    /// Whether it wants no more, as when the user has interrupted; asked behind each piece of a capture.
    fn is_full(&self) -> bool {
        false
    }

    /// Nothing more is there for the moment, as when a capture comes through a pipe: what was collected is to be shown.
    ///
    /// # Errors
    /// Those of the sink.
    fn pause(&mut self) -> Result<(), Self::Error> {
        Ok(())
    }

    /// Nothing more comes.
    ///
    /// # Errors
    /// Those of the sink.
    fn finish(&mut self) -> Result<(), Self::Error> {
        self.pause()
    }
}

impl<S: ItemSink> ItemSink for &mut S {
    type Error = S::Error;

    fn update_revisions(&mut self, revisions: &RevisionMap) {
        (**self).update_revisions(revisions);
    }

    fn wants(&self, definition: DefinitionId, message: MessageId) -> Wants {
        (**self).wants(definition, message)
    }

    fn wants_body(&self, definition: DefinitionId, message: MessageId, body: &[u8]) -> bool {
        (**self).wants_body(definition, message, body)
    }

    fn item(&mut self, item: Item<'_>) -> Result<ControlFlow<()>, S::Error> {
        (**self).item(item)
    }

    fn skip_item(&mut self, item: Item<'_>) {
        (**self).skip_item(item);
    }

    fn is_full(&self) -> bool {
        (**self).is_full()
    }

    fn pause(&mut self) -> Result<(), S::Error> {
        (**self).pause()
    }

    fn finish(&mut self) -> Result<(), S::Error> {
        (**self).finish()
    }
}

/// Wants nothing; for counting alone.
#[derive(Clone, Copy, Debug, Default)]
pub struct Nothing;

impl ItemSink for Nothing {
    type Error = Infallible;

    fn wants(&self, _definition: DefinitionId, _message: MessageId) -> Wants {
        Wants::Nothing
    }

    fn item(&mut self, _item: Item<'_>) -> Result<ControlFlow<()>, Infallible> {
        Ok(ControlFlow::Continue(()))
    }
}
