//! What a trial consists of.

use std::collections::BTreeMap;
use std::sync::Arc;

use emberwort_model::ids::MessageId;
use emberwort_text::formula::{ComputedField, Formula};
use emberwort_waveform::drawing::instrument::Settings;
use emberwort_wire::{Time, Values};
use serde_json::{Map, Value as Json};

use crate::Nanoseconds;
use crate::definitions::{Definitions, TrialDefinitionId};
use crate::expect::Expectation;
use crate::script::Script;
use crate::signal::{Fixed, Signal};
use crate::wire::{Bursts, Faults, FaultyStretch};

/// A trial, checked against a link.
#[derive(Clone, Debug)]
pub struct Scenario {
    /// What the trial is about.
    pub about: String,
    /// The definitions that the ends have, with the channel in each.
    pub definitions: Definitions,
    /// Index of the host's definition.
    pub host: TrialDefinitionId,
    /// How long it runs.
    pub span: Nanoseconds,
    /// The seed of all randomness.
    pub seed: u64,
    /// When it starts.
    pub starts: Time,
    /// The faults of the wire towards the host.
    pub faults: Faults,
    /// The same towards the devices.
    pub to_device: Faults,
    /// Stretches with other faults.
    pub stretches: Vec<FaultyStretch>,
    /// Disturbances that come back.
    pub bursts: Option<Bursts>,
    /// From the last bit's sending to its receiving.
    pub delay: Nanoseconds,
    /// The most by which that is longer, by chance.
    pub jitter: Nanoseconds,
    /// Whether nobody waits while another sends.
    pub collides: bool,
    /// Bits a second of a network on which frames wait for each other.
    pub bandwidth: Option<u64>,
    /// What an instrument on the wires sees.
    pub wave: Settings,
    /// The devices.
    pub devices: Vec<Device>,
    /// What the host sends.
    pub requests: Vec<PlannedMessage>,
    /// How many times the host sends a request once more when nobody answers it in time.
    pub retries: u32,
    /// What the host does step by step, several at once.
    pub scripts: Vec<Script>,
    /// What must hold.
    pub must: Vec<Expectation>,
}

/// A simulated device.
#[derive(Clone, Debug)]
pub struct Device {
    /// Its node.
    pub node: u64,
    /// Index of its definition. All indices of messages are of that one.
    pub definition: TrialDefinitionId,
    /// The revision that it has: that of its definition, or an earlier one, which lacks what was added later.
    pub revision: u32,
    /// When it first reports.
    pub first_report: Nanoseconds,
    /// From a request's arrival to the sending of its answer.
    pub answers_after: Delay,
    /// Signals by message index and slot.
    pub signals: BTreeMap<(MessageId, usize), Signal>,
    /// Messages that it sends at moments.
    pub sends: Vec<PlannedMessage>,
    /// How it answers requests; the first that fits counts.
    pub replies: Vec<Reply>,
    /// When it is off, and from when on it runs again.
    pub restarts: Vec<(Nanoseconds, Nanoseconds)>,
    /// Messages that it sends when something begins to hold.
    pub alarms: Vec<Alarm>,
    /// Values of entries of tables, by table and entry.
    pub settings: BTreeMap<(usize, usize), Fixed>,
    /// What answers a request for an entry that is not there.
    pub refusal: Option<Refusal>,
    /// The program that plays it, with its arguments.
    pub program: Option<Vec<String>>,
    /// The recording that plays it.
    pub recording: Option<Recording>,
}

impl Device {
    /// Whether somebody else than the trial decides what it sends.
    pub fn is_played(&self) -> bool {
        self.program.is_some() || self.recording.is_some()
    }
}

/// What a device once sent.
#[derive(Clone, Debug, Default)]
pub struct Recording {
    /// The file, as the trial names it. Whoever reads the trial reads the frames out of it.
    pub file: String,
    /// Frames in the order of their times, which count from the begin of the recording.
    pub frames: Arc<[(Nanoseconds, Vec<u8>)]>,
}

/// What answers a request that cannot be met: a message by index, with its fields.
pub type Refusal = (MessageId, Map<String, Json>);

/// How long something takes.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Delay {
    /// Always the same.
    Always(Nanoseconds),
    /// Anything between two times, all alike.
    Between(Nanoseconds, Nanoseconds),
    /// Normally distributed; never less than nothing.
    Normal {
        /// The mean.
        mean: Nanoseconds,
        /// The standard deviation.
        deviation: Nanoseconds,
    },
    /// Exponentially distributed, from a least time on.
    Exponential {
        /// The mean.
        mean: Nanoseconds,
        /// The least time.
        least: Nanoseconds,
    },
}

/// A message that is sent when a condition begins to hold.
#[derive(Clone, Debug)]
pub struct Alarm {
    /// The message that is sent, by index.
    pub message: MessageId,
    /// The message, by index, whose fields decide.
    pub of: MessageId,
    /// The condition.
    pub when: Formula,
    /// Values that are given; the others hold their rest.
    pub fields: Map<String, Json>,
    /// Fields that are worked out of those of the message that decides.
    pub worked: Vec<ComputedField>,
}

/// A message to be sent at a moment, or again and again.
#[derive(Clone, Debug)]
pub struct PlannedMessage {
    /// When first.
    pub at: Nanoseconds,
    /// From one time to the next.
    pub every: Option<Nanoseconds>,
    /// From when on no more.
    pub until: Nanoseconds,
    /// Index of the message in the sender's definition.
    pub message: MessageId,
    /// To which node (requests), or from which (devices).
    pub node: u64,
    /// Its values.
    pub values: Values,
}

/// An answer to a request.
#[derive(Clone, Debug)]
pub struct Reply {
    /// Index of the request's message.
    pub to: MessageId,
    /// From when on.
    pub from: Nanoseconds,
    /// Index of the answer's message; `None` if there is no answer.
    pub with: Option<MessageId>,
    /// When it is this one; over the fields of the request.
    pub when: Option<Formula>,
    /// The chance that it is this one.
    pub chance: f64,
    /// From the request's arrival to the sending, if that is not as the device has it.
    pub after: Option<Delay>,
    /// How many times it is sent.
    pub times: u32,
    /// The node that it names, if that is not the device's.
    pub node: Option<u64>,
    /// Fields that are worked out of those of the request.
    pub worked: Vec<ComputedField>,
    /// Values that are given; the others hold their rest.
    pub fields: Map<String, Json>,
    /// Fields that repeat one of the request: its slot, and that of the answer.
    pub echo: Vec<(usize, usize)>,
}
