//! A checksum that differs from the one computed: which usual mistake explains the one that was found.

use std::ops::Range;

use emberwort_model::algorithm::{Algorithm, CATALOGUE, Crc};
use emberwort_wire::checksum::Checksum;

/// What was tried, and what fits.
#[derive(Clone, Debug, Default, PartialEq)]
pub struct Mistakes {
    /// Explanations with the fewest mistakes, as clauses: `if the first 2 bytes are left out`.
    pub fitting: Vec<String>,
    /// How many variations were tried.
    pub tried: usize,
    /// How many of them would fit by chance, if the value found were random.
    pub by_chance: f64,
}

/// Bytes that are left out or taken in, at most.
const REACH: usize = 8;

/// Longer stretches are not searched for a wrong bit, which would take a checksum for each of them.
pub const MAX_SEARCHED: usize = 4096;

/// Most explanations that are kept.
const MOST: usize = 6;

/// Looks for what makes the checksum of `bytes[range]` the value found: another range, bytes swapped, complemented, another
/// start or end value, another way of mirroring, another algorithm of the catalogue; then one wrong bit, in the checksum or in a range
/// of at most [`MAX_SEARCHED`] bytes, and two neighbouring bytes swapped; then two of the first kind.
pub fn mistakes(algorithm: &Algorithm, bytes: &[u8], range: Range<usize>, found: u64) -> Mistakes {
    let bits = algorithm.bits();
    let values = value_variations(bits);
    let ranges = range_variations(bytes.len(), &range);
    let algorithms = algorithm_variations(algorithm);
    let mut all = Mistakes::default();
    let mut by_count: [Vec<String>; 2] = [Vec::new(), Vec::new()];
    let damages = damages(algorithm, bytes, range.clone(), found, &mut all.tried);
    for (algorithm, of_algorithm) in &algorithms {
        let checksum = Checksum::new(algorithm);
        for (range, of_range) in &ranges {
            if of_algorithm.is_some()
                && of_range.is_some()
                && matches!(of_algorithm, Some(what) if what.starts_with("it is"))
            {
                // Any algorithm over any range would find too much.
                continue;
            }
            let value = checksum.compute(&bytes[range.clone()]);
            for (change, of_value) in &values {
                let clauses: Vec<&str> =
                    [of_algorithm, of_range, of_value].into_iter().flatten().map(String::as_str).collect();
                if clauses.is_empty() || clauses.len() > 2 {
                    continue;
                }
                all.tried += 1;
                if change(value, bits) == found {
                    by_count[clauses.len() - 1].push(format!("if {}", clauses.join(", and ")));
                }
            }
        }
    }
    let [single, double] = by_count;
    all.fitting = [single, damages, double].into_iter().find(|clauses| !clauses.is_empty()).unwrap_or_default();
    all.fitting.truncate(MOST);
    all.by_chance = all.tried as f64 / 2f64.powi(i32::from(bits));
    all
}

/// One wrong bit, or two neighbouring bytes in the wrong order, that explain the value found.
fn damages(algorithm: &Algorithm, bytes: &[u8], range: Range<usize>, found: u64, tried: &mut usize) -> Vec<String> {
    let checksum = Checksum::new(algorithm);
    let (first, mut stretch) = (range.start, bytes[range].to_vec());
    let mut fitting = Vec::new();
    *tried += usize::from(algorithm.bits());
    let difference = checksum.compute(&stretch) ^ found;
    if difference.is_power_of_two() {
        fitting.push(format!("if bit {} of the checksum itself is wrong", difference.trailing_zeros()));
    }
    if stretch.len() > MAX_SEARCHED {
        return fitting;
    }
    for n in 0..stretch.len() {
        let (at, is) = (first + n, stretch[n]);
        for bit in 0..8 {
            *tried += 1;
            stretch[n] = is ^ 1 << bit;
            if checksum.compute(&stretch) == found {
                fitting.push(format!(
                    "if bit {bit} of byte {at} (counted from 0) is wrong: {:02X} in place of {is:02X}",
                    stretch[n]
                ));
            }
        }
        stretch[n] = is;
        if n + 1 < stretch.len() && is != stretch[n + 1] {
            *tried += 1;
            stretch.swap(n, n + 1);
            if checksum.compute(&stretch) == found {
                fitting.push(format!("if bytes {at} and {} (counted from 0) are swapped", at + 1));
            }
            stretch.swap(n, n + 1);
        }
    }
    fitting
}

type Change = fn(u64, u8) -> u64;

fn same(value: u64, _: u8) -> u64 {
    value
}

fn swapped(value: u64, bits: u8) -> u64 {
    value.swap_bytes() >> (64 - bits)
}

fn complemented(value: u64, bits: u8) -> u64 {
    !value & (u64::MAX >> (64 - bits))
}

fn negated(value: u64, bits: u8) -> u64 {
    value.wrapping_neg() & (u64::MAX >> (64 - bits))
}

fn both(value: u64, bits: u8) -> u64 {
    complemented(swapped(value, bits), bits)
}

fn value_variations(bits: u8) -> Vec<(Change, Option<String>)> {
    let mut all: Vec<(Change, Option<String>)> = vec![
        (same, None),
        (complemented, Some("it is complemented (every bit inverted)".into())),
        (negated, Some("it is negated (two's complement)".into())),
    ];
    if bits > 8 && bits.is_multiple_of(8) {
        all.push((swapped, Some("its bytes are swapped".into())));
        all.push((both, Some("its bytes are swapped and it is complemented".into())));
    }
    all
}

fn range_variations(length: usize, range: &Range<usize>) -> Vec<(Range<usize>, Option<String>)> {
    let count = |n: usize| if n == 1 { "byte".to_owned() } else { format!("{n} bytes") };
    let mut all = vec![(range.clone(), None)];
    for n in 1..=REACH {
        if range.len() > n {
            all.push((range.start + n..range.end, Some(format!("the first {} is left out", count(n)))));
            all.push((range.start..range.end - n, Some(format!("the last {} is left out", count(n)))));
        }
        if range.start >= n {
            let word = if n == 1 { "byte before is".into() } else { format!("{n} bytes before are") };
            all.push((range.start - n..range.end, Some(format!("the {word} taken in too"))));
        }
        if range.end + n <= length {
            let word = if n == 1 { "byte after is".into() } else { format!("{n} bytes after are") };
            all.push((range.start..range.end + n, Some(format!("the {word} taken in too"))));
        }
    }
    for (_, clause) in &mut all {
        *clause = clause.take().map(|clause| clause.replace("bytes is", "bytes are"));
    }
    all
}

fn algorithm_variations(algorithm: &Algorithm) -> Vec<(Algorithm, Option<String>)> {
    let mut all = vec![(*algorithm, None)];
    let bits = algorithm.bits();
    let ones = u64::MAX >> (64 - bits);
    for start in [0, 1, ones] {
        let other = algorithm.with_start(start);
        if other != *algorithm {
            all.push((other, Some(format!("it starts with 0x{start:X}"))));
        }
    }
    let Algorithm::Crc(crc) = *algorithm else { return all };
    for final_xor in [0, ones] {
        if final_xor != crc.final_xor {
            let what = format!("what is XORed onto the result is 0x{final_xor:X}");
            all.push((algorithm.with_final_xor(final_xor), Some(what)));
        }
    }
    let mirrored = Crc { reflect_in: !crc.reflect_in, reflect_out: !crc.reflect_out, ..crc };
    let way = if crc.reflect_in { "most" } else { "least" };
    all.push((Algorithm::Crc(mirrored), Some(format!("bytes go in {way} significant bit first"))));
    let known = CATALOGUE.iter().filter(|entry| entry.crc.width == bits && entry.crc != crc);
    all.extend(known.map(|entry| (Algorithm::Crc(entry.crc), Some(format!("it is {}", entry.name)))));
    all
}
