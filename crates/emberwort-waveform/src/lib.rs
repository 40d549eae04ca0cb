//! Waveforms: what wires did over time, and the bytes that went over them.
//!
//! ```text
//! file ─► source ─► values of signals ─► wiring (levels of wires) ─► line decoder ─► chunks with a time for each byte
//! ```
//!
//! And the other way around, as an instrument would see a line that is simulated: transfers ─► [`drawing`] ─► a file.
//!
//! All of it streams: memory does not grow with the length of a waveform. Nothing here shows anything, or reads a clock.

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
