//! Files that hold waveforms.

pub mod samples;
pub mod vcd;
