//! Escaped frames: sync bytes as they are, then everything else with some bytes escaped, so that no sync byte occurs again.

use emberwort_model::stuffing::Escape;

/// How far an escaped frame could be read.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Step {
    /// The next byte of the frame, and how many bytes it takes on the wire.
    Byte(u8, usize),
    /// A byte that has to be escaped stands here as it is: a frame begins or ends.
    Bare,
    /// What stands behind the escape byte means nothing.
    Wrong,
    /// More bytes are needed.
    More,
}

/// Appends the escaped form of some bytes.
pub fn encode(escape: &Escape, plain: &[u8], out: &mut Vec<u8>) {
    for byte in plain {
        if escape.escaped.contains(*byte) {
            out.extend([escape.escape, byte ^ escape.xor]);
        } else {
            out.push(*byte);
        }
    }
}

/// How many bytes there are before the first that is escaped. `escaped` are those bytes.
#[inline]
pub fn run(escaped: &[u8], wire: &[u8]) -> usize {
    let found = match *escaped {
        [a] => memchr::memchr(a, wire),
        [a, b] => memchr::memchr2(a, b, wire),
        [a, b, c] => memchr::memchr3(a, b, c, wire),
        _ => wire.iter().position(|byte| escaped.contains(byte)),
    };
    found.unwrap_or(wire.len())
}

/// The next byte of what is escaped. Senders may escape more than they have to.
#[inline]
pub fn step(escape: &Escape, wire: &[u8]) -> Step {
    match *wire {
        [] => Step::More,
        [byte, ..] if !escape.escaped.contains(byte) => Step::Byte(byte, 1),
        [byte] if byte == escape.escape => Step::More,
        [byte, code, ..] if byte == escape.escape => {
            // An escape that changes nothing doubles itself; every other leaves none of the bytes that it is there for.
            let wrong = if escape.xor == 0 { code != escape.escape } else { escape.escaped.contains(code) };
            if wrong { Step::Wrong } else { Step::Byte(code ^ escape.xor, 2) }
        }
        _ => Step::Bare,
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use emberwort_model::stuffing::ByteSet;
    use proptest::prelude::*;

    fn with(escape: u8, xor: u8, bytes: &[u8]) -> Escape {
        let mut escaped = ByteSet::default();
        bytes.iter().for_each(|byte| escaped.insert(*byte));
        Escape { escape, xor, escaped }
    }

    #[test]
    fn worked_out_by_hand() {
        let how = with(0x7D, 0x20, &[0x7D, 0xC6]);
        let mut out = Vec::new();
        encode(&how, &[0x01, 0xC6, 0x7D, 0x39], &mut out);
        assert_eq!(out, [0x01, 0x7D, 0xE6, 0x7D, 0x5D, 0x39]);
        assert_eq!(step(&how, &[0x7D, 0xE6]), Step::Byte(0xC6, 2));
        assert_eq!(step(&how, &[0x7D, 0x21]), Step::Byte(0x01, 2), "escaped without need");
        assert_eq!(step(&how, &[0xC6, 0x39]), Step::Bare);
        assert_eq!(step(&how, &[0x7D, 0xC6]), Step::Wrong);
        assert_eq!(step(&how, &[0x7D]), Step::More);
        let double = with(0x10, 0, &[0x10]);
        assert_eq!(step(&double, &[0x10, 0x10]), Step::Byte(0x10, 2));
        assert_eq!(step(&double, &[0x10, 0x03]), Step::Wrong);
    }

    proptest! {
        #[test]
        fn escaping_and_back(plain: Vec<u8>, double: bool) {
            let how = if double { with(0x10, 0, &[0x10]) } else { with(0x7D, 0x20, &[0x7D, 0xC6, 0x11, 0x13]) };
            let mut wire = Vec::new();
            encode(&how, &plain, &mut wire);
            let (mut at, mut back) = (0, Vec::new());
            while let Step::Byte(byte, size) = step(&how, &wire[at..]) {
                back.push(byte);
                at += size;
            }
            prop_assert_eq!(at, wire.len());
            prop_assert_eq!(back, plain);
        }
    }
}
