//! Files that hold waveforms.

pub mod samples;
pub mod table;
pub mod vcd;
