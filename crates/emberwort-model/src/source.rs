//! Source text, places in it, and how a byte offset becomes a line and a column.

use std::sync::OnceLock;

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
    /// Where each line begins, once somebody asked.
    lines: OnceLock<Vec<usize>>,
}

impl Source {
    /// A source with the given name and text.
    pub fn new(name: impl Into<String>, text: impl Into<String>) -> Self {
        Self { name: name.into(), text: text.into(), lines: OnceLock::new() }
    }

    /// Line and column of a byte offset, both counted from 1; columns count characters.
    pub fn line_column(&self, offset: usize) -> (usize, usize) {
        let mut offset = offset.min(self.text.len());
        while !self.text.is_char_boundary(offset) {
            offset -= 1;
        }
        let lines = self.line_starts();
        let line = lines.partition_point(|start| *start <= offset);
        (line, self.text[lines[line - 1]..offset].chars().count() + 1)
    }

    /// Where each line begins: byte offsets, the first of them 0.
    pub fn line_starts(&self) -> &[usize] {
        self.lines.get_or_init(|| {
            let behind = self.text.bytes().enumerate().filter(|(_, byte)| *byte == b'\n').map(|(at, _)| at + 1);
            [0].into_iter().chain(behind).collect()
        })
    }
}

/// The files of one definition: the one that was named, then those that it imports. Places count through all of them.
#[derive(Clone, Debug, Default)]
pub struct Sources {
    files: Vec<Source>,
    bases: Vec<usize>,
}

impl Sources {
    /// The files of a definition that imports nothing.
    pub fn of(source: Source) -> Self {
        let mut sources = Self::default();
        sources.add(source);
        sources
    }

    /// Adds a file; returns the place at which it begins.
    pub(crate) fn add(&mut self, source: Source) -> usize {
        let base = match (self.bases.last(), self.files.last()) {
            (Some(base), Some(file)) => base + file.text.len() + 1,
            _ => 0,
        };
        self.files.push(source);
        self.bases.push(base);
        base
    }

    /// The files in the order in which they were read; the first is the one that was named.
    pub fn files(&self) -> &[Source] {
        &self.files
    }

    /// The files, each with the place at which it begins.
    pub(crate) fn with_bases(&self) -> impl Iterator<Item = (usize, &Source)> {
        self.bases.iter().copied().zip(&self.files)
    }

    /// The file that a place lies in, by index, and the place in it.
    ///
    /// # Panics
    /// If there are no files.
    pub fn locate(&self, span: Span) -> (usize, Span) {
        let index = self.bases.partition_point(|base| *base <= span.start).max(1) - 1;
        let (base, length) = (self.bases[index], self.files[index].text.len());
        let local = |at: usize| at.saturating_sub(base).min(length);
        (index, Span::new(local(span.start), local(span.end)))
    }

    /// File, line and column of a place, as `marlock.ember:12:5`.
    pub fn place(&self, span: Span) -> String {
        let (index, local) = self.locate(span);
        let (line, column) = self.files[index].line_column(local.start);
        format!("{}:{line}:{column}", self.files[index].name)
    }
}
