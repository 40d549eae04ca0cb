//! The compiled form of a link: where every bit of every message and frame lies, worked out once.
//!
//! The codec and all generators read the plan; none of them looks at the definition's text again.

mod channel;
mod frame;
mod message;

use std::ops::{Index, IndexMut};
use std::sync::Arc;

pub use channel::Channel;
pub use frame::{Bound, Covered, Direction, EXTENDED_ID, FrameFinder, KeySource, Part, Role, Zone};
pub use message::{
    Action, Element, ElementSizes, LeadField, ListPlan, MessagePlan, Place, RecordPlan, SectionPlan, Step, UnionPlan,
    count_bytes, starts_at_byte,
};
pub(crate) use message::{Compiler, place_of};

use crate::ids::{ChannelId, MessageId};
use crate::model::{Field, Link, Message};
use crate::syntax::ast::{ChannelItem, MessageItem};

/// A whole link, compiled.
#[derive(Clone, Debug)]
pub struct Plan {
    /// What the link means.
    pub link: Arc<Link>,
    /// The messages, in the order of [`Link::messages`].
    pub messages: Vec<MessagePlan>,
    /// The records, in the order of [`Link::records`].
    pub records: Vec<Arc<RecordPlan>>,
    /// The channels, in order of declaration.
    pub channels: Vec<Channel>,
}

impl Plan {
    /// Compiles the messages of a link. The keys of the channels are still to be assigned.
    pub(crate) fn new(link: Link, channels: Vec<Channel>) -> Self {
        let mut compiler = Compiler::new(link.byte_order);
        let records = link.records.iter().map(|record| compiler.record(record)).collect();
        let mut messages: Vec<MessagePlan> = link.messages.iter().map(|message| compiler.message(message)).collect();
        for answer in 0..messages.len() {
            if let Some((request, slot)) = messages[answer].request {
                messages[request].deciding.push(slot);
            }
        }
        Self { link: Arc::new(link), messages, records, channels }
    }

    /// The compiled form of one field by itself, as an entry of a table has it.
    pub fn element(&self, field: &Arc<Field>) -> Element {
        Compiler::new(self.link.byte_order).element(field)
    }

    /// The channels with their indices, in order of declaration.
    pub fn channel_ids(&self) -> impl DoubleEndedIterator<Item = (ChannelId, &Channel)> {
        self.channels.iter().enumerate().map(|(index, channel)| (ChannelId::new(index), channel))
    }

    /// The messages with their indices, in order of declaration.
    pub fn message_ids(&self) -> impl DoubleEndedIterator<Item = (MessageId, &MessagePlan)> {
        self.messages.iter().enumerate().map(|(index, message)| (MessageId::new(index), message))
    }

    /// The index of the message with this name.
    pub fn message_index(&self, name: &str) -> Option<MessageId> {
        self.messages.iter().position(|plan| plan.message.name == name).map(MessageId::new)
    }

    /// The index of the channel with this name.
    pub fn channel_index(&self, name: &str) -> Option<ChannelId> {
        self.channels.iter().position(|channel| channel.name == name).map(ChannelId::new)
    }
}

/// What is kept of each channel, or of each message, in the order of declaration.
macro_rules! indexed {
    ($($id:ident => $item:ty),*) => {$(
        impl Index<$id> for [$item] {
            type Output = $item;

            fn index(&self, id: $id) -> &$item {
                &self[id.index()]
            }
        }

        impl Index<$id> for Vec<$item> {
            type Output = $item;

            fn index(&self, id: $id) -> &$item {
                &self[id.index()]
            }
        }

        impl IndexMut<$id> for Vec<$item> {
            fn index_mut(&mut self, id: $id) -> &mut $item {
                &mut self[id.index()]
            }
        }
    )*};
}

indexed!(ChannelId => Channel, MessageId => MessagePlan, MessageId => Arc<Message>, MessageId => MessageItem, ChannelId => ChannelItem);
