//! Trial files (TOML), read and checked against a link.

mod device;
mod file;
mod host;
mod parse;
mod parts;
mod place;
mod problem;
mod read;
mod wave;
mod wire;

pub use parts::{Alarm, Delay, Device, PlannedMessage, Refusal, Reply, Scenario};
pub use problem::ScenarioError;
pub(crate) use read::fill_with_rest;
