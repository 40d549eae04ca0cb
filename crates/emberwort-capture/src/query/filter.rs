//! What is let through on the way to a sink.

use std::ops::ControlFlow;

use emberwort_model::Plan;
use emberwort_model::ids::MessageId;
use emberwort_model::model::End;
use emberwort_wire::Time;

use super::conditions::Query;
use crate::items::{Item, ItemSink, Wants};
use crate::revision_map::DefinitionId;
use crate::revision_map::RevisionMap;

/// Decides which items are handed on.
pub trait Filter {
    /// The definitions in use, before the first item and again when there are more.
    fn update_revisions(&mut self, revisions: &RevisionMap) {
        let _ = revisions;
    }

    /// What it needs of a message itself, and what is wanted of it then, given what the sink behind wants.
    fn wants(&self, definition: DefinitionId, message: MessageId, behind: Wants) -> Wants {
        let _ = (definition, message);
        behind
    }

    /// Whether a row with this body may pass; a filter that has to see all rows says so of all.
    fn may_pass(&self, definition: DefinitionId, message: MessageId, body: &[u8]) -> bool {
        let _ = (definition, message, body);
        true
    }

    /// Whether an item is handed on; told of all, in their order.
    fn accepts(&mut self, item: &Item<'_>) -> bool;

    /// Whether nothing that comes can pass any more.
    fn is_over(&self) -> bool {
        false
    }
}

/// A sink behind a filter.
#[derive(Clone, Debug)]
pub struct Filtered<F, S> {
    filter: F,
    /// What the sink wants of each message, by definition.
    wanted: Vec<Vec<Wants>>,
    sink: S,
}

impl<F, S> Filtered<F, S> {
    /// Hands on to a sink what a filter lets pass.
    pub fn new(filter: F, sink: S) -> Self {
        Self { filter, wanted: Vec::new(), sink }
    }

    /// The sink, to change it.
    pub fn sink_mut(&mut self) -> &mut S {
        &mut self.sink
    }

    /// The sink, which was given all.
    pub fn into_sink(self) -> S {
        self.sink
    }
}

impl<F: Filter, S: ItemSink> ItemSink for Filtered<F, S> {
    type Error = S::Error;

    fn update_revisions(&mut self, revisions: &RevisionMap) {
        self.filter.update_revisions(revisions);
        self.sink.update_revisions(revisions);
        for (index, definition) in revisions.definition_ids().skip(self.wanted.len()) {
            self.wanted
                .push(definition.plan.message_ids().map(|(message, _)| self.sink.wants(index, message)).collect());
        }
    }

    fn wants(&self, definition: DefinitionId, message: MessageId) -> Wants {
        self.filter.wants(definition, message, self.wanted[definition.index()][message.index()])
    }

    fn wants_body(&self, definition: DefinitionId, message: MessageId, body: &[u8]) -> bool {
        self.filter.may_pass(definition, message, body)
    }

    fn item(&mut self, item: Item<'_>) -> Result<ControlFlow<()>, S::Error> {
        let passes = self.filter.accepts(&item);
        // The filter may have asked for messages that the sink does not want.
        let is_wanted = match item {
            Item::Row(row) => self.wanted[row.definition.index()][row.message.index()] != Wants::Nothing,
            _ => true,
        };
        if passes && is_wanted && self.sink.item(item)?.is_break() {
            return Ok(ControlFlow::Break(()));
        }
        Ok(if self.filter.is_over() { ControlFlow::Break(()) } else { ControlFlow::Continue(()) })
    }

    fn is_full(&self) -> bool {
        self.filter.is_over() || self.sink.is_full()
    }

    fn pause(&mut self) -> Result<(), S::Error> {
        self.sink.pause()
    }

    fn finish(&mut self) -> Result<(), S::Error> {
        self.sink.finish()
    }
}

/// The first rows alone, good, broken and stray ones alike.
#[derive(Clone, Debug)]
pub struct FirstRows {
    left: Option<u64>,
}

impl FirstRows {
    /// At most so many rows; all, if it is `None`.
    pub fn new(rows: Option<u64>) -> Self {
        Self { left: rows }
    }
}

impl Filter for FirstRows {
    fn accepts(&mut self, _: &Item<'_>) -> bool {
        match &mut self.left {
            Some(0) => return false,
            Some(left) => *left -= 1,
            None => {}
        }
        true
    }

    fn is_over(&self) -> bool {
        self.left == Some(0)
    }
}

/// The rows of some messages and of one node. What is neither good nor of that node passes only if all rows do.
#[derive(Clone, Debug)]
pub struct SelectedRows {
    /// By definition and message.
    wanted: Vec<Vec<bool>>,
    messages: Vec<String>,
    node: Option<u64>,
}

impl SelectedRows {
    /// Rows of the messages with these names, of all if there are none; and of this node, of all if it is `None`.
    pub fn new(messages: &[String], node: Option<u64>) -> Self {
        Self { wanted: Vec::new(), messages: messages.to_vec(), node }
    }
}

impl Filter for SelectedRows {
    fn update_revisions(&mut self, revisions: &RevisionMap) {
        let is_wanted = |name: &String| self.messages.is_empty() || self.messages.contains(name);
        let of_plan = |plan: &Plan| plan.messages.iter().map(|message| is_wanted(&message.message.name)).collect();
        self.wanted = revisions.definitions().iter().map(|definition| of_plan(&definition.plan)).collect();
    }

    fn wants(&self, definition: DefinitionId, message: MessageId, behind: Wants) -> Wants {
        if self.wanted[definition.index()][message.index()] { behind } else { Wants::Nothing }
    }

    fn accepts(&mut self, item: &Item<'_>) -> bool {
        match item {
            Item::Row(row) => {
                self.wanted[row.definition.index()][row.message.index()]
                    && self.node.is_none_or(|node| row.frame.node == Some(node))
            }
            Item::Broken(broken) => {
                let node = broken.frame.and_then(|frame| frame.node);
                self.messages.is_empty() && (self.node.is_none() || self.node == node)
            }
            Item::Stray(_) => self.messages.is_empty() && self.node.is_none(),
        }
    }
}

/// What lies in a stretch of time and for which a condition holds.
#[derive(Clone, Debug)]
pub struct Matching {
    query: Option<Query>,
    since: Option<Time>,
    until: Option<Time>,
}

impl Matching {
    /// Items for which a condition holds, from a moment on and up to another one; without them all.
    pub fn new(query: Option<Query>, (since, until): (Option<Time>, Option<Time>)) -> Self {
        Self { query, since, until }
    }
}

impl Filter for Matching {
    fn update_revisions(&mut self, revisions: &RevisionMap) {
        if let Some(query) = &mut self.query {
            query.update_revisions(revisions);
        }
    }

    fn wants(&self, definition: DefinitionId, message: MessageId, behind: Wants) -> Wants {
        match &self.query {
            None => behind,
            Some(query) => query.wants(definition, message, behind),
        }
    }

    fn may_pass(&self, definition: DefinitionId, message: MessageId, body: &[u8]) -> bool {
        self.query.as_ref().is_none_or(|query| query.may_hold(definition, message, body))
    }

    fn accepts(&mut self, item: &Item<'_>) -> bool {
        let time = item.time();
        let is_in_time = self.since.is_none_or(|since| time.is_some_and(|time| time >= since))
            && self.until.is_none_or(|until| time.is_some_and(|time| time <= until));
        // A condition that looks back has to see what lies before the stretch, too.
        let holds = self.query.as_mut().is_none_or(|query| query.holds(item));
        is_in_time && holds
    }
}

/// What comes from one end, and what nobody knows to come from the other.
#[derive(Clone, Copy, Debug)]
pub struct FromEnd(Option<End>);

impl FromEnd {
    /// From this end; from both, if it is `None`.
    pub fn new(end: Option<End>) -> Self {
        Self(end)
    }
}

impl Filter for FromEnd {
    fn accepts(&mut self, item: &Item<'_>) -> bool {
        self.0.is_none_or(|end| item.from().is_none_or(|from| from == end))
    }
}
