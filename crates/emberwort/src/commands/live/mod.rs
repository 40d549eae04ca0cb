//! The commands that use real ports.

pub mod device;
pub mod host;
mod line;
pub mod listen;
mod play;
pub mod ports;
pub mod record;
pub mod send;
