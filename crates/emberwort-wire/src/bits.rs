//! Reading and writing fields of 1 to 64 bits at any bit place, in both bit orders of 20-wire.
//!
//! Bits are counted in the order in which a body is filled: in little-endian links bit 0 is the least significant of the
//! first byte, in big-endian links it is the most significant.

use emberwort_model::model::ByteOrder;

fn mask(width: u32) -> u64 {
    if width >= 64 { u64::MAX } else { (1 << width) - 1 }
}

/// The number that lies in `width` bits (1 to 64) from bit `at` on.
///
/// # Panics
/// If the bits do not lie within `bytes`; callers check the length once for many fields.
#[inline]
pub fn read(bytes: &[u8], at: usize, width: u8, order: ByteOrder) -> u64 {
    let width = u32::from(width);
    let (first, shift) = (at / 8, (at % 8) as u32);
    // One load covers almost every field; the rest is at the end of a body, or wider than 57 bits.
    if shift + width <= 64
        && let Some(Ok(eight)) = bytes.get(first..first + 8).map(<[u8; 8]>::try_from)
    {
        return match order {
            ByteOrder::Little => (u64::from_le_bytes(eight) >> shift) & mask(width),
            ByteOrder::Big => (u64::from_be_bytes(eight) << shift) >> (64 - width),
        };
    }
    read_at_end(&bytes[first..], shift, width, order)
}

/// Reads a number near the end of the bytes, where eight cannot be loaded, or across nine bytes.
fn read_at_end(bytes: &[u8], shift: u32, width: u32, order: ByteOrder) -> u64 {
    let count = (shift + width).div_ceil(8) as usize;
    let touched = &bytes[..count];
    if count == 9 {
        // At most one bit short of 72; the ninth byte is taken by itself.
        return match order {
            ByteOrder::Little => {
                let low = touched[..8].iter().rev().fold(0u64, |all, byte| all << 8 | u64::from(*byte));
                (low >> shift | u64::from(touched[8]) << (64 - shift)) & mask(width)
            }
            ByteOrder::Big => {
                let high = touched[..8].iter().fold(0u64, |all, byte| all << 8 | u64::from(*byte));
                let behind = 72 - shift - width;
                (high << (8 - behind) | u64::from(touched[8]) >> behind) & mask(width)
            }
        };
    }
    match order {
        ByteOrder::Little => {
            let all = touched.iter().rev().fold(0u64, |all, byte| all << 8 | u64::from(*byte));
            all >> shift & mask(width)
        }
        ByteOrder::Big => {
            let all = touched.iter().fold(0u64, |all, byte| all << 8 | u64::from(*byte));
            all >> (count as u32 * 8 - shift - width) & mask(width)
        }
    }
}

/// Reads a number of 1 to 64 bits as two's complement, sign-extended to 64 bits; places are counted as in [`read`].
///
/// # Panics
/// As [`read`].
#[inline]
pub fn read_signed(bytes: &[u8], at: usize, width: u8, order: ByteOrder) -> u64 {
    let unused = 64 - u32::from(width);
    (((read(bytes, at, width, order) << unused) as i64) >> unused) as u64
}

/// Puts the low `width` bits of `value` at bit `at`. The bits there must be zero before.
///
/// # Panics
/// If the bits do not lie within `bytes`.
pub fn write(bytes: &mut [u8], at: usize, width: u8, value: u64, order: ByteOrder) {
    let width = u32::from(width);
    let (first, shift) = (at / 8, (at % 8) as u32);
    let count = (shift + width).div_ceil(8) as usize;
    let value = u128::from(value & mask(width));
    match order {
        ByteOrder::Little => {
            for (n, byte) in bytes[first..first + count].iter_mut().enumerate() {
                *byte |= ((value << shift) >> (8 * n)) as u8;
            }
        }
        ByteOrder::Big => {
            let placed = value << (count as u32 * 8 - shift - width);
            for (n, byte) in bytes[first..first + count].iter_mut().enumerate() {
                *byte |= (placed >> (8 * (count - 1 - n))) as u8;
            }
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    #[test]
    fn whole_bytes_on_a_boundary_have_the_byte_order() {
        let bytes = [0x12, 0x34, 0x56, 0x78];
        assert_eq!(read(&bytes, 0, 16, ByteOrder::Little), 0x3412);
        assert_eq!(read(&bytes, 0, 16, ByteOrder::Big), 0x1234);
        assert_eq!(read(&bytes, 8, 16, ByteOrder::Big), 0x3456);
    }

    #[test]
    fn twelve_bits_from_bit_four() {
        // Little: high nibble of byte 0 is the low nibble of the value. Big: the low nibble of byte 0 is the high one.
        let bytes = [0xAB, 0xCD];
        assert_eq!(read(&bytes, 4, 12, ByteOrder::Little), 0xCDA);
        assert_eq!(read(&bytes, 4, 12, ByteOrder::Big), 0xBCD);
    }

    proptest! {
        #[test]
        fn what_is_written_is_read(at in 0usize..40, width in 1u8..=64, value: u64, big: bool, signed: bool) {
            let order = if big { ByteOrder::Big } else { ByteOrder::Little };
            let mut bytes = [0u8; 13];
            write(&mut bytes, at, width, value, order);
            prop_assert_eq!(read(&bytes, at, width, order), value & mask(u32::from(width)));
            if signed {
                let extended = read_signed(&bytes, at, width, order);
                prop_assert_eq!(extended & mask(u32::from(width)), value & mask(u32::from(width)));
                let ones = (extended as i64) >> (width - 1);
                prop_assert!(ones == 0 || ones == -1);
            }
            // Bit by bit, as the rule says: each bit of the value lies where the order puts it.
            for bit in 0..usize::from(width) {
                let set = match order {
                    ByteOrder::Little => bytes[(at + bit) / 8] >> ((at + bit) % 8) & 1,
                    ByteOrder::Big => {
                        let place = at + usize::from(width) - 1 - bit;
                        bytes[place / 8] >> (7 - place % 8) & 1
                    }
                };
                prop_assert_eq!(u64::from(set), value >> bit & 1);
            }
            let ones: u32 = bytes.iter().map(|b| b.count_ones()).sum();
            prop_assert_eq!(ones, (value & mask(u32::from(width))).count_ones(), "no other bit is touched");
        }
    }
}
