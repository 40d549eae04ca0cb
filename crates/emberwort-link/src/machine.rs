//! An end of a link as a machine: bytes and moments go in, frames and events come out. It reads no clock and knows no port, so that the
//! same machine runs in the virtual time of a test and in real time.

use emberwort_model::ids::MessageId;
use emberwort_wire::{Chunk, Time};

use crate::Nanoseconds;

/// An end of a link.
pub trait Machine {
    /// Takes bytes that came.
    fn handle_chunk(&mut self, now: Time, chunk: &Chunk<'_>);

    /// The line was broken off: what comes next has nothing to do with what came before.
    fn handle_break(&mut self, now: Time);

    /// When [`Machine::handle_timeout`] is to be called, if nothing comes before; `None` when it has nothing to do by itself.
    fn poll_timeout(&self) -> Option<Time>;

    /// Does what is to be done by now.
    fn handle_timeout(&mut self, now: Time);

    /// The next frame that it sends.
    fn poll_transmit(&mut self) -> Option<Vec<u8>>;

    /// What it has to tell next.
    fn poll_event(&mut self) -> Option<LinkEvent>;
}

/// What an end of a link tells.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum LinkEvent {
    /// A request was answered.
    Answered {
        /// The request's message, by index.
        request: MessageId,
        /// The node that was asked.
        node: u64,
        /// The answer's message, by index.
        answer: MessageId,
        /// From the first sending to the answer.
        after: Nanoseconds,
    },
    /// Nobody answered a request in time, as often as it was sent.
    Unanswered {
        /// The request's message, by index.
        request: MessageId,
        /// The node that was asked.
        node: u64,
    },
}
