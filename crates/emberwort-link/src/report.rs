//! What came of a trial.

use std::collections::BTreeMap;

use emberwort_evolution::Verdict as Understanding;
use emberwort_model::model::End;

use crate::Nanoseconds;
use crate::expect::Verdict;

/// What came of a trial.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Report {
    /// Frames sent, by message (its number in the scenario's definitions) and node.
    pub sent: BTreeMap<(usize, u64), u64>,
    /// Frames that the other end received whole, by message and node.
    pub received: BTreeMap<(usize, u64), u64>,
    /// Frames that arrived with other bytes than were sent, by message and node.
    pub damaged: BTreeMap<(usize, u64), u64>,
    /// Frames of which nothing usable arrived, by message and node; those that stand in `between` are none of them.
    pub lost: BTreeMap<(usize, u64), u64>,
    /// Good frames that were received more than once.
    pub repeated: u64,
    /// What the host received.
    pub host: Heard,
    /// What the devices received, all together.
    pub device: Heard,
    /// What became of whole frames between ends that do not have the same definition, where it is not all fine: by message,
    /// node and verdict. Those that are misread stand in `wrong`, too.
    pub between: BTreeMap<(usize, u64, Understanding), Between>,
    /// Good frames whose values are not those that were sent.
    pub wrong: Vec<WrongValue>,
    /// Gaps in the sequence numbers that the host saw.
    pub gaps: u64,
    /// Frames that are missing in the gaps.
    pub missing: u64,
    /// How many times the sequence numbers went back: repeated frames, and devices that restarted.
    pub jumps_back: u64,
    /// Each request that the definition says is answered.
    pub answers: Vec<Answer>,
    /// What must hold, and whether it did.
    pub verdicts: Vec<Verdict>,
    /// What each side received, in order of time.
    pub record: Vec<Recorded>,
}

/// The accounting of what one side received. Good, unread, broken and stray bytes add up to the input.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub struct Heard {
    /// Bytes received.
    pub input: u64,
    /// Bytes in good frames.
    pub good_bytes: u64,
    /// Bytes in frames that are right, but whose body cannot be read.
    pub unread_bytes: u64,
    /// Bytes in broken frames.
    pub broken_bytes: u64,
    /// Bytes in no frame.
    pub stray_bytes: u64,
    /// Good frames.
    pub good: u64,
    /// Unread frames.
    pub unread: u64,
    /// Broken frames.
    pub broken: u64,
}

/// A good frame whose values are not those that were sent.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct WrongValue {
    /// When it was received.
    pub time: Nanoseconds,
    /// The message as received.
    pub message: usize,
    /// The bytes received.
    pub bytes: Vec<u8>,
    /// What was taken for what, where that is because sender and receiver have different definitions.
    pub sentence: String,
}

/// What became of frames between two definitions.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Between {
    /// How many.
    pub frames: u64,
    /// What became of the last of them.
    pub sentence: String,
}

/// A request and its answer.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Answer {
    /// The request's message.
    pub message: usize,
    /// The node asked.
    pub node: u64,
    /// When the request was sent.
    pub asked: Nanoseconds,
    /// How long after that the first answer was received; `None` if none was.
    pub after: Option<Nanoseconds>,
    /// The answer's message.
    pub with: Option<usize>,
}

/// Bytes that one side received.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Recorded {
    /// When the last byte was received, from the trial's start.
    pub time: Nanoseconds,
    /// The end that sent them.
    pub from: End,
    /// What selects the message where that stands outside the frame: the port, the CAN identifier.
    pub key: u64,
    /// The bytes.
    pub bytes: Vec<u8>,
}

impl Report {
    /// Whether everything held that must.
    pub fn passed(&self) -> bool {
        self.verdicts.iter().all(|verdict| verdict.held)
    }
}
