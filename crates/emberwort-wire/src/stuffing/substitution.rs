//! Stuffings that replace a delimiter inside a frame by an escape byte and another one.

/// An escape byte, and what stands behind it.
#[derive(Clone, Copy, Debug)]
pub struct Substitution {
    delimiter: u8,
    escape: u8,
    /// Sent behind the escape byte for a delimiter, and for an escape byte.
    codes: [u8; 2],
    /// Whether any other byte may stand behind the escape byte too, and means itself XORed with this.
    others: Option<u8>,
}

/// The serial line protocol: C0 inside a frame is sent as DB DC, and DB as DB DD (RFC 1055).
pub const SLIP: Substitution = Substitution { delimiter: 0xC0, escape: 0xDB, codes: [0xDC, 0xDD], others: None };

/// Octet stuffing: 7E and 7D are sent as 7D and themselves XORed with 20; receivers undo that for any byte (RFC 1662, section
/// 4.2).
pub const HDLC: Substitution = Substitution { delimiter: 0x7E, escape: 0x7D, codes: [0x5E, 0x5D], others: Some(0x20) };

impl Substitution {
    /// Appends the stuffed form of `plain`, without delimiters.
    pub fn encode(&self, plain: &[u8], out: &mut Vec<u8>) {
        let mut rest = plain;
        while let Some(at) = memchr::memchr2(self.delimiter, self.escape, rest) {
            out.extend_from_slice(&rest[..at]);
            out.extend([self.escape, self.codes[usize::from(rest[at] == self.escape)]]);
            rest = &rest[at + 1..];
        }
        out.extend_from_slice(rest);
    }

    /// Replaces `plain` by what `stuffed` (without delimiters) stands for.
    ///
    /// # Errors
    /// The offset of an escape byte with nothing behind it, or of what means nothing there, or of a delimiter.
    pub fn decode(&self, stuffed: &[u8], plain: &mut Vec<u8>) -> Result<(), usize> {
        plain.clear();
        let mut at = 0;
        while let Some(skip) = memchr::memchr2(self.delimiter, self.escape, &stuffed[at..]) {
            plain.extend_from_slice(&stuffed[at..at + skip]);
            at += skip;
            if stuffed[at] == self.delimiter {
                return Err(at);
            }
            let code = *stuffed.get(at + 1).ok_or(at)?;
            plain.push(match (self.codes.iter().position(|known| *known == code), self.others) {
                (Some(0), _) => self.delimiter,
                (Some(_), _) => self.escape,
                (None, Some(xor)) if code != self.delimiter && code != self.escape => code ^ xor,
                (None, _) => return Err(at + 1),
            });
            at += 2;
        }
        plain.extend_from_slice(&stuffed[at..]);
        Ok(())
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    fn back(how: &Substitution, stuffed: &[u8]) -> Result<Vec<u8>, usize> {
        let mut plain = vec![9];
        how.decode(stuffed, &mut plain).map(|()| plain)
    }

    /// The replacements that the two documents give.
    #[test]
    fn as_the_documents_say() {
        let mut out = Vec::new();
        SLIP.encode(&[0x01, 0xC0, 0xDB, 0x02], &mut out);
        assert_eq!(out, [0x01, 0xDB, 0xDC, 0xDB, 0xDD, 0x02]);
        assert_eq!(back(&SLIP, &out).unwrap(), [0x01, 0xC0, 0xDB, 0x02]);
        out.clear();
        HDLC.encode(&[0x7E, 0x7D, 0x03], &mut out);
        assert_eq!(out, [0x7D, 0x5E, 0x7D, 0x5D, 0x03]);
        // A sender may escape other bytes too: 7D 23 is 03.
        assert_eq!(back(&HDLC, &[0x7D, 0x5E, 0x7D, 0x5D, 0x7D, 0x23]).unwrap(), [0x7E, 0x7D, 0x03]);
    }

    #[test]
    fn what_no_sender_writes() {
        assert_eq!(back(&SLIP, &[1, 0xDB]), Err(1), "nothing after the escape byte");
        assert_eq!(back(&SLIP, &[1, 0xDB, 2]), Err(2));
        assert_eq!(back(&SLIP, &[0xC0]), Err(0));
        assert_eq!(back(&HDLC, &[1, 0x7D]), Err(1));
        assert_eq!(back(&HDLC, &[0x7D, 0x7D]), Err(1));
        assert_eq!(back(&HDLC, &[]), Ok(Vec::new()));
    }

    proptest! {
        #[test]
        fn stuffing_and_back(
            plain in proptest::collection::vec(prop_oneof![Just(0xC0u8), Just(0xDBu8), Just(0x7Eu8), Just(0x7Du8), any::<u8>()], 0..300),
            slip: bool,
        ) {
            let how = if slip { SLIP } else { HDLC };
            let mut wire = Vec::new();
            how.encode(&plain, &mut wire);
            prop_assert!(!wire.contains(&how.delimiter));
            prop_assert!(wire.len() <= 2 * plain.len());
            prop_assert_eq!(back(&how, &wire), Ok(plain));
        }

        #[test]
        fn any_bytes_decode_or_say_where_not(wire: Vec<u8>, slip: bool) {
            if let Err(at) = back(if slip { &SLIP } else { &HDLC }, &wire) {
                prop_assert!(at < wire.len());
            }
        }
    }
}
