//! What a checksum finds and what it misses.
//!
//! An error pattern goes unnoticed by a CRC if, as a polynomial, it is a multiple of the generator. The Hamming distance at a
//! length is the least number of wrong bits of such a pattern. It is computed, not looked up: positions whose powers of x add up
//! to 0 modulo the generator are searched for by meeting in the middle (the lengths are those of P. Koopman, "32-bit cyclic
//! redundancy codes for Internet applications", DSN 2002, and P. Koopman and T. Chakravarty, "Cyclic redundancy code (CRC)
//! polynomial selection for embedded networks", DSN 2004, which the tests compare with).

use std::collections::HashSet;
use std::hash::{BuildHasherDefault, Hasher};

use emberwort_model::algorithm::{Algorithm, CATALOGUE, Crc, SumKind};

/// The least length at which so many wrong bits can go unnoticed.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Breakpoint {
    /// The number of wrong bits.
    pub weight: u32,
    /// Bits of data, without the checksum, from which on there is such a pattern.
    pub from_data_bits: usize,
}

/// Hamming distances of a CRC by length.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Distances {
    /// Bits of the checksum.
    pub width: u8,
    /// The lengths at which the distance falls: rising weights, falling lengths.
    pub breakpoints: Vec<Breakpoint>,
    /// Weights that were searched for up to so many bits of data only, and not found.
    pub open: Vec<Breakpoint>,
}

/// Steps that the search for one weight may take: seconds.
const BUDGET: u64 = 200_000_000;
/// Lengths beyond which patterns of two, and of three, wrong bits are not looked for.
const LONGEST: [usize; 2] = [1 << 24, 1 << 20];
/// Most wrong bits that are looked for.
const MAX_WEIGHT: u32 = 12;

/// Finds the lengths at which the distance of a CRC falls, exactly for those of up to `data_bits` bits if it can be done, and
/// beyond them as far as it is quick. Of an even polynomial, which no CRC has, nothing is said to be found.
pub fn distances(crc: &Crc, data_bits: usize) -> Distances {
    let width = usize::from(crc.width);
    let mut distances = Distances { width: crc.width, breakpoints: Vec::new(), open: Vec::new() };
    if crc.polynomial & 1 == 0 {
        // Powers of x do not come back to 1, and every search would be in vain.
        distances.breakpoints.push(Breakpoint { weight: 1, from_data_bits: 1 });
        return distances;
    }
    // Below this length, checksum included, no pattern of fewer wrong bits exists.
    let mut bound = usize::MAX;
    // A multiple of x + 1 has an even number of terms.
    let only_even = (crc.polynomial.count_ones() + 1).is_multiple_of(2);
    let mut powers = PowersOfX::new(crc);
    for weight in 2..=MAX_WEIGHT {
        if only_even && weight % 2 == 1 {
            continue;
        }
        if bound <= width + 1 {
            break;
        }
        let longest = match weight {
            2 | 3 => LONGEST[weight as usize - 2],
            _ => usize::MAX,
        };
        let (found, searched) = powers.first(weight, bound.min(longest.max(data_bits + width)));
        match found {
            Some(length) => {
                bound = length;
                let from_data_bits = length.saturating_sub(width).max(1);
                distances.breakpoints.push(Breakpoint { weight, from_data_bits });
            }
            None if searched < bound => {
                let from_data_bits = searched.saturating_sub(width);
                distances.open.push(Breakpoint { weight, from_data_bits });
            }
            None => {}
        }
    }
    distances
}

impl Distances {
    /// The distance at a length, and whether it is exact: else it is at least this.
    pub fn at(&self, data_bits: usize) -> (u32, bool) {
        let found = self.breakpoints.iter().find(|point| point.from_data_bits <= data_bits);
        let open = self.open.iter().find(|point| point.from_data_bits < data_bits);
        match (found, open) {
            (Some(found), Some(open)) if open.weight < found.weight => (open.weight, false),
            (Some(found), _) => (found.weight, true),
            (None, Some(open)) => (open.weight, false),
            (None, None) => (MAX_WEIGHT + 1, false),
        }
    }

    /// The distances, the best first.
    pub fn ranges(&self) -> Vec<DistanceRange> {
        let mut sorted = self.breakpoints.clone();
        sorted.sort_by_key(|point| (point.from_data_bits, point.weight));
        let mut ranges: Vec<DistanceRange> = Vec::new();
        let mut lowest = u32::MAX;
        for (n, point) in sorted.iter().enumerate() {
            lowest = lowest.min(point.weight);
            let next = sorted.get(n + 1).map(|next| next.from_data_bits - 1);
            // A lower weight that was searched for up to some length only may fall below it there.
            let searched = self.open.iter().filter(|open| open.weight < lowest).map(|open| open.from_data_bits).min();
            let exact = searched.is_none_or(|searched| next.is_some_and(|next| next <= searched));
            let up_to = if exact { next } else { searched };
            let holds = DistanceRange { distance: lowest, up_to, exact };
            match ranges.last_mut() {
                Some(last) if last.distance == lowest => *last = holds,
                _ => ranges.push(holds),
            }
        }
        ranges.retain(|range| range.up_to != Some(0));
        ranges
    }

    /// The range of the distance at a length.
    pub fn range_at(&self, data_bits: usize) -> Option<DistanceRange> {
        let (distance, _) = self.at(data_bits);
        self.ranges().into_iter().find(|range| range.distance == distance)
    }
}

/// Up to which length a distance holds.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct DistanceRange {
    /// The Hamming distance.
    pub distance: u32,
    /// The most bits of data; `None` if it holds at all greater lengths.
    pub up_to: Option<usize>,
    /// Whether it falls beyond that length; else it was not searched any further.
    pub exact: bool,
}

/// Powers of x modulo a generator.
struct PowersOfX {
    width: u8,
    polynomial: u64,
    /// `powers[n]` is x^n.
    powers: Vec<u64>,
}

/// Numbers that are as good as random hash to themselves times an odd constant.
#[derive(Default)]
struct OddMultiplyHasher(u64);

impl Hasher for OddMultiplyHasher {
    fn finish(&self) -> u64 {
        self.0
    }
    fn write(&mut self, bytes: &[u8]) {
        for byte in bytes {
            self.write_u64(u64::from(*byte));
        }
    }
    fn write_u64(&mut self, value: u64) {
        self.0 = (self.0 ^ value).wrapping_mul(0x9E37_79B9_7F4A_7C15).rotate_left(26);
    }
}

type Set = HashSet<u64, BuildHasherDefault<OddMultiplyHasher>>;

impl PowersOfX {
    fn new(crc: &Crc) -> Self {
        Self { width: crc.width, polynomial: crc.polynomial, powers: vec![1] }
    }

    fn step(&self, power: u64) -> u64 {
        let high = power >> (self.width - 1) & 1 == 1;
        let moved = power << 1 & (u64::MAX >> (64 - self.width));
        if high { moved ^ self.polynomial } else { moved }
    }

    /// x^n, if it was not computed before.
    fn power(&mut self, n: usize) -> u64 {
        while self.powers.len() <= n {
            let last = self.powers[self.powers.len() - 1];
            self.powers.push(self.step(last));
        }
        self.powers[n]
    }

    /// The least length below `bound` at which `weight` positions, the first and the last among them, add up to 0; and the
    /// length up to which it was searched. No pattern of lower weight may exist below `bound`.
    fn first(&mut self, weight: u32, bound: usize) -> (Option<usize>, usize) {
        if weight == 2 {
            let mut power = 1;
            for last in 1..bound {
                power = self.step(power);
                if power == 1 {
                    return (Some(last + 1), bound);
                }
            }
            return (None, bound);
        }
        // Between the first and the last position, so many are chosen: half of them from a set that is kept.
        let mut left = BUDGET;
        let inner = weight as usize - 2;
        let (kept, looped) = (inner.div_ceil(2), inner / 2);
        let mut sums = Set::default();
        for last in 1..bound.saturating_sub(1) {
            let target = self.power(last) ^ 1;
            let inside = &self.powers[1..last];
            // The position before the last one is new.
            if let Some((newest, others)) = inside.split_last() {
                each_sum(others, kept - 1, *newest, &mut |sum| {
                    sums.insert(sum);
                    false
                });
            }
            let cost = combinations(inside.len(), looped).saturating_add(combinations(inside.len(), kept - 1));
            if cost > left || sums.len() > 30_000_000 {
                return (None, last);
            }
            left -= cost;
            if each_sum(inside, looped, target, &mut |sum| sums.contains(&sum)) {
                return (Some(last + 1), bound);
            }
        }
        (None, bound)
    }
}

/// How many ways there are to choose so many of some.
fn combinations(of: usize, chosen: usize) -> u64 {
    (0..chosen as u64).fold(1u64, |product, n| product.saturating_mul((of as u64).saturating_sub(n)) / (n + 1))
}

/// Calls `take` with `start` XORed with every choice of so many values, until it says true.
fn each_sum(values: &[u64], chosen: usize, start: u64, take: &mut impl FnMut(u64) -> bool) -> bool {
    match chosen {
        0 => take(start),
        1 => values.iter().any(|value| take(start ^ value)),
        _ => (chosen - 1..values.len()).any(|n| each_sum(&values[..n], chosen - 1, start ^ values[n], take)),
    }
}

/// Facts about errors that need no search.
#[derive(Clone, Debug, PartialEq)]
pub struct ErrorGuarantees {
    /// Bursts of up to so many bits are always found.
    pub burst_bits: u32,
    /// The share of frames with random content that pass.
    pub random_share: f64,
    /// The Hamming distance of sums, and why.
    pub distance: Option<(u32, &'static str)>,
}

/// Those of an algorithm over so many bytes of data.
pub fn facts(algorithm: &Algorithm, data_bytes: usize) -> ErrorGuarantees {
    let bits = algorithm.bits();
    let random_share = 2f64.powi(-i32::from(bits));
    let Algorithm::Sum(sum) = algorithm else {
        return ErrorGuarantees { burst_bits: u32::from(bits), random_share, distance: None };
    };
    let units = data_bytes.div_ceil(if sum.kind == SumKind::Fletcher32 { 2 } else { 1 });
    let (burst_bits, distance) = match (sum.kind, sum.kind.modulus()) {
        (SumKind::Xor8, _) => (8, (2, "two wrong bits in the same place of two bytes cancel")),
        (SumKind::Bytes { .. }, _) => {
            (8, (2, "a 1 that becomes 0, and a 0 that becomes 1 in the same place of another byte, cancel"))
        }
        // Sixteen ones and sixteen zeros are the same sum.
        (SumKind::Internet, _) => {
            (15, (2, "a 1 that becomes 0, and a 0 that becomes 1 in the same place of another word, cancel"))
        }
        (kind, modulus) => {
            // The weight of a place in the second sum comes back after as many places as the modulus says.
            let repeats = modulus.is_some_and(|modulus| units >= modulus as usize);
            let distance = match repeats {
                true => (2, "the frame is so long that two wrong bits can cancel in both sums"),
                false => (3, "one wrong bit of data, and one in each sum, can fit each other"),
            };
            let burst = match kind {
                // As many ones and as many zeros are the same modulo 255 and 65535.
                SumKind::Fletcher16 => 7,
                SumKind::Fletcher32 => 15,
                _ => 8,
            };
            (burst, distance)
        }
    };
    // The values that a modulus leaves out make the others likelier.
    let random_share = match sum.kind.modulus() {
        Some(modulus) => 1.0 / (f64::from(modulus) * f64::from(modulus)),
        None if sum.kind == SumKind::Internet => 1.0 / 65_535.0,
        None => random_share,
    };
    ErrorGuarantees { burst_bits, random_share, distance: Some(distance) }
}

/// A CRC of the catalogue, and its Hamming distance at some length.
#[derive(Clone, Debug, PartialEq)]
pub struct RatedCrc {
    /// Names of the catalogue with this generator.
    pub names: Vec<&'static str>,
    /// Its distances.
    pub distances: Distances,
}

/// The generators of the catalogue with so many bits, those with the greatest distance at this length first; of equals the one
/// that holds its distance longer.
pub fn best(width: u8, data_bits: usize) -> Vec<RatedCrc> {
    let mut generators: Vec<(u64, Crc, Vec<&'static str>)> = Vec::new();
    for entry in CATALOGUE.iter().filter(|entry| entry.crc.width == width) {
        match generators.iter_mut().find(|(polynomial, _, _)| *polynomial == entry.crc.polynomial) {
            Some((_, _, names)) => names.push(entry.name),
            None => generators.push((entry.crc.polynomial, entry.crc, vec![entry.name])),
        }
    }
    let mut rated: Vec<RatedCrc> = generators
        .into_iter()
        .map(|(_, crc, names)| RatedCrc { names, distances: distances(&crc, data_bits) })
        .collect();
    let holds =
        |rated: &RatedCrc| rated.distances.range_at(data_bits).and_then(|range| range.up_to).unwrap_or(usize::MAX);
    rated.sort_by_key(|rated| std::cmp::Reverse((rated.distances.at(data_bits).0, holds(rated))));
    rated
}

/// The share of frames that arrive damaged and pass, at a chance of each bit to be wrong: patterns of as many wrong bits as the
/// distance or more pass as often as random ones. An estimate.
pub fn undetected(frame_bits: usize, distance: u32, random_share: f64, bit_errors: f64) -> f64 {
    let n = frame_bits as f64;
    // Terms of the binomial distribution, from one to the next.
    let mut term = (n * (-bit_errors).ln_1p()).exp();
    let mut sum = 0.0;
    for wrong in 1..=frame_bits.min(distance as usize + 60) {
        let k = wrong as f64;
        term *= (n - k + 1.0) / k * bit_errors / (1.0 - bit_errors);
        if wrong >= distance as usize {
            sum += term;
        }
    }
    sum * random_share
}

#[cfg(test)]
mod tests {
    use super::*;

    fn of(name: &str, data_bits: usize) -> Distances {
        let Some(Algorithm::Crc(crc)) = Algorithm::named(name) else { panic!("{name}") };
        distances(&crc, data_bits)
    }

    fn most(distances: &Distances, distance: u32) -> Option<usize> {
        distances
            .ranges()
            .into_iter()
            .find(|range| range.distance == distance && range.exact)
            .and_then(|range| range.up_to)
    }

    /// The most data bits at which a distance holds, as published: Koopman 2002 (table 1) for the 32-bit ones, Koopman and
    /// Chakravarty 2004 (tables 1 and 3) for the others.
    #[test]
    fn breakpoints_are_those_that_were_published() {
        for (name, points) in [
            ("crc-32/iso-hdlc", &[(4, 91_607), (5, 2_974), (6, 268), (7, 171), (8, 91)][..]),
            ("crc-32/iscsi", &[(6, 5_243), (8, 177)][..]),
            ("crc-16/ibm-3740", &[(4, 32_751)][..]),
            ("crc-16/arc", &[(4, 32_751)][..]),
            ("crc-15/can", &[(6, 112)][..]),
            ("crc-12/umts", &[(4, 2_035)][..]),
            ("crc-8/smbus", &[(4, 119)][..]),
            ("crc-5/usb", &[(3, 26)][..]),
        ] {
            let found = of(name, 1000);
            for (distance, data_bits) in points {
                assert_eq!(most(&found, *distance), Some(*data_bits), "{name}, distance {distance}: {found:?}");
                assert_eq!(found.at(*data_bits), (*distance, true), "{name}");
                assert!(found.at(*data_bits + 1).0 < *distance, "{name}");
            }
        }
    }

    /// Whole lists of ranges: where each begins and ends, and which ends are only where the search did. The two of 32 bits as in
    /// Koopman 2002, table 1, from distance 12 down.
    #[test]
    fn ranges_hold_from_one_end_to_the_other() {
        let exact = |distance, up_to| DistanceRange { distance, up_to, exact: true };
        let open = |distance, up_to| DistanceRange { distance, up_to: Some(up_to), exact: false };
        let limit = LONGEST[0] - 32;
        for (name, ranges) in [
            ("crc-5/usb", vec![exact(3, Some(26)), exact(2, None)]),
            ("crc-8/smbus", vec![exact(4, Some(119)), exact(2, None)]),
            ("crc-15/can", vec![exact(8, Some(7)), exact(6, Some(112)), exact(2, None)]),
            ("crc-16/ibm-3740", vec![exact(4, Some(32_751)), exact(2, None)]),
            (
                "crc-32/iso-hdlc",
                [(12, 12), (11, 21), (10, 34), (9, 57), (8, 91), (7, 171), (6, 268), (5, 2_974), (4, 91_607)]
                    .map(|(distance, up_to)| exact(distance, Some(up_to)))
                    .into_iter()
                    .chain([open(3, limit)])
                    .collect(),
            ),
            (
                "crc-32/iscsi",
                vec![
                    exact(12, Some(20)),
                    exact(10, Some(47)),
                    exact(8, Some(177)),
                    exact(6, Some(5_243)),
                    open(4, limit),
                ],
            ),
        ] {
            let found = of(name, 1000);
            assert_eq!(found.ranges(), ranges, "{name}");
            for range in &ranges {
                let Some(end) = range.up_to else {
                    assert_eq!(found.at(1 << 24), (range.distance, true), "{name}");
                    continue;
                };
                assert_eq!((found.at(end).0, found.range_at(end)), (range.distance, Some(*range)), "{name} at {end}");
                // One bit more: less is held, or nothing was searched there.
                let beyond = found.at(end + 1);
                assert!(
                    if range.exact { beyond.0 < range.distance } else { !beyond.1 },
                    "{name} at {}: {beyond:?}",
                    end + 1
                );
            }
        }
    }

    /// Sums modulo 255 over one byte less than repeats the weights, and over as many: a single wrong bit of data that changes a
    /// single bit of both sums is what makes two wrong bits pass.
    #[test]
    fn distances_of_fletchers_sum_change_where_its_weights_repeat() {
        use emberwort_wire::checksum::Checksum;
        let algorithm = Algorithm::named("fletcher16").unwrap();
        let checksum = Checksum::new(&algorithm);
        let least = |bytes: usize| {
            let mut least = u32::MAX;
            for fill in [0u8, 1, 2, 0x10, 0x80, 0xF0] {
                let mut data = vec![fill; bytes];
                let sum = checksum.compute(&data);
                for bit in 0..bytes * 8 {
                    data[bit / 8] ^= 1 << (bit % 8);
                    least = least.min(1 + (sum ^ checksum.compute(&data)).count_ones());
                    data[bit / 8] ^= 1 << (bit % 8);
                }
            }
            least
        };
        for (bytes, distance) in [(253, 3), (254, 3), (255, 2), (256, 2)] {
            assert_eq!(facts(&algorithm, bytes).distance.unwrap().0, distance, "{bytes} bytes");
            assert_eq!(least(bytes), distance, "{bytes} bytes");
        }
        // Adler's modulus is 65,521; Fletcher's sum of 32 bits counts words of two bytes modulo 65,535.
        for (name, before) in [("adler32", 65_520), ("fletcher32", 2 * 65_534)] {
            let distance = |bytes| facts(&Algorithm::named(name).unwrap(), bytes).distance.unwrap().0;
            assert_eq!((distance(before), distance(before + 1)), (3, 2), "{name}");
        }
    }

    /// All sums of two words (RFC 1071), counted: two frames of random content have the same one as often as is said.
    #[test]
    fn one_of_65_535_frames_passes_an_internet_checksum() {
        let mut ways = vec![0u64; 1 << 16];
        for sum in 0..=2 * 0xFFFFu64 {
            // As many pairs of words add up to it.
            ways[(sum & 0xFFFF) as usize + (sum >> 16) as usize] += 0x1_0000 - sum.abs_diff(0xFFFF);
        }
        assert_eq!(ways.iter().sum::<u64>(), 1 << 32);
        let share: f64 = ways.iter().map(|ways| (*ways as f64 / 2f64.powi(32)).powi(2)).sum();
        let said = facts(&Algorithm::named("internet").unwrap(), 4).random_share;
        assert!((said - share).abs() < share * 1e-6, "{said} is said, {share} is counted");
        // A sum of 16 bits without the carry passes less often: the difference is seen.
        assert!((facts(&Algorithm::named("sum16").unwrap(), 4).random_share - share).abs() > share * 1e-5);
    }

    /// All patterns of a short code, counted one by one.
    #[test]
    fn short_codes_agree_with_trying_every_pattern() {
        for polynomial in [0x03u64, 0x05, 0x09, 0x0B, 0x15, 0x17, 0x1D] {
            let crc = Crc { width: 5, polynomial, initial: 0, reflect_in: false, reflect_out: false, final_xor: 0 };
            let found = distances(&crc, 20);
            for data_bits in 1..=13usize {
                let length = data_bits + 5;
                let full = 1 << 5 | polynomial;
                let least = (1u64..1 << length)
                    .filter(|pattern| {
                        let mut rest = *pattern;
                        for bit in (5..length).rev() {
                            if rest >> bit & 1 == 1 {
                                rest ^= full << (bit - 5);
                            }
                        }
                        rest == 0
                    })
                    .map(u64::count_ones)
                    .min();
                assert_eq!(Some(found.at(data_bits).0), least, "0x{polynomial:X} at {data_bits}: {found:?}");
            }
        }
    }

    /// All frames of two bytes with their sum, and all patterns of two wrong bits in three bytes of Fletcher's.
    #[test]
    fn distances_of_sums_agree_with_trying() {
        use emberwort_wire::checksum::Checksum;
        for name in ["sum8", "xor8", "fletcher16", "internet", "sum16", "adler32"] {
            let algorithm = Algorithm::named(name).unwrap();
            let checksum = Checksum::new(&algorithm);
            let facts = facts(&algorithm, 4);
            let width = usize::from(algorithm.bits());
            let frame = |data: u64| data << width | checksum.compute(&(data as u32).to_be_bytes());
            let mut least = u32::MAX;
            for data in [0u64, 0xFFFF_FFFF, 0x0F0F_1234, 0x8001_7FFE, 0x0102_0408] {
                // All patterns of one or two wrong bits of data.
                for a in 0..32 {
                    for b in 0..=a {
                        let other = data ^ (1 << a) ^ if a == b { 0 } else { 1 << b };
                        least = least.min((frame(data) ^ frame(other)).count_ones());
                    }
                }
            }
            assert!(least >= facts.distance.unwrap().0, "{name}: {least} wrong bits pass");
            assert!(facts.distance.unwrap().0 == 3 || least == 2, "{name}: {least}");
        }
    }

    #[test]
    fn the_best_of_16_bits_for_64_bytes() {
        let rated = best(16, 512);
        assert!(rated.windows(2).all(|pair| pair[0].distances.at(512).0 >= pair[1].distances.at(512).0));
        let of = |name: &str| rated.iter().find(|rated| rated.names.contains(&name)).unwrap().distances.at(512);
        assert_eq!((of("crc-16/ibm-3740"), of("crc-16/xmodem")), ((4, true), (4, true)));
        assert!(rated[0].distances.at(512).0 >= 4);
    }

    #[test]
    fn estimates_of_what_passes() {
        // One bit of 100 wrong in 1 of 1,000: chance of exactly 4 is C(100,4) · 10^-12 · 0.999^96 = 3.56e-6; of more, little.
        let share = undetected(100, 4, 2f64.powi(-16), 1e-3);
        assert!((5.4e-11..5.7e-11).contains(&share), "{share}");
        assert_eq!(undetected(100, 4, 0.5, 0.0), 0.0);
    }
}
