//! The checksum algorithms that a frame can name, and the parameters of the catalogued CRCs.
//!
//! The CRC parameters are those of the public "Catalogue of parametrised CRC algorithms" by Greg Cook: width,
//! polynomial, initial value, reflection of input and output, final XOR, and the check value (the CRC of the nine
//! ASCII bytes `123456789`). Tests compare every row with an independent implementation.

/// The parameters of a CRC in the usual model (Ross Williams, "A painless guide to CRC error detection algorithms", 1993).
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
pub struct Crc {
    /// Number of bits, 3 to 64.
    pub width: u8,
    /// The generator polynomial without its highest term, most significant bit first.
    pub polynomial: u64,
    /// Register before the first bit.
    pub initial: u64,
    /// Whether each byte is taken least significant bit first.
    pub reflect_in: bool,
    /// Whether the register is mirrored before the final XOR.
    pub reflect_out: bool,
    /// XORed onto the result.
    pub final_xor: u64,
}

/// Other names of the same public catalogue, and what data sheets write, with the names here that may be meant.
const OTHER_NAMES: &[(&str, &[&str])] = &[
    ("crc-7", &["`crc-7/mmc`"]),
    ("crc-8", &["`crc-8/smbus`"]),
    ("crc-8/itu", &["`crc-8/i-432-1`"]),
    ("crc-8/maxim", &["`crc-8/maxim-dow`"]),
    ("crc-8/dallas", &["`crc-8/maxim-dow`"]),
    ("crc-8/ccitt", &["`crc-8/smbus`", "`crc-8/i-432-1` (with final XOR 0x55)"]),
    ("crc-8/aes", &["`crc-8/tech-3250`"]),
    ("crc-8/ebu", &["`crc-8/tech-3250`"]),
    ("crc-16", &["`crc-16/arc` (polynomial 0x8005)", "`crc-16/ibm-3740` (0x1021, start 0xFFFF)"]),
    ("crc-16/ibm", &["`crc-16/arc`"]),
    ("crc-16/ansi", &["`crc-16/arc`"]),
    (
        "crc-16/ccitt",
        &["`crc-16/ibm-3740` (start 0xFFFF)", "`crc-16/xmodem` (start 0)", "`crc-16/kermit` (reflected, start 0)"],
    ),
    (
        "crc-ccitt",
        &["`crc-16/ibm-3740` (start 0xFFFF)", "`crc-16/xmodem` (start 0)", "`crc-16/kermit` (reflected, start 0)"],
    ),
    ("crc-16/ccitt-false", &["`crc-16/ibm-3740`"]),
    ("crc-16/ccitt-true", &["`crc-16/kermit`"]),
    ("crc-16/autosar", &["`crc-16/ibm-3740`"]),
    ("crc-16/aug-ccitt", &["`crc-16/spi-fujitsu`"]),
    ("crc-16/x-25", &["`crc-16/ibm-sdlc`"]),
    ("crc-16/x25", &["`crc-16/ibm-sdlc`"]),
    ("x-25", &["`crc-16/ibm-sdlc`"]),
    ("crc-16/hdlc", &["`crc-16/ibm-sdlc`"]),
    ("crc-16/iso-hdlc", &["`crc-16/ibm-sdlc`"]),
    ("crc-16/epc", &["`crc-16/genibus`"]),
    ("crc-16/darc", &["`crc-16/genibus`"]),
    ("crc-16/zmodem", &["`crc-16/xmodem`"]),
    ("crc-16/lte", &["`crc-16/xmodem`"]),
    ("crc-24", &["`crc-24/openpgp`"]),
    ("crc-32", &["`crc-32/iso-hdlc`"]),
    ("crc-32/ieee", &["`crc-32/iso-hdlc`"]),
    ("crc-32/ethernet", &["`crc-32/iso-hdlc`"]),
    ("crc-32/v-42", &["`crc-32/iso-hdlc`"]),
    ("crc-32c", &["`crc-32/iscsi`"]),
    ("crc-32/c", &["`crc-32/iscsi`"]),
    ("crc-32/castagnoli", &["`crc-32/iscsi`"]),
    ("crc-32d", &["`crc-32/base91-d`"]),
    ("crc-32q", &["`crc-32/aixm`"]),
    ("crc-32/posix", &["`crc-32/cksum`"]),
    ("crc-32/aal5", &["`crc-32/bzip2`"]),
    ("crc-64", &["`crc-64/ecma-182`"]),
    ("crc-64/ecma", &["`crc-64/xz`", "`crc-64/ecma-182`"]),
];

/// What may be meant by a name that is not one here: `crc-32c` is `crc-32/iscsi`. Written as `crc16`, `crc_16` or `CRC-16`, too.
pub fn also_called(name: &str) -> &'static [&'static str] {
    let plain = |name: &str| name.chars().filter(char::is_ascii_alphanumeric).collect::<String>().to_ascii_lowercase();
    let wanted = plain(name);
    OTHER_NAMES.iter().find(|(other, _)| plain(other) == wanted).map_or(&[], |(_, names)| names)
}

impl Crc {
    /// The period of the polynomial, the least n with x^n = 1, if it is below `limit`: two wrong bits that far apart cancel.
    pub(crate) fn period_within(&self, limit: usize) -> Option<usize> {
        let mask = u64::MAX >> (64 - self.width);
        let mut power = 1u64;
        (1..limit).find(|_| {
            let high = power >> (self.width - 1) & 1 == 1;
            power = (power << 1 & mask) ^ if high { self.polynomial } else { 0 };
            power == 1
        })
    }
}

/// A checksum algorithm with all its parameters.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
pub enum Algorithm {
    /// A cyclic redundancy check.
    Crc(Crc),
    /// One that adds.
    Sum(Sum),
}

/// A checksum that adds, with the values that change it.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
pub struct Sum {
    /// How it adds.
    pub kind: SumKind,
    /// The sum before the first byte. Of two running sums the first stands in the lower half.
    pub start: u64,
    /// XORed onto the result.
    pub final_xor: u64,
}

/// How a checksum adds.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
pub enum SumKind {
    /// The Internet checksum of RFC 1071: one's complement of the one's complement sum of big-endian 16-bit words.
    Internet,
    /// The sum of all bytes modulo 2^8 or 2^16.
    Bytes {
        /// 8 or 16.
        bits: u8,
        /// Whether the result is what is missing to zero: the two's complement of the sum.
        negated: bool,
    },
    /// The exclusive or of all bytes.
    Xor8,
    /// Two sums modulo 255, of the bytes and of the first sum; the second stands in the upper half (J. G. Fletcher, "An
    /// arithmetic checksum for serial transmissions", IEEE Transactions on Communications 30, 1982).
    Fletcher16,
    /// Two running sums modulo 65535 over little-endian 16-bit words; an odd last byte is a word with a high byte of zero.
    Fletcher32,
    /// Two running sums modulo 65521 over bytes, beginning with 1 (RFC 1950, section 8.2).
    Adler32,
}

/// The sums with their names.
const SUMS: [(&str, SumKind); 9] = [
    ("internet", SumKind::Internet),
    ("sum8", SumKind::Bytes { bits: 8, negated: false }),
    ("sum8 negated", SumKind::Bytes { bits: 8, negated: true }),
    ("sum16", SumKind::Bytes { bits: 16, negated: false }),
    ("sum16 negated", SumKind::Bytes { bits: 16, negated: true }),
    ("xor8", SumKind::Xor8),
    ("fletcher16", SumKind::Fletcher16),
    ("fletcher32", SumKind::Fletcher32),
    ("adler32", SumKind::Adler32),
];

impl SumKind {
    /// Width of the result in bits.
    pub fn bits(self) -> u8 {
        match self {
            SumKind::Bytes { bits, .. } => bits,
            SumKind::Xor8 => 8,
            SumKind::Internet | SumKind::Fletcher16 => 16,
            SumKind::Fletcher32 | SumKind::Adler32 => 32,
        }
    }

    /// The sum before the first byte, if nothing else is said.
    pub fn usual_start(self) -> u64 {
        u64::from(self == SumKind::Adler32)
    }

    /// What the two running sums are taken modulo, for those that have two.
    pub fn modulus(self) -> Option<u32> {
        match self {
            SumKind::Fletcher16 => Some(255),
            SumKind::Fletcher32 => Some(65_535),
            SumKind::Adler32 => Some(65_521),
            SumKind::Internet | SumKind::Bytes { .. } | SumKind::Xor8 => None,
        }
    }
}

impl Algorithm {
    /// Width of the result in bits.
    pub fn bits(&self) -> u8 {
        match self {
            Algorithm::Crc(crc) => crc.width,
            Algorithm::Sum(sum) => sum.kind.bits(),
        }
    }

    /// This algorithm with another value before the first byte.
    pub fn with_start(self, value: u64) -> Self {
        match self {
            Algorithm::Crc(crc) => Algorithm::Crc(Crc { initial: value, ..crc }),
            Algorithm::Sum(sum) => Algorithm::Sum(Sum { start: value, ..sum }),
        }
    }

    /// This algorithm with another value XORed onto the result.
    pub fn with_final_xor(self, value: u64) -> Self {
        match self {
            Algorithm::Crc(crc) => Algorithm::Crc(Crc { final_xor: value, ..crc }),
            Algorithm::Sum(sum) => Algorithm::Sum(Sum { final_xor: value, ..sum }),
        }
    }

    /// The algorithm with this name, in lower case: a catalogued CRC (`crc-16/ibm-3740`), or a sum (`internet`, `sum8`,
    /// `sum8 negated`, …).
    pub fn named(name: &str) -> Option<Self> {
        if let Some((_, kind)) = SUMS.iter().find(|(other, _)| *other == name) {
            return Some(Algorithm::Sum(Sum { kind: *kind, start: kind.usual_start(), final_xor: 0 }));
        }
        CATALOGUE.iter().find(|entry| entry.name == name).map(|entry| Algorithm::Crc(entry.crc))
    }

    /// As it is written in a definition: its name, or spelled out; with the start and final values that the name does not say.
    pub fn written(&self) -> String {
        if let Some(name) = Self::names().find(|name| Self::named(name).as_ref() == Some(self)) {
            return name.to_owned();
        }
        let hex = |value: u64, bits: u8| format!("0x{value:0digits$X}", digits = usize::from(bits).div_ceil(4));
        let bits = self.bits();
        let (mut text, start, usual, final_xor) = match self {
            Algorithm::Crc(crc) => {
                let mut text = format!("crc {bits} poly {} init {}", hex(crc.polynomial, bits), hex(crc.initial, bits));
                for (is, word) in [(crc.reflect_in, " reflect in"), (crc.reflect_out, " reflect out")] {
                    text.push_str(if is { word } else { "" });
                }
                (text, crc.initial, crc.initial, crc.final_xor)
            }
            Algorithm::Sum(sum) => {
                let name = SUMS.iter().find(|(_, kind)| *kind == sum.kind).map_or("", |(name, _)| name);
                (name.to_owned(), sum.start, sum.kind.usual_start(), sum.final_xor)
            }
        };
        if start != usual {
            text.push_str(&format!(" start {}", hex(start, bits)));
        }
        if final_xor != 0 {
            text.push_str(&format!(" final xor {}", hex(final_xor, bits)));
        }
        text
    }

    /// All names that [`Algorithm::named`] knows.
    pub fn names() -> impl Iterator<Item = &'static str> {
        SUMS.iter().map(|(name, _)| *name).chain(CATALOGUE.iter().map(|entry| entry.name))
    }
}

/// One catalogued CRC.
#[derive(Clone, Copy, Debug)]
pub struct CatalogueEntry {
    /// The catalogue's name, in lower case.
    pub name: &'static str,
    /// The parameters.
    pub crc: Crc,
    /// The CRC of the ASCII bytes `123456789`.
    pub check: u64,
}

#[allow(clippy::too_many_arguments)] // a row of the catalogue, in its order
const fn entry(
    name: &'static str,
    width: u8,
    polynomial: u64,
    initial: u64,
    reflect_in: bool,
    reflect_out: bool,
    final_xor: u64,
    check: u64,
) -> CatalogueEntry {
    CatalogueEntry { name, crc: Crc { width, polynomial, initial, reflect_in, reflect_out, final_xor }, check }
}

/// All CRCs of the public catalogue with widths of 3 to 64 bits, by width and name.
#[rustfmt::skip]
pub const CATALOGUE: &[CatalogueEntry] = &[
    entry("crc-3/gsm", 3, 0x3, 0x0, false, false, 0x7, 0x4),
    entry("crc-3/rohc", 3, 0x3, 0x7, true, true, 0x0, 0x6),
    entry("crc-4/g-704", 4, 0x3, 0x0, true, true, 0x0, 0x7),
    entry("crc-4/interlaken", 4, 0x3, 0xf, false, false, 0xf, 0xb),
    entry("crc-5/epc-c1g2", 5, 0x9, 0x9, false, false, 0x0, 0x0),
    entry("crc-5/g-704", 5, 0x15, 0x0, true, true, 0x0, 0x7),
    entry("crc-5/usb", 5, 0x5, 0x1f, true, true, 0x1f, 0x19),
    entry("crc-6/cdma2000-a", 6, 0x27, 0x3f, false, false, 0x0, 0xd),
    entry("crc-6/cdma2000-b", 6, 0x7, 0x3f, false, false, 0x0, 0x3b),
    entry("crc-6/darc", 6, 0x19, 0x0, true, true, 0x0, 0x26),
    entry("crc-6/g-704", 6, 0x3, 0x0, true, true, 0x0, 0x6),
    entry("crc-6/gsm", 6, 0x2f, 0x0, false, false, 0x3f, 0x13),
    entry("crc-7/mmc", 7, 0x9, 0x0, false, false, 0x0, 0x75),
    entry("crc-7/rohc", 7, 0x4f, 0x7f, true, true, 0x0, 0x53),
    entry("crc-7/umts", 7, 0x45, 0x0, false, false, 0x0, 0x61),
    entry("crc-8/autosar", 8, 0x2f, 0xff, false, false, 0xff, 0xdf),
    entry("crc-8/bluetooth", 8, 0xa7, 0x0, true, true, 0x0, 0x26),
    entry("crc-8/cdma2000", 8, 0x9b, 0xff, false, false, 0x0, 0xda),
    entry("crc-8/darc", 8, 0x39, 0x0, true, true, 0x0, 0x15),
    entry("crc-8/dvb-s2", 8, 0xd5, 0x0, false, false, 0x0, 0xbc),
    entry("crc-8/gsm-a", 8, 0x1d, 0x0, false, false, 0x0, 0x37),
    entry("crc-8/gsm-b", 8, 0x49, 0x0, false, false, 0xff, 0x94),
    entry("crc-8/hitag", 8, 0x1d, 0xff, false, false, 0x0, 0xb4),
    entry("crc-8/i-432-1", 8, 0x7, 0x0, false, false, 0x55, 0xa1),
    entry("crc-8/i-code", 8, 0x1d, 0xfd, false, false, 0x0, 0x7e),
    entry("crc-8/lte", 8, 0x9b, 0x0, false, false, 0x0, 0xea),
    entry("crc-8/maxim-dow", 8, 0x31, 0x0, true, true, 0x0, 0xa1),
    entry("crc-8/mifare-mad", 8, 0x1d, 0xc7, false, false, 0x0, 0x99),
    entry("crc-8/nrsc-5", 8, 0x31, 0xff, false, false, 0x0, 0xf7),
    entry("crc-8/opensafety", 8, 0x2f, 0x0, false, false, 0x0, 0x3e),
    entry("crc-8/rohc", 8, 0x7, 0xff, true, true, 0x0, 0xd0),
    entry("crc-8/sae-j1850", 8, 0x1d, 0xff, false, false, 0xff, 0x4b),
    entry("crc-8/smbus", 8, 0x7, 0x0, false, false, 0x0, 0xf4),
    entry("crc-8/tech-3250", 8, 0x1d, 0xff, true, true, 0x0, 0x97),
    entry("crc-8/wcdma", 8, 0x9b, 0x0, true, true, 0x0, 0x25),
    entry("crc-10/atm", 10, 0x233, 0x0, false, false, 0x0, 0x199),
    entry("crc-10/cdma2000", 10, 0x3d9, 0x3ff, false, false, 0x0, 0x233),
    entry("crc-10/gsm", 10, 0x175, 0x0, false, false, 0x3ff, 0x12a),
    entry("crc-11/flexray", 11, 0x385, 0x1a, false, false, 0x0, 0x5a3),
    entry("crc-11/umts", 11, 0x307, 0x0, false, false, 0x0, 0x61),
    entry("crc-12/cdma2000", 12, 0xf13, 0xfff, false, false, 0x0, 0xd4d),
    entry("crc-12/dect", 12, 0x80f, 0x0, false, false, 0x0, 0xf5b),
    entry("crc-12/gsm", 12, 0xd31, 0x0, false, false, 0xfff, 0xb34),
    entry("crc-12/umts", 12, 0x80f, 0x0, false, true, 0x0, 0xdaf),
    entry("crc-13/bbc", 13, 0x1cf5, 0x0, false, false, 0x0, 0x4fa),
    entry("crc-14/darc", 14, 0x805, 0x0, true, true, 0x0, 0x82d),
    entry("crc-14/gsm", 14, 0x202d, 0x0, false, false, 0x3fff, 0x30ae),
    entry("crc-15/can", 15, 0x4599, 0x0, false, false, 0x0, 0x59e),
    entry("crc-15/mpt1327", 15, 0x6815, 0x0, false, false, 0x1, 0x2566),
    entry("crc-16/arc", 16, 0x8005, 0x0, true, true, 0x0, 0xbb3d),
    entry("crc-16/cdma2000", 16, 0xc867, 0xffff, false, false, 0x0, 0x4c06),
    entry("crc-16/cms", 16, 0x8005, 0xffff, false, false, 0x0, 0xaee7),
    entry("crc-16/dds-110", 16, 0x8005, 0x800d, false, false, 0x0, 0x9ecf),
    entry("crc-16/dect-r", 16, 0x589, 0x0, false, false, 0x1, 0x7e),
    entry("crc-16/dect-x", 16, 0x589, 0x0, false, false, 0x0, 0x7f),
    entry("crc-16/dnp", 16, 0x3d65, 0x0, true, true, 0xffff, 0xea82),
    entry("crc-16/en-13757", 16, 0x3d65, 0x0, false, false, 0xffff, 0xc2b7),
    entry("crc-16/genibus", 16, 0x1021, 0xffff, false, false, 0xffff, 0xd64e),
    entry("crc-16/gsm", 16, 0x1021, 0x0, false, false, 0xffff, 0xce3c),
    entry("crc-16/ibm-3740", 16, 0x1021, 0xffff, false, false, 0x0, 0x29b1),
    entry("crc-16/ibm-sdlc", 16, 0x1021, 0xffff, true, true, 0xffff, 0x906e),
    entry("crc-16/iso-iec-14443-3-a", 16, 0x1021, 0xc6c6, true, true, 0x0, 0xbf05),
    entry("crc-16/kermit", 16, 0x1021, 0x0, true, true, 0x0, 0x2189),
    entry("crc-16/lj1200", 16, 0x6f63, 0x0, false, false, 0x0, 0xbdf4),
    entry("crc-16/m17", 16, 0x5935, 0xffff, false, false, 0x0, 0x772b),
    entry("crc-16/maxim-dow", 16, 0x8005, 0x0, true, true, 0xffff, 0x44c2),
    entry("crc-16/mcrf4xx", 16, 0x1021, 0xffff, true, true, 0x0, 0x6f91),
    entry("crc-16/modbus", 16, 0x8005, 0xffff, true, true, 0x0, 0x4b37),
    entry("crc-16/nrsc-5", 16, 0x80b, 0xffff, true, true, 0x0, 0xa066),
    entry("crc-16/opensafety-a", 16, 0x5935, 0x0, false, false, 0x0, 0x5d38),
    entry("crc-16/opensafety-b", 16, 0x755b, 0x0, false, false, 0x0, 0x20fe),
    entry("crc-16/profibus", 16, 0x1dcf, 0xffff, false, false, 0xffff, 0xa819),
    entry("crc-16/riello", 16, 0x1021, 0xb2aa, true, true, 0x0, 0x63d0),
    entry("crc-16/spi-fujitsu", 16, 0x1021, 0x1d0f, false, false, 0x0, 0xe5cc),
    entry("crc-16/t10-dif", 16, 0x8bb7, 0x0, false, false, 0x0, 0xd0db),
    entry("crc-16/teledisk", 16, 0xa097, 0x0, false, false, 0x0, 0xfb3),
    entry("crc-16/tms37157", 16, 0x1021, 0x89ec, true, true, 0x0, 0x26b1),
    entry("crc-16/umts", 16, 0x8005, 0x0, false, false, 0x0, 0xfee8),
    entry("crc-16/usb", 16, 0x8005, 0xffff, true, true, 0xffff, 0xb4c8),
    entry("crc-16/xmodem", 16, 0x1021, 0x0, false, false, 0x0, 0x31c3),
    entry("crc-17/can-fd", 17, 0x1685b, 0x0, false, false, 0x0, 0x4f03),
    entry("crc-21/can-fd", 21, 0x102899, 0x0, false, false, 0x0, 0xed841),
    entry("crc-24/ble", 24, 0x65b, 0x555555, true, true, 0x0, 0xc25a56),
    entry("crc-24/flexray-a", 24, 0x5d6dcb, 0xfedcba, false, false, 0x0, 0x7979bd),
    entry("crc-24/flexray-b", 24, 0x5d6dcb, 0xabcdef, false, false, 0x0, 0x1f23b8),
    entry("crc-24/interlaken", 24, 0x328b63, 0xffffff, false, false, 0xffffff, 0xb4f3e6),
    entry("crc-24/lte-a", 24, 0x864cfb, 0x0, false, false, 0x0, 0xcde703),
    entry("crc-24/lte-b", 24, 0x800063, 0x0, false, false, 0x0, 0x23ef52),
    entry("crc-24/openpgp", 24, 0x864cfb, 0xb704ce, false, false, 0x0, 0x21cf02),
    entry("crc-24/os-9", 24, 0x800063, 0xffffff, false, false, 0xffffff, 0x200fa5),
    entry("crc-30/cdma", 30, 0x2030b9c7, 0x3fffffff, false, false, 0x3fffffff, 0x4c34abf),
    entry("crc-31/philips", 31, 0x4c11db7, 0x7fffffff, false, false, 0x7fffffff, 0xce9e46c),
    entry("crc-32/aixm", 32, 0x814141ab, 0x0, false, false, 0x0, 0x3010bf7f),
    entry("crc-32/autosar", 32, 0xf4acfb13, 0xffffffff, true, true, 0xffffffff, 0x1697d06a),
    entry("crc-32/base91-d", 32, 0xa833982b, 0xffffffff, true, true, 0xffffffff, 0x87315576),
    entry("crc-32/bzip2", 32, 0x4c11db7, 0xffffffff, false, false, 0xffffffff, 0xfc891918),
    entry("crc-32/cd-rom-edc", 32, 0x8001801b, 0x0, true, true, 0x0, 0x6ec2edc4),
    entry("crc-32/cksum", 32, 0x4c11db7, 0x0, false, false, 0xffffffff, 0x765e7680),
    entry("crc-32/iscsi", 32, 0x1edc6f41, 0xffffffff, true, true, 0xffffffff, 0xe3069283),
    entry("crc-32/iso-hdlc", 32, 0x4c11db7, 0xffffffff, true, true, 0xffffffff, 0xcbf43926),
    entry("crc-32/jamcrc", 32, 0x4c11db7, 0xffffffff, true, true, 0x0, 0x340bc6d9),
    entry("crc-32/mef", 32, 0x741b8cd7, 0xffffffff, true, true, 0x0, 0xd2c22f51),
    entry("crc-32/mpeg-2", 32, 0x4c11db7, 0xffffffff, false, false, 0x0, 0x376e6e7),
    entry("crc-32/xfer", 32, 0xaf, 0x0, false, false, 0x0, 0xbd0be338),
    entry("crc-40/gsm", 40, 0x4820009, 0x0, false, false, 0xffffffffff, 0xd4164fc646),
    entry("crc-64/ecma-182", 64, 0x42f0e1eba9ea3693, 0x0, false, false, 0x0, 0x6c40df5f0b497347),
    entry("crc-64/go-iso", 64, 0x1b, 0xffffffffffffffff, true, true, 0xffffffffffffffff, 0xb90956c775a41001),
    entry("crc-64/ms", 64, 0x259c84cba6426349, 0xffffffffffffffff, true, true, 0x0, 0x75d4b74f024eceea),
    entry("crc-64/nvme", 64, 0xad93d23594c93659, 0xffffffffffffffff, true, true, 0xffffffffffffffff, 0xae8b14860a799888),
    entry("crc-64/redis", 64, 0xad93d23594c935a9, 0x0, true, true, 0x0, 0xe9c6d914c4b8d9ca),
    entry("crc-64/we", 64, 0x42f0e1eba9ea3693, 0xffffffffffffffff, false, false, 0xffffffffffffffff, 0x62ec59e3f1a4f00a),
    entry("crc-64/xz", 64, 0x42f0e1eba9ea3693, 0xffffffffffffffff, true, true, 0xffffffffffffffff, 0x995dc9bbdf1939fa),
];
