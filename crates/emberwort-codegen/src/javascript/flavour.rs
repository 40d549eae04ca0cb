//! Modules and scripts.

/// For whom code is printed.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) enum Flavour {
    /// A module of ECMAScript 2020.
    Module,
    /// A script without modules and classes, of ECMAScript 5.
    Script,
}
