//! Files that hold waveforms.

pub mod samples;
pub mod sound;
pub mod table;
pub mod vcd;
