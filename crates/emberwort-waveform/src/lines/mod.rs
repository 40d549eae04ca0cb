//! Decoders of lines, from levels of wires to bytes with times.

pub mod bit_frames;
pub mod can;
pub mod code;
pub mod event;
pub mod i2c;
pub mod spi;
pub mod uart;
pub mod usb;
