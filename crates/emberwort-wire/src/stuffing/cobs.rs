//! Consistent overhead byte stuffing (Cheshire and Baker, IEEE/ACM Transactions on Networking 7, 1999).
//!
//! Every stretch without a zero, up to 254 bytes, is preceded by a code byte that says how far the next zero (or the next
//! code byte) is; so no zero is left, and a zero can end the frame.

/// Appends the stuffed form of `plain`, without a delimiter.
pub fn encode(plain: &[u8], out: &mut Vec<u8>) {
    let mut code_at = out.len();
    out.push(1);
    for (index, byte) in plain.iter().enumerate() {
        if *byte == 0 {
            code_at = out.len();
            out.push(1);
            continue;
        }
        out.push(*byte);
        out[code_at] += 1;
        // A full block needs no code byte behind it if the data ends there.
        if out[code_at] == 0xFF && index + 1 < plain.len() {
            code_at = out.len();
            out.push(1);
        }
    }
}

/// Replaces `plain` by what `stuffed` (without delimiter) stands for.
///
/// # Errors
/// The offset at which a code byte points beyond the end, or a zero stands inside.
pub fn decode(stuffed: &[u8], plain: &mut Vec<u8>) -> Result<(), usize> {
    plain.clear();
    let mut at = 0;
    while at < stuffed.len() {
        let code = usize::from(stuffed[at]);
        if code == 0 {
            return Err(at);
        }
        let block = stuffed.get(at + 1..at + code).ok_or(at)?;
        if let Some(zero) = memchr::memchr(0, block) {
            return Err(at + 1 + zero);
        }
        plain.extend_from_slice(block);
        at += code;
        if code < 0xFF && at < stuffed.len() {
            plain.push(0);
        }
    }
    Ok(())
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    fn stuffed(plain: &[u8]) -> Vec<u8> {
        let mut out = Vec::new();
        encode(plain, &mut out);
        out
    }

    /// The examples that the paper's rules give when worked out by hand.
    #[test]
    fn worked_out_by_hand() {
        assert_eq!(stuffed(&[]), [0x01]);
        assert_eq!(stuffed(&[0x00]), [0x01, 0x01]);
        assert_eq!(stuffed(&[0x11, 0x00, 0x22]), [0x02, 0x11, 0x02, 0x22]);
        assert_eq!(stuffed(&[0x11, 0x22, 0x33]), [0x04, 0x11, 0x22, 0x33]);
        let full: Vec<u8> = (1..=254).collect();
        assert_eq!(stuffed(&full)[0], 0xFF);
        assert_eq!(stuffed(&full).len(), 255, "exactly one full block needs no second code byte");
    }

    proptest! {
        #[test]
        fn stuffing_and_back(plain in proptest::collection::vec(prop_oneof![Just(0u8), any::<u8>()], 0..700)) {
            let wire = stuffed(&plain);
            prop_assert!(!wire.contains(&0));
            prop_assert!(wire.len() < emberwort_model::stuffing::Stuffing::Cobs.longest(plain.len()));
            let mut back = Vec::new();
            prop_assert_eq!(decode(&wire, &mut back), Ok(()));
            prop_assert_eq!(back, plain);
        }

        #[test]
        fn any_bytes_decode_or_say_where_not(wire: Vec<u8>) {
            let mut plain = Vec::new();
            if let Err(at) = decode(&wire, &mut plain) {
                prop_assert!(at < wire.len());
            }
        }
    }
}
