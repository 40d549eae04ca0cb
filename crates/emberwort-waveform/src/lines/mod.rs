//! Decoders of lines, from levels of wires to bytes with times.

pub mod byte;
pub mod spi;
pub mod uart;
