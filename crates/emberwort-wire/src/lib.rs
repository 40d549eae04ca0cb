//! The bytes of a link: bodies, frames, checksums, receivers, and their values.
//!
//! Everything here reads the plan of [`emberwort_model`]; nothing prints, opens files or knows the time.
//!
//! A frame is opened, and its body read:
//!
//! ```
//! use emberwort_model::model::End;
//! use emberwort_wire::{Framing, ValueRef, Values, decode};
//!
//! let source = emberwort_model::Source::new("lamp.ember", "
//!     link lamp { revision 1  byte_order little }
//!     channel wire {
//!         medium uart 9600 8N1
//!         frame {
//!             sync A5 5A
//!             kind : u8 message
//!             size : u8 length of body
//!             body
//!         }
//!     }
//!     message Brightness {
//!         id 1
//!         from device every 1 s
//!         on wire
//!         level : 0 .. 100 % step 0.5
//!     }
//! ");
//! let plan = emberwort_model::check(&source).plan.unwrap();
//! let channel = &plan.channels[0];
//! let framing = Framing::new(channel.direction(End::Device).clone());
//!
//! let mut room = Vec::new();
//! let frame = framing.open(&[0xA5, 0x5A, 0x01, 0x01, 0x51], &mut room).unwrap();
//! let message = channel.message_of(frame.key, Some(End::Device)).unwrap();
//! let mut values = Values::default();
//! decode(&plan.messages[message], frame.body, &mut values).unwrap();
//! assert_eq!(values.get(0), ValueRef::Raw(0x51));
//! ```

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
