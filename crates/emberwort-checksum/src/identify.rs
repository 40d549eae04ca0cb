//! Which checksum some frames carry: tried from the catalogue, and where nothing of it fits worked out by algebra.
//!
//! A CRC with start value I and final value F over a message M of L bits is `M·x^w + I·x^L + F` modulo its polynomial P. Of two
//! frames F cancels, of three I too, so that P divides what is left; the greatest common divisor of several such rests is P
//! itself. Then I and F follow from linear equations.

use std::collections::BTreeSet;
use std::ops::Range;

use emberwort_model::algorithm::{Algorithm, CATALOGUE, Crc, Sum, SumKind};
use emberwort_model::model::ByteOrder;
use emberwort_wire::checksum::Checksum;

use crate::polynomial::Polynomial;

/// Where the checksum may stand, and how wide it may be.
#[derive(Clone, Debug, Default)]
pub struct SearchSpace {
    /// Offset of its first byte; a negative one counts from the end. Without it, it stands at the end.
    pub at: Option<i64>,
    /// Its bits; without them 8, 16, 24, 32 and 64 are tried, and what the catalogue has besides.
    pub bits: Option<u8>,
    /// Whether it may stand elsewhere: up to eight bytes from the start, or four from the end.
    pub anywhere: bool,
}

/// What explains all frames.
#[derive(Clone, Debug, PartialEq)]
pub struct Explanation {
    /// The algorithm.
    pub algorithm: Algorithm,
    /// Its name in the catalogue, if it has one.
    pub name: Option<&'static str>,
    /// Offset of the checksum's first byte; a negative one counts from the end.
    pub at: i64,
    /// How its bytes are stored.
    pub order: ByteOrder,
    /// Bytes left out at the frame's start.
    pub from: usize,
    /// Bytes left out at the frame's end.
    pub left_out: usize,
    /// How many bits of the frames' checksums were not needed to find it: each halves the chance that it fits by accident.
    pub spare_bits: f64,
    /// Whether another start value and final value would do the same for frames of these lengths.
    pub start_is_open: bool,
}

/// What came of it.
#[derive(Clone, Debug, PartialEq)]
pub enum Answer {
    /// These explain all frames, the most certain first.
    Found(Vec<Explanation>),
    /// They explain all but these frames, by number from 0.
    AllBut(Vec<usize>, Vec<Explanation>),
    /// Frames with the same bytes and different checksums, by number from 0.
    Contradiction(usize, usize),
    /// Nothing fits, and so many frames more are needed to look for a polynomial of any kind.
    MoreFrames(usize),
    /// Nothing fits.
    Nothing,
}

/// Bytes that may be left out at the start, and before the checksum or at the end.
const MAX_BEFORE: usize = 8;
const MAX_BEHIND: usize = 3;
/// Spare bits below which an explanation may be an accident.
pub const CERTAIN_BITS: f64 = 20.0;
/// Frames of different lengths from which a polynomial can be worked out, a start and a final value included.
const ENOUGH_FRAMES: usize = 5;

/// A place of the checksum, a range that it covers, and how its bytes are stored.
#[derive(Clone, Copy, Debug)]
struct Place {
    at: i64,
    bits: u8,
    order: ByteOrder,
    from: usize,
    left_out: usize,
}

impl Place {
    /// The checksum and the bytes that it covers; `None` if the frame is too short.
    fn read<'a>(&self, frame: &'a [u8]) -> Option<(u64, &'a [u8])> {
        let count = usize::from(self.bits.div_ceil(8));
        let start =
            if self.at < 0 { frame.len().checked_sub(self.at.unsigned_abs() as usize)? } else { self.at as usize };
        let stored = frame.get(start..start + count)?;
        let covered: Range<usize> = self.from..frame.len().checked_sub(self.left_out)?;
        let inside = covered.start < start + count && start < covered.end;
        if covered.is_empty() || inside {
            return None;
        }
        let push = |value: u64, byte: &u8| value << 8 | u64::from(*byte);
        let value = match self.order {
            ByteOrder::Big => stored.iter().fold(0, push),
            ByteOrder::Little => stored.iter().rev().fold(0, push),
        };
        (self.bits == 64 || value >> self.bits == 0).then(|| (value, &frame[covered]))
    }
}

/// The bytes with which all frames end, if there are at least three different ones: such bytes are no checksum.
pub fn constant_end(frames: &[Vec<u8>]) -> &[u8] {
    let Some((first, others)) = frames.split_first() else { return &[] };
    if others.iter().filter(|other| *other != first).count() < 2 {
        return &[];
    }
    let same = |other: &Vec<u8>| first.iter().rev().zip(other.iter().rev()).take_while(|(a, b)| a == b).count();
    let count = others.iter().map(same).min().unwrap_or(0);
    &first[first.len() - count..]
}

/// Looks for what explains the frames. `progress` is told again and again how many steps are done, and of how many at most.
pub fn identify(frames: &[Vec<u8>], question: &SearchSpace, progress: &mut dyn FnMut(u64, u64)) -> Answer {
    let places = places(frames, question);
    let rounds = if frames.len() > 3 { 1 + frames.len() as u64 } else { 1 };
    let all_steps = 2 * places.len() as u64 * rounds;
    let mut done = 0;
    let mut step = || {
        done += 1;
        progress(done, all_steps);
    };
    if let Some((a, b)) = contradiction(frames, &places) {
        return Answer::Contradiction(a, b);
    }
    let all: Vec<&[u8]> = frames.iter().map(Vec::as_slice).collect();
    let found = explanations(&all, &places, &mut step);
    if !found.is_empty() {
        return Answer::Found(found);
    }
    // One that is damaged would hide what explains all others.
    if frames.len() > 3 {
        for without in 0..frames.len() {
            let mut rest = all.clone();
            rest.remove(without);
            let found = explanations(&rest, &places, &mut step);
            if found.first().is_some_and(|best| best.spare_bits >= CERTAIN_BITS) {
                return Answer::AllBut(vec![without], found);
            }
        }
    }
    if frames.len() < ENOUGH_FRAMES { Answer::MoreFrames(ENOUGH_FRAMES - frames.len()) } else { Answer::Nothing }
}

fn places(frames: &[Vec<u8>], question: &SearchSpace) -> Vec<Place> {
    let shortest = frames.iter().map(Vec::len).min().unwrap_or(0);
    let widths: Vec<u8> = match question.bits {
        Some(bits) => vec![bits],
        None => {
            let mut widths: Vec<u8> = CATALOGUE.iter().map(|entry| entry.crc.width).collect();
            widths.dedup();
            widths
        }
    };
    let mut places = Vec::new();
    for bits in widths {
        let count = i64::from(bits.div_ceil(8));
        let ats: Vec<i64> = match question.at {
            Some(at) => vec![at],
            None if question.anywhere => (0..=4).map(|behind| -count - behind).chain(0..=MAX_BEFORE as i64).collect(),
            None => vec![-count],
        };
        for at in ats {
            let orders: &[ByteOrder] = if bits > 8 { &[ByteOrder::Big, ByteOrder::Little] } else { &[ByteOrder::Big] };
            let ends: Vec<usize> = match at {
                at if at < 0 => (0..=MAX_BEHIND).map(|n| at.unsigned_abs() as usize + n).collect(),
                _ => (0..=MAX_BEHIND).collect(),
            };
            let starts: Vec<usize> = if at < 0 {
                (0..=MAX_BEFORE).collect()
            } else {
                let behind = (at + count) as usize;
                (0..=MAX_BEFORE).filter(|from| *from >= behind || *from + 1 < at as usize).collect()
            };
            for (order, from, left_out) in orders
                .iter()
                .flat_map(|order| starts.iter().flat_map(|from| ends.iter().map(|end| (*order, *from, *end))))
            {
                if from + left_out < shortest {
                    places.push(Place { at, bits, order, from, left_out });
                }
            }
        }
    }
    places
}

/// Two frames that differ in nothing but the checksum.
fn contradiction(frames: &[Vec<u8>], places: &[Place]) -> Option<(usize, usize)> {
    let place = places.iter().find(|place| place.from == 0 && place.left_out == place.at.unsigned_abs() as usize)?;
    let read: Vec<_> = frames.iter().map(|frame| place.read(frame)).collect();
    (0..frames.len()).flat_map(|b| (0..b).map(move |a| (a, b))).find(|(a, b)| match (&read[*a], &read[*b]) {
        (Some((x, of_x)), Some((y, of_y))) => of_x == of_y && x != y,
        _ => false,
    })
}

fn explanations(frames: &[&[u8]], places: &[Place], step: &mut dyn FnMut()) -> Vec<Explanation> {
    let mut found = Vec::new();
    let mut tried = 0usize;
    for place in places {
        step();
        let Some(read) = frames.iter().map(|frame| place.read(frame)).collect::<Option<Vec<_>>>() else { continue };
        tried += 1;
        known(place, &read, &mut found);
    }
    if found.is_empty() {
        for place in places {
            step();
            let Some(read) = frames.iter().map(|frame| place.read(frame)).collect::<Option<Vec<_>>>() else { continue };
            sums(place, &read, &mut found);
            if place.bits % 8 == 0 {
                worked_out(place, &read, &mut found);
            }
        }
    }
    let attempts = (tried.max(1) as f64).log2() + (Algorithm::names().count() as f64).log2();
    for explanation in &mut found {
        explanation.spare_bits -= attempts;
    }
    found.retain(|explanation| explanation.spare_bits > 0.0);
    // The most certain first; of those the one that leaves least out, and needs no special values.
    found.sort_by(|a, b| {
        let simple = |e: &Explanation| (e.name.is_none(), e.left_out, e.from, e.order == ByteOrder::Little);
        b.spare_bits.total_cmp(&a.spare_bits).then(simple(a).cmp(&simple(b)))
    });
    found.dedup_by(|a, b| {
        a.algorithm == b.algorithm && a.from == b.from && a.left_out == b.left_out && a.order == b.order
    });
    found
}

fn explanation(place: &Place, algorithm: Algorithm, spare_bits: f64, start_is_open: bool) -> Explanation {
    let name = Algorithm::names().find(|name| Algorithm::named(name) == Some(algorithm));
    let Place { at, order, from, left_out, .. } = *place;
    Explanation { algorithm, name, at, order, from, left_out, spare_bits, start_is_open }
}

/// Bits of distinct frames' checksums. A checksum that is the same each time proves nothing, however many frames have it.
fn evidence(place: &Place, read: &[(u64, &[u8])]) -> f64 {
    fn distinct<T: Ord>(all: impl Iterator<Item = T>) -> usize {
        all.collect::<BTreeSet<T>>().len()
    }
    let frames = distinct(read.iter().map(|(_, bytes)| *bytes));
    let checksums = distinct(read.iter().map(|(value, _)| *value));
    (frames.min(checksums) * usize::from(place.bits)) as f64
}

/// Those with a name.
fn known(place: &Place, read: &[(u64, &[u8])], found: &mut Vec<Explanation>) {
    for name in Algorithm::names() {
        let Some(algorithm) = Algorithm::named(name).filter(|algorithm| algorithm.bits() == place.bits) else {
            continue;
        };
        let checksum = Checksum::new(&algorithm);
        if read.iter().all(|(value, bytes)| checksum.compute(bytes) == *value) {
            found.push(explanation(place, algorithm, evidence(place, read), false));
        }
    }
}

/// Sums with another start or final value.
fn sums(place: &Place, read: &[(u64, &[u8])], found: &mut Vec<Explanation>) {
    let bits = place.bits;
    let mask = u64::MAX >> (64 - bits);
    let kinds = [
        SumKind::Bytes { bits, negated: false },
        SumKind::Bytes { bits, negated: true },
        SumKind::Xor8,
        SumKind::Internet,
    ];
    for kind in kinds.into_iter().filter(|kind| kind.bits() == bits && matches!(bits, 8 | 16)) {
        let plain = Algorithm::Sum(Sum { kind, start: kind.usual_start(), final_xor: 0 });
        let checksum = Checksum::new(&plain);
        let (value, bytes) = read[0];
        let computed = checksum.compute(bytes);
        let difference = match kind {
            SumKind::Bytes { negated: true, .. } => computed.wrapping_sub(value) & mask,
            _ => value.wrapping_sub(computed) & mask,
        };
        for algorithm in [plain.with_start(difference), plain.with_final_xor(value ^ computed)] {
            let checksum = Checksum::new(&algorithm);
            if algorithm != plain && read.iter().all(|(value, bytes)| checksum.compute(bytes) == *value) {
                found.push(explanation(place, algorithm, evidence(place, read) - f64::from(bits), false));
            }
        }
    }
}

/// A CRC with any polynomial, start and final value, mirrored in any way.
fn worked_out(place: &Place, read: &[(u64, &[u8])], found: &mut Vec<Explanation>) {
    if read.len() < 3 {
        return;
    }
    let width = place.bits;
    for (reflect_in, reflect_out) in [(false, false), (true, true), (true, false), (false, true)] {
        let register = |value: u64| if reflect_out { value.reverse_bits() >> (64 - width) } else { value };
        let system = System::new(width, read.iter().map(|(value, bytes)| (register(*value), *bytes)), reflect_in);
        // The polynomial of a CRC is odd.
        for polynomial in system.polynomials().into_iter().filter(|polynomial| polynomial.low_bits() & 1 == 1) {
            let Some((initial, last, is_open)) = system.start_and_final(&polynomial) else { continue };
            let crc = Crc {
                width,
                polynomial: polynomial.low_bits() & (u64::MAX >> (64 - width)),
                initial,
                reflect_in,
                reflect_out,
                final_xor: register(last),
            };
            let algorithm = Algorithm::Crc(crc);
            let checksum = Checksum::new(&algorithm);
            if read.iter().all(|(value, bytes)| checksum.compute(bytes) == *value) {
                // The polynomial, the start and the final value were fitted.
                let fitted = f64::from(width) * 3.0;
                found.push(explanation(place, algorithm, evidence(place, read) - fitted, is_open));
            }
        }
    }
}

/// The frames as polynomials, the shortest first.
struct System {
    width: u8,
    /// `M·x^w + C` of each frame, and the bits of M.
    frames: Vec<(Polynomial, usize)>,
}

impl System {
    fn new<'a>(width: u8, read: impl Iterator<Item = (u64, &'a [u8])>, mirrored: bool) -> Self {
        let mut frames: Vec<(Polynomial, usize)> = read
            .map(|(value, bytes)| {
                let message = Polynomial::of_message(bytes, mirrored).shifted(usize::from(width));
                (message.plus(&Polynomial::from_bits(value)), bytes.len() * 8)
            })
            .collect();
        frames.sort_by_key(|(_, bits)| *bits);
        Self { width, frames }
    }

    /// The difference of a frame from the first, and by how many bits it is longer.
    fn difference(&self, n: usize) -> (Polynomial, usize) {
        let (first, base) = &self.frames[0];
        let (other, bits) = &self.frames[n];
        (other.clone().plus(first), bits - base)
    }

    /// Polynomials of the width that divide all that the right one must divide.
    fn polynomials(&self) -> Vec<Polynomial> {
        let differences: Vec<(Polynomial, usize)> = (1..self.frames.len()).map(|n| self.difference(n)).collect();
        let step = differences.iter().fold(0, |step, (_, longer)| greatest_common(step, *longer));
        // Each difference is I·x^L·(x^d + 1), and all x^d + 1 are multiples of x^step + 1, which is left out.
        let unit = Polynomial::power(step).plus(&Polynomial::power(0));
        let quotient = |longer: usize| Polynomial::power(longer).plus(&Polynomial::power(0)).divided(&unit).0;
        let longer: Vec<(&Polynomial, Polynomial)> = differences
            .iter()
            .filter(|(_, longer)| *longer > 0)
            .map(|(difference, longer)| (difference, quotient(*longer)))
            .collect();
        let same = differences.iter().filter(|(_, longer)| *longer == 0).map(|(difference, _)| difference.clone());
        let pairs = (0..longer.len()).flat_map(|j| (0..j).map(move |i| (i, j)));
        let crossed = pairs.map(|(i, j)| longer[i].0.times(&longer[j].1).plus(&longer[j].0.times(&longer[i].1)));
        let width = usize::from(self.width);
        let mut common = Polynomial::zero();
        for relation in same.chain(crossed).filter(|relation| !relation.is_zero()) {
            common = relation.common_divisor(common);
            if common.degree().is_some_and(|degree| degree < width) {
                return Vec::new();
            }
            if common.degree() == Some(width) {
                return vec![common];
            }
        }
        // What is left over has small factors by accident: they are taken out in every way.
        match common.degree() {
            Some(degree) if degree > width && degree <= width + 24 => without_small_factors(&common, width),
            _ => Vec::new(),
        }
    }

    /// The start value, the final value, and whether other start values would do the same.
    fn start_and_final(&self, polynomial: &Polynomial) -> Option<(u64, u64, bool)> {
        let width = usize::from(self.width);
        let base = self.frames[0].1;
        // Rows of equations: the coefficients of the start value's bits, and the right side at bit 64.
        let mut rows: Vec<u128> = Vec::new();
        for n in 1..self.frames.len() {
            let (difference, longer) = self.difference(n);
            if longer == 0 {
                continue;
            }
            let factor = Polynomial::power(base).times(&Polynomial::power(longer).plus(&Polynomial::power(0)));
            let columns: Vec<u64> = (0..width).map(|bit| factor.shifted(bit).modulo(polynomial).low_bits()).collect();
            let right = difference.modulo(polynomial).low_bits();
            for row in 0..width {
                let coefficients = columns
                    .iter()
                    .enumerate()
                    .fold(0u128, |all, (bit, column)| all | u128::from(column >> row & 1) << bit);
                rows.push(coefficients | u128::from(right >> row & 1) << 64);
            }
        }
        let (particular, is_open) = solve(&mut rows, width)?;
        let ones = u64::MAX >> (64 - width);
        let last = |initial: u64| {
            let started = Polynomial::from_bits(initial).shifted(base);
            self.frames[0].0.clone().plus(&started).modulo(polynomial).low_bits()
        };
        let holds = |initial: u64| {
            rows.iter().all(|row| {
                let even = (*row as u64 & initial).count_ones() % 2;
                u64::from(even) == (row >> 64) as u64 & 1
            })
        };
        // Of several the usual ones are the likeliest: with a usual final value first.
        let usual = [0, ones];
        let candidates: Vec<u64> = usual.into_iter().filter(|initial| is_open && holds(*initial)).collect();
        let best = candidates.iter().copied().find(|initial| usual.contains(&last(*initial)));
        let initial = best.or(candidates.first().copied()).unwrap_or(particular);
        Some((initial, last(initial), is_open))
    }
}

fn greatest_common(a: usize, b: usize) -> usize {
    if b == 0 { a } else { greatest_common(b, a % b) }
}

/// Solves linear equations over the field with two elements; `None` without a solution, and whether there are more than one.
fn solve(rows: &mut Vec<u128>, unknowns: usize) -> Option<(u64, bool)> {
    let mut used = 0;
    let mut pivots = Vec::new();
    for bit in 0..unknowns {
        let Some(at) = (used..rows.len()).find(|row| rows[*row] >> bit & 1 == 1) else { continue };
        rows.swap(used, at);
        let pivot = rows[used];
        for (n, row) in rows.iter_mut().enumerate() {
            if n != used && *row >> bit & 1 == 1 {
                *row ^= pivot;
            }
        }
        pivots.push(bit);
        used += 1;
    }
    if rows[used..].iter().any(|row| row >> 64 & 1 == 1) {
        return None;
    }
    rows.truncate(used);
    let value = pivots.iter().zip(rows.iter()).fold(0u64, |value, (bit, row)| value | ((row >> 64) as u64 & 1) << bit);
    Some((value, used < unknowns))
}

/// The divisors with this degree, as far as they differ by factors of at most eight powers.
fn without_small_factors(polynomial: &Polynomial, width: usize) -> Vec<Polynomial> {
    let mut core = polynomial.clone();
    let mut factors = Vec::new();
    for bits in 2u64..512 {
        let factor = Polynomial::from_bits(bits);
        loop {
            let (quotient, rest) = core.clone().divided(&factor);
            if !rest.is_zero() {
                break;
            }
            core = quotient;
            factors.push(factor.clone());
        }
    }
    factors.truncate(12);
    let mut found: Vec<Polynomial> = Vec::new();
    for chosen in 0u32..1 << factors.len() {
        let picked = factors.iter().enumerate().filter(|(n, _)| chosen >> n & 1 == 1);
        let product = picked.fold(core.clone(), |product, (_, factor)| product.times(factor));
        if product.degree() == Some(width) && !found.contains(&product) {
            found.push(product);
        }
    }
    found
}

#[cfg(test)]
mod tests {
    use super::*;

    fn identify(frames: &[Vec<u8>], question: &SearchSpace) -> Answer {
        super::identify(frames, question, &mut |_, _| {})
    }

    use rand::{Rng, SeedableRng};
    use rand_chacha::ChaCha8Rng;

    /// Frames of these lengths with a checksum at the end over all but the first bytes.
    fn frames(algorithm: &Algorithm, order: ByteOrder, from: usize, lengths: &[usize], seed: u64) -> Vec<Vec<u8>> {
        let mut random = ChaCha8Rng::seed_from_u64(seed);
        let count = usize::from(algorithm.bits() / 8);
        let checksum = Checksum::new(algorithm);
        lengths
            .iter()
            .map(|length| {
                let mut frame: Vec<u8> = (0..*length).map(|_| random.random()).collect();
                let value = checksum.compute(&frame[from..]);
                match order {
                    ByteOrder::Little => frame.extend(&value.to_le_bytes()[..count]),
                    ByteOrder::Big => frame.extend(&value.to_be_bytes()[8 - count..]),
                }
                frame
            })
            .collect()
    }

    fn only(answer: Answer) -> Explanation {
        match answer {
            Answer::Found(mut found) => {
                assert!(!found.is_empty());
                found.remove(0)
            }
            other => panic!("{other:?}"),
        }
    }

    /// A random polynomial with random start, final and mirroring, over an unknown span, from 8 frames of different lengths:
    /// 50 times of 50.
    #[test]
    fn any_crc_of_16_bits_is_found_from_eight_frames() {
        for seed in 0..50 {
            let mut random = ChaCha8Rng::seed_from_u64(1000 + seed);
            let crc = Crc {
                width: 16,
                polynomial: random.random::<u64>() & 0xFFFF | 1,
                initial: random.random::<u64>() & 0xFFFF,
                reflect_in: random.random(),
                reflect_out: random.random(),
                final_xor: random.random::<u64>() & 0xFFFF,
            };
            let order = if random.random() { ByteOrder::Big } else { ByteOrder::Little };
            let from = random.random_range(0..=4);
            let mut lengths: Vec<usize> = Vec::new();
            while lengths.len() < 8 {
                let length = random.random_range(10..60);
                if !lengths.contains(&length) {
                    lengths.push(length);
                }
            }
            let frames = frames(&Algorithm::Crc(crc), order, from, &lengths, seed);
            let found = only(identify(&frames, &SearchSpace { bits: Some(16), ..SearchSpace::default() }));
            // Another start with another final value can be the same for all lengths; what it computes decides.
            let checksum = Checksum::new(&found.algorithm);
            assert_eq!((found.from, found.left_out, found.at), (from, 2, -2), "{seed}: {crc:?} {found:?}");
            let Algorithm::Crc(is) = found.algorithm else { panic!("{found:?}") };
            assert_eq!((is.polynomial, is.reflect_in), (crc.polynomial, crc.reflect_in), "{seed}");
            for length in [3, 20, 77] {
                let bytes = vec![0xA5; length];
                let value = Checksum::new(&Algorithm::Crc(crc)).compute(&bytes) as u16;
                let swapped = if found.order == order { value } else { value.swap_bytes() };
                assert_eq!(checksum.compute(&bytes) as u16, swapped, "{seed}: {crc:?} {found:?}");
            }
            assert!(found.spare_bits >= CERTAIN_BITS, "{}", found.spare_bits);
        }
    }

    #[test]
    fn those_with_a_name_are_named() {
        for (name, order, from) in [
            ("crc-16/modbus", ByteOrder::Little, 0),
            ("crc-16/ibm-3740", ByteOrder::Big, 2),
            ("crc-32/iso-hdlc", ByteOrder::Little, 1),
            ("crc-8/smbus", ByteOrder::Big, 0),
            ("internet", ByteOrder::Big, 4),
            ("sum8 negated", ByteOrder::Big, 1),
            ("fletcher16", ByteOrder::Little, 3),
            ("adler32", ByteOrder::Big, 0),
            ("crc-24/openpgp", ByteOrder::Big, 0),
            ("crc-64/xz", ByteOrder::Little, 2),
        ] {
            let frames = frames(&Algorithm::named(name).unwrap(), order, from, &[11, 14, 20, 25, 31, 40], 3);
            let found = only(identify(&frames, &SearchSpace::default()));
            assert_eq!((found.name, found.from), (Some(name), from), "{found:?}");
            assert!(found.algorithm.bits() == 8 || found.order == order, "{name}: {found:?}");
        }
    }

    #[test]
    fn sums_with_values_of_their_own() {
        let start = Algorithm::named("sum8").unwrap().with_start(0x5A);
        let found = only(identify(
            &frames(&start, ByteOrder::Big, 2, &[9, 12, 15, 18, 21, 24, 27], 4),
            &SearchSpace::default(),
        ));
        assert_eq!((found.algorithm, found.from), (start, 2));
        let xor = Algorithm::named("xor8").unwrap().with_start(0x77);
        let found =
            only(identify(&frames(&xor, ByteOrder::Big, 1, &[9, 12, 15, 18, 21, 24, 27], 5), &SearchSpace::default()));
        let value = |algorithm: &Algorithm| Checksum::new(algorithm).compute(&[1, 2, 3]);
        assert_eq!((value(&found.algorithm), found.from), (value(&xor), 1), "{found:?}");
    }

    #[test]
    fn too_few_contradicting_and_damaged_frames_are_told() {
        let crc = Crc {
            width: 16,
            polynomial: 0x8BB7,
            initial: 0x1234,
            reflect_in: true,
            reflect_out: true,
            final_xor: 0x55,
        };
        let algorithm = Algorithm::Crc(crc);
        let mut all = frames(&algorithm, ByteOrder::Big, 0, &[20, 23, 29, 31, 37, 41, 43, 47, 50], 6);
        let question = SearchSpace { bits: Some(16), ..SearchSpace::default() };
        assert_eq!(identify(&all[..2], &question), Answer::MoreFrames(3));
        all[4][9] ^= 0x10;
        match identify(&all, &question) {
            Answer::AllBut(without, found) => {
                assert_eq!(without, [4]);
                assert_eq!(found[0].algorithm.bits(), 16);
            }
            other => panic!("{other:?}"),
        }
        let mut twice = frames(&algorithm, ByteOrder::Big, 0, &[20, 23], 6);
        twice.push(twice[0].clone());
        *twice[2].last_mut().unwrap() ^= 1;
        assert_eq!(identify(&twice, &question), Answer::Contradiction(0, 2));
        let mut random = ChaCha8Rng::seed_from_u64(9);
        let noise: Vec<Vec<u8>> = (10..20).map(|length| (0..length).map(|_| random.random()).collect()).collect();
        assert_eq!(identify(&noise, &question), Answer::Nothing);
    }

    #[test]
    fn a_checksum_in_front_is_found_if_it_may_stand_anywhere() {
        let algorithm = Algorithm::named("crc-16/arc").unwrap();
        let frames: Vec<Vec<u8>> = frames(&algorithm, ByteOrder::Little, 0, &[10, 12, 17, 21], 8)
            .into_iter()
            .map(|frame| {
                let (data, sum) = frame.split_at(frame.len() - 2);
                [&[0xAA][..], sum, data].concat()
            })
            .collect();
        let question = SearchSpace { anywhere: true, bits: Some(16), ..SearchSpace::default() };
        let found = only(identify(&frames, &question));
        assert_eq!((found.name, found.at, found.from, found.left_out), (Some("crc-16/arc"), 1, 3, 0), "{found:?}");
        let said = SearchSpace { at: Some(1), ..SearchSpace::default() };
        assert_eq!(only(identify(&frames, &said)).name, Some("crc-16/arc"));
    }

    /// Frames that all end with the same byte have no checksum there, and it makes nothing certain; even polynomials and 0 are
    /// none.
    #[test]
    fn a_constant_end_proves_nothing() {
        let mut random = ChaCha8Rng::seed_from_u64(11);
        let mut noise: Vec<Vec<u8>> = (10..20).map(|length| (0..length).map(|_| random.random()).collect()).collect();
        for frame in &mut noise {
            *frame.last_mut().unwrap() = 0;
        }
        assert_eq!(constant_end(&noise), [0]);
        for bits in [8, 16] {
            let question = SearchSpace { bits: Some(bits), ..SearchSpace::default() };
            if let Answer::Found(found) | Answer::AllBut(_, found) = identify(&noise, &question) {
                for one in found {
                    assert!(one.spare_bits < CERTAIN_BITS, "{one:?}");
                }
            }
        }
        assert!(constant_end(&noise[..2]).is_empty(), "two frames say little");
        assert!(constant_end(&[]).is_empty());
        // How certain a known one is, to the bit: six frames of 16 bits, less what was tried.
        let algorithm = Algorithm::named("crc-16/modbus").unwrap();
        let all = frames(&algorithm, ByteOrder::Little, 0, &[11, 14, 20, 25, 31, 40], 3);
        let found = only(identify(&all, &SearchSpace { bits: Some(16), ..SearchSpace::default() }));
        // Two orders, nine starts, four ends, but for eight bytes in front and five behind of a frame of 13; the names of all
        // algorithms.
        let tried = (70f64).log2() + (Algorithm::names().count() as f64).log2();
        assert!((found.spare_bits - (96.0 - tried)).abs() < 1e-9, "{} {tried}", found.spare_bits);
    }

    /// One damaged frame is named, whoever invented the algorithm, and wherever in the frames it stands.
    #[test]
    fn one_bad_frame_among_good_ones_is_named() {
        for (seed, bits) in [(1u64, Some(16)), (2, None), (3, Some(32)), (4, Some(8))] {
            let width = bits.unwrap_or(16);
            let mut random = ChaCha8Rng::seed_from_u64(seed);
            let mask = u64::MAX >> (64 - u32::from(width));
            let crc = Crc {
                width,
                polynomial: random.random::<u64>() & mask | 1,
                initial: random.random::<u64>() & mask,
                reflect_in: true,
                reflect_out: true,
                final_xor: random.random::<u64>() & mask,
            };
            let lengths: Vec<usize> = (0..12).map(|n| 12 + n * 3).collect();
            let mut all = frames(&Algorithm::Crc(crc), ByteOrder::Big, 0, &lengths, seed);
            let bad = random.random_range(0..all.len());
            all[bad][5] ^= 4;
            match identify(&all, &SearchSpace { bits, ..SearchSpace::default() }) {
                Answer::AllBut(without, _) => assert_eq!(without, [bad], "{width}"),
                other => panic!("{width}: {other:?}"),
            }
        }
    }

    #[test]
    fn a_place_covers_bytes_in_front_of_the_checksum_or_after_it() {
        let frame = [1, 2, 3, 0xAB, 0xCD];
        let at_end = Place { at: -2, bits: 16, order: ByteOrder::Big, from: 0, left_out: 2 };
        assert_eq!(at_end.read(&frame), Some((0xABCD, &frame[..3])));
        assert_eq!(Place { order: ByteOrder::Little, ..at_end }.read(&frame), Some((0xCDAB, &frame[..3])));
        // Nothing is covered; the checksum itself would be; the frame is too short.
        assert_eq!(Place { from: 3, ..at_end }.read(&frame), None);
        assert_eq!(Place { left_out: 1, ..at_end }.read(&frame), None);
        assert_eq!(Place { left_out: 0, ..at_end }.read(&frame), None);
        assert_eq!(at_end.read(&frame[..2]), None);
        assert_eq!(at_end.read(&frame[..1]), None);
        // In front.
        let in_front = Place { at: 0, bits: 8, order: ByteOrder::Big, from: 1, left_out: 0 };
        assert_eq!(in_front.read(&frame), Some((1, &frame[1..])));
        assert_eq!(Place { from: 0, ..in_front }.read(&frame), None);
        // Bits beyond the checksum's width are none of it.
        assert_eq!(Place { bits: 12, ..at_end }.read(&frame), None);
        assert_eq!(Place { bits: 12, ..at_end }.read(&[1, 0x0B, 0xCD]), Some((0xBCD, &[1][..])));
    }
}
