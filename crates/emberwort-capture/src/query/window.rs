//! Items that are shown later, or not at all: those around others, and the last ones.

use std::collections::VecDeque;
use std::ops::ControlFlow;

use emberwort_model::ids::MessageId;
use emberwort_wire::Time;

use super::conditions::Query;
use crate::items::{Item, ItemSink, Wants};
use crate::revision_map::DefinitionId;
use crate::revision_map::RevisionMap;
use crate::stored_items::StoredItems;

/// So many items are kept at most from before one that somebody asks for.
const MAX_BEFORE: usize = 1 << 16;

/// Items in their order, each of which can be forgotten by itself.
#[derive(Clone, Debug, Default)]
struct Queue {
    items: VecDeque<(Option<Time>, StoredItems)>,
    /// Emptied ones, whose memory is used again.
    spare: Vec<StoredItems>,
}

impl Queue {
    fn push(&mut self, item: Item<'_>) {
        let mut kept = self.spare.pop().unwrap_or_default();
        kept.push(item);
        self.items.push_back((item.time(), kept));
    }

    /// Forgets the first.
    fn pop(&mut self) {
        if let Some((_, mut kept)) = self.items.pop_front() {
            kept.clear();
            self.spare.push(kept);
        }
    }

    /// Hands the first one by: it was not asked for.
    fn skip_item<S: ItemSink>(&mut self, revisions: Option<&RevisionMap>, sink: &mut S) {
        if let (Some((_, kept)), Some(revisions)) = (self.items.front(), revisions) {
            kept.each(revisions, |item| sink.skip_item(item));
        }
        self.pop();
    }

    /// Hands all of them on, as long as the sink takes them.
    fn forward<S: ItemSink>(
        &mut self,
        revisions: &RevisionMap,
        downstream: &mut Downstream<S>,
    ) -> Result<ControlFlow<()>, S::Error> {
        let mut flow = Ok(ControlFlow::Continue(()));
        while let Some((_, kept)) = self.items.front() {
            kept.each(revisions, |item| {
                if matches!(flow, Ok(ControlFlow::Continue(()))) {
                    flow = downstream.forward(item);
                }
            });
            self.pop();
        }
        flow
    }
}

/// A sink, and what it wants of each message.
#[derive(Clone, Debug)]
struct Downstream<S> {
    wanted: Vec<Vec<Wants>>,
    sink: S,
}

impl<S: ItemSink> Downstream<S> {
    fn update_revisions(&mut self, revisions: &RevisionMap) {
        self.sink.update_revisions(revisions);
        for (index, definition) in revisions.definition_ids().skip(self.wanted.len()) {
            self.wanted
                .push(definition.plan.message_ids().map(|(message, _)| self.sink.wants(index, message)).collect());
        }
    }

    fn forward(&mut self, item: Item<'_>) -> Result<ControlFlow<()>, S::Error> {
        let is_wanted = match item {
            Item::Row(row) => self.wanted[row.definition.index()][row.message.index()] != Wants::Nothing,
            _ => true,
        };
        if is_wanted { self.sink.item(item) } else { Ok(ControlFlow::Continue(())) }
    }
}

/// Hands on the items for which a condition holds, with those shortly before and behind.
#[derive(Clone, Debug)]
pub struct ContextWindow<S> {
    /// Without one all items are handed on.
    query: Option<Query>,
    /// In nanoseconds.
    before: u64,
    after: u64,
    /// Items that may still be wanted.
    queue: Queue,
    /// Up to when items are wanted.
    until: Option<Time>,
    revisions: Option<RevisionMap>,
    downstream: Downstream<S>,
}

impl<S> ContextWindow<S> {
    /// Items for which a condition holds, and what lies so many nanoseconds before and after them. In captures without times only the items
    /// themselves; without a condition all.
    pub fn new(query: Option<Query>, (before, after): (u64, u64), sink: S) -> Self {
        let downstream = Downstream { wanted: Vec::new(), sink };
        Self { query, before, after, queue: Queue::default(), until: None, revisions: None, downstream }
    }
}

impl<S: ItemSink> ItemSink for ContextWindow<S> {
    type Error = S::Error;

    fn update_revisions(&mut self, revisions: &RevisionMap) {
        if let Some(query) = &mut self.query {
            query.update_revisions(revisions);
        }
        self.revisions = Some(revisions.clone());
        self.downstream.update_revisions(revisions);
    }

    fn wants(&self, definition: DefinitionId, message: MessageId) -> Wants {
        let behind = self.downstream.wanted[definition.index()][message.index()];
        self.query.as_ref().map_or(behind, |query| query.wants(definition, message, Wants::Values).max(behind))
    }

    fn item(&mut self, item: Item<'_>) -> Result<ControlFlow<()>, S::Error> {
        let Some(query) = &mut self.query else { return self.downstream.forward(item) };
        let time = item.time();
        let is_found = query.holds(&item);
        if let Some(time) = time {
            while self
                .queue
                .items
                .front()
                .is_some_and(|(then, ..)| then.is_none_or(|then| then.after(self.before) < time))
            {
                self.queue.skip_item(self.revisions.as_ref(), &mut self.downstream.sink);
            }
        }
        if is_found {
            self.until = time.map(|time| time.after(self.after));
            if let Some(revisions) = &self.revisions
                && self.queue.forward(revisions, &mut self.downstream)?.is_break()
            {
                return Ok(ControlFlow::Break(()));
            }
            return self.downstream.forward(item);
        }
        if time.zip(self.until).is_some_and(|(time, until)| time <= until) {
            return self.downstream.forward(item);
        }
        if time.is_some() && self.before > 0 {
            if self.queue.items.len() >= MAX_BEFORE {
                self.queue.skip_item(self.revisions.as_ref(), &mut self.downstream.sink);
            }
            self.queue.push(item);
        } else {
            self.downstream.sink.skip_item(item);
        }
        Ok(ControlFlow::Continue(()))
    }

    fn is_full(&self) -> bool {
        self.downstream.sink.is_full()
    }

    fn pause(&mut self) -> Result<(), S::Error> {
        self.downstream.sink.pause()
    }

    fn finish(&mut self) -> Result<(), S::Error> {
        self.downstream.sink.finish()
    }
}

/// Hands on the last rows alone, good, broken and stray ones alike, when there are no more.
#[derive(Clone, Debug)]
pub struct LastRows<S> {
    /// How many rows; all, if it is `None`.
    rows: Option<u64>,
    queue: Queue,
    revisions: Option<RevisionMap>,
    downstream: Downstream<S>,
}

impl<S> LastRows<S> {
    /// At most so many rows; all, as they come, if it is `None`.
    pub fn new(rows: Option<u64>, sink: S) -> Self {
        let downstream = Downstream { wanted: Vec::new(), sink };
        Self { rows, queue: Queue::default(), revisions: None, downstream }
    }
}

impl<S: ItemSink> ItemSink for LastRows<S> {
    type Error = S::Error;

    fn update_revisions(&mut self, revisions: &RevisionMap) {
        self.revisions = Some(revisions.clone());
        self.downstream.update_revisions(revisions);
    }

    fn wants(&self, definition: DefinitionId, message: MessageId) -> Wants {
        self.downstream.wanted[definition.index()][message.index()]
    }

    fn item(&mut self, item: Item<'_>) -> Result<ControlFlow<()>, S::Error> {
        let Some(rows) = self.rows else { return self.downstream.forward(item) };
        if self.queue.items.len() as u64 >= rows {
            self.queue.pop();
        }
        self.queue.push(item);
        Ok(ControlFlow::Continue(()))
    }

    fn is_full(&self) -> bool {
        self.downstream.sink.is_full()
    }

    fn pause(&mut self) -> Result<(), S::Error> {
        self.downstream.sink.pause()
    }

    fn finish(&mut self) -> Result<(), S::Error> {
        if let Some(revisions) = &self.revisions {
            let _ = self.queue.forward(revisions, &mut self.downstream)?;
        }
        self.downstream.sink.finish()
    }
}
