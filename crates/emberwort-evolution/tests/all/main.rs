//! All tests of emberwort-evolution as one program, which is linked once.

mod common;
mod history;
mod kinds;
mod oracle;
mod random_edits;
mod verdicts;
