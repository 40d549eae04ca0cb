//! What ends of one revision make of single messages from ends of another.

use std::sync::Arc;

use emberwort_model::Plan;
use emberwort_model::ids::{ChannelId, MessageId};
use emberwort_model::model::End;
use emberwort_model::plan::Direction;
use emberwort_wire::{FrameFault, Values};

use crate::judge::{Ends, Outcome, not_taken, understood};
use crate::matching::Matching;
use crate::verdict::Verdict;

/// From senders of one revision to receivers of another.
#[derive(Clone, Debug)]
pub struct Translation {
    sender: Arc<Plan>,
    receiver: Arc<Plan>,
    matching: Matching,
}

/// What became of a message, and in what way; the sentence is empty if all is fine.
pub type Understood = (Verdict, String);

impl Translation {
    /// Between two revisions.
    pub fn new(sender: &Arc<Plan>, receiver: &Arc<Plan>) -> Self {
        let matching = Matching::of(sender, receiver);
        Self { sender: sender.clone(), receiver: receiver.clone(), matching }
    }

    /// The receiver's index of a message of the sender.
    pub fn message(&self, message: MessageId) -> Option<MessageId> {
        self.matching.messages[message.index()]
    }

    /// The receiver's index of a channel of the sender.
    pub fn channel(&self, channel: ChannelId) -> Option<ChannelId> {
        self.matching.channels[channel.index()]
    }

    /// Whether what is sent on a channel arrives there at all: both ends set the medium up alike.
    pub fn arrives(&self, channel: ChannelId) -> bool {
        let there = self.channel(channel).map(|there| &self.receiver.channels[there].medium.kind);
        there.is_some_and(|there| self.sender.channels[channel].medium.kind.is_heard_by(there))
    }

    /// What becomes of a message that the receiver takes: from which end, its index and values as sent, and as taken.
    pub fn taken(&self, from: End, sent: (MessageId, &Values), read: (MessageId, &Values)) -> Understood {
        in_words(understood(self.ends(), from, sent, read))
    }

    /// What becomes of a message, by index, that the receiver does not take, and of whose frame it said this.
    pub fn not_taken(
        &self,
        from: End,
        channel: ChannelId,
        message: MessageId,
        fault: Option<&FrameFault>,
    ) -> Understood {
        let direction = |there: ChannelId| &**self.receiver.channels[there].direction(from);
        let listening: Option<&Direction> = self.channel(channel).map(direction);
        in_words(not_taken(self.ends(), (channel, listening), message, true, fault))
    }

    fn ends(&self) -> Ends<'_> {
        let sender_is_old = self.sender.link.revision < self.receiver.link.revision;
        Ends { sender: &self.sender, receiver: &self.receiver, matching: &self.matching, sender_is_old }
    }
}

fn in_words(outcome: Outcome) -> Understood {
    (outcome.verdict, outcome.sentence)
}
