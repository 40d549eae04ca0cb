//! Bytes as hex digits, read and written.

use std::fmt::{self, Write};

/// Bytes from hex digits in pairs; white space, `:`, `-` and `,` may stand between bytes, `0x` in front of them.
pub fn parse_hex(text: &str) -> Option<Vec<u8>> {
    let mut bytes = Vec::new();
    for group in text.split(|c: char| c.is_whitespace() || matches!(c, ':' | '-' | ',')) {
        let digits = group.strip_prefix("0x").or_else(|| group.strip_prefix("0X")).unwrap_or(group).as_bytes();
        if digits.len() % 2 != 0 {
            return None;
        }
        for pair in digits.chunks(2) {
            let digit = |b: u8| (b as char).to_digit(16);
            bytes.push((digit(pair[0])? * 16 + digit(pair[1])?) as u8);
        }
    }
    Some(bytes)
}

/// Writes bytes in hex: `C6 39 03`.
///
/// # Errors
/// Those of the writer.
pub fn write_hex(bytes: &[u8], out: &mut (impl Write + ?Sized)) -> fmt::Result {
    const DIGITS: &[u8; 16] = b"0123456789ABCDEF";
    // Many at once, since asking the writer for each is slow.
    let mut first = true;
    for some in bytes.chunks(16) {
        let mut text = [b' '; 48];
        for (byte, place) in some.iter().zip(text.chunks_exact_mut(3)) {
            place[1] = DIGITS[usize::from(byte >> 4)];
            place[2] = DIGITS[usize::from(byte & 15)];
        }
        let text = &text[usize::from(first)..3 * some.len()];
        out.write_str(std::str::from_utf8(text).unwrap_or_default())?;
        first = false;
    }
    Ok(())
}

/// Bytes in hex: `C6 39 03`.
pub fn hex(bytes: &[u8]) -> String {
    let mut out = String::with_capacity(bytes.len() * 3);
    // Writing to a String cannot fail.
    let _ = write_hex(bytes, &mut out);
    out
}
