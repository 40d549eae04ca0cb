//! All tests of emberwort-waveform as one program, which is linked once.

mod damaged;
mod drawn;
mod limits;
