//! Counting what a decoder finds: every byte, frames by message and by reason, gaps in sequence numbers.

use std::sync::Arc;

use emberwort_model::Plan;
use emberwort_wire::FrameFault;
use emberwort_wire::sequence::{Numbering, SequenceWatch};

use crate::decode::{BrokenFrame, Row, RowSink, StrayBytes};

/// The counts of one or several captures.
#[derive(Clone, Debug)]
pub struct Statistics {
    plan: Arc<Plan>,
    /// Bytes given to the channels of the link. Equal to the sum of the next three.
    pub input: u64,
    /// Bytes in good frames.
    pub good: u64,
    /// Bytes in broken frames.
    pub broken: u64,
    /// Bytes in no frame.
    pub stray: u64,
    /// Packets (and serial pieces) that belong to no channel of the link.
    pub other_packets: u64,
    /// Their bytes.
    pub other_bytes: u64,
    /// Broken frames by reason, in the order of [`FrameFault::REASONS`].
    pub broken_frames: [u64; FrameFault::REASONS.len()],
    /// Good frames by message index.
    pub messages: Vec<u64>,
    /// Good frames by channel index.
    pub channels: Vec<u64>,
    /// Frames that held bytes of a later revision, and how many bytes.
    pub later: (u64, u64),
    numbering: Numbering,
    /// Time of the first and the last frame, in nanoseconds since 1970-01-01 UTC.
    pub span: Option<(u64, u64)>,
}

impl Statistics {
    /// All zero.
    pub fn new(plan: Arc<Plan>) -> Self {
        Self {
            input: 0,
            good: 0,
            broken: 0,
            stray: 0,
            other_packets: 0,
            other_bytes: 0,
            broken_frames: [0; FrameFault::REASONS.len()],
            messages: vec![0; plan.messages.len()],
            channels: vec![0; plan.channels.len()],
            later: (0, 0),
            numbering: Numbering::new(&plan),
            span: None,
            plan,
        }
    }

    /// The plan whose messages and channels are counted.
    pub fn plan(&self) -> &Plan {
        &self.plan
    }

    /// Good frames in all.
    pub fn good_frames(&self) -> u64 {
        self.messages.iter().sum()
    }

    /// Broken frames in all.
    pub fn all_broken_frames(&self) -> u64 {
        self.broken_frames.iter().sum()
    }

    /// Gaps in the sequence numbers of frames and in the counters of messages.
    pub fn sequence(&self) -> &SequenceWatch {
        self.numbering.watch()
    }

    /// Whether rows of a message are counted by their values, too.
    pub(crate) fn wants_values(&self, message: usize) -> bool {
        self.numbering.counts(message)
    }

    /// Whether every byte of the input is in exactly one of good, broken, stray.
    pub fn adds_up(&self) -> bool {
        self.input == self.good + self.broken + self.stray
    }

    pub(crate) fn count_input(&mut self, bytes: usize) {
        self.input += bytes as u64;
    }

    pub(crate) fn count_other(&mut self, bytes: usize) {
        self.other_packets += 1;
        self.other_bytes += bytes as u64;
    }

    fn at(&mut self, time: Option<u64>) {
        if let Some(time) = time {
            let (first, last) = self.span.unwrap_or((time, time));
            self.span = Some((first.min(time), last.max(time)));
        }
    }
}

impl RowSink for Statistics {
    fn row(&mut self, row: &Row<'_>) {
        self.good += row.wire.len() as u64;
        self.messages[row.message] += 1;
        self.channels[row.channel] += 1;
        let later = row.extent.later_bytes as u64;
        if later > 0 {
            self.later.0 += 1;
            self.later.1 += later;
        }
        let sender = (row.channel, row.from, row.frame.node.unwrap_or(0));
        self.numbering.take(sender, row.frame.sequence, row.message, row.values);
        self.at(row.time);
    }

    fn broken(&mut self, broken: &BrokenFrame<'_>) {
        self.broken += broken.wire.len() as u64;
        let reason = broken.fault.reason();
        let index = FrameFault::REASONS.iter().position(|other| *other == reason).unwrap_or(0);
        self.broken_frames[index] += 1;
        self.at(broken.time);
    }

    fn stray(&mut self, stray: &StrayBytes<'_>) {
        self.stray += stray.wire.len() as u64;
        self.at(stray.time);
    }
}
