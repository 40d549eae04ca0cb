//! What a simulated end says: when it can speak, with which values, in which frame. Trials and ends on real ports use it alike.

use emberwort_model::ids::MessageId;
use emberwort_model::plan::MessagePlan;
use emberwort_wire::frame::body_on;
use emberwort_wire::{Framing, Header, Values};

use crate::Nanoseconds;
use crate::scenario::Device;

/// Whether a device runs at a moment, and is not switched off for a restart.
pub(crate) fn runs(device: &Device, now: Nanoseconds) -> bool {
    !device.restarts.iter().any(|(from, to)| (*from..*to).contains(&now))
}

/// A message that is said.
pub(crate) struct Said<'a> {
    /// Its index.
    pub message: MessageId,
    pub node: u64,
    pub sequence: u64,
    /// The revision of who says it.
    pub revision: u32,
    pub values: &'a Values,
}

/// Makes the body and the frame of a message, in place of what was there; returns the frame's key. `None` if the message has no
/// place in such frames: all values were checked when the trial was read, and `check` made sure that the longest body fits.
pub(crate) fn frame(
    framing: &Framing,
    compiled: &MessagePlan,
    said: &Said<'_>,
    body: &mut Vec<u8>,
    bytes: &mut Vec<u8>,
) -> Option<u64> {
    let key = framing.plan().key_for(said.message, said.node).unwrap_or(0);
    let header = Header { key, node: said.node, sequence: said.sequence, revision: u64::from(said.revision) };
    body.clear();
    bytes.clear();
    body_on(framing.plan(), compiled, said.values, said.revision, body).ok()?;
    framing.encode(&header, body, bytes).ok()?;
    Some(key)
}
