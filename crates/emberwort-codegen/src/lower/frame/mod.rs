//! Frames of a channel: what is written around a body, what is looked at in a frame, and how a receiver finds out how long one is.
//!
//! The plan says what each part of a frame is and where it lies; this says what is done for it, step by step, so that a generator prints each step
//! and decides nothing. An interpreter in the tests agrees with the library on random channels.

mod beginning;
mod building;
mod coverage;
mod escapes;
mod judging;

pub use beginning::{Beginning, Size, beginning, fixed_parts};
pub use building::{Put, longest_body, puts};
pub use coverage::{Stretch, covered};
pub use escapes::{Escapes, escapes};
pub use judging::{Check, ExpectedValue, checks, right};

use emberwort_model::plan::{Part, Role};

/// Whether a sender chooses a part's value.
pub fn is_chosen(part: &Part) -> bool {
    matches!(part.role, Role::Message | Role::Address | Role::Sequence | Role::Revision)
}
