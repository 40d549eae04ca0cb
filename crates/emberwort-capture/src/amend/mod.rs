//! Changing captures: frames with other values or bytes, dropped, sent twice, later or in another order; always into a new file.
//!
//! ```text
//! capture ─► decoder, traced ─► which frames ─► edits of packets ─► layers around them ─► new capture ─► read back
//! ```

pub mod copy;
pub mod edits;
pub mod layers;
pub mod scrub;

pub use copy::copy;
pub use edits::{Edits, EditsInOrder, PacketEdit};
pub use layers::{Layer, rebuild};
