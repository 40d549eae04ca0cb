//! How bytes that may not stand in a frame are written.

use emberwort_model::plan::{Direction, FrameFinder};
use emberwort_model::stuffing::Stuffing;

/// How bytes that may not stand in a frame are written.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Escapes {
    /// What stands in front of a code.
    pub escape: u8,
    /// The bytes that have to be escaped, and the code of each.
    pub codes: Vec<(u8, u8)>,
    /// All codes that are understood, and the byte of each: a sender may escape more than it has to, but what has to be escaped is no code.
    pub meanings: Vec<(u8, u8)>,
}

/// The escapes of a direction, if it has some.
pub fn escapes(direction: &Direction) -> Option<Escapes> {
    let all_but = |kept_out: &dyn Fn(u8) -> bool, xor: u8| {
        (0..=255).filter(|code| !kept_out(*code)).map(|code| (code, code ^ xor)).collect::<Vec<(u8, u8)>>()
    };
    Some(match direction.finder {
        FrameFinder::Stuffed(Stuffing::Slip) => Escapes {
            escape: 0xDB,
            codes: vec![(0xC0, 0xDC), (0xDB, 0xDD)],
            meanings: vec![(0xDC, 0xC0), (0xDD, 0xDB)],
        },
        FrameFinder::Stuffed(Stuffing::Hdlc) => Escapes {
            escape: 0x7D,
            codes: vec![(0x7E, 0x5E), (0x7D, 0x5D)],
            meanings: all_but(&|code| matches!(code, 0x7D | 0x7E), 0x20),
        },
        FrameFinder::Escaped(escape) => Escapes {
            escape: escape.escape,
            codes: escape.escaped.iter().map(|byte| (byte, byte ^ escape.xor)).collect(),
            meanings: match escape.xor {
                0 => vec![(escape.escape, escape.escape)],
                xor => all_but(&|code| escape.escaped.contains(code), xor),
            },
        },
        _ => return None,
    })
}
