//! The order in which what happens at the same moment is done.

use std::cell::Cell;
use std::cmp::Ordering;
use std::rc::Rc;

use emberwort_model::ids::MessageId;
use emberwort_wire::Values;

use crate::Nanoseconds;
use crate::definitions::MessageNumber;
use crate::player::ReplySource;

/// Something that happens at a moment.
pub(super) struct Queued {
    pub(super) time: Nanoseconds,
    /// What was planned comes before what follows from it.
    pub(super) class: u8,
    /// The order in which it was put in.
    pub(super) number: u64,
    pub(super) event: Event,
}

impl Queued {
    fn key(&self) -> (Nanoseconds, u8, u64) {
        (self.time, self.class, self.number)
    }
}

/// The earliest is the greatest, so that a heap gives it first.
impl Ord for Queued {
    fn cmp(&self, other: &Self) -> Ordering {
        other.key().cmp(&self.key())
    }
}

impl PartialOrd for Queued {
    fn partial_cmp(&self, other: &Self) -> Option<Ordering> {
        Some(self.cmp(other))
    }
}

impl PartialEq for Queued {
    fn eq(&self, other: &Self) -> bool {
        self.key() == other.key()
    }
}

impl Eq for Queued {}

/// What happens.
pub(super) enum Event {
    /// A device sends a message that it sends regularly.
    Report { device: usize, message: MessageId },
    /// A device sends a planned message.
    Send { device: usize, index: usize },
    /// The host sends a planned request.
    Request { index: usize },
    /// The host asks once more, if nobody has answered.
    Retry { index: usize, left: u32, exchange: Rc<Exchange> },
    /// A device answers a request with these values.
    Reply { device: usize, request: MessageId, asked: Values, exchange: Option<Rc<Exchange>>, source: ReplySource },
    /// The host goes on with its scripts.
    Script,
    /// The span is over.
    End,
    /// A device sends the next frame of the recording that plays it.
    Play { device: usize, index: usize },
    /// Bytes of a device that somebody else plays arrive.
    ArriveFromOutside { node: u64, bytes: Vec<u8> },
    /// Bytes of a sent frame arrive, all of them and unchanged or not.
    Arrive { sent: u64, bytes: Vec<u8>, whole: bool },
}

impl Event {
    pub(super) fn class(&self) -> u8 {
        match self {
            Self::Send { .. } => 0,
            Self::Request { .. } => 1,
            _ => 2,
        }
    }
}

/// A request, with those that repeat it, and its answers.
#[derive(Debug)]
pub(super) struct Exchange {
    /// The request's message, by number.
    pub(super) message: MessageNumber,
    /// The node that is asked.
    pub(super) node: u64,
    /// When it was first sent.
    pub(super) asked: Nanoseconds,
    /// Whether an answer has come.
    pub(super) answered: Cell<bool>,
}
