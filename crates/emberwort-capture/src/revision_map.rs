//! Who speaks another revision than the link's own definition: devices that were not updated yet, or were before the host.

use std::collections::HashMap;
use std::ops::Index;
use std::sync::Arc;

use emberwort_evolution::{Counterpart, counterparts};
use emberwort_model::Plan;
use emberwort_model::ids::ChannelId;
use emberwort_model::model::End;
use emberwort_wire::FrameView;

/// Which revision each device and host speaks, beside the link's own definition.
///
/// Of a device, what was said with [`Self::device`] counts, then what its frame says of itself, then [`Self::expected`]. Of a
/// host, what its frame says.
#[derive(Clone, Debug)]
pub struct RevisionMap {
    /// The link's own definition first.
    definitions: Vec<Definition>,
    /// What all devices speak that are not named; index of the definition.
    every_device: Option<DefinitionId>,
    /// By node.
    devices: HashMap<u64, DefinitionId>,
    /// By the revision part of a frame.
    by_part: HashMap<u64, DefinitionId>,
    /// By node, for frames without such a part.
    expected: HashMap<u64, DefinitionId>,
}

emberwort_model::index_type!(
    /// A definition among those that a capture is read with, of which the link's own is the first.
    DefinitionId
);

/// A definition that somebody speaks.
#[derive(Clone, Debug)]
pub struct Definition {
    /// What it means.
    pub plan: Arc<Plan>,
    /// For each channel of the link's own definition, what it is in this one.
    pub channels: Vec<Option<Counterpart>>,
}

impl Definition {
    /// The channel that is this one of the link's own definition, if its frames are found and checked as they are there.
    pub fn channel(&self, own: ChannelId) -> Option<ChannelId> {
        self.channels[own.index()].filter(|there| there.framed_alike).map(|there| there.channel)
    }
}

impl Index<DefinitionId> for [Definition] {
    type Output = Definition;

    fn index(&self, id: DefinitionId) -> &Definition {
        &self[id.index()]
    }
}

impl Index<DefinitionId> for Vec<Definition> {
    type Output = Definition;

    fn index(&self, id: DefinitionId) -> &Definition {
        &self[id.index()]
    }
}

impl RevisionMap {
    /// Everybody speaks the link's own definition.
    pub fn of(own: Arc<Plan>) -> Self {
        let channels =
            own.channel_ids().map(|(channel, _)| Some(Counterpart { channel, framed_alike: true })).collect();
        Self {
            definitions: vec![Definition { plan: own, channels }],
            every_device: None,
            devices: HashMap::new(),
            by_part: HashMap::new(),
            expected: HashMap::new(),
        }
    }

    /// The definitions in use, the link's own first.
    pub fn definitions(&self) -> &[Definition] {
        &self.definitions
    }

    /// The definitions in use with their indices, the link's own first.
    pub(crate) fn definition_ids(&self) -> impl Iterator<Item = (DefinitionId, &Definition)> {
        self.definitions.iter().enumerate().map(|(index, definition)| (DefinitionId::new(index), definition))
    }

    /// The link's own definition.
    pub fn own(&self) -> &Arc<Plan> {
        &self.definitions[0].plan
    }

    /// The index of a definition that is used from now on.
    fn index(&mut self, plan: &Arc<Plan>) -> DefinitionId {
        let known = self.definitions.iter().position(|known| Arc::ptr_eq(&known.plan, plan)).map(DefinitionId::new);
        known.unwrap_or_else(|| {
            let channels = counterparts(self.own(), plan);
            self.definitions.push(Definition { plan: plan.clone(), channels });
            DefinitionId::new(self.definitions.len() - 1)
        })
    }

    /// The device with this node speaks that definition, whatever its frames say.
    pub fn device(&mut self, node: u64, plan: &Arc<Plan>) {
        let index = self.index(plan);
        self.devices.insert(node, index);
    }

    /// All devices that are not named speak that definition, whatever their frames say.
    pub fn every_device(&mut self, plan: &Arc<Plan>) {
        self.every_device = Some(self.index(plan));
    }

    /// Senders whose frames say the revision of that definition speak it.
    pub fn by_part(&mut self, plan: &Arc<Plan>) {
        let index = self.index(plan);
        self.by_part.insert(u64::from(plan.link.revision), index);
    }

    /// The device with this node speaks that definition as far as its frames say nothing else.
    pub fn expected(&mut self, node: u64, plan: &Arc<Plan>) {
        let index = self.index(plan);
        self.expected.insert(node, index);
    }

    /// The definition of all frames that come from this end, where it is the same for all of them and not the link's own.
    pub(crate) fn of_lane(&self, from: Option<End>) -> Option<DefinitionId> {
        self.every_device.filter(|_| from == Some(End::Device) && self.devices.is_empty())
    }

    /// The definition of the sender of a frame that came over a channel of the link's own definition; `from` is the end that
    /// sent it, if that is known.
    pub(crate) fn of_frame(&self, channel: ChannelId, from: Option<End>, frame: &FrameView<'_>) -> DefinitionId {
        let said = |from: End| {
            let index = self.said(channel, from, frame)?;
            self.definitions[index].channel(channel).is_some().then_some(index)
        };
        let found = match from {
            Some(from) => said(from),
            // What its sender speaks tells which end sent it.
            None => said(End::Device)
                .filter(|index| self.end_of(*index, channel, frame) != Some(End::Host))
                .or_else(|| said(End::Host)),
        };
        found.unwrap_or_default()
    }

    fn said(&self, channel: ChannelId, from: End, frame: &FrameView<'_>) -> Option<DefinitionId> {
        let by_part = |revision: u64| self.by_part.get(&revision).copied();
        if from == End::Host {
            return frame.revision.and_then(by_part);
        }
        let named = match frame.node {
            Some(node) => self.devices.get(&node).copied(),
            // The key may say the node in the definition of that device alone.
            None => self.node_elsewhere(channel, from, frame.key).map(|(index, _)| index),
        };
        named.or(self.every_device).or_else(|| match frame.revision {
            Some(revision) => by_part(revision),
            None => self.expected.get(&frame.node?).copied(),
        })
    }

    /// The node that a key says in the definition of that node's device, with the definition.
    pub(crate) fn node_elsewhere(&self, channel: ChannelId, from: End, key: u64) -> Option<(DefinitionId, u64)> {
        let others = self.definition_ids().skip(1);
        let mut found = others.filter_map(|(index, definition)| {
            let there = &definition.plan.channels[definition.channel(channel)?];
            let node = there.direction(from).node_in_key(key)?;
            let speaks = self.devices.get(&node).or_else(|| self.expected.get(&node)) == Some(&index);
            speaks.then_some((index, node))
        });
        found.next()
    }

    /// The end that sends the message of a frame in a definition.
    fn end_of(&self, index: DefinitionId, channel: ChannelId, frame: &FrameView<'_>) -> Option<End> {
        let definition = &self.definitions[index];
        let channel = &definition.plan.channels[definition.channel(channel)?];
        let message = channel.message_of(frame.key, None)?;
        Some(definition.plan.messages[message].message.from)
    }

    /// What was said of a device, if its frame says another revision of itself: that, and the one that it is read as.
    pub(crate) fn contradicted(&self, definition: DefinitionId, frame: &FrameView<'_>) -> Option<(u64, u32)> {
        let read_as = self.definitions[definition].plan.link.revision;
        let says = frame.revision.filter(|says| *says != u64::from(read_as))?;
        (definition != DefinitionId::default()).then_some((says, read_as))
    }
}

/// Definitions that are only read when somebody speaks them.
///
/// A frame that says another revision than the link's own asks for it. So does a packet that is longer than the link's own limit,
/// since that of another revision may be greater.
pub struct DeferredDefinitions {
    /// Revisions that may be spoken, and were not asked for.
    revisions: Vec<u64>,
    find: Box<dyn FnMut(u64) -> Option<Arc<Plan>>>,
}

impl DeferredDefinitions {
    /// Revisions that may be spoken. `find` gives what such a revision means, or `None` if the link's own definition reads it.
    pub fn new(revisions: Vec<u64>, find: impl FnMut(u64) -> Option<Arc<Plan>> + 'static) -> Self {
        Self { revisions, find: Box::new(find) }
    }

    /// None.
    pub fn none() -> Self {
        Self::new(Vec::new(), |_| None)
    }

    pub(crate) fn is_empty(&self) -> bool {
        self.revisions.is_empty()
    }

    /// Makes a revision known, if that was not done; returns whether it is a new definition.
    pub(crate) fn ask(&mut self, revision: u64, map: &mut RevisionMap) -> bool {
        let Some(at) = self.revisions.iter().position(|other| *other == revision) else { return false };
        self.revisions.swap_remove(at);
        let found = (self.find)(revision);
        if let Some(plan) = &found {
            map.by_part(plan);
        }
        found.is_some()
    }

    /// Makes all of them known.
    pub fn ask_all(&mut self, map: &mut RevisionMap) {
        while let Some(revision) = self.revisions.first().copied() {
            self.ask(revision, map);
        }
    }
}
