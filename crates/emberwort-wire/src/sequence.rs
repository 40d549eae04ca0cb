//! Gaps in sequence numbers and counters: frames that a sender sent and nobody received.

use emberwort_model::Plan;
use emberwort_model::ids::{ChannelId, MessageId};
use emberwort_model::model::{End, Kind, section_revisions};
use emberwort_model::plan::Role;

use crate::values::{ValueRef, Values};

/// Follows the sequence numbers of every sender and counts where they do not go up by one.
///
/// Numbers go around, so a jump is taken the shorter way: forward is a gap, in which frames are missing; back is a repeated
/// frame or a sender that began again.
#[derive(Clone, Debug, Default)]
pub struct SequenceWatch {
    /// The last number of senders with a node below [`SMALL_NODES`], which most have, by channel, end and node.
    small: Vec<Option<u64>>,
    /// The last number of the others, by rising channel, end and node.
    large: Vec<((usize, u64), u64)>,
    gaps: u64,
    missing: u64,
    jumps_back: u64,
}

/// Nodes below this have a place of their own.
const SMALL_NODES: u64 = 256;

/// A gap in the sequence numbers of a sender.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Gap {
    /// The number that was due.
    pub expected: u64,
    /// The number that came.
    pub found: u64,
}

impl SequenceWatch {
    /// Takes the next number of a sender: which of its counters (the channel by index, or one behind those), its end, its node. `bits` is the width of the frame part.
    #[inline]
    pub fn take(&mut self, counter: usize, from: End, node: u64, bits: u8, number: u64) -> Option<Gap> {
        let mask = if bits >= 64 { u64::MAX } else { (1 << bits) - 1 };
        let lane = counter * 2 + usize::from(from == End::Host);
        let before = if node < SMALL_NODES {
            let at = lane * SMALL_NODES as usize + node as usize;
            if at >= self.small.len() {
                self.small.resize((lane + 1) * SMALL_NODES as usize, None);
            }
            self.small[at].replace(number)?
        } else {
            match self.large.binary_search_by_key(&(lane, node), |(sender, _)| *sender) {
                Ok(at) => std::mem::replace(&mut self.large[at].1, number),
                Err(at) => {
                    self.large.insert(at, ((lane, node), number));
                    return None;
                }
            }
        };
        let expected = before.wrapping_add(1) & mask;
        if number == expected {
            return None;
        }
        let missing = number.wrapping_sub(expected) & mask;
        if missing <= mask / 2 {
            self.gaps += 1;
            self.missing += missing;
        } else {
            self.jumps_back += 1;
        }
        Some(Gap { expected, found: number })
    }

    /// How many times numbers were left out.
    pub fn gaps(&self) -> u64 {
        self.gaps
    }

    /// How many numbers are missing in all gaps together, as far as the width of the part can tell.
    pub fn missing(&self) -> u64 {
        self.missing
    }

    /// How many times the numbers went back: repeated frames, and senders that began again.
    pub fn jumps_back(&self) -> u64 {
        self.jumps_back
    }
}

/// What tells a link's frames apart by number: the sequence parts of its frames and the `counter` fields of its messages.
#[derive(Clone, Debug)]
pub struct Numbering {
    /// Width of the sequence part of each channel, in bits: in frames from the device, and from the host.
    part_bits: Vec<[u8; 2]>,
    /// The counters of each message.
    counters: Vec<Vec<Counter>>,
    watch: SequenceWatch,
}

#[derive(Clone, Copy, Debug)]
struct Counter {
    slot: usize,
    bits: u8,
    /// Index of the section that holds it.
    section: usize,
    /// The first of its places in the watch, one for each channel.
    first: usize,
}

impl Numbering {
    /// The numbers of a link; none seen yet.
    pub fn new(plan: &Plan) -> Self {
        let part_bits = plan
            .channels
            .iter()
            .map(|channel| {
                [End::Device, End::Host].map(|from| {
                    channel.direction(from).part(|role| *role == Role::Sequence).map_or(64, |part| part.bits)
                })
            })
            .collect();
        let channels = plan.channels.len();
        let mut first = 0;
        let mut counters = Vec::with_capacity(plan.messages.len());
        for message in &plan.messages {
            let revisions = section_revisions(&message.message.fields);
            let mut of_message = Vec::new();
            for (slot, field) in message.message.fields.iter().enumerate() {
                if let (true, Kind::Number(form)) = (field.counter, &field.kind) {
                    let section = revisions.iter().position(|revision| *revision == field.since).unwrap_or(0);
                    first += channels;
                    of_message.push(Counter { slot, bits: form.bits, section, first });
                }
            }
            counters.push(of_message);
        }
        Self { part_bits, counters, watch: SequenceWatch::default() }
    }

    /// Whether a message has counters, so that [`Self::take`] looks at its values.
    #[inline]
    pub fn counts(&self, message: MessageId) -> bool {
        !self.counters[message.index()].is_empty()
    }

    /// Takes the number of the next frame of a sender: a channel by index, an end, a node. Counters in it are not looked at.
    #[inline]
    pub fn take_frame(&mut self, (channel, from, node): (ChannelId, End, u64), sequence: Option<u64>) {
        if let Some(number) = sequence {
            self.watch.take(
                channel.index(),
                from,
                node,
                self.part_bits[channel.index()][usize::from(from == End::Host)],
                number,
            );
        }
    }

    /// Takes the next frame of a sender: a channel and a message by index, an end, a node, the number of the frame.
    pub fn take(
        &mut self,
        (channel, from, node): (ChannelId, End, u64),
        sequence: Option<u64>,
        message: MessageId,
        values: &Values,
    ) {
        self.take_frame((channel, from, node), sequence);
        for counter in &self.counters[message.index()] {
            // An older sender has no such field: its default says nothing.
            if let (true, ValueRef::Raw(number)) = (counter.section < values.sections(), values.get(counter.slot)) {
                self.watch.take(counter.first + channel.index(), from, node, counter.bits, number);
            }
        }
    }

    /// The gaps found.
    pub fn watch(&self) -> &SequenceWatch {
        &self.watch
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn gaps_are_counted_by_sender_and_around_the_end() {
        let mut watch = SequenceWatch::default();
        for number in [254, 255, 0, 1] {
            assert_eq!(watch.take(0, End::Device, 3, 8, number), None);
        }
        assert_eq!(watch.take(0, End::Device, 4, 8, 77), None, "another node counts for itself");
        assert_eq!(watch.take(0, End::Device, 3, 8, 5), Some(Gap { expected: 2, found: 5 }));
        assert_eq!((watch.gaps(), watch.missing()), (1, 3));
        assert_eq!(watch.take(0, End::Device, 3, 8, 5), Some(Gap { expected: 6, found: 5 }), "a repeated frame");
        assert_eq!((watch.gaps(), watch.missing(), watch.jumps_back()), (1, 3, 1));
        for (node, number) in [(70_000, 9), (300, 1), (70_000, 11), (300, 2)] {
            watch.take(1, End::Host, node, 8, number);
        }
        assert_eq!((watch.gaps(), watch.missing()), (2, 4), "large node numbers count as well");
    }
}
