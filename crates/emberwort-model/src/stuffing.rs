//! How stuffing keeps certain bytes out of frames, so that they can mark where frames begin and end.

/// A stuffing under whose delimiter frames are found.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
pub enum Stuffing {
    /// Consistent overhead byte stuffing (Cheshire and Baker, IEEE/ACM Transactions on Networking 7, 1999): a frame ends with
    /// 00.
    Cobs,
    /// The serial line protocol of RFC 1055: a frame begins and ends with C0.
    Slip,
    /// The octet stuffing of RFC 1662, section 4: a frame begins and ends with the flag 7E; neighbours may share one.
    Hdlc,
}

impl Stuffing {
    /// All of them, with the words of the language.
    pub const ALL: [(&'static str, Self); 3] = [("cobs", Self::Cobs), ("slip", Self::Slip), ("hdlc", Self::Hdlc)];

    /// The byte that marks the ends of frames.
    pub fn delimiter(self) -> u8 {
        match self {
            Self::Cobs => 0x00,
            Self::Slip => 0xC0,
            Self::Hdlc => 0x7E,
        }
    }

    /// Whether a delimiter is also sent in front of a frame.
    pub fn leads(self) -> bool {
        self != Self::Cobs
    }

    /// Most bytes on the wire of a frame of `plain` bytes, delimiters included.
    ///
    /// COBS adds one byte for each 254 begun; the others double what they replace.
    pub fn longest(self, plain: usize) -> usize {
        match self {
            Self::Cobs => plain + plain.div_ceil(254).max(1) + 1,
            Self::Slip | Self::Hdlc => 2 * plain + 2,
        }
    }

    /// Fewest bytes on the wire of a frame of `plain` bytes, delimiters included.
    pub fn shortest(self, plain: usize) -> usize {
        // COBS needs one code byte more than the zeros that it replaces, if those are not too far from each other.
        plain + 2
    }
}

/// A set of bytes.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Hash)]
pub struct ByteSet([u64; 4]);

impl ByteSet {
    /// Whether the byte is in it.
    #[inline]
    pub fn contains(&self, byte: u8) -> bool {
        self.0[usize::from(byte >> 6)] >> (byte & 63) & 1 == 1
    }

    /// Puts a byte in.
    pub fn insert(&mut self, byte: u8) {
        self.0[usize::from(byte >> 6)] |= 1 << (byte & 63);
    }

    /// The bytes in it, rising.
    pub fn iter(&self) -> impl Iterator<Item = u8> {
        (0..=255).filter(|byte| self.contains(*byte))
    }
}

/// An escape that keeps some bytes out of what follows the sync bytes: each is sent as the escape byte, and then itself XORed
/// with a constant.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
pub struct Escape {
    /// The escape byte, which is one of those escaped.
    pub escape: u8,
    /// What the byte behind it is XORed with; 0 for an escape that doubles itself.
    pub xor: u8,
    /// The bytes that are escaped.
    pub escaped: ByteSet,
}
