//! What a stretch of text is, which a terminal shows by its own means; words say it as well.

use std::fmt::Display;

/// What a stretch of text is.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Paint {
    /// It stands out.
    Bold,
    /// All is well.
    Good,
    /// Something is wrong.
    Bad,
    /// It matters less than what stands beside it.
    Dim,
}

/// A text with the codes of a terminal around it (ECMA-48, section 8.3.117), if it is shown in one that wants them.
pub fn painted(colored: bool, paint: Paint, text: impl Display) -> String {
    let code = match paint {
        Paint::Bold => "1",
        Paint::Good => "32",
        Paint::Bad => "1;31",
        Paint::Dim => "2",
    };
    if colored { format!("\x1b[{code}m{text}\x1b[0m") } else { text.to_string() }
}
