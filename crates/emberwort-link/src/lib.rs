//! Trials: simulated ends, a faulty wire, and what must hold, in virtual time.
//!
//! No clock, no ports, no files: time and randomness are arguments, so that every trial can be repeated to the byte.
//!
//! ```text
//! trial file ─► scenario ─► trial ◄─► device simulator ◄─► wire ─► report
//! ```
//!
//! A device reports for ten seconds over a clean wire:
//!
//! ```
//! use std::sync::Arc;
//!
//! use emberwort_link::{Revisions, Scenario};
//!
//! let source = emberwort_model::Source::new("lamp.ember", "
//!     link lamp { revision 1  byte_order little }
//!     channel wire {
//!         medium uart 9600 8N1
//!         frame {
//!             sync A5 5A
//!             kind : u8 message
//!             size : u8 length of body
//!             body
//!         }
//!     }
//!     message Brightness {
//!         id 1
//!         from device every 1 s
//!         on wire
//!         level : 0 .. 100 % step 0.5
//!     }
//! ");
//! let plan = Arc::new(emberwort_model::check(&source).plan.unwrap());
//! let trial = "
//!     channel = 'wire'
//!     span = '10 s'
//!     must = ['at least 9 Brightness']
//!     [[device]]
//!     node = 0
//! ";
//! let scenario = Scenario::parse(trial, &plan, &Revisions::default()).unwrap();
//! let report = emberwort_link::run(&scenario, &mut ());
//! assert!(report.verdicts.iter().all(|verdict| verdict.held()));
//! ```

mod agenda;
pub mod definitions;
pub mod device_end;
pub mod expect;
mod file_words;
pub mod host_end;
pub mod hostile;
mod in_flight;
pub mod machine;
pub mod minimise;
mod player;
mod probe;
mod reason;
pub mod report;
pub mod scenario;
pub mod script;
mod side;
pub mod signal;
mod speech;
pub mod sweep;
pub mod tables;
pub mod trial;
pub mod wire;

pub use definitions::{Definitions, MessageNumber, Revisions, TrialDefinitionId};
pub use device_end::DeviceEnd;
pub use file_words::{duration, hertz};
pub use host_end::HostEnd;
pub use machine::{LinkEvent, Machine};
pub use reason::Reason;
pub use report::{ReceptionAccount, Report};
pub use scenario::{Scenario, ScenarioError};
pub use tables::tables_on;
pub use trial::{ExternalDevices, TrialObserver, run, run_with};

/// A moment or a duration in nanoseconds of virtual time.
pub type Nanoseconds = u64;
