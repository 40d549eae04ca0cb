//! When frames were broken, by reason.

use std::collections::BTreeMap;

use emberwort_wire::Time;

/// At most so many stretches of time are kept apart; each becomes twice as long when there would be more.
const STRETCHES: usize = 64;

/// Broken and unread frames by reason in stretches of time of one length.
#[derive(Clone, Debug)]
pub struct Breakage {
    /// When the first stretch begins.
    pub start: Option<Time>,
    /// The length of a stretch, in nanoseconds.
    pub length: u64,
    /// How many in each stretch.
    pub reasons: BTreeMap<&'static str, Vec<u64>>,
    /// Those without a time, by reason.
    pub timeless: BTreeMap<&'static str, u64>,
}

impl Default for Breakage {
    fn default() -> Self {
        Self { start: None, length: 1_000_000_000, reasons: BTreeMap::new(), timeless: BTreeMap::new() }
    }
}

impl Breakage {
    /// One more.
    pub fn add(&mut self, reason: &'static str, time: Option<Time>) {
        let Some(time) = time else {
            *self.timeless.entry(reason).or_default() += 1;
            return;
        };
        let start = *self.start.get_or_insert(time);
        // What comes out of order is counted in the first one.
        let mut at = (time.since(start) / self.length) as usize;
        while at >= STRETCHES {
            self.length = self.length.saturating_mul(2);
            for counts in self.reasons.values_mut() {
                *counts = counts.chunks(2).map(|pair| pair.iter().sum()).collect();
            }
            at = (time.since(start) / self.length) as usize;
        }
        let counts = self.reasons.entry(reason).or_default();
        if counts.len() <= at {
            counts.resize(at + 1, 0);
        }
        counts[at] += 1;
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn stretches_grow_with_the_time() {
        let mut breakage = Breakage::default();
        for second in [0, 1, 1, 63, 64, 1000] {
            breakage.add("checksum", Some(Time::from_nanoseconds(second * 1_000_000_000)));
        }
        assert_eq!(breakage.length, 16_000_000_000);
        let counts = &breakage.reasons["checksum"];
        assert_eq!((counts[0], counts[3], counts[4], counts[62], counts.iter().sum::<u64>()), (3, 1, 1, 1, 6));
    }
}
