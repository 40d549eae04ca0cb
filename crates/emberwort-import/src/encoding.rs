//! Texts of old files: UTF-8, or the one-byte encoding of Western Europe in which degree signs are usual.

/// What the bytes 0x80 to 0x9F stand for in Windows-1252 (the WHATWG Encoding Standard, index windows-1252).
const WINDOWS_1252: [char; 32] = [
    '\u{20AC}', '\u{81}', '\u{201A}', '\u{0192}', '\u{201E}', '\u{2026}', '\u{2020}', '\u{2021}', '\u{02C6}',
    '\u{2030}', '\u{0160}', '\u{2039}', '\u{0152}', '\u{8D}', '\u{017D}', '\u{8F}', '\u{90}', '\u{2018}', '\u{2019}',
    '\u{201C}', '\u{201D}', '\u{2022}', '\u{2013}', '\u{2014}', '\u{02DC}', '\u{2122}', '\u{0161}', '\u{203A}',
    '\u{0153}', '\u{9D}', '\u{017E}', '\u{0178}',
];

/// The text of a file, and whether it was UTF-8. Bytes that are none are taken for Windows-1252, in which each byte is a character.
pub fn text_of(bytes: &[u8]) -> (String, bool) {
    let bytes = bytes.strip_prefix(b"\xEF\xBB\xBF").unwrap_or(bytes);
    match std::str::from_utf8(bytes) {
        Ok(text) => (text.to_owned(), true),
        Err(_) => {
            let character = |byte: &u8| match byte {
                0x80..=0x9F => WINDOWS_1252[usize::from(byte - 0x80)],
                byte => char::from(*byte),
            };
            (bytes.iter().map(character).collect(), false)
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn old_bytes_are_characters() {
        assert_eq!(text_of(b"\xB0C \x80 \x93"), ("°C € “".to_owned(), false));
        assert_eq!(text_of("°C".as_bytes()), ("°C".to_owned(), true));
        assert_eq!(text_of(b"\xEF\xBB\xBFa"), ("a".to_owned(), true));
    }
}
