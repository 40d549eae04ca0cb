//! Reading the copy back: what it holds, in numbers that can be compared with what it should hold.

use std::convert::Infallible;
use std::ops::ControlFlow;

use emberwort_capture::{Decoder, Item, ItemSink, RevisionMap, Statistics};

use crate::reading::inputs;
use crate::reading::sources::Settings;

/// Good frames, and the sum of a digest of each: the same for the same frames in any order.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub struct FramesDigest {
    pub frames: u64,
    pub sum: u64,
}

impl FramesDigest {
    /// One more frame, as it went over the wire.
    pub fn add(&mut self, wire: &[u8]) {
        self.frames += 1;
        let digest = wire
            .iter()
            .fold(0xCBF2_9CE4_8422_2325u64, |sum, byte| (sum ^ u64::from(*byte)).wrapping_mul(0x0100_0000_01B3));
        self.sum = self.sum.wrapping_add(digest);
    }
}

/// What a capture holds.
pub struct CaptureCount {
    pub digest: FramesDigest,
    pub statistics: Statistics,
}

struct DigestSink(FramesDigest);

impl ItemSink for DigestSink {
    type Error = Infallible;

    fn item(&mut self, item: Item<'_>) -> Result<ControlFlow<()>, Infallible> {
        if let Item::Row(row) = item {
            self.0.add(row.wire);
        }
        Ok(ControlFlow::Continue(()))
    }
}

/// Counts what the copy holds.
pub fn count(settings: &Settings, revisions: RevisionMap) -> anyhow::Result<CaptureCount> {
    let (decoder, _) = inputs::read_all(settings, Decoder::of(revisions, DigestSink(FramesDigest::default())))?;
    let (counting, statistics) = decoder.finish()?;
    Ok(CaptureCount { digest: counting.0, statistics })
}
