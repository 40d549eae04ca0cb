//! How a command ended.

/// How a command that could be done ended.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Ending {
    /// Nothing to complain about.
    Clean,
    /// Done, but something was found.
    WithFindings,
}
