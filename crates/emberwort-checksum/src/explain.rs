//! The working of a checksum, as it would be done on paper: whoever has learned it from here can do the next one by hand.

use emberwort_model::algorithm::{Algorithm, Crc, Sum, SumKind};

use crate::working::{Part, Working, binary, hex};

/// CRCs of up to so many bytes are also shown as a long division of polynomials.
pub(crate) const DIVISION_BYTES: usize = 4;

/// All steps from the bytes to the value. With `bits`, CRCs are shown bit by bit.
pub fn explain(algorithm: &Algorithm, bytes: &[u8], bits: bool) -> Working {
    let mut working = Working::default();
    match algorithm {
        Algorithm::Crc(crc) => of_crc(crc, bytes, bits, &mut working),
        Algorithm::Sum(sum) if sum.kind == SumKind::Internet => internet(sum, bytes, &mut working),
        Algorithm::Sum(sum) if sum.kind.modulus().is_some() => of_two_sums(sum, bytes, &mut working),
        Algorithm::Sum(sum) => of_sum(sum, bytes, &mut working),
    }
    working
}

/// A number in decimal, hex and binary.
fn three(value: u64, bits: u8) -> [String; 3] {
    [value.to_string(), hex(value, bits), binary(value, bits)]
}

/// The last steps that many have in common: what is XORed onto the result, and the result.
fn finish(value: u64, final_xor: u64, bits: u8, working: &mut Working) {
    if final_xor != 0 {
        working.text(format!(
            "XORed with the final value: {} xor {} = {}",
            hex(value, bits),
            hex(final_xor, bits),
            hex(value ^ final_xor, bits)
        ));
    }
    let [decimal, hex, binary] = three(value ^ final_xor, bits);
    working.text(format!("The checksum is {hex} = {decimal} = {binary}"));
}

/// The words of an Internet checksum, each with where it comes from, and the sum so far.
pub(crate) fn words(label: &str, bytes: &[u8], sum: &mut u64) -> Vec<Vec<String>> {
    bytes
        .chunks(2)
        .enumerate()
        .map(|(n, pair)| {
            let value = u64::from(pair[0]) << 8 | u64::from(pair.get(1).copied().unwrap_or(0));
            *sum += value;
            let from = match pair {
                [a, b] => format!("{a:02X} {b:02X}"),
                pair => format!("{:02X}, padded with 00", pair[0]),
            };
            let [decimal, hex, binary] = three(value, 16);
            vec![format!("{label}{}", 2 * n), from, hex, decimal, binary, format!("0x{sum:X}")]
        })
        .collect()
}

/// The titles of a table of [`words`].
pub(crate) const WORD_TITLES: [&str; 6] = ["offset", "bytes", "word", "decimal", "binary", "sum so far"];

/// Adds the carries back in, and complements.
pub(crate) fn fold(mut sum: u64, working: &mut Working) -> u64 {
    while sum >> 16 != 0 {
        let (carries, low) = (sum >> 16, sum & 0xFFFF);
        working.text(format!(
            "The carries beyond 16 bits are added back in: 0x{low:04X} + 0x{carries:X} = 0x{:X}",
            low + carries
        ));
        sum = low + carries;
    }
    let complement = !sum & 0xFFFF;
    working.text(format!("Complemented, every bit inverted: {} becomes {}", binary(sum, 16), binary(complement, 16)));
    complement
}

fn internet(sum: &Sum, bytes: &[u8], working: &mut Working) {
    working.text("The Internet checksum (RFC 1071): the bytes are added up as 16-bit words, the first byte of each the high one.");
    let mut total = sum.start;
    if total != 0 {
        working.text(format!("The sum begins with 0x{total:04X}."));
    }
    let rows = words("", bytes, &mut total);
    working.table(&WORD_TITLES, rows);
    let complement = fold(total, working);
    finish(complement, sum.final_xor, 16, working);
}

fn of_sum(sum: &Sum, bytes: &[u8], working: &mut Working) {
    let bits = sum.kind.bits();
    let xor = sum.kind == SumKind::Xor8;
    working.text(match xor {
        true => {
            "The exclusive or of all bytes: a bit of the result is 1 where an odd number of bytes have a 1.".to_owned()
        }
        false => format!("The sum of all bytes; of each sum only the lowest {bits} bits are kept."),
    });
    let mut total = sum.start;
    if total != 0 {
        working.text(format!("It begins with {}.", hex(total, bits)));
    }
    let rows = bytes
        .iter()
        .enumerate()
        .map(|(at, byte)| {
            let [decimal, of_byte, digits] = three(u64::from(*byte), 8);
            let before = total;
            total = if xor { total ^ u64::from(*byte) } else { (total + u64::from(*byte)) & ((1 << bits) - 1) };
            let how = format!("{} {} {of_byte}", hex(before, bits), if xor { "xor" } else { "+" });
            vec![
                at.to_string(),
                of_byte,
                decimal,
                digits,
                how,
                hex(total, bits),
                total.to_string(),
                binary(total, bits),
            ]
        })
        .collect();
    working.table(&["offset", "byte", "decimal", "binary", "step", "so far", "in decimal", "in binary"], rows);
    if let SumKind::Bytes { negated: true, .. } = sum.kind {
        let negated = total.wrapping_neg() & ((1 << bits) - 1);
        working.text(format!(
            "Negated (two's complement: what is missing to 0x1{}): {} becomes {}",
            "0".repeat(usize::from(bits) / 4),
            hex(total, bits),
            hex(negated, bits)
        ));
        total = negated;
    }
    finish(total, sum.final_xor, bits, working);
}

fn of_two_sums(sum: &Sum, bytes: &[u8], working: &mut Working) {
    let bits = sum.kind.bits();
    let half = bits / 2;
    let modulus = u64::from(sum.kind.modulus().unwrap_or(1));
    let words = sum.kind == SumKind::Fletcher32;
    working.text(format!(
        "Two sums, both modulo {modulus}: A of the {}, and B of all values of A. The checksum is B in the upper {half} bits, A in \
         the lower.",
        if words { "words, of two bytes each, the first byte the low one" } else { "bytes" }
    ));
    let (mut a, mut b) = (sum.start & ((1 << half) - 1), sum.start >> half);
    working.text(format!("They begin with A = {a} and B = {b}."));
    let rows = bytes
        .chunks(if words { 2 } else { 1 })
        .enumerate()
        .map(|(n, piece)| {
            let value = u64::from(piece[0]) | u64::from(piece.get(1).copied().unwrap_or(0)) << 8;
            let (before_a, before_b) = (a, b);
            a = (a + value) % modulus;
            b = (b + a) % modulus;
            let wrapped = |sum: u64| if sum >= modulus { format!(" = {sum} mod {modulus}") } else { String::new() };
            vec![
                (n * piece.len().max(if words { 2 } else { 1 })).to_string(),
                piece.iter().map(|byte| format!("{byte:02X}")).collect::<Vec<_>>().join(" "),
                value.to_string(),
                format!("{before_a} + {value}{}", wrapped(before_a + value)),
                a.to_string(),
                format!("{before_b} + {a}{}", wrapped(before_b + a)),
                b.to_string(),
            ]
        })
        .collect();
    working.table(&["offset", if words { "bytes" } else { "byte" }, "decimal", "A + value", "A", "B + A", "B"], rows);
    working.text(format!("B is {b} = {}, A is {a} = {}.", hex(b, half), hex(a, half)));
    finish(b << half | a, sum.final_xor, bits, working);
}

fn of_crc(crc: &Crc, bytes: &[u8], bit_by_bit: bool, working: &mut Working) {
    let width = crc.width;
    let mask = u64::MAX >> (64 - width);
    working.table(
        &["parameter", "value", "meaning"],
        vec![
            vec!["width".into(), width.to_string(), "bits of the register and of the result".into()],
            vec!["polynomial".into(), hex(crc.polynomial, width), polynomial(crc)],
            vec!["start".into(), hex(crc.initial, width), "the register before the first bit".into()],
            vec![
                "bytes go in".into(),
                if crc.reflect_in { "mirrored" } else { "as they are" }.into(),
                format!("{} significant bit first", if crc.reflect_in { "least" } else { "most" }),
            ],
            vec![
                "result".into(),
                if crc.reflect_out { "mirrored" } else { "as it is" }.into(),
                if crc.reflect_out { "the register from its last bit to its first" } else { "the register" }.into(),
            ],
            vec!["final value".into(), hex(crc.final_xor, width), "XORed onto the result".into()],
        ],
    );
    working.text(
        "Each bit: the highest bit of the register and the bit that comes in are XORed, the register moves left by one, and if they \
         differed it is XORed with the polynomial.",
    );
    let mut register = crc.initial;
    let mut rows = Vec::new();
    for (at, byte) in bytes.iter().enumerate() {
        let order = if crc.reflect_in { byte.reverse_bits() } else { *byte };
        let before = register;
        for n in (0..8).rev() {
            let bit = u64::from(order >> n & 1);
            let high = register >> (width - 1) & 1;
            register = register << 1 & mask;
            if high != bit {
                register ^= crc.polynomial;
            }
            if bit_by_bit {
                rows.push(vec![
                    if n == 7 { format!("{at}: {byte:02X}") } else { String::new() },
                    bit.to_string(),
                    high.to_string(),
                    if high != bit { "moved, XORed" } else { "moved" }.into(),
                    binary(register, width),
                    hex(register, width),
                ]);
            }
        }
        if !bit_by_bit {
            rows.push(vec![
                at.to_string(),
                format!("{byte:02X}"),
                binary(u64::from(order), 8),
                hex(before, width),
                hex(register, width),
                binary(register, width),
            ]);
        }
    }
    if bit_by_bit {
        working.table(&["byte", "bit in", "highest bit", "register is", "in binary", "in hex"], rows);
    } else {
        working.table(&["offset", "byte", "bits in order", "register before", "register after", "in binary"], rows);
    }
    let mut value = register;
    if crc.reflect_out {
        value = register.reverse_bits() >> (64 - width);
        working.text(format!("Mirrored: {} becomes {}", binary(register, width), binary(value, width)));
    }
    finish(value, crc.final_xor, width, working);
    if bytes.len() <= DIVISION_BYTES && !bytes.is_empty() {
        division(crc, bytes, register, working);
    }
}

/// The generator polynomial as a sum of powers, with its highest term.
fn polynomial(crc: &Crc) -> String {
    let power = |n: u8| match n {
        0 => "1".to_owned(),
        1 => "x".to_owned(),
        n => format!("x^{n}"),
    };
    let lower = (0..crc.width).rev().filter(|n| crc.polynomial >> n & 1 == 1).map(power);
    std::iter::once(power(crc.width)).chain(lower).collect::<Vec<_>>().join(" + ")
}

/// A CRC as a long division: the remainder of the bits, with a place for each bit of the register behind them.
fn division(crc: &Crc, bytes: &[u8], register: u64, working: &mut Working) {
    let width = usize::from(crc.width);
    let mut bits: Vec<bool> = bytes
        .iter()
        .flat_map(|byte| {
            let order = if crc.reflect_in { byte.reverse_bits() } else { *byte };
            (0..8).rev().map(move |n| order >> n & 1 == 1)
        })
        .collect();
    let count = bits.len();
    bits.resize(count + width, false);
    let text = |bits: &[bool]| bits.iter().map(|bit| if *bit { '1' } else { '0' }).collect::<String>();
    working.text(format!(
        "The same as a division of polynomials: the {count} bits in the order in which they go in, {width} zeros after them, \
         divided by {} (1 for the highest term). Adding is XOR, so nothing carries.",
        std::iter::once(true).chain((0..width).rev().map(|n| crc.polynomial >> n & 1 == 1)).map(|bit| if bit { '1' } else { '0' }).collect::<String>()
    ));
    let mut lines = vec![text(&bits)];
    if crc.initial != 0 {
        for (n, bit) in bits.iter_mut().enumerate().take(width) {
            *bit ^= crc.initial >> (width - 1 - n) & 1 == 1;
        }
        let start: Vec<bool> = (0..width).rev().map(|n| crc.initial >> n & 1 == 1).collect();
        lines.push(format!("{}  the start value", text(&start)));
        lines.push(text(&bits));
    }
    for at in 0..count {
        if !bits[at] {
            continue;
        }
        bits[at] = false;
        for n in 0..width {
            bits[at + 1 + n] ^= crc.polynomial >> (width - 1 - n) & 1 == 1;
        }
        let divisor: String = std::iter::once('1')
            .chain((0..width).rev().map(|n| if crc.polynomial >> n & 1 == 1 { '1' } else { '0' }))
            .collect();
        lines.push(format!("{}{divisor}", " ".repeat(at)));
        lines.push(text(&bits));
    }
    working.parts.push(Part::Lines(lines));
    working.text(format!("The last {width} bits are the remainder, {}: the register above.", hex(register, crc.width)));
}

#[cfg(test)]
mod tests {
    use super::*;
    use emberwort_wire::checksum::Checksum;
    use proptest::prelude::*;

    fn last_text(working: &Working) -> &str {
        let sentence = |part: &'static str| move |text: &&str| text.starts_with(part);
        let mut texts = working.parts.iter().filter_map(|part| match part {
            Part::Text(text) => Some(text.as_str()),
            _ => None,
        });
        texts.rfind(sentence("The checksum is ")).unwrap()
    }

    proptest! {
        /// The working ends where the computation does, and the division at the same remainder.
        #[test]
        fn the_working_ends_at_the_checksum(bytes in proptest::collection::vec(any::<u8>(), 0..6), which: prop::sample::Index, start: u64, bits: bool) {
            let names: Vec<_> = Algorithm::names().collect();
            let algorithm = Algorithm::named(names[which.index(names.len())]).unwrap();
            let mask = u64::MAX >> (64 - algorithm.bits());
            let two_sums = matches!(algorithm, Algorithm::Sum(sum) if sum.kind.modulus().is_some());
            let algorithm = if two_sums { algorithm } else { algorithm.with_start(start & mask) };
            let working = explain(&algorithm, &bytes, bits);
            let value = Checksum::new(&algorithm).compute(&bytes);
            let wanted = format!("The checksum is {} = {value}", hex(value, algorithm.bits()));
            prop_assert!(last_text(&working).starts_with(&wanted), "{} is not {wanted}", last_text(&working));
            if let (Algorithm::Crc(crc), Some(Part::Lines(lines))) = (algorithm, working.parts.iter().find(|part| matches!(part, Part::Lines(_)))) {
                let width = usize::from(crc.width);
                let last = lines.last().unwrap();
                let remainder = u64::from_str_radix(&last[last.len() - width..], 2).unwrap();
                let plain = Checksum::new(&Algorithm::Crc(Crc { final_xor: 0, reflect_out: false, ..crc })).compute(&bytes);
                prop_assert_eq!(remainder, plain);
            }
        }
    }
}
