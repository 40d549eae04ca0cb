//! What the checksums of a frame cover, and computing them.

use emberwort_model::plan::{Bound, Covered};

use super::parts::PartPlace;
use crate::checksum::Checksum;

/// One checksum part of a frame.
#[derive(Clone, Debug)]
pub(super) struct FrameChecksum {
    pub part: usize,
    pub place: PartPlace,
    pub checksum: Checksum,
    pub pieces: Vec<Piece>,
}

/// A piece of what a checksum covers.
#[derive(Clone, Copy, Debug)]
pub(super) enum Piece {
    /// Bytes of the frame.
    Bytes(Covered),
    /// So many zero bytes, in place of a checksum part.
    Zeros(usize),
}

/// What a checksum covers, piece after piece: the stretches, with zeros in place of the blank parts inside them, or without
/// those parts if they are skipped.
pub(super) fn pieces(over: &[Covered], blank: &[(Bound, Bound)], skipping: bool) -> Vec<Piece> {
    let mut pieces = Vec::new();
    for covered in over {
        let mut from = covered.from;
        for (start, end) in blank {
            // Bounds of one zone compare by offset, and the tail lies behind the head, whatever the body's size.
            let inside = !start.is_before(covered.from) && !covered.to.is_before(*end);
            if !inside {
                continue;
            }
            pieces.push(Piece::Bytes(Covered { from, to: *start }));
            if !skipping {
                pieces.push(Piece::Zeros(end.at(0) - start.at(0)));
            }
            from = *end;
        }
        pieces.push(Piece::Bytes(Covered { from, to: covered.to }));
    }
    pieces.retain(|piece| !matches!(piece, Piece::Bytes(covered) if covered.from == covered.to));
    pieces
}

impl FrameChecksum {
    #[inline]
    pub fn compute(&self, frame: &[u8], body_end: usize) -> u64 {
        if let [Piece::Bytes(covered)] = self.pieces.as_slice() {
            return self.checksum.compute(&frame[covered.from.at(body_end)..covered.to.at(body_end)]);
        }
        let mut state = self.checksum.start();
        for piece in &self.pieces {
            let bytes = match piece {
                Piece::Bytes(covered) => &frame[covered.from.at(body_end)..covered.to.at(body_end)],
                Piece::Zeros(count) => &[0; 16][..*count],
            };
            state = self.checksum.update(state, bytes);
        }
        self.checksum.finish(state)
    }
}
