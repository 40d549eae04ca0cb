//! Frames inside of messages: a complete frame of another channel as the value of a field.

use emberwort_model::Plan;
use emberwort_model::ids::{ChannelId, MessageId};
use emberwort_model::model::End;
use emberwort_wire::body_reader::read_body;
use emberwort_wire::{FrameFault, Framed, Values};

/// What stands in a frame inside of a message.
#[derive(Clone, Debug)]
pub struct NestedFrame {
    /// Index of its message.
    pub message: MessageId,
    /// The node, if its frames have one.
    pub node: Option<u64>,
    /// The sequence number, if its frames have one.
    pub sequence: Option<u64>,
    /// The sender's revision, if its frames have it.
    pub revision: Option<u64>,
    /// Its values.
    pub values: Values,
}

/// Reads the frame that a field holds: as it goes over the channel with this index, stuffing and delimiter included.
///
/// # Errors
/// Why it is no good frame.
pub fn open(plan: &Plan, channel: ChannelId, from: End, bytes: &[u8]) -> Result<NestedFrame, FrameFault> {
    let framing = plan.channels[channel].framing(from);
    let mut plain = Vec::new();
    let view = framing.open(bytes, &mut plain)?;
    let mut values = Values::default();
    let message = read_body(plan, framing.plan(), &view, &mut values)?;
    let (node, sequence, revision) = (view.node, view.sequence, view.revision);
    Ok(NestedFrame { message, node, sequence, revision, values })
}
