//! The bytes that a number lies in.

use emberwort_model::model::ByteOrder;

/// The part of a number that lies in one byte: `byte >> low & (2^bits - 1)` are the bits of the number from `shift` on.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Piece {
    /// The byte, counted from where the places of the number are counted from.
    pub byte: usize,
    /// The lowest of its bits that belongs to the number; bit 0 is the least significant.
    pub low: u32,
    /// How many of its bits do.
    pub bits: u32,
    /// The lowest bit of the number that lies here.
    pub shift: u32,
}

impl Piece {
    /// The bits of the byte that belong to the number, moved down to bit 0.
    pub fn mask(&self) -> u32 {
        (1 << self.bits) - 1
    }
}

/// The parts of a number of `width` bits (1 to 64) from bit `at` on, counted in the order in which a body is filled: in little-endian order bit
/// 0 is the least significant of the first byte, in big-endian order the most significant. The part with the lowest bits comes first.
pub fn pieces(at: usize, width: u8, order: ByteOrder) -> Vec<Piece> {
    let width = usize::from(width);
    let mut found = Vec::new();
    let mut done = 0;
    while done < width {
        let (byte, low) = match order {
            ByteOrder::Little => ((at + done) / 8, (at + done) % 8),
            ByteOrder::Big => {
                let place = at + width - 1 - done;
                (place / 8, 7 - place % 8)
            }
        };
        let bits = (8 - low).min(width - done);
        found.push(Piece { byte, low: low as u32, bits: bits as u32, shift: done as u32 });
        done += bits;
    }
    found
}

#[cfg(test)]
mod tests {
    use emberwort_wire::bits;
    use proptest::prelude::*;

    use super::*;

    #[test]
    fn a_number_across_bytes_is_cut_where_they_end() {
        let piece = |byte, low, bits, shift| Piece { byte, low, bits, shift };
        // Twelve bits from bit 4 on: the upper half of byte 0, then byte 1.
        assert_eq!(pieces(4, 12, ByteOrder::Little), [piece(0, 4, 4, 0), piece(1, 0, 8, 4)]);
        // In the other order the lower half of byte 0 has the highest bits.
        assert_eq!(pieces(4, 12, ByteOrder::Big), [piece(1, 0, 8, 0), piece(0, 0, 4, 8)]);
        assert_eq!(pieces(9, 1, ByteOrder::Big), [piece(1, 6, 1, 0)]);
    }

    proptest! {
        /// As the library reads it.
        #[test]
        fn pieces_make_the_number(bytes in proptest::array::uniform16(any::<u8>()), at in 0..56usize, width in 1..=64u8, big: bool) {
            let order = if big { ByteOrder::Big } else { ByteOrder::Little };
            let part = |piece: &Piece| u64::from(u32::from(bytes[piece.byte]) >> piece.low & piece.mask()) << piece.shift;
            let sum: u64 = pieces(at, width, order).iter().map(part).sum();
            prop_assert_eq!(sum, bits::read(&bytes, at, width, order));
        }
    }
}
