//! All tests of emberwort-link as one program, which is linked once.

#[path = "../../../../examples/plan_of_marlock.rs"]
mod plan_of_marlock;

mod against_theory;
mod common;
mod machines;
mod revisions;
mod trials;
mod whole_trials;
