//! What is in a link, for those who write only what it needs.

use emberwort_model::plan::FrameFinder;

/// Whether a channel's frames come in a stream, so that a receiver must find them.
pub fn has_receiver(finder: FrameFinder) -> bool {
    finder != FrameFinder::Packet
}
