//! Who takes what a receiver finds.

use std::ops::Range;

use emberwort_model::model::End;

use crate::chunk::{ByteTime, Time};
use crate::frame::{FrameFault, FrameView};

/// Takes what a receiver finds. Places are byte offsets in the stream.
pub trait FrameSink {
    /// Judges a frame whose framing and checksums are right, before it counts as good: mostly, whether its body can be
    /// decoded.
    ///
    /// # Errors
    /// Why it is unread: a fault of which [`FrameFault::is_unread`] is true.
    fn accept(&mut self, frame: &FrameView<'_>) -> Result<(), FrameFault>;

    /// The next frame, or fault, is read as one from this end. Only said by receivers that look for the frames of both.
    fn assume_sender(&mut self, from: End) {
        let _ = from;
    }

    /// Chooses between two readings of the same bytes that are both good: as a frame from the device, or from the host.
    fn choose(&mut self, device: &FrameView<'_>, host: &FrameView<'_>) -> End {
        let _ = (device, host);
        End::Device
    }

    /// When each byte of what is handed on next was there, if that is known of all of them, else nothing; and when the last one came.
    /// Only said by a [`TimedReceiver`](crate::timed::TimedReceiver).
    fn came(&mut self, each: &[ByteTime], time: Option<Time>) {
        let _ = (each, time);
    }

    /// A good frame; `wire` are its bytes as they came, with stuffing and delimiter, without those of a frame inside of it.
    fn good(&mut self, at: Range<u64>, frame: &FrameView<'_>, wire: &[u8]);

    /// A frame whose framing and checksums are right, but whose body cannot be read. `frame` is `None` if a good frame was found
    /// inside of it, which only channels without a checksum look for; `wire` are then the bytes before that one.
    fn unread(&mut self, at: Range<u64>, frame: Option<&FrameView<'_>>, fault: &FrameFault, wire: &[u8]);

    /// Bytes of a broken frame.
    fn broken(&mut self, at: Range<u64>, fault: &FrameFault, wire: &[u8]);

    /// Bytes that belong to no frame. Long runs come in pieces of the channel's limit.
    fn stray(&mut self, at: Range<u64>, wire: &[u8]);
}
