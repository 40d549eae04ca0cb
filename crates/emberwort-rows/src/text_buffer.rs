//! Text that grows by short pieces, which are copied whole blocks at a time: a call for each piece costs more than its bytes.

use std::fmt;

/// The most bytes of a [`ShortText`].
const SHORT: usize = 48;

/// A text of at most 48 bytes, in as many bytes at a fixed place.
#[derive(Clone, Copy)]
pub(crate) struct ShortText {
    bytes: [u8; SHORT],
    length: u8,
}

impl Default for ShortText {
    fn default() -> Self {
        Self { bytes: [0; SHORT], length: 0 }
    }
}

impl ShortText {
    pub fn is_empty(&self) -> bool {
        self.length == 0
    }
}

/// Text that is being written.
#[derive(Default)]
pub struct TextBuffer {
    /// The text, and room behind it.
    bytes: Vec<u8>,
    length: usize,
}

impl TextBuffer {
    pub fn len(&self) -> usize {
        self.length
    }

    pub fn as_bytes(&self) -> &[u8] {
        &self.bytes[..self.length]
    }

    pub fn clear(&mut self) {
        self.length = 0;
    }

    /// Cuts it to what it was when it had this length.
    pub fn truncate(&mut self, length: usize) {
        self.length = self.length.min(length);
    }

    /// Makes room for so many bytes more.
    #[inline]
    fn room(&mut self, more: usize) {
        if self.bytes.len() < self.length + more {
            self.grow(more);
        }
    }

    #[cold]
    fn grow(&mut self, more: usize) {
        let wanted = (self.length + more).max(2 * self.bytes.len()).max(1024);
        self.bytes.resize(wanted, 0);
    }

    /// Bytes that may be no text.
    pub(crate) fn push_bytes(&mut self, bytes: &[u8]) {
        self.room(bytes.len());
        let end = self.length + bytes.len();
        self.bytes[self.length..end].copy_from_slice(bytes);
        self.length = end;
    }

    #[inline]
    pub fn push_str(&mut self, text: &str) {
        self.room(text.len());
        let end = self.length + text.len();
        self.bytes[self.length..end].copy_from_slice(text.as_bytes());
        self.length = end;
    }

    /// Adds all of another one.
    pub(crate) fn push_all(&mut self, other: &Self) {
        self.room(other.length);
        let end = self.length + other.length;
        self.bytes[self.length..end].copy_from_slice(other.as_bytes());
        self.length = end;
    }

    #[inline]
    pub(crate) fn push_short(&mut self, text: &ShortText) {
        self.room(SHORT);
        self.bytes[self.length..self.length + SHORT].copy_from_slice(&text.bytes);
        self.length += usize::from(text.length);
    }

    /// Adds a character of ASCII.
    #[inline]
    pub fn push(&mut self, c: char) {
        debug_assert!(c.is_ascii());
        self.room(1);
        self.bytes[self.length] = c as u8;
        self.length += 1;
    }

    pub fn blanks(&mut self, count: usize) {
        self.room(count);
        self.bytes[self.length..self.length + count].fill(b' ');
        self.length += count;
    }

    /// The characters that were written since it had this length.
    pub(crate) fn characters_since(&self, start: usize) -> usize {
        // All bytes of UTF-8 but those that go on with a character (RFC 3629).
        self.bytes[start..self.length].iter().filter(|byte| **byte & 0xC0 != 0x80).count()
    }

    /// Adds ASCII text, and blanks behind it, so that it is at least so many characters wide.
    pub(crate) fn push_padded(&mut self, text: &str, width: usize) {
        self.push_str(text);
        self.blanks(width.saturating_sub(text.len()));
    }

    /// What was written since it had this length.
    pub(crate) fn text_since(&self, start: usize) -> &str {
        std::str::from_utf8(&self.bytes[start..self.length]).unwrap_or_default()
    }

    /// What was written since it had this length, if that is short.
    pub(crate) fn short_since(&self, start: usize) -> Option<ShortText> {
        let mut short = ShortText::default();
        let bytes = &self.bytes[start..self.length];
        short.bytes.get_mut(..bytes.len())?.copy_from_slice(bytes);
        short.length = bytes.len() as u8;
        Some(short)
    }
}

impl fmt::Write for TextBuffer {
    #[inline]
    fn write_str(&mut self, text: &str) -> fmt::Result {
        self.push_str(text);
        Ok(())
    }
}

#[cfg(test)]
mod tests {
    use std::fmt::Write as _;

    use super::*;

    #[test]
    fn pieces_of_every_length_follow_one_another() {
        let mut buffer = TextBuffer::default();
        let mut expected = String::new();
        for n in 0..200 {
            let piece = "°abcdefg".repeat(8).chars().take(n % 60).collect::<String>();
            let start = buffer.len();
            buffer.push_str(&piece);
            expected.push_str(&piece);
            // Again, as it is kept for the next time.
            let kept = buffer.short_since(start);
            assert_eq!(kept.is_some(), piece.len() <= SHORT);
            if let Some(short) = kept {
                buffer.push_short(&short);
                expected.push_str(&piece);
            }
            let start = buffer.len();
            let _ = write!(buffer, "{n}µ");
            buffer.blanks(6 - buffer.characters_since(start));
            let _ = write!(expected, "{:<6}", format!("{n}µ"));
            assert_eq!(buffer.text_since(start).chars().count(), 6);
        }
        assert_eq!(buffer.text_since(0), expected);
        buffer.truncate(3);
        assert_eq!(buffer.as_bytes(), &expected.as_bytes()[..3]);
    }
}
