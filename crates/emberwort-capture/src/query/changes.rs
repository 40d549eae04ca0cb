//! Which fields changed from one message to the next of the same kind and sender.

use std::collections::HashMap;
use std::ops::ControlFlow;

use emberwort_model::ids::{ChannelId, MessageId};
use emberwort_model::model::End;
use emberwort_wire::Values;

use super::conditions::MAX_SENDERS;
use super::filter::{Filter, Matching, SelectedRows};
use crate::items::{Item, ItemSink, Row};
use crate::revision_map::{DefinitionId, RevisionMap};

/// Takes changes.
pub trait ChangeSink {
    /// Why it cannot take any more.
    type Error;

    /// The definitions in use.
    fn update_revisions(&mut self, revisions: &RevisionMap) {
        let _ = revisions;
    }

    /// Fields of a row, by slot, that are not what they were in the one before, whose values these are.
    ///
    /// # Errors
    /// Those of the sink.
    fn change(&mut self, row: &Row<'_>, before: &Values, slots: &[usize]) -> Result<ControlFlow<()>, Self::Error>;

    /// Whether it wants no more.
    fn is_full(&self) -> bool {
        false
    }

    /// Nothing more is there for the moment.
    ///
    /// # Errors
    /// Those of the sink.
    fn pause(&mut self) -> Result<(), Self::Error>;
}

/// The definition, message, channel, end and node of rows that are compared with each other.
type Sender = (DefinitionId, MessageId, ChannelId, End, Option<u64>);

/// Hands on what changed from row to row; the first row of each sender changes nothing. Of all rows, those that filters let pass are shown: what a
/// row changed is told against the one before it, shown or not.
#[derive(Clone, Debug)]
pub struct Changes<S> {
    filters: (Matching, SelectedRows),
    last: HashMap<Sender, Values>,
    slots: Vec<usize>,
    sink: S,
}

impl<S> Changes<S> {
    /// For a sink.
    pub fn new(filters: (Matching, SelectedRows), sink: S) -> Self {
        Self { filters, last: HashMap::new(), slots: Vec::new(), sink }
    }

    /// The next row of its sender is compared with this one.
    fn keep(&mut self, row: &Row<'_>) {
        let is_room = self.last.len() < MAX_SENDERS;
        match self.last.get_mut(&sender(row)) {
            Some(before) => before.assign(row.values),
            None if is_room => drop(self.last.insert(sender(row), row.values.clone())),
            None => {}
        }
    }
}

fn sender(row: &Row<'_>) -> Sender {
    (row.definition, row.message, row.channel, row.from, row.frame.node)
}

impl<S: ChangeSink> ItemSink for Changes<S> {
    type Error = S::Error;

    fn update_revisions(&mut self, revisions: &RevisionMap) {
        self.filters.0.update_revisions(revisions);
        self.filters.1.update_revisions(revisions);
        self.sink.update_revisions(revisions);
    }

    fn item(&mut self, item: Item<'_>) -> Result<ControlFlow<()>, S::Error> {
        let (by_matching, by_only) = (self.filters.0.accepts(&item), self.filters.1.accepts(&item));
        let Item::Row(row) = item else { return Ok(ControlFlow::Continue(())) };
        let mut flow = ControlFlow::Continue(());
        match self.last.get_mut(&sender(row)) {
            None => self.keep(row),
            Some(before) => {
                let fields = &row.plan.messages[row.message].message.fields;
                let changed = |slot: &usize| !fields[*slot].is_spare() && !row.values.is_same(*slot, before, *slot);
                self.slots.clear();
                self.slots.extend((0..fields.len()).filter(changed));
                if !self.slots.is_empty() {
                    if by_matching && by_only {
                        flow = self.sink.change(row, before, &self.slots)?;
                    }
                    before.assign(row.values);
                }
            }
        }
        Ok(flow)
    }

    fn skip_item(&mut self, item: Item<'_>) {
        // Conditions may ask for what came before.
        self.filters.0.accepts(&item);
        if let Item::Row(row) = item {
            self.keep(row);
        }
    }

    fn is_full(&self) -> bool {
        self.sink.is_full()
    }

    fn pause(&mut self) -> Result<(), S::Error> {
        self.sink.pause()
    }
}
