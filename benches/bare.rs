//! What no decoder of the frames of `bus485` can do without, to compare with.

use std::hint::black_box;

use emberwort_wire::checksum::Checksum;

/// Looks for the sync bytes and computes the checksum over the rest (C6 39, node, kind, counter, size, body, checksum); returns how
/// many frames there were.
pub fn stream(checksum: &Checksum, bytes: &[u8]) -> u64 {
    let mut frames = 0;
    let mut at = 0;
    while let Some(skip) = memchr::memchr(0xC6, &bytes[at..]) {
        let start = at + skip;
        let Some(size) = bytes.get(start + 5) else { break };
        let end = start + 6 + usize::from(*size);
        let Some(frame) = bytes.get(start + 2..end) else { break };
        black_box(checksum.compute(frame));
        frames += 1;
        at = (end + 2).min(bytes.len());
    }
    frames
}
