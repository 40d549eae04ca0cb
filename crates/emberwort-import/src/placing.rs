//! Where the bits of a signal stand in its frame.

use crate::database::Signal;

/// The bits of a signal, as places in the frame: bit 0 is the least significant one of byte 0. `None` if they reach beyond 64 bytes or
/// in front of the frame.
pub(crate) fn bits(signal: &Signal) -> Option<Vec<usize>> {
    let mut found = Vec::with_capacity(signal.bits);
    let mut at = signal.start;
    for _ in 0..signal.bits {
        if at >= 512 {
            return None;
        }
        found.push(at);
        // Big-endian: towards the least significant bit of the byte, then from the most significant one of the next.
        at = match (signal.is_big_endian, at % 8) {
            (false, _) => at + 1,
            (true, 0) => at + 15,
            (true, _) => at - 1,
        };
    }
    Some(found)
}

/// The first and the last byte of a signal.
pub(crate) fn bytes(bits: &[usize]) -> (usize, usize) {
    let first = bits.iter().min().map_or(0, |bit| bit / 8);
    let last = bits.iter().max().map_or(0, |bit| bit / 8);
    (first, last)
}

/// Bits that are taken.
#[derive(Clone, Debug, Default)]
pub(crate) struct Occupied(Vec<usize>);

impl Occupied {
    /// Takes bits, if none of them is taken.
    pub(crate) fn take(&mut self, bits: &[usize]) -> bool {
        let is_free = bits.iter().all(|bit| !self.0.contains(bit));
        if is_free {
            self.0.extend(bits);
        }
        is_free
    }

    pub(crate) fn has(&self, bit: usize) -> bool {
        self.0.contains(&bit)
    }
}
