//! Waveforms: what wires did over time, and the bytes that went over them.
//!
//! ```text
//! file ─► source ─► values of signals ─► wiring (levels of wires) ─► line decoder ─► chunks with a time for each byte
//! ```
//!
//! And the other way around, as an instrument would see a line that is simulated: transfers ─► [`drawing`] ─► a file.
//!
//! All of it streams: memory does not grow with the length of a waveform. Nothing here shows anything, or reads a clock.
//!
//! The bytes of a serial line in a value change dump:
//!
//! ```
//! use std::ops::ControlFlow;
//!
//! use emberwort_model::ids::ChannelId;
//! use emberwort_model::medium::{MediumKind, UartFormat};
//! use emberwort_waveform::{Listener, LineSink, Wire, Wiring, sources::vcd};
//! use emberwort_wire::{Chunk, ChunkSink};
//!
//! struct Bytes(Vec<u8>);
//! impl ChunkSink for Bytes {
//!     fn chunk(&mut self, chunk: &Chunk<'_>) -> ControlFlow<()> {
//!         self.0.extend(chunk.bytes);
//!         ControlFlow::Continue(())
//!     }
//! }
//! impl LineSink for Bytes {
//!     fn bind_tap(&mut self, _: u32, _: u64) {}
//! }
//!
//! let file = b"$timescale 1 us $end $var wire 1 ! tx $end $enddefinitions $end
//!     #0 1! #1000 0! #1104 1! #1208 0! #1312 1! #1417 0! #1521 1! #1625 0! #1729 1! #1833 0! #1937 1! #3000";
//! let medium = MediumKind::Uart(UartFormat::usual(9600));
//! let wiring = Wiring { wires: vec![Wire::parse("device=tx").unwrap()] };
//! let mut listener = Listener::new(ChannelId::new(0), &medium, wiring, 0, Bytes(Vec::new())).unwrap();
//! vcd::read(&file[..], &mut listener).unwrap();
//! let (bytes, ..) = listener.finish();
//! assert_eq!(bytes.0, [0x55]);
//! ```

pub mod drawing;
pub mod filters;
pub mod findings;
pub mod lines;
pub mod listener;
pub mod slopes;
pub mod sources;
pub mod survey;
pub mod trace;
pub mod wave;
pub mod wiring;

pub use findings::{Finding, findings};
pub use listener::{LineSink, Listener};
pub use wave::{Damage, Moment, Outcome, Signal, Value, WaveSink};
pub use wiring::{Role, Wire, Wiring, WiringError};
