//! Gaps in sequence numbers: frames that a sender sent and nobody received.

use emberwort_model::model::End;

/// Follows the sequence numbers of every sender and counts where they do not go up by one.
///
/// Numbers go around, so a jump is taken the shorter way: forward is a gap, in which frames are missing; back is a repeated
/// frame or a sender that began again.
#[derive(Clone, Debug, Default)]
pub struct SequenceWatch {
    /// The last number of each sender, by rising channel, end and node.
    last: Vec<(u128, u64)>,
    gaps: u64,
    missing: u64,
    jumps_back: u64,
}

/// A gap in the sequence numbers of a sender.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Gap {
    /// The number that was due.
    pub expected: u64,
    /// The number that came.
    pub found: u64,
}

impl SequenceWatch {
    /// Takes the next number of a sender: a channel by index, an end, a node. `bits` is the width of the frame part.
    pub fn take(&mut self, channel: usize, from: End, node: u64, bits: u8, number: u64) -> Option<Gap> {
        let mask = if bits >= 64 { u64::MAX } else { (1 << bits) - 1 };
        let sender = (channel as u128) << 65 | u128::from(from == End::Host) << 64 | u128::from(node);
        let before = match self.last.binary_search_by_key(&sender, |(sender, _)| *sender) {
            Ok(at) => std::mem::replace(&mut self.last[at].1, number),
            Err(at) => {
                self.last.insert(at, (sender, number));
                return None;
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
    }
}
