//! Computing checksums, piece by piece, with tables worked out once.

use emberwort_model::algorithm::{Algorithm, Crc, Sum, SumKind};

/// A checksum algorithm made ready to run.
#[derive(Clone, Debug)]
pub struct Checksum {
    algorithm: Algorithm,
    /// For CRCs: `tables[n][b]` is what byte `b` contributes to the register when `n` more bytes follow it in the same
    /// step of eight ("slicing", Kounavis and Berry, "A systematic approach to building high performance software-based
    /// CRC generators", 2005).
    tables: Vec<[u64; 256]>,
    start: State,
    common: Common,
}

/// The two usual kinds of CRC, of which one step gives the value from the register.
#[derive(Clone, Copy, Debug)]
enum Common {
    /// Neither bytes nor register mirrored.
    Plain { unused: u32, final_xor: u64 },
    /// Both mirrored.
    Mirrored { final_xor: u64 },
    /// Anything else.
    Other,
}

impl Common {
    fn of(algorithm: &Algorithm) -> Self {
        match *algorithm {
            Algorithm::Crc(Crc { reflect_in: false, reflect_out: false, width, final_xor, .. }) => {
                Self::Plain { unused: 64 - u32::from(width), final_xor }
            }
            Algorithm::Crc(Crc { reflect_in: true, reflect_out: true, final_xor, .. }) => Self::Mirrored { final_xor },
            _ => Self::Other,
        }
    }
}

/// A computation under way.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct State {
    /// The register: of CRCs mirrored at bit 0 or, unmirrored, at bit 63; the sum so far of others.
    register: u64,
    /// The second sum, of those that have two.
    second: u64,
    /// Whether an odd number of bytes has gone in, for those that take them in pairs.
    odd: bool,
}

impl Checksum {
    /// Works out the tables of an algorithm.
    pub fn new(algorithm: &Algorithm) -> Self {
        let tables = match algorithm {
            Algorithm::Crc(crc) => crc_tables(crc),
            _ => Vec::new(),
        };
        let register = match *algorithm {
            Algorithm::Crc(crc) if crc.reflect_in => crc.initial.reverse_bits() >> (64 - crc.width),
            Algorithm::Crc(crc) => crc.initial << (64 - crc.width),
            Algorithm::Sum(Sum { kind, start, .. }) if kind.modulus().is_some() => start & half(kind),
            Algorithm::Sum(sum) => sum.start,
        };
        let second = match *algorithm {
            Algorithm::Sum(Sum { kind, start, .. }) if kind.modulus().is_some() => start >> (kind.bits() / 2),
            _ => 0,
        };
        Self {
            algorithm: *algorithm,
            tables,
            start: State { register, second, odd: false },
            common: Common::of(algorithm),
        }
    }

    /// The algorithm.
    pub fn algorithm(&self) -> &Algorithm {
        &self.algorithm
    }

    /// The state before the first byte.
    #[inline]
    pub fn start(&self) -> State {
        self.start
    }

    /// Takes in more bytes.
    pub fn update(&self, mut state: State, bytes: &[u8]) -> State {
        match self.algorithm {
            Algorithm::Crc(crc) if crc.reflect_in => state.register = self.crc_mirrored(state.register, bytes),
            Algorithm::Crc(_) => state.register = self.crc_plain(state.register, bytes),
            Algorithm::Sum(sum) => add(sum.kind, &mut state, bytes),
        }
        state
    }

    /// The checksum of all that went in.
    pub fn finish(&self, state: State) -> u64 {
        match self.algorithm {
            Algorithm::Crc(crc) => {
                let unused = 64 - u32::from(crc.width);
                let value = match (crc.reflect_in, crc.reflect_out) {
                    (true, true) => state.register,
                    (true, false) => state.register.reverse_bits() >> unused,
                    (false, false) => state.register >> unused,
                    (false, true) => state.register.reverse_bits(),
                };
                value ^ crc.final_xor
            }
            Algorithm::Sum(Sum { kind, final_xor, .. }) => {
                let value = match kind {
                    SumKind::Internet => !fold_carries(state.register) & 0xFFFF,
                    SumKind::Bytes { bits, negated: true } => state.register.wrapping_neg() & ((1 << bits) - 1),
                    SumKind::Bytes { .. } | SumKind::Xor8 => state.register,
                    SumKind::Fletcher16 | SumKind::Fletcher32 | SumKind::Adler32 => {
                        state.second << (kind.bits() / 2) | state.register
                    }
                };
                value ^ final_xor
            }
        }
    }

    /// The checksum of some bytes.
    #[inline]
    pub fn compute(&self, bytes: &[u8]) -> u64 {
        match self.common {
            // The register of an unmirrored CRC stands at the top of 64 bits.
            Common::Plain { unused, final_xor } => self.crc_plain(self.start.register, bytes) >> unused ^ final_xor,
            Common::Mirrored { final_xor } => self.crc_mirrored(self.start.register, bytes) ^ final_xor,
            Common::Other => self.finish(self.update(self.start(), bytes)),
        }
    }

    fn crc_plain(&self, mut register: u64, bytes: &[u8]) -> u64 {
        let Some(t) = self.tables.first_chunk::<8>() else { return register };
        let eights = bytes.chunks_exact(8);
        let rest = eights.remainder();
        for eight in eights {
            let [a, b, c, d, e, f, g, h] = (register
                ^ u64::from_be_bytes([eight[0], eight[1], eight[2], eight[3], eight[4], eight[5], eight[6], eight[7]]))
            .to_be_bytes();
            register = t[7][a as usize]
                ^ t[6][b as usize]
                ^ t[5][c as usize]
                ^ t[4][d as usize]
                ^ t[3][e as usize]
                ^ t[2][f as usize]
                ^ t[1][g as usize]
                ^ t[0][h as usize];
        }
        // Most frames are short: four more in one step.
        let (four, rest) = rest.split_at(rest.len() & 4);
        if let [a, b, c, d] = *four {
            let [a, b, c, d] = ((register >> 32) as u32 ^ u32::from_be_bytes([a, b, c, d])).to_be_bytes();
            register = register << 32 ^ t[3][a as usize] ^ t[2][b as usize] ^ t[1][c as usize] ^ t[0][d as usize];
        }
        for byte in rest {
            register = register << 8 ^ t[0][((register >> 56) as u8 ^ byte) as usize];
        }
        register
    }

    fn crc_mirrored(&self, mut register: u64, bytes: &[u8]) -> u64 {
        let Some(t) = self.tables.first_chunk::<8>() else { return register };
        let eights = bytes.chunks_exact(8);
        let rest = eights.remainder();
        for eight in eights {
            let [a, b, c, d, e, f, g, h] = (register
                ^ u64::from_le_bytes([eight[0], eight[1], eight[2], eight[3], eight[4], eight[5], eight[6], eight[7]]))
            .to_le_bytes();
            register = t[7][a as usize]
                ^ t[6][b as usize]
                ^ t[5][c as usize]
                ^ t[4][d as usize]
                ^ t[3][e as usize]
                ^ t[2][f as usize]
                ^ t[1][g as usize]
                ^ t[0][h as usize];
        }
        let (four, rest) = rest.split_at(rest.len() & 4);
        if let [a, b, c, d] = *four {
            let [a, b, c, d] = (register as u32 ^ u32::from_le_bytes([a, b, c, d])).to_le_bytes();
            register = register >> 32 ^ t[3][a as usize] ^ t[2][b as usize] ^ t[1][c as usize] ^ t[0][d as usize];
        }
        for byte in rest {
            register = register >> 8 ^ t[0][(register as u8 ^ byte) as usize];
        }
        register
    }
}

/// The bits of the first of two sums.
fn half(kind: SumKind) -> u64 {
    (1 << (kind.bits() / 2)) - 1
}

/// Bytes after which two running sums are reduced: the second then is below 2^16 · 2^16 · 2^16 · 2, whatever the bytes.
const BLOCK: usize = 1 << 16;

/// Takes bytes into a sum.
fn add(kind: SumKind, state: &mut State, bytes: &[u8]) {
    match kind {
        SumKind::Internet => {
            let mut rest = bytes;
            let mut sum = state.register;
            if state.odd
                && let Some((first, others)) = rest.split_first()
            {
                sum += u64::from(*first);
                state.odd = false;
                rest = others;
            }
            let pairs = rest.chunks_exact(2);
            if let [last] = pairs.remainder() {
                sum += u64::from(*last) << 8;
                state.odd = true;
            }
            // A u64 takes 2^48 words before it overflows; folding each time keeps it far below.
            sum = pairs.fold(sum, |sum, pair| sum + (u64::from(pair[0]) << 8 | u64::from(pair[1])));
            state.register = fold_carries(sum);
        }
        SumKind::Bytes { bits, .. } => {
            let sum = bytes.iter().fold(state.register, |sum, byte| sum.wrapping_add(u64::from(*byte)));
            state.register = sum & ((1 << bits) - 1);
        }
        SumKind::Xor8 => state.register = bytes.iter().fold(state.register, |all, byte| all ^ u64::from(*byte)),
        SumKind::Fletcher16 | SumKind::Adler32 => {
            let modulus = u64::from(kind.modulus().unwrap_or(1));
            for block in bytes.chunks(BLOCK) {
                for byte in block {
                    state.register += u64::from(*byte);
                    state.second += state.register;
                }
                state.register %= modulus;
                state.second %= modulus;
            }
        }
        SumKind::Fletcher32 => {
            for block in bytes.chunks(BLOCK) {
                for byte in block {
                    // A high byte belongs to the word whose low byte both sums have already.
                    let value = u64::from(*byte) << if state.odd { 8 } else { 0 };
                    state.register += value;
                    state.second += if state.odd { value } else { state.register };
                    state.odd = !state.odd;
                }
                state.register %= 65_535;
                state.second %= 65_535;
            }
        }
    }
}

/// Adds the carries of a one's complement sum back in until 16 bits are left (RFC 1071, section 1).
fn fold_carries(mut sum: u64) -> u64 {
    while sum >> 16 != 0 {
        sum = (sum & 0xFFFF) + (sum >> 16);
    }
    sum
}

fn crc_tables(crc: &Crc) -> Vec<[u64; 256]> {
    let one_byte = |byte: usize| {
        if crc.reflect_in {
            let polynomial = crc.polynomial.reverse_bits() >> (64 - crc.width);
            (0..8).fold(byte as u64, |sum, _| if sum & 1 == 1 { sum >> 1 ^ polynomial } else { sum >> 1 })
        } else {
            let polynomial = crc.polynomial << (64 - crc.width);
            (0..8).fold((byte as u64) << 56, |sum, _| if sum >> 63 == 1 { sum << 1 ^ polynomial } else { sum << 1 })
        }
    };
    let first: [u64; 256] = std::array::from_fn(one_byte);
    let mut tables = vec![first];
    for n in 1..8 {
        let before: [u64; 256] = tables[n - 1];
        tables.push(before.map(|sum| {
            if crc.reflect_in {
                sum >> 8 ^ first[(sum & 0xFF) as usize]
            } else {
                sum << 8 ^ first[(sum >> 56) as usize]
            }
        }));
    }
    tables
}

#[cfg(test)]
mod tests {
    use super::*;
    use emberwort_model::algorithm::CATALOGUE;
    use proptest::prelude::*;

    fn named(name: &str) -> Checksum {
        Checksum::new(&Algorithm::named(name).unwrap())
    }

    #[test]
    fn every_catalogued_crc_gives_its_check_value() {
        for entry in CATALOGUE {
            let checksum = Checksum::new(&Algorithm::Crc(entry.crc));
            assert_eq!(checksum.compute(b"123456789"), entry.check, "{}", entry.name);
        }
    }

    /// The example of RFC 1071, section 3: 00 01 f2 03 f4 f5 f6 f7 sums to ddf2, whose complement is 220d.
    #[test]
    fn internet_checksum_of_the_rfc() {
        let internet = named("internet");
        assert_eq!(internet.compute(&[0x00, 0x01, 0xF2, 0x03, 0xF4, 0xF5, 0xF6, 0xF7]), 0x220D);
        // An odd last byte counts as the high half of a word: 0102 + 0300 = 0402.
        assert_eq!(internet.compute(&[1, 2, 3]), !0x0402 & 0xFFFF);
        // Carries fold back: ffff + 0002 = 1 0001 → 0002.
        assert_eq!(internet.compute(&[0xFF, 0xFF, 0x00, 0x02]), !0x0002 & 0xFFFF);
    }

    #[test]
    fn sums_by_hand() {
        // F0 + 20 + 05 = 115, of which 15 stays; F0 ^ 20 ^ 05 = D5.
        assert_eq!(named("sum8").compute(&[0xF0, 0x20, 0x05]), 0x15);
        assert_eq!(named("xor8").compute(&[0xF0, 0x20, 0x05]), 0xD5);
        // 115 + EB = 200, of which 8 bits are zero.
        assert_eq!(named("sum8 negated").compute(&[0xF0, 0x20, 0x05]), 0xEB);
        assert_eq!(named("sum16").compute(&[0xF0, 0x20, 0x05]), 0x0115);
        assert_eq!(named("sum16 negated").compute(&[0xF0, 0x20, 0x05]), 0xFEEB);
        // Sums after each byte: 1, 3, 6; of those: 1, 4, 10.
        assert_eq!(named("fletcher16").compute(&[1, 2, 3]), 0x0A06);
        // 250 + 10 = 260 = 5 modulo 255; 250 + 5 = 255 = 0.
        assert_eq!(named("fletcher16").compute(&[250, 10]), 0x0005);
        // Words 0201 and 0003: 0201, 0204; 0201, 0405.
        assert_eq!(named("fletcher32").compute(&[1, 2, 3]), 0x0405_0204);
        // Beginning with 1: 2, 4, 7; 2, 6, 13.
        assert_eq!(named("adler32").compute(&[1, 2, 3]), 0x000D_0007);
    }

    /// Values that are printed in many places for the ASCII text `Wikipedia`, and for `abcde`.
    #[test]
    fn published_values_of_double_sums() {
        assert_eq!(named("adler32").compute(b"Wikipedia"), 0x11E6_0398);
        assert_eq!(named("fletcher16").compute(b"abcde"), 0xC8F0);
        assert_eq!(named("fletcher32").compute(b"abcde"), 0xF04F_C729);
        assert_eq!(named("fletcher32").compute(b"abcdef"), 0x5650_2D2A);
    }

    proptest! {
        #[test]
        fn pieces_give_the_same_as_the_whole(bytes: Vec<u8>, cuts in proptest::collection::vec(0usize..200, 0..6), which: prop::sample::Index) {
            let names: Vec<_> = Algorithm::names().collect();
            let checksum = named(names[which.index(names.len())]);
            let mut cuts: Vec<usize> = cuts.into_iter().map(|cut| cut.min(bytes.len())).collect();
            cuts.sort_unstable();
            let mut state = checksum.start();
            let mut at = 0;
            for cut in cuts.into_iter().chain([bytes.len()]) {
                state = checksum.update(state, &bytes[at..cut]);
                at = cut;
            }
            prop_assert_eq!(checksum.finish(state), checksum.compute(&bytes));
        }
    }
}
