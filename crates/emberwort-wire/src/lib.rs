//! The bytes of a link: bodies, frames, checksums, receivers, and their values.
//!
//! Everything here reads the plan of [`emberwort_model`]; nothing prints, opens files or knows the time.

pub mod bits;
pub mod body_reader;
pub mod checksum;
pub mod chunk;
pub mod codec;
mod fault;
pub mod frame;
mod framings;
pub mod line;
pub mod receiver;
pub mod sequence;
pub mod sink;
pub mod status_bytes;
pub mod stuffing;
pub mod timed;
pub mod timeline;
pub mod values;

pub use chunk::{Chunk, ChunkSink, StreamId, Time, Times};
pub use codec::{BodyError, EncodeError, decode, decode_answer, encode, is_lossless, sender_revision};
pub use frame::{FrameFault, FrameView, Framed, Framing, Header};
pub use receiver::Receiver;
pub use sink::FrameSink;
pub use timed::TimedReceiver;
pub use timeline::{Spent, TimeAccount, Timeline};
pub use values::{ValueRef, Values};
