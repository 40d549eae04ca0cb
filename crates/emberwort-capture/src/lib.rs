//! Captures: reading and writing the files, and decoding what is in them.
//!
//! ```text
//! file ─► source ─► pieces of bytes with times ─► decoder (one receiver a lane) ─► sink of rows
//! ```

pub mod checksum_slips;
pub mod decode;
pub mod hex_text;
pub mod items;
pub mod kept;
pub mod network;
pub mod source;
pub mod speakers;
pub mod stats;
pub mod writer;

pub use decode::Decoder;
pub use items::{BrokenFrame, Item, ItemSink, Only, Row, StrayBytes, Wants};
pub use kept::KeptItems;
pub use source::{Damage, Form, Interface, InterfaceKind, Outcome, Piece, PieceSink};
pub use speakers::Speakers;
pub use stats::{Gaps, Statistics};
pub use writer::PcapngWriter;

/// What an interface description in a recording of ours says: which channel, and which end the bytes come from.
pub fn lane_description(channel: &str, from: &str) -> String {
    format!("emberwort channel={channel} from={from}")
}
