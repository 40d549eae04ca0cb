//! Two sinks that both take all items.

use std::ops::ControlFlow;

use emberwort_model::ids::MessageId;

use crate::items::{Item, ItemSink, Wants};
use crate::revision_map::DefinitionId;
use crate::revision_map::RevisionMap;

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

    fn update_revisions(&mut self, revisions: &RevisionMap) {
        self.one.update_revisions(revisions);
        self.other.update_revisions(revisions);
    }

    fn wants(&self, definition: DefinitionId, message: MessageId) -> Wants {
        self.one.wants(definition, message).max(self.other.wants(definition, message))
    }

    fn wants_body(&self, definition: DefinitionId, message: MessageId, body: &[u8]) -> bool {
        self.one.wants_body(definition, message, body) || self.other.wants_body(definition, message, body)
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
