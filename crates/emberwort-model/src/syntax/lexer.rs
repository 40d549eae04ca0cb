//! Text to tokens. Never fails: what cannot be read becomes a finding, and reading goes on behind it.

use crate::diagnostics::{Code, Finding};
use crate::source::Span;

/// What a token is. The text of words, numbers and documentation is taken from the source by its span.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum TokenKind {
    /// A run of letters, digits and `_` that starts with a letter or `_`.
    Word,
    /// A number: decimal, with a fraction, `0x…` or `0b…`.
    Number,
    /// A run of letters, digits and `_` that starts with a digit but is no number (`7E`, `8N1`).
    Mixed,
    /// A quoted text, with its quotes.
    Text,
    /// A documentation comment, with its `##`.
    Doc,
    /// Any other comment, with its `#`.
    Comment,
    /// `..`
    DotDot,
    /// One of `{ } [ ] : = * + - / ^ % , . |`.
    Punct(char),
    /// The end of a line.
    Newline,
    /// The end of the file.
    End,
}

/// A token and where it stands.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Token {
    /// What it is.
    pub kind: TokenKind,
    /// Where it stands.
    pub span: Span,
}

/// The most tokens of strange characters that are reported one by one; a binary file has millions.
const MAX_STRANGE: usize = 10;

/// All tokens of a text, with an [`TokenKind::End`] at the end. Places count from `base`.
pub fn tokens(text: &str, base: usize, findings: &mut Vec<Finding>) -> Vec<Token> {
    let bytes = text.as_bytes();
    let mut out = Vec::with_capacity(text.len() / 4);
    let mut strange = 0usize;
    let mut at = 0;
    while at < bytes.len() {
        let start = at;
        let kind = match bytes[at] {
            b' ' | b'\t' | b'\r' => {
                at += 1;
                continue;
            }
            b'\n' => {
                at += 1;
                TokenKind::Newline
            }
            b'#' => {
                let end = memchr_newline(bytes, at);
                let doc = bytes[at..end].starts_with(b"##");
                // A carriage return in front of the line's end is no part of the comment.
                at = if end > at && bytes[end - 1] == b'\r' { end - 1 } else { end };
                if doc { TokenKind::Doc } else { TokenKind::Comment }
            }
            b'"' => {
                at += 1;
                while at < bytes.len() && bytes[at] != b'"' && bytes[at] != b'\n' {
                    at += if bytes[at] == b'\\' && bytes.get(at + 1).is_some_and(|b| *b != b'\n') { 2 } else { 1 };
                }
                at = at.min(bytes.len());
                if bytes.get(at) == Some(&b'"') {
                    at += 1;
                } else {
                    findings.push(Finding::new(
                        Code::OpenString,
                        Span::new(base + start, base + at),
                        "this text has an opening quote but no closing one on its line",
                        "put a `\"` at its end",
                    ));
                }
                TokenKind::Text
            }
            b'.' if bytes.get(at + 1) == Some(&b'.') => {
                at += 2;
                TokenKind::DotDot
            }
            b'0'..=b'9' => number(bytes, &mut at),
            b if b.is_ascii_alphabetic() || b == b'_' => {
                at = end_of_word(bytes, at);
                TokenKind::Word
            }
            b @ (b'{' | b'}' | b'[' | b']' | b':' | b'=' | b'*' | b'+' | b'-' | b'/' | b'^' | b'%' | b',' | b'.'
            | b'|') => {
                at += 1;
                TokenKind::Punct(b as char)
            }
            _ => {
                let c = text[at..].chars().next().unwrap_or('?');
                at += c.len_utf8();
                // A byte order mark in front of the text is no mistake worth a word.
                if c == '\u{feff}' && start == 0 {
                    continue;
                }
                strange += 1;
                if strange <= MAX_STRANGE {
                    findings.push(Finding::new(
                        Code::StrangeCharacter,
                        Span::new(base + start, base + at),
                        format!("the character U+{:04X} has no place in a definition", c as u32),
                        "take it out; names are ASCII letters, digits and `_`, units with other characters stand in quotes",
                    ));
                }
                continue;
            }
        };
        out.push(Token { kind, span: Span::new(base + start, base + at) });
    }
    if strange > MAX_STRANGE {
        findings.push(Finding::new(
            Code::StrangeCharacter,
            Span::new(base, base),
            format!("{} more characters have no place in a definition", strange - MAX_STRANGE),
            "is this really an .ember file? It may be binary, or in another encoding",
        ));
    }
    let end = base + text.len();
    out.push(Token { kind: TokenKind::End, span: Span::new(end, end) });
    out
}

fn memchr_newline(bytes: &[u8], from: usize) -> usize {
    bytes[from..].iter().position(|b| *b == b'\n').map_or(bytes.len(), |n| from + n)
}

fn end_of_word(bytes: &[u8], from: usize) -> usize {
    bytes[from..].iter().position(|b| !b.is_ascii_alphanumeric() && *b != b'_').map_or(bytes.len(), |n| from + n)
}

fn number(bytes: &[u8], at: &mut usize) -> TokenKind {
    let start = *at;
    *at = end_of_word(bytes, start);
    let word = &bytes[start..*at];
    let prefixed = |p: u8| word.len() > 2 && word[0] == b'0' && (word[1] | 0x20) == p;
    if prefixed(b'x') && word[2..].iter().all(|b| b.is_ascii_hexdigit() || *b == b'_')
        || prefixed(b'b') && word[2..].iter().all(|b| matches!(b, b'0' | b'1' | b'_'))
    {
        return TokenKind::Number;
    }
    if !word.iter().all(|b| b.is_ascii_digit() || *b == b'_') {
        return TokenKind::Mixed;
    }
    // A fraction, but not the first dot of `0..5`.
    if bytes.get(*at) == Some(&b'.') && bytes.get(*at + 1).is_some_and(u8::is_ascii_digit) {
        *at += 1;
        *at = end_of_word(bytes, *at);
        let fraction = &bytes[start..*at];
        if !fraction.iter().all(|b| b.is_ascii_digit() || *b == b'_' || *b == b'.') {
            return TokenKind::Mixed;
        }
    }
    TokenKind::Number
}

#[cfg(test)]
mod tests {
    use super::*;

    fn kinds(text: &str) -> Vec<TokenKind> {
        tokens(text, 0, &mut Vec::new()).iter().map(|t| t.kind).collect()
    }

    #[test]
    fn ranges_fractions_and_hex_words_are_told_apart() {
        use TokenKind::{DotDot, End, Mixed, Number, Punct, Word};
        assert_eq!(kinds("0..5"), [Number, DotDot, Number, End]);
        assert_eq!(kinds("-1.5 .. 9.5"), [Punct('-'), Number, DotDot, Number, End]);
        assert_eq!(kinds("C6 39 7E"), [Word, Number, Mixed, End]);
        assert_eq!(kinds("8N1 0x1F 0xZ"), [Mixed, Number, Mixed, End]);
    }

    #[test]
    fn an_open_quote_is_a_finding_and_reading_goes_on() {
        let mut findings = Vec::new();
        let found = tokens("\"abc\nword", 0, &mut findings);
        assert_eq!(findings[0].code, Code::OpenString);
        assert_eq!(found[found.len() - 2].kind, TokenKind::Word);
    }
}
