//! Real ports, and the only clock of the tool. What comes through a port is handed on with the time when it came; who reads it, and who
//! answers, is not known here.
//!
//! ```text
//! address ─► open line ─► reading thread ─► events with times ─► whoever waits for them
//! ```

pub mod address;
pub mod clock;
pub mod follow;
mod line;
pub mod list;
mod pipe;
pub mod port;
pub mod program;
mod pty;
pub mod serial;
mod socket;

pub use address::{Address, AddressError};
pub use clock::Clock;
pub use follow::Follow;
pub use list::{SerialPortInfo, serial_ports};
pub use port::{Event, Events, Port, PortError, Received, Waiting, WhenLost};
pub use program::Program;
pub use serial::{ControlLines, SerialSettings};
