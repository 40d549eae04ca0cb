//! The compiled form of a link: where every bit of every message and frame lies, worked out once.
//!
//! The codec and all generators read the plan; none of them looks at the definition's text again.

mod frame;
mod message;

use std::sync::Arc;

pub use frame::{Bound, ChannelPlan, Covered, FrameFinder, Part, Role, Zone, cobs_longest};
pub use message::{Action, LeadField, MessagePlan, Place, SectionPlan, Step};

use crate::model::Link;

/// A whole link, compiled.
#[derive(Clone, Debug)]
pub struct Plan {
    /// What the link means.
    pub link: Arc<Link>,
    /// The messages, in the order of [`Link::messages`].
    pub messages: Vec<MessagePlan>,
    /// The channels, in order of declaration.
    pub channels: Vec<ChannelPlan>,
}

impl Plan {
    /// Compiles the messages of a link. The keys of the channels are still to be assigned.
    pub(crate) fn new(link: Link, channels: Vec<ChannelPlan>) -> Self {
        let messages = link.messages.iter().map(|m| MessagePlan::new(m.clone(), link.byte_order)).collect();
        Self { link: Arc::new(link), messages, channels }
    }

    /// The index of the message with this name.
    pub fn message_index(&self, name: &str) -> Option<usize> {
        self.messages.iter().position(|plan| plan.message.name == name)
    }

    /// The index of the channel with this name.
    pub fn channel_index(&self, name: &str) -> Option<usize> {
        self.channels.iter().position(|channel| channel.name == name)
    }
}
