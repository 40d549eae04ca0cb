//! What is to become of the packets of a capture.

use std::collections::BTreeMap;
use std::ops::Range;

use crate::traced::Part;

/// What becomes of one packet.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct PacketEdit {
    /// Stretches of its bytes that are replaced, by rising place and without overlap.
    pub cuts: Vec<(Range<usize>, Vec<u8>)>,
    /// Whether it is left out.
    pub is_dropped: bool,
    /// How many times it is there once more.
    pub copies: u32,
    /// By how many nanoseconds its time is later, or earlier.
    pub delay: i64,
    /// All of its bytes, in place of its own.
    pub instead: Option<Vec<u8>>,
}

/// What becomes of the packets of a capture, by their numbers from 1.
#[derive(Clone, Debug, Default)]
pub struct Edits {
    /// Those that are changed.
    pub packets: BTreeMap<u64, PacketEdit>,
    /// The stretch of time outside of which packets are left out, both ends in it, in nanoseconds since 1970.
    pub span: Option<(u64, u64)>,
}

impl Edits {
    /// What becomes of a packet.
    pub fn of(&mut self, packet: u64) -> &mut PacketEdit {
        self.packets.entry(packet).or_default()
    }

    /// Replaces the bytes of a frame, which stands in these parts, by others.
    ///
    /// # Errors
    /// If its bytes were put together from several packets of a network.
    pub fn replace(&mut self, parts: &[Part], bytes: &[u8]) -> Result<(), String> {
        for (n, part) in parts.iter().enumerate() {
            let at = part.at.ok_or_else(put_together)?;
            let new = if n == 0 { bytes.to_vec() } else { Vec::new() };
            let cuts = &mut self.of(part.packet).cuts;
            cuts.push((at..at + part.length, new));
            cuts.sort_by_key(|(range, _)| range.start);
        }
        Ok(())
    }

    /// Leaves the bytes of a frame out, and packets that hold nothing else.
    ///
    /// # Errors
    /// As [`Self::replace`].
    pub fn leave_out(&mut self, parts: &[Part]) -> Result<(), String> {
        for part in parts {
            if part.length == part.whole {
                self.of(part.packet).is_dropped = true;
            } else {
                self.replace(std::slice::from_ref(part), &[])?;
            }
        }
        Ok(())
    }

    /// Puts the bytes of a frame behind it once more.
    ///
    /// # Errors
    /// As [`Self::replace`].
    pub fn repeat(&mut self, parts: &[Part], bytes: &[u8]) -> Result<(), String> {
        let Some(last) = parts.last() else { return Ok(()) };
        let end = last.at.ok_or_else(put_together)? + last.length;
        let cuts = &mut self.of(last.packet).cuts;
        cuts.push((end..end, bytes.to_vec()));
        cuts.sort_by_key(|(range, _)| range.start);
        Ok(())
    }
}

fn put_together() -> String {
    "its bytes were put together from several packets, of which none can be changed by itself".to_owned()
}

impl PacketEdit {
    /// Where the bytes that are changed begin and end, and what stands there then.
    pub fn payload(&self, packet: &[u8]) -> Option<(Range<usize>, Vec<u8>)> {
        let (first, last) = (self.cuts.first()?.0.start, self.cuts.iter().map(|(range, _)| range.end).max()?);
        let mut new = Vec::new();
        let mut at = first;
        for (range, bytes) in &self.cuts {
            new.extend_from_slice(packet.get(at..range.start).unwrap_or_default());
            new.extend_from_slice(bytes);
            at = at.max(range.end);
        }
        Some((first..last, new))
    }
}
