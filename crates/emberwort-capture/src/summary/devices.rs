//! What the sequence numbers of one sender say: frames that lack, frames that came twice, and that it began again.

use emberwort_model::plan::Role;
use emberwort_wire::Time;

use crate::items::Row;

/// A sender that begins again counts from 0; so many frames after that may be lost.
const SOON: u64 = 3;

/// The frames of one sender.
#[derive(Clone, Debug, Default)]
pub struct Device {
    /// How many.
    pub count: u64,
    /// Their bytes.
    pub bytes: u64,
    /// When the first came.
    pub first: Option<Time>,
    /// When the last came.
    pub last: Option<Time>,
    /// How many times numbers were left out.
    pub gaps: u64,
    /// How many numbers are missing in them.
    pub missing: u64,
    /// Frames that came once more, with the same number and the same bytes.
    pub repeated: u64,
    /// How many times it began again: its numbers went back to the start, or further than frames can have been sent meanwhile.
    pub restarts: u64,
    /// Numbers that went back a little: frames out of order.
    pub back: u64,
    /// The last number, and a digest of its frame.
    number: Option<(u64, u64)>,
}

impl Device {
    /// One more frame.
    pub fn add(&mut self, row: &Row<'_>) {
        self.count += 1;
        self.bytes += row.wire.len() as u64;
        let since = row.time.zip(self.last).map(|(time, last)| time.since(last));
        let rate = self.rate();
        if row.time.is_some() {
            self.first = self.first.or(row.time);
            self.last = row.time;
        }
        let Some(number) = row.frame.sequence else { return };
        let channel = row.plan.channels.get(row.channel.index()).map(|channel| channel.direction(row.from));
        let bits =
            channel.and_then(|channel| channel.part(|role| *role == Role::Sequence)).map_or(64, |part| part.bits);
        let mask = if bits >= 64 { u64::MAX } else { (1 << bits) - 1 };
        let digest = digest(row.wire);
        let Some((last, before)) = self.number.replace((number, digest)) else { return };
        if number == last && digest == before {
            self.repeated += 1;
            return;
        }
        let sent = since.zip(rate).map(|(since, rate)| since as f64 / 1e9 * rate);
        match Step::between(last, number, mask, sent) {
            Step::Next => {}
            Step::Lost(missing) => {
                self.gaps += 1;
                self.missing += missing;
            }
            Step::Restart(missing) => {
                self.restarts += 1;
                self.missing += missing;
            }
            Step::Back => {
                self.back += 1;
                self.number = Some((last, before));
            }
        }
    }

    /// Frames a second so far.
    fn rate(&self) -> Option<f64> {
        let span = self.last?.since(self.first?);
        (span > 0 && self.count > 2).then(|| (self.count - 1) as f64 * 1e9 / span as f64)
    }

    /// Of so many frames that were sent such a share is missing.
    pub fn loss(&self) -> f64 {
        self.missing as f64 / (self.count + self.missing).max(1) as f64
    }
}

/// What became of a sender between two frames.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
enum Step {
    /// The second is the next.
    Next,
    /// So many lack between them.
    Lost(u64),
    /// It began again, and so many of its first frames lack.
    Restart(u64),
    /// The second was sent before the first.
    Back,
}

impl Step {
    /// From a number to another one, both up to `mask`; `sent` says how many frames are usually sent in the time between them, if that is known.
    fn between(last: u64, number: u64, mask: u64, sent: Option<f64>) -> Self {
        let left_out = number.wrapping_sub(last.wrapping_add(1)) & mask;
        if left_out == 0 {
            return Self::Next;
        }
        let usual = sent.map(|sent| (sent - 1.0).max(0.0));
        // Who counts from the start again has most likely begun again, unless just so many frames can be missing.
        let just_so_many = usual.is_some_and(|usual| {
            let left_out = left_out as f64;
            (usual * 0.5 - 3.0..=usual * 1.3 + 3.0).contains(&left_out)
        });
        let is_few = usual.is_none() && left_out <= mask / 2;
        if number <= SOON && last > SOON && !just_so_many && !is_few {
            return Self::Restart(number);
        }
        // How many frames may have been sent meanwhile: twice as many as usual, and a few.
        let is_possible = usual.map_or(left_out <= mask / 2, |usual| left_out <= (usual * 2.0) as u64 + 10);
        if !is_possible && mask - left_out < 16.min(mask / 2) {
            return Self::Back;
        }
        if is_possible || left_out <= mask / 2 { Self::Lost(left_out) } else { Self::Restart(0) }
    }
}

/// FNV-1a of 64 bits: two frames with one number are compared by it.
fn digest(bytes: &[u8]) -> u64 {
    bytes.iter().fold(0xCBF2_9CE4_8422_2325, |sum, byte| (sum ^ u64::from(*byte)).wrapping_mul(0x0100_0000_01B3))
}

#[cfg(test)]
mod tests {
    use super::Step::{self, Back, Lost, Next, Restart};

    #[test]
    fn numbers_tell_losses_from_restarts() {
        // From, to, frames that are usually sent in the time between.
        for (last, number, sent, step) in [
            (7, 8, 1.0, Next),
            (255, 0, 1.0, Next),
            (7, 10, 3.0, Lost(2)),
            (250, 2, 8.0, Lost(7)),
            // It was silent for three seconds, five frames a second: 37 frames cannot be missing.
            (218, 0, 15.0, Restart(0)),
            (218, 2, 15.0, Restart(2)),
            (250, 0, 1.0, Restart(0)),
            // All of a long silence is missing.
            (218, 0, 38.0, Lost(37)),
            (100, 160, 61.0, Lost(59)),
            (100, 98, 1.0, Back),
            (100, 40, 1.0, Restart(0)),
        ] {
            assert_eq!(Step::between(last, number, 255, Some(sent)), step, "{last} to {number}, {sent}");
        }
        assert_eq!(Step::between(218, 0, 255, None), Lost(37));
        assert_eq!(Step::between(100, 0, 255, None), Restart(0));
    }
}
