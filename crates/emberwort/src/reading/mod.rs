//! What several commands read with: inputs and how they are opened, the definitions of those who speak, trial files, labels, fleets, and what is
//! asked of rows. Nothing here knows a command.

pub mod capture_definitions;
pub mod fleet;
pub mod inputs;
pub mod labels;
pub mod names;
pub mod opening;
pub mod queried;
pub mod recordings;
pub mod revisions;
pub mod scenario;
pub mod sources;
pub mod waveforms;
pub mod wires;
