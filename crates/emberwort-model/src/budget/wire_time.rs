//! How long frames take on each medium. All times are exact rationals in seconds; sources stand beside the formulas.

use num_rational::Ratio;

/// A time in seconds, exact.
pub type Seconds = Ratio<i128>;

/// A time in whole nanoseconds, rounded down; as much as can be counted, if it is longer.
pub fn nanoseconds(time: Seconds) -> u64 {
    u64::try_from((time * Seconds::from_integer(1_000_000_000)).to_integer()).unwrap_or(u64::MAX / 4)
}

pub(crate) fn ratio(numerator: u64, denominator: u64) -> Seconds {
    Ratio::new(i128::from(numerator), i128::from(denominator.max(1)))
}

/// What a frame costs on a medium.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct WireCost {
    /// Bits (for LoRa: symbols, rounded up) that go over the wire, and with the worst stuffing where there is any.
    pub bits: u64,
    /// Time on the wire.
    pub time: Seconds,
}

/// Bytes on an Ethernet for an IP payload: IPv4 (RFC 791) or IPv6 (RFC 8200) header, Ethernet header and check sequence,
/// padding to 64 bytes, preamble and start delimiter, and the gap behind (IEEE 802.3, clauses 3 and 4).
pub(crate) fn ethernet_bytes(payload: u64, ipv6: bool) -> u64 {
    let packet = payload + if ipv6 { 40 } else { 20 };
    8 + (14 + packet + 4).max(64) + 12
}

/// Settings of a LoRa radio.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Lora {
    /// Spreading factor, 7 to 12.
    pub spreading: u8,
    /// Bandwidth in hertz.
    pub bandwidth: u32,
    /// The second number of the coding rate 4/5 to 4/8.
    pub coding: u8,
}

/// Symbols of the preamble that are programmed; the radio adds 4.25.
const PREAMBLE_SYMBOLS: u64 = 8;

impl Lora {
    /// Whether symbols take 16 ms or more, so that the low data rate optimisation is on.
    pub fn is_slow(&self) -> bool {
        // 2^SF / BW >= 16 / 1000
        (1u64 << self.spreading) * 1000 >= 16 * u64::from(self.bandwidth)
    }

    /// Quarters of symbols of a packet with so many bytes (SX1276/77/78/79 data sheet, section 4.1.1.7: preamble of
    /// n + 4.25 symbols, then 8 + max(⌈(8 PL − 4 SF + 28 + 16 CRC − 20 IH) / (4 (SF − 2 DE))⌉ (CR + 4), 0) symbols).
    pub(crate) fn quarter_symbols(&self, bytes: u64, header: bool, crc: bool) -> u64 {
        let sf = i64::from(self.spreading);
        let optimised = i64::from(self.is_slow());
        let bits = 8 * bytes as i64 - 4 * sf + 28 + 16 * i64::from(crc) - 20 * i64::from(!header);
        let each = 4 * (sf - 2 * optimised);
        let blocks = bits.max(0).div_euclid(each) + i64::from(bits.max(0) % each != 0);
        let payload = 8 + blocks as u64 * u64::from(self.coding);
        PREAMBLE_SYMBOLS * 4 + 17 + payload * 4
    }

    /// The time that so many quarters of symbols take.
    pub(crate) fn quarters_to_seconds(&self, quarters: u64) -> Seconds {
        ratio(quarters << self.spreading, 4 * u64::from(self.bandwidth))
    }

    /// The time on air of a packet with so many bytes, with header and CRC.
    pub fn airtime(&self, bytes: u64) -> Seconds {
        self.quarters_to_seconds(self.quarter_symbols(bytes, true, true))
    }
}

/// Bits of CAN frames (ISO 11898-1).
pub mod can {
    /// The sizes of data that CAN FD frames can have.
    pub const FD_SIZES: [usize; 16] = [0, 1, 2, 3, 4, 5, 6, 7, 8, 12, 16, 20, 24, 32, 48, 64];

    /// The size of the CAN FD frame that carries so many bytes.
    pub fn fd_size(bytes: usize) -> usize {
        FD_SIZES.iter().copied().find(|size| *size >= bytes).unwrap_or(64)
    }

    /// Bits from the start of frame to the end of the CRC, which stuffing covers: start 1, identifier 11, RTR, IDE, r0,
    /// length 4, data, CRC 15; with 29 bits of identifier 20 more.
    fn stuffed_part(bytes: usize, extended: bool) -> u64 {
        34 + 8 * bytes as u64 + if extended { 20 } else { 0 }
    }

    /// Behind the CRC: its delimiter 1, acknowledge 2, end of frame 7, intermission 3.
    const BEHIND: u64 = 13;

    /// Bits of a classic frame without stuff bits, intermission included.
    pub fn classic_bits(bytes: usize, extended: bool) -> u64 {
        stuffed_part(bytes, extended) + BEHIND
    }

    /// The most stuff bits of a classic frame: one behind the first five bits, then one for every four.
    pub fn classic_worst_stuffing(bytes: usize, extended: bool) -> u64 {
        (stuffed_part(bytes, extended) - 1) / 4
    }

    /// Bits of an FD frame at the nominal and at the data bit rate, without dynamic stuff bits. The size is rounded up to
    /// one that FD frames have.
    ///
    /// Nominal: start 1, identifier 11 (29 and two more bits if extended), RRS, IDE, FDF, reserved, BRS; behind the CRC:
    /// acknowledge 2, end of frame 7, intermission 3. Data: ESI, length 4, data, stuff count 4, CRC 17 (up to 16 bytes) or
    /// 21, a fixed stuff bit in front of every four of these, CRC delimiter 1.
    pub fn fd_bits(bytes: usize, extended: bool) -> (u64, u64) {
        let bytes = fd_size(bytes);
        let crc = 4 + if bytes <= 16 { 17 } else { 21 };
        let slow = fd_arbitration(extended) + 2 + 7 + 3;
        (slow, 1 + 4 + 8 * bytes as u64 + crc + u64::div_ceil(crc, 4) + 1)
    }

    fn fd_arbitration(extended: bool) -> u64 {
        if extended { 36 } else { 17 }
    }

    /// The most dynamic stuff bits of an FD frame in its nominal and in its data part.
    pub fn fd_worst_stuffing(bytes: usize, extended: bool) -> (u64, u64) {
        let arbitration = fd_arbitration(extended);
        let all = (arbitration + 5 + 8 * fd_size(bytes) as u64 - 1) / 4;
        let slow = (arbitration - 1) / 4;
        (slow, all - slow)
    }

    /// The stuff bits of a classic data frame with this content.
    pub fn classic_stuffing(data: &[u8], id: (u32, bool)) -> u64 {
        stuffing(&classic_frame(data, id)).iter().filter(|stuffed| **stuffed).count() as u64
    }

    /// The bits of a classic data frame from its start to the end of its checksum, without stuff bits; recessive is `true`. `id` is the
    /// identifier, and whether it has 29 bits.
    pub fn classic_frame(data: &[u8], id: (u32, bool)) -> Vec<bool> {
        let mut bits = Vec::with_capacity(150);
        header_bits(id, &mut bits);
        if id.1 {
            // RTR, r1, r0
            bits.extend([false; 3]);
        } else {
            // r0; RTR and IDE are there already.
            bits.push(false);
        }
        push(&mut bits, data.len() as u32, 4);
        data.iter().for_each(|byte| push(&mut bits, u32::from(*byte), 8));
        let crc = crc15(&bits);
        push(&mut bits, crc, 15);
        bits
    }

    /// The dynamic stuff bits of an FD data frame with this content, padded with zeros to a size that FD frames have, in its
    /// nominal and in its data part. The bit rate is switched, and the sender is error active.
    pub fn fd_stuffing(data: &[u8], id: (u32, bool)) -> (u64, u64) {
        let (bits, arbitration) = fd_frame(data, id);
        let stuffed = stuffing(&bits);
        let count = |part: &[bool]| part.iter().filter(|stuffed| **stuffed).count() as u64;
        // A stuff bit behind the last bit of the nominal part is sent at the data bit rate; behind the last bit of all stands the first
        // fixed one.
        (count(&stuffed[..arbitration - 1]), count(&stuffed[arbitration - 1..stuffed.len() - 1]))
    }

    /// The bits of an FD data frame from its start to the end of its data, without stuff bits, and how many of them have the nominal bit
    /// rate. Data are padded with zeros to a size that FD frames have, the bit rate is switched, and the sender is error active.
    pub fn fd_frame(data: &[u8], id: (u32, bool)) -> (Vec<bool>, usize) {
        let mut bits = Vec::with_capacity(600);
        header_bits(id, &mut bits);
        if !id.1 {
            // IDE stands behind RRS already; FDF is recessive.
        } else {
            bits.push(false); // RRS
        }
        bits.extend([true, false, true]); // FDF, reserved, BRS
        let arbitration = bits.len();
        bits.push(false); // ESI
        let size = fd_size(data.len());
        let code = FD_SIZES.iter().position(|other| *other == size).unwrap_or(15);
        push(&mut bits, code as u32, 4);
        for n in 0..size {
            push(&mut bits, u32::from(data.get(n).copied().unwrap_or(0)), 8);
        }
        (bits, arbitration)
    }

    /// Start of frame, identifier, and the bits up to IDE.
    fn header_bits((id, extended): (u32, bool), bits: &mut Vec<bool>) {
        bits.push(false);
        if extended {
            push(bits, id >> 18, 11);
            bits.extend([true, true]); // SRR, IDE
            push(bits, id & 0x3_FFFF, 18);
        } else {
            push(bits, id, 11);
            bits.extend([false, false]); // RTR or RRS, IDE
        }
    }

    fn push(bits: &mut Vec<bool>, value: u32, count: u32) {
        bits.extend((0..count).rev().map(|bit| value >> bit & 1 == 1));
    }

    /// The CRC of classic frames: polynomial 0x4599, 15 bits.
    fn crc15(bits: &[bool]) -> u32 {
        bits.iter().fold(0, |crc, bit| {
            let next = *bit != (crc >> 14 & 1 == 1);
            (crc << 1 & 0x7FFF) ^ if next { 0x4599 } else { 0 }
        })
    }

    /// Behind which of the bits a stuff bit follows: after five equal ones, stuff bits counting.
    pub fn stuffing(bits: &[bool]) -> Vec<bool> {
        let (mut run, mut last) = (0, true);
        bits.iter()
            .map(|bit| {
                run = if run > 0 && *bit == last { run + 1 } else { 1 };
                last = *bit;
                let stuff = run == 5;
                if stuff {
                    last = !last;
                    run = 1;
                }
                stuff
            })
            .collect()
    }
}
