//! A byte on a line.

use crate::wave::Moment;

/// A byte on a line.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct LineByte {
    /// The byte.
    pub byte: u8,
    /// When its first bit began, or was taken.
    pub start: Moment,
    /// When its last bit ended, or was taken.
    pub end: Moment,
}
