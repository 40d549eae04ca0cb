//! The commands that use real ports.

pub mod device;
pub mod host;
pub mod line;
pub mod listen;
pub mod numbers;
mod play;
pub mod ports;
mod reaction;
pub mod record;
mod record_file;
pub mod send;
