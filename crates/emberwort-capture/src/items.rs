//! What a decoder finds, and who takes it: printers, filters, and whatever else looks at rows.

use std::convert::Infallible;
use std::ops::ControlFlow;
use std::sync::Arc;

use emberwort_model::Plan;
use emberwort_model::model::End;
use emberwort_model::plan::Direction;
use emberwort_wire::codec::Extent;
use emberwort_wire::{FrameFault, FrameView, Time, Values};

use crate::speakers::Speakers;

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

/// A decoded frame.
#[derive(Clone, Copy, Debug)]
pub struct Row<'a> {
    /// When its last byte came, if the capture has times.
    pub time: Option<Time>,
    /// Index of the channel in the link's own definition.
    pub channel: usize,
    /// The end that sent it: as the capture says, else as the message says.
    pub from: End,
    /// Offset of its first byte in the lane.
    pub offset: u64,
    /// Index of the definition that it was read with in [`Speakers::definitions`]; 0 for the link's own.
    pub definition: usize,
    /// What that definition means.
    pub plan: &'a Arc<Plan>,
    /// Index of the message in that plan.
    pub message: usize,
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
    /// When its last byte came.
    pub time: Option<Time>,
    /// Index of the channel.
    pub channel: usize,
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
    /// When the last of them came.
    pub time: Option<Time>,
    /// Index of the channel.
    pub channel: usize,
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
    fn know(&mut self, speakers: &Speakers) {
        let _ = speakers;
    }

    /// What it wants of a message, both by index in [`Speakers::definitions`] and there. Asked once for each.
    fn wants(&self, definition: usize, message: usize) -> Wants {
        let _ = (definition, message);
        Wants::Values
    }

    /// The next item. `Break` ends the decoding.
    ///
    /// # Errors
    /// Those of the sink, which end the decoding too.
    fn item(&mut self, item: Item<'_>) -> Result<ControlFlow<()>, Self::Error>;

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

/// Wants nothing; for counting alone.
#[derive(Clone, Copy, Debug, Default)]
pub struct Nothing;

impl ItemSink for Nothing {
    type Error = Infallible;

    fn wants(&self, _definition: usize, _message: usize) -> Wants {
        Wants::Nothing
    }

    fn item(&mut self, _item: Item<'_>) -> Result<ControlFlow<()>, Infallible> {
        Ok(ControlFlow::Continue(()))
    }
}

/// Hands on the first rows alone, and what stands between them that is no row.
#[derive(Clone, Debug)]
pub struct First<S> {
    left: Option<u64>,
    sink: S,
}

impl<S> First<S> {
    /// At most so many rows; all, if it is `None`.
    pub fn new(rows: Option<u64>, sink: S) -> Self {
        Self { left: rows, sink }
    }
}

impl<S: ItemSink> ItemSink for First<S> {
    type Error = S::Error;

    fn know(&mut self, speakers: &Speakers) {
        self.sink.know(speakers);
    }

    fn wants(&self, definition: usize, message: usize) -> Wants {
        self.sink.wants(definition, message)
    }

    fn item(&mut self, item: Item<'_>) -> Result<ControlFlow<()>, S::Error> {
        match (&mut self.left, &item) {
            (Some(0), _) => return Ok(ControlFlow::Break(())),
            (Some(left), Item::Row(_)) => *left -= 1,
            _ => {}
        }
        let flow = self.sink.item(item)?;
        Ok(if self.left == Some(0) { ControlFlow::Break(()) } else { flow })
    }

    fn is_full(&self) -> bool {
        self.left == Some(0) || self.sink.is_full()
    }

    fn pause(&mut self) -> Result<(), S::Error> {
        self.sink.pause()
    }

    fn finish(&mut self) -> Result<(), S::Error> {
        self.sink.finish()
    }
}

/// Hands on the rows of some messages and of one node. What is neither good nor of that node is handed on only if all rows are.
#[derive(Clone, Debug)]
pub struct Only<S> {
    /// By definition and message.
    wanted: Vec<Vec<bool>>,
    messages: Vec<String>,
    node: Option<u64>,
    sink: S,
}

impl<S> Only<S> {
    /// Rows of the messages with these names, of all if there are none; and of this node, of all if it is `None`.
    pub fn new(messages: &[String], node: Option<u64>, sink: S) -> Self {
        Self { wanted: Vec::new(), messages: messages.to_vec(), node, sink }
    }

    fn lets_pass(&self, item: &Item<'_>) -> bool {
        match item {
            // Those of other messages are not handed over.
            Item::Row(row) => self.node.is_none_or(|node| row.frame.node == Some(node)),
            Item::Broken(broken) => {
                let node = broken.frame.and_then(|frame| frame.node);
                self.messages.is_empty() && (self.node.is_none() || self.node == node)
            }
            Item::Stray(_) => self.messages.is_empty() && self.node.is_none(),
        }
    }
}

impl<S: ItemSink> ItemSink for Only<S> {
    type Error = S::Error;

    fn know(&mut self, speakers: &Speakers) {
        let is_wanted = |name: &String| self.messages.is_empty() || self.messages.contains(name);
        let of_plan = |plan: &Plan| plan.messages.iter().map(|message| is_wanted(&message.message.name)).collect();
        self.wanted = speakers.definitions().iter().map(|definition| of_plan(&definition.plan)).collect();
        self.sink.know(speakers);
    }

    fn wants(&self, definition: usize, message: usize) -> Wants {
        if self.wanted[definition][message] { self.sink.wants(definition, message) } else { Wants::Nothing }
    }

    fn item(&mut self, item: Item<'_>) -> Result<ControlFlow<()>, S::Error> {
        if self.lets_pass(&item) { self.sink.item(item) } else { Ok(ControlFlow::Continue(())) }
    }

    fn is_full(&self) -> bool {
        self.sink.is_full()
    }

    fn pause(&mut self) -> Result<(), S::Error> {
        self.sink.pause()
    }

    fn finish(&mut self) -> Result<(), S::Error> {
        self.sink.finish()
    }
}
