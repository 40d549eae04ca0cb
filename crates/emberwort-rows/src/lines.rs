//! Lines that fit a terminal.

/// A text wrapped for a terminal of so many columns, if there is one, with this indent from its second line on.
pub fn wrapped(width: Option<usize>, text: &str, indent: &str) -> String {
    match width {
        Some(width) => textwrap::fill(text, textwrap::Options::new(width).subsequent_indent(indent).break_words(false)),
        None => text.to_owned(),
    }
}
