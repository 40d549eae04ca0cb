//! Which definitions the ends of a trial have: not all of them must have the link's own.

use std::collections::BTreeMap;
use std::sync::Arc;

use emberwort_evolution::Translation;
use emberwort_model::Plan;
use emberwort_model::ids::{ChannelId, MessageId};
use emberwort_model::model::End;

use crate::file_words::index;

emberwort_model::index_type!(
    /// A definition among those in use in a trial, of which the link's own is the first.
    TrialDefinitionId
);
emberwort_model::index_type!(
    /// A message of a trial: those of all definitions in use are counted through.
    MessageNumber
);

impl MessageNumber {
    /// The number of a message of the link's own definition: those come first.
    pub fn of_own(message: MessageId) -> Self {
        Self::new(message.index())
    }
}

/// The revisions of ends, beside what a trial file says of them.
#[derive(Clone, Debug, Default)]
pub struct Revisions {
    /// The sealed revisions by number, which a trial file can name. An end of an earlier revision that is not here has the
    /// link's own definition without what was added later.
    pub sealed: BTreeMap<u32, Arc<Plan>>,
    /// What devices have, by node.
    pub devices: BTreeMap<u64, Arc<Plan>>,
    /// What the others have.
    pub every_device: Option<Arc<Plan>>,
    /// What devices of a fleet have, by node, which need not all be in the trial.
    pub fleet: BTreeMap<u64, Arc<Plan>>,
    /// What the host has.
    pub host: Option<Arc<Plan>>,
}

/// The definitions in use, the link's own first, and the messages of all of them counted through.
#[derive(Clone, Debug)]
pub struct Definitions {
    all: Vec<Definition>,
    messages: Vec<(String, End)>,
}

/// A definition that an end has.
#[derive(Clone, Debug)]
pub struct Definition {
    /// What it means.
    pub plan: Arc<Plan>,
    /// Index of the trial's channel.
    pub channel: ChannelId,
    /// For each of its messages, the number of that where those of all definitions are counted through.
    numbers: Vec<MessageNumber>,
}

impl Definition {
    /// The number of a message by its index.
    pub fn number(&self, message: MessageId) -> MessageNumber {
        self.numbers[message.index()]
    }
}

impl Definitions {
    /// Of a link and the channel (by index) of a trial, so far its own definition alone.
    pub fn of(own: &Arc<Plan>, channel: ChannelId) -> Self {
        let numbers = (0..own.messages.len()).map(MessageNumber::new).collect();
        let messages = own.link.messages.iter().map(|message| (message.name.clone(), message.from)).collect();
        Self { all: vec![Definition { plan: own.clone(), channel, numbers }], messages }
    }

    /// The index of a definition, which is in use from now on; `None` if it does not have the channel.
    pub fn add(&mut self, plan: &Arc<Plan>) -> Option<TrialDefinitionId> {
        if let Some(known) = self.all.iter().position(|known| Arc::ptr_eq(&known.plan, plan)) {
            return Some(TrialDefinitionId::new(known));
        }
        let own = &self.all[0];
        let channel = Translation::new(&own.plan, plan).channel(own.channel)?;
        let back = Translation::new(plan, &own.plan);
        let mut numbers = Vec::new();
        for (index, message) in plan.link.message_ids() {
            let named = || {
                self.messages
                    .iter()
                    .position(|(name, from)| *name == message.name && *from == message.from)
                    .map(MessageNumber::new)
            };
            let same = |own: MessageId| self.messages[own.index()].1 == message.from;
            let own = back.message(index).filter(|own| same(*own)).map(MessageNumber::of_own);
            numbers.push(own.or_else(named).unwrap_or_else(|| {
                self.messages.push((message.name.clone(), message.from));
                MessageNumber::new(self.messages.len() - 1)
            }));
        }
        self.all.push(Definition { plan: plan.clone(), channel, numbers });
        Some(TrialDefinitionId::new(self.all.len() - 1))
    }

    /// All in use.
    pub fn all(&self) -> &[Definition] {
        &self.all
    }

    /// The one with this index.
    pub fn get(&self, index: TrialDefinitionId) -> &Definition {
        &self.all[index.index()]
    }

    /// The link's own definition.
    pub fn own(&self) -> &Arc<Plan> {
        &self.all[0].plan
    }

    /// The name of a message by its number, and the end that sends it.
    pub fn message(&self, number: MessageNumber) -> (&str, End) {
        let (name, from) = &self.messages[number.index()];
        (name, *from)
    }

    /// The number of a message by its name, or a sentence with the nearest one.
    pub(crate) fn number_of(&self, name: &str) -> Result<MessageNumber, String> {
        index("message", name, self.messages.iter().map(|(name, _)| name.as_str())).map(MessageNumber::new)
    }
}
