//! Source text, places in it, and how a byte offset becomes a line and a column.

/// A stretch of a source text, as byte offsets; `end` is one past the last byte.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub struct Span {
    /// Offset of the first byte.
    pub start: usize,
    /// Offset one past the last byte.
    pub end: usize,
}

impl Span {
    /// The span from `start` up to, not including, `end`.
    pub fn new(start: usize, end: usize) -> Self {
        Self { start, end }
    }

    /// The smallest span that holds both.
    pub fn to(self, other: Span) -> Span {
        Span::new(self.start.min(other.start), self.end.max(other.end))
    }
}

/// A definition file: its name as the user gave it, and its text.
#[derive(Clone, Debug)]
pub struct Source {
    /// The name to show in findings.
    pub name: String,
    /// The whole text.
    pub text: String,
}

impl Source {
    /// A source with the given name and text.
    pub fn new(name: impl Into<String>, text: impl Into<String>) -> Self {
        Self { name: name.into(), text: text.into() }
    }

    /// Line and column of a byte offset, both counted from 1; columns count characters.
    pub fn line_column(&self, offset: usize) -> (usize, usize) {
        let mut offset = offset.min(self.text.len());
        while !self.text.is_char_boundary(offset) {
            offset -= 1;
        }
        let before = &self.text[..offset];
        let line_start = before.rfind('\n').map_or(0, |at| at + 1);
        (before.matches('\n').count() + 1, before[line_start..].chars().count() + 1)
    }
}
