//! The bytes of a link: bodies, frames, checksums, receivers, and values as text.
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
pub mod json;
pub mod line;
pub mod nested_frame;
pub mod receiver;
pub mod row;
pub mod samples;
pub mod sequence;
pub mod status_bytes;
pub mod stuffing;
pub mod text;
pub mod timed;
pub mod values;

pub use chunk::{Chunk, ChunkSink, StreamId, Time, Times};
pub use codec::{BodyError, EncodeError, decode, decode_answer, encode, says_all};
pub use frame::{FrameFault, FrameView, Framed, Framing, Header};
pub use receiver::{FrameSink, Receiver};
pub use row::RowHeader;
pub use timed::TimedReceiver;
pub use values::{ValueRef, Values};
