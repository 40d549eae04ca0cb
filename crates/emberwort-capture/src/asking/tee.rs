//! Two sinks that both take all items.

use std::ops::ControlFlow;

use crate::items::{Item, ItemSink, Wants};
use crate::speakers::Speakers;

/// Hands all items to two sinks, until both have enough.
#[derive(Clone, Debug)]
pub struct Tee<A, B> {
    /// One of them.
    pub one: A,
    /// The other.
    pub other: B,
}

impl<A, B> Tee<A, B> {
    /// Of two sinks.
    pub fn new(one: A, other: B) -> Self {
        Self { one, other }
    }
}

impl<A: ItemSink, B: ItemSink<Error = A::Error>> ItemSink for Tee<A, B> {
    type Error = A::Error;

    fn know(&mut self, speakers: &Speakers) {
        self.one.know(speakers);
        self.other.know(speakers);
    }

    fn wants(&self, definition: usize, message: usize) -> Wants {
        self.one.wants(definition, message).max(self.other.wants(definition, message))
    }

    fn may_want(&self, definition: usize, message: usize, body: &[u8]) -> bool {
        self.one.may_want(definition, message, body) || self.other.may_want(definition, message, body)
    }

    fn item(&mut self, item: Item<'_>) -> Result<ControlFlow<()>, A::Error> {
        let flows = (self.one.item(item)?, self.other.item(item)?);
        Ok(if flows.0.is_break() && flows.1.is_break() { ControlFlow::Break(()) } else { ControlFlow::Continue(()) })
    }

    fn is_full(&self) -> bool {
        self.one.is_full() && self.other.is_full()
    }

    fn pause(&mut self) -> Result<(), A::Error> {
        self.one.pause()?;
        self.other.pause()
    }

    fn finish(&mut self) -> Result<(), A::Error> {
        self.one.finish()?;
        self.other.finish()
    }
}
