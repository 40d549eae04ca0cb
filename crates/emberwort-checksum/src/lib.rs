//! Checksums at the bench: the working as on paper, what went wrong with one that differs, which algorithm made some frames,
//! what it finds and what it misses, those of network packets, and functions that compute it in other languages.
//!
//! Nothing here prints, opens files or knows the command line.

pub mod code;
pub mod explain;
pub mod frames;
pub mod identify;
pub mod packet;
pub mod polynomial;
pub mod strength;
pub mod verify;
pub mod working;

pub use working::{Part, Working};
