//! What comes of comparing two revisions: the differences, and what each does to whom.

use std::collections::HashMap;

use emberwort_model::Plan;
use emberwort_model::ids::{ChannelId, MessageId};

use crate::difference::Difference;
use crate::judge::Example;
use crate::verdict::{Pair, Verdict};

/// What a difference does to one pair of ends.
#[derive(Clone, Debug, Default)]
pub struct Judgement {
    /// The worst that can happen.
    pub verdict: Verdict,
    /// What that is, in a sentence without an end; empty if all is fine.
    pub sentence: String,
    /// A message that shows it, if bytes can.
    pub example: Option<Example>,
}

/// A difference with what it does.
#[derive(Clone, Debug)]
pub struct Change {
    /// What differs.
    pub difference: Difference,
    /// What it does, in the order of [`Pair::ALL`].
    pub judgements: [Judgement; 4],
}

impl Change {
    /// What it does to a pair.
    pub fn judgement(&self, pair: Pair) -> &Judgement {
        &self.judgements[pair as usize]
    }

    /// The worst that it does.
    pub fn worst(&self) -> Verdict {
        self.judgements.iter().map(|judgement| judgement.verdict).max().unwrap_or_default()
    }
}

/// All differences of two revisions, with what they do.
#[derive(Clone, Debug)]
pub struct Comparison {
    /// The old revision's name.
    pub old: String,
    /// The new one's.
    pub new: String,
    /// The differences.
    pub changes: Vec<Change>,
    /// The worst for each message of each sender, by pair and the sender's index; those not mentioned are fine.
    pub messages: HashMap<(Pair, MessageId), Verdict>,
    /// The worst for the channels on which frames are laid out otherwise, by pair and the sender's index: what one message does
    /// there depends on numbers that another can have, too.
    pub channels: HashMap<(Pair, ChannelId), Verdict>,
    /// How many messages were tried.
    pub tried: u64,
}

impl Comparison {
    /// The worst for a message of a sender, by its index in the sender's plan.
    ///
    /// # Panics
    /// If that plan has no such message.
    pub fn expected(&self, pair: Pair, plan: &Plan, message: MessageId) -> Verdict {
        let own = self.messages.get(&(pair, message)).copied().unwrap_or_default();
        let channels = plan.link.messages[message].channels.iter();
        let around = channels.filter_map(|channel| self.channels.get(&(pair, *channel)).copied()).max();
        own.max(around.unwrap_or_default())
    }

    /// The worst for a pair.
    pub fn worst(&self, pair: Pair) -> Verdict {
        self.changes.iter().map(|change| change.judgement(pair).verdict).max().unwrap_or_default()
    }
}
