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
        let channel = row.plan.channels.get(row.channel).map(|channel| channel.direction(row.from));
        let bits =
            channel.and_then(|channel| channel.part(|role| *role == Role::Sequence)).map_or(64, |part| part.bits);
        let mask = if bits >= 64 { u64::MAX } else { (1 << bits) - 1 };
        let digest = digest(row.wire);
        let Some((last, before)) = self.number.replace((number, digest)) else { return };
        let left_out = number.wrapping_sub(last.wrapping_add(1)) & mask;
        if left_out == 0 {
            return;
        }
        // How many frames may have been sent meanwhile: twice as many as usual, and a few.
        let possible = since.zip(rate).map(|(since, rate)| (since as f64 / 1e9 * rate * 2.0) as u64 + 8);
        let is_possible = possible.map_or(left_out <= mask / 2, |possible| left_out <= possible);
        if number == last && digest == before {
            self.repeated += 1;
        } else if number <= SOON && last > SOON && !is_possible {
            self.restarts += 1;
            self.missing += number;
        } else if is_possible {
            self.gaps += 1;
            self.missing += left_out;
        } else if mask - left_out < 16.min(mask / 2) {
            self.back += 1;
            self.number = Some((last, before));
        } else if left_out <= mask / 2 {
            self.gaps += 1;
            self.missing += left_out;
        } else {
            self.restarts += 1;
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

/// FNV-1a of 64 bits: two frames with one number are compared by it.
fn digest(bytes: &[u8]) -> u64 {
    bytes.iter().fold(0xCBF2_9CE4_8422_2325, |sum, byte| (sum ^ u64::from(*byte)).wrapping_mul(0x0100_0000_01B3))
}
