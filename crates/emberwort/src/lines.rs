//! Lines of a text that is read, which need not be one.

use std::io::{self, BufRead as _};

/// The lines of a text, none longer than a row may be: a file that is none, as a device, fills no memory.
pub struct Lines<R> {
    text: R,
}

/// No row is longer.
const LONGEST_LINE: u64 = 64 << 20;

impl<R: io::BufRead> Lines<R> {
    /// Those of a text in UTF-8.
    pub fn of(text: R) -> Self {
        Self { text }
    }
}

impl<R: io::BufRead> Iterator for Lines<R> {
    type Item = io::Result<String>;

    fn next(&mut self) -> Option<io::Result<String>> {
        let mut line = String::new();
        match io::Read::take(&mut self.text, LONGEST_LINE).read_line(&mut line) {
            Ok(0) => None,
            Ok(_) if line.ends_with('\n') || (line.len() as u64) < LONGEST_LINE => {
                line.truncate(line.trim_end_matches(['\n', '\r']).len());
                Some(Ok(line))
            }
            Ok(_) => Some(Err(io::Error::other(format!("it is longer than {} MiB", LONGEST_LINE >> 20)))),
            Err(error) => Some(Err(error)),
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_line_has_an_end() {
        let lines: Vec<_> = Lines::of(&b"one\r\n\ntwo"[..]).map(Result::unwrap).collect();
        assert_eq!(lines, ["one", "", "two"]);
        let endless = io::BufReader::new(io::repeat(b'a'));
        assert!(Lines::of(endless).next().unwrap().is_err());
        assert!(Lines::of(&b"\xFF\n"[..]).next().unwrap().is_err());
    }
}
