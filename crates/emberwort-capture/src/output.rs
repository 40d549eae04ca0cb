//! What becomes of what a receiver finds: it is counted, and handed to the sink as far as that wants it.

use std::ops::ControlFlow;

use emberwort_model::ids::MessageId;
use emberwort_model::model::End;
use emberwort_model::plan::MessagePlan;
use emberwort_wire::Values;

use crate::items::{Item, ItemSink, Wants};
use crate::revision_map::DefinitionId;
use crate::revision_map::RevisionMap;
use crate::stats::Statistics;

/// What of a message's frames matters beside the row itself.
#[derive(Clone, Copy, Debug)]
pub(crate) struct Interest {
    /// The end that sends them.
    pub from: End,
    /// Whether the sink wants them.
    pub is_wanted: bool,
    /// Whether somebody looks at their values.
    pub in_values: bool,
    /// Whether nobody but the sink looks at their values.
    pub for_sink_alone: bool,
    /// Whether they ask for something, or answer what was asked for.
    pub in_requests: bool,
}

impl Interest {
    /// Whether frames are only counted.
    #[inline]
    pub(crate) fn is_counted_only(self) -> bool {
        !(self.is_wanted || self.in_values || self.in_requests)
    }
}

pub(crate) struct Output<S: ItemSink> {
    /// By definition and message.
    pub interests: Vec<Vec<Interest>>,
    /// By definition, the number of its first message where the messages of all are counted through.
    pub first_messages: Vec<usize>,
    /// How many messages there are in all.
    pub messages: usize,
    pub taker: GuardedSink<S>,
    pub statistics: Statistics,
    pub no_values: Values,
}

/// The sink, as long as it takes what is found.
pub(crate) struct GuardedSink<S: ItemSink> {
    pub sink: S,
    /// Whether it takes no more, and why if that is an error.
    pub ended: Option<Result<(), S::Error>>,
}

impl<S: ItemSink> GuardedSink<S> {
    pub fn forward(&mut self, item: Item<'_>) {
        if self.ended.is_none() {
            self.ended = match self.sink.item(item) {
                Ok(ControlFlow::Continue(())) => None,
                Ok(ControlFlow::Break(())) => Some(Ok(())),
                Err(error) => Some(Err(error)),
            };
        }
    }
}

impl<S: ItemSink> Output<S> {
    /// Makes room for definitions that it has none for yet.
    pub fn update_revisions(&mut self, revisions: &RevisionMap) {
        self.statistics.update_revisions(revisions);
        self.taker.sink.update_revisions(revisions);
        for (index, definition) in revisions.definition_ids().skip(self.interests.len()) {
            let of_message = |(message, compiled): (MessageId, &MessagePlan)| {
                let asks = !compiled.deciding.is_empty();
                let wants = self.taker.sink.wants(index, message);
                let counted = asks || self.statistics.wants_values(index, message);
                Interest {
                    from: compiled.message.from,
                    is_wanted: wants != Wants::Nothing,
                    in_values: counted || wants == Wants::Values,
                    for_sink_alone: !counted && wants == Wants::Values && compiled.request.is_none(),
                    in_requests: asks || compiled.request.is_some(),
                }
            };
            let all = &definition.plan.messages;
            self.interests.push(definition.plan.message_ids().map(of_message).collect());
            self.first_messages.push(self.messages);
            self.messages += all.len();
        }
    }

    /// The number of a message where those of all definitions are counted through, which is all that a fault has room for.
    pub fn number(&self, definition: DefinitionId, message: MessageId) -> MessageId {
        MessageId::new(self.first_messages[definition.index()] + message.index())
    }

    /// The definition of a message that is counted through all of them, and its index there.
    pub fn message(&self, number: MessageId) -> (DefinitionId, MessageId) {
        let number = number.index();
        let definition = self.first_messages.partition_point(|first| *first <= number) - 1;
        (DefinitionId::new(definition), MessageId::new(number - self.first_messages[definition]))
    }
}
