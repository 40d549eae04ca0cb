//! What came of a trial.

use std::collections::BTreeMap;

use emberwort_evolution::Verdict as Understanding;
use hdrhistogram::Histogram;

use crate::Nanoseconds;
use crate::definitions::MessageNumber;
use crate::reason::Reason;
use crate::script::Outcome;

/// What came of a trial.
#[derive(Clone, Debug, Default, PartialEq)]
pub struct Report {
    /// Frames sent, by message (its number in the scenario's definitions) and node.
    pub sent: BTreeMap<(MessageNumber, u64), u64>,
    /// Frames that the other end received whole, by message and node.
    pub received: BTreeMap<(MessageNumber, u64), u64>,
    /// Good frames of devices that programs and recordings play, of which nobody knows what they were to say.
    pub not_compared: u64,
    /// Frames that arrived with other bytes than were sent, by message and node.
    pub damaged: BTreeMap<(MessageNumber, u64), u64>,
    /// Frames of which nothing usable arrived, by message and node; those that stand in `between` are none of them.
    pub lost: BTreeMap<(MessageNumber, u64), u64>,
    /// Good frames that were received more than once.
    pub repeated: u64,
    /// What the host received.
    pub host: ReceptionAccount,
    /// What each device received, by node. All of them hear what the host sends.
    pub devices: BTreeMap<u64, ReceptionAccount>,
    /// What became of whole frames between ends that do not have the same definition, where it is not all fine: by message,
    /// node and verdict. Those that are misread stand in `wrong`, too.
    pub between: BTreeMap<(MessageNumber, u64, Understanding), RevisionPairAccount>,
    /// How many good frames had values other than those that were sent.
    pub wrong: u64,
    /// The first of them, [`Report::MAX_EXAMPLES`] at most.
    pub wrong_examples: Vec<WrongValue>,
    /// How many requests were sent once more, as nobody had answered.
    pub retries: u64,
    /// The requests of which the definition says that they are answered, by message.
    pub answers: BTreeMap<MessageNumber, Answers>,
    /// What must hold, and whether it did.
    pub verdicts: Vec<Verdict>,
    /// How each side got over broken frames: the host, and devices by node.
    pub recovery: BTreeMap<Option<u64>, Recovery>,
    /// When the first frame of those in `lost` was sent, by message and node.
    pub first_lost: BTreeMap<(MessageNumber, u64), Nanoseconds>,
    /// How many frames were sent of each length in bytes.
    pub lengths: BTreeMap<MessageNumber, u64>,
    /// How long somebody sent.
    pub busy: Nanoseconds,
    /// When it ended.
    pub ended: Nanoseconds,
    /// When the trial was given up, as more frames waited for the wire than it can hold.
    pub overrun: Option<Nanoseconds>,
}

/// How a receiver got over broken frames, and bytes in no frame.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub struct Recovery {
    /// When the last good frame came.
    pub good: Nanoseconds,
    /// Whether something was broken since then.
    pub is_broken: bool,
    /// How many times it got over them.
    pub times: u64,
    /// The longest time between two good frames with something broken between them.
    pub slowest: Nanoseconds,
    /// When that began.
    pub slowest_at: Option<Nanoseconds>,
}

impl Recovery {
    /// Something was broken.
    pub(crate) fn broken(&mut self) {
        self.is_broken = true;
    }

    /// A good frame came, or the trial is over.
    pub(crate) fn over(&mut self, now: Nanoseconds) {
        let since = std::mem::replace(&mut self.good, now);
        if !std::mem::take(&mut self.is_broken) {
            return;
        }
        self.times += 1;
        if now - since >= self.slowest {
            (self.slowest, self.slowest_at) = (now - since, Some(since));
        }
    }
}

/// The accounting of what one side received. Good, unread, broken and stray bytes add up to the input.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub struct ReceptionAccount {
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
    /// Gaps in the sequence numbers and counters.
    pub gaps: u64,
    /// Frames that are missing in the gaps.
    pub missing: u64,
    /// How many times the sequence numbers went back: repeated frames, and senders that restarted.
    pub jumps_back: u64,
}

/// A good frame whose values are not those that were sent.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct WrongValue {
    /// When it was received.
    pub time: Nanoseconds,
    /// The message as received.
    pub message: MessageNumber,
    /// The bytes received.
    pub bytes: Vec<u8>,
    /// What was taken for what, where that is because sender and receiver have different definitions.
    pub sentence: String,
}

/// What became of frames between two definitions.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct RevisionPairAccount {
    /// How many.
    pub frames: u64,
    /// What became of the last of them.
    pub sentence: String,
}

/// How requests of one message were answered. A request that was sent again counts once.
#[derive(Clone, Debug, PartialEq)]
pub struct Answers {
    /// How many requests were sent.
    pub asked: u64,
    /// How many got an answer.
    pub answered: u64,
    /// The longest time from the sending of a request to the receiving of its first answer.
    pub slowest: Option<Nanoseconds>,
    /// How many answers came within each of the times that must be kept.
    pub within: BTreeMap<Nanoseconds, u64>,
    /// For each of these times, when the first request was sent whose answer came later or never.
    pub first_late: BTreeMap<Nanoseconds, Nanoseconds>,
    /// How often each message was the answer, by number.
    pub with: BTreeMap<MessageNumber, u64>,
    /// All times, within one in a thousand.
    times: Histogram<u64>,
}

impl Default for Answers {
    fn default() -> Self {
        // Three digits are allowed, so this cannot fail.
        let times = Histogram::new(3).unwrap_or_else(|_| unreachable!("three significant digits are allowed"));
        Self {
            asked: 0,
            answered: 0,
            slowest: None,
            within: BTreeMap::new(),
            first_late: BTreeMap::new(),
            with: BTreeMap::new(),
            times,
        }
    }
}

impl Answers {
    /// An answer with a message came so long after the request was sent.
    pub(crate) fn take(&mut self, asked: Nanoseconds, after: Nanoseconds, with: MessageNumber) {
        self.answered += 1;
        self.slowest = self.slowest.max(Some(after));
        *self.with.entry(with).or_default() += 1;
        for (within, count) in &mut self.within {
            if after <= *within {
                *count += 1;
            } else {
                self.first_late.entry(*within).or_insert(asked);
            }
        }
        // It grows as far as it has to, so this cannot fail.
        let _ = self.times.record(after);
    }

    /// Nobody answered a request that was sent at a moment.
    pub(crate) fn never(&mut self, asked: Nanoseconds) {
        for within in self.within.keys() {
            let first = self.first_late.entry(*within).or_insert(asked);
            *first = asked.min(*first);
        }
    }

    /// The time within which this share (0 to 1) of the answers came, within one in a thousand; `None` without answers.
    pub fn quantile(&self, share: f64) -> Option<Nanoseconds> {
        let slowest = self.slowest?;
        Some(self.times.value_at_quantile(share).min(slowest))
    }
}

/// Whether an expectation held, and what was found.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Verdict {
    /// The sentence as written.
    pub sentence: String,
    /// Why it did not hold; `None` if it did.
    pub failed: Option<Reason>,
    /// What was found, with the numbers.
    pub found: String,
    /// The moment that shows it, if it failed at one.
    pub at: Option<Nanoseconds>,
}

impl Verdict {
    /// Of a script of the host, which must do all its steps.
    pub(crate) fn of_script(outcome: Outcome) -> Self {
        let Outcome { name, failed, found, at } = outcome;
        Self { sentence: format!("{name} does all its steps"), failed, found, at }
    }

    /// Whether it held.
    pub fn held(&self) -> bool {
        self.failed.is_none()
    }
}

impl Report {
    /// How many frames with wrong values are kept.
    pub const MAX_EXAMPLES: usize = 20;

    /// Of a trial that has not begun.
    ///
    /// `answer_times` are those that somebody expects, by the number of the request's message.
    pub(crate) fn new(answer_times: impl IntoIterator<Item = (MessageNumber, Nanoseconds)>) -> Self {
        let mut report = Self::default();
        for (message, within) in answer_times {
            report.answers.entry(message).or_default().within.insert(within, 0);
        }
        report
    }

    pub(crate) fn note_wrong(&mut self, wrong: WrongValue) {
        self.wrong += 1;
        if self.wrong_examples.len() < Self::MAX_EXAMPLES {
            self.wrong_examples.push(wrong);
        }
    }

    /// What the first device received, which all of them hear.
    pub fn device(&self) -> ReceptionAccount {
        self.devices.values().next().copied().unwrap_or_default()
    }

    /// Whether everything held that must, to the end.
    pub fn passed(&self) -> bool {
        self.overrun.is_none() && self.verdicts.iter().all(Verdict::held)
    }
}
