//! How a link changes from revision to revision: what was released and stays as it is, what differs between two revisions, and
//! what that does to devices and hosts that do not have the same one.
//!
//! ```text
//! two revisions ──► difference ──► compare: samples ──► exchange ──► judge ──► verdict of each difference for each pair
//! ```
//!
//! Verdicts are found by trying: messages are encoded by an end of one revision and decoded by one of the other, through the
//! frames of their channels, with the values at which something can change. [`prove`](prove::prove) tries many more.

mod alone;
mod compare;
mod comparison;
mod difference;
mod exchange;
mod fold;
mod history;
mod judge;
mod matching;
mod meaning;
mod outline;
pub mod prove;
mod remedy;
mod revision;
mod rollout;
mod sampling;
mod search;
mod translation;
mod trying;
mod units;
mod verdict;

pub use compare::compare;
pub use comparison::{Change, Comparison, Judgement};
pub use difference::{Difference, DifferenceKind};
pub use fold::{folded, same_content};
pub use history::{History, Problem, Sealed, file_name, sealed_text};
pub use judge::Example;
pub use matching::{Counterpart, counterparts};
pub use remedy::{Remedy, Rewrite, ways_out, with_ways_out};
pub use revision::Revision;
pub use rollout::Order;
pub use translation::{Translation, Understood};
pub use verdict::{Pair, Verdict};
