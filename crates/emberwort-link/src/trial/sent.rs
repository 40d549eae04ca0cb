//! A frame that was sent, and what a receiver with another definition made of it.

use std::rc::Rc;

use emberwort_evolution::Understood;
use emberwort_model::ids::MessageId;
use emberwort_model::model::End;
use emberwort_wire::{FrameFault, Values};

use super::queue::Exchange;
use crate::Nanoseconds;
use crate::definitions::TrialDefinitionId;
use crate::side::FoundFrame;

/// Why a frame is sent.
#[derive(Default)]
pub(super) struct Cause<'a> {
    /// The request that it is, or answers.
    pub(super) exchange: Option<Rc<Exchange>>,
    /// The request's message, by index in the device's definition, and its values as the device read them.
    pub(super) answers: Option<(MessageId, &'a Values)>,
}

/// A frame that was sent.
pub(super) struct Sent {
    /// When it was handed to the wire.
    pub(super) at: Nanoseconds,
    pub(super) from: End,
    pub(super) node: u64,
    /// Index of the sender's definition.
    pub(super) definition: TrialDefinitionId,
    /// Index of the message there.
    pub(super) message: MessageId,
    pub(super) key: u64,
    pub(super) values: Values,
    /// The request that it is, or answers.
    pub(super) exchange: Option<Rc<Exchange>>,
    pub(super) accepted: u32,
    /// Whether it arrived once as it was sent.
    pub(super) arrived: bool,
    /// What a receiver with another definition found wrong with it.
    pub(super) fault: Option<FrameFault>,
    /// Whether it stands among those that arrived and were not understood.
    pub(super) is_counted: bool,
    /// How many deliveries are under way, and receivers still have bytes of it.
    pub(super) pending: u32,
}

/// What a receiver with another definition made of a frame. Many frames have the values of the one before.
pub(super) struct Taken {
    /// The definitions of sender and receiver, and the end that sent.
    pub(super) ends: (TrialDefinitionId, TrialDefinitionId, End),
    /// The message by index there, and its values.
    pub(super) sent: (MessageId, Values),
    pub(super) read: (MessageId, Values),
    pub(super) became: Understood,
}

impl Taken {
    pub(super) fn is_about(&self, sent: &Sent, receiver: TrialDefinitionId, frame: &FoundFrame) -> bool {
        self.ends == (sent.definition, receiver, sent.from)
            && (self.sent.0, self.read.0) == (sent.message, frame.message)
            && self.sent.1 == sent.values
            && self.read.1 == frame.values
    }
}
