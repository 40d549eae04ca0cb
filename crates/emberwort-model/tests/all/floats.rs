//! Floats against exact rationals: every binary16, the points half-way between two, and what lies a little beside them.

use emberwort_model::float::{float_bits, float_text, float_value};
use num_bigint::BigInt;
use num_rational::BigRational;
use proptest::prelude::*;

/// The exact decimal of a binary64, all of its digits.
fn exactly(value: f64) -> String {
    let text = format!("{value:.1100}");
    text.trim_end_matches('0').trim_end_matches('.').to_owned()
}

/// The value of a decimal text without an exponent.
fn rational(text: &str) -> BigRational {
    let (whole, fraction) = text.split_once('.').unwrap_or((text, ""));
    let digits: BigInt = format!("{whole}{fraction}").parse().unwrap();
    BigRational::new(digits, BigInt::from(10).pow(fraction.len() as u32))
}

/// The least numbers above zero and all others up to the greatest, by code.
fn codes() -> impl Iterator<Item = u16> {
    0..0x7C00u16
}

#[test]
fn every_binary16_is_read_and_written_as_itself() {
    for code in codes() {
        for raw in [u64::from(code), u64::from(code | 0x8000)] {
            let value = float_value(16, raw);
            if code > 0 {
                assert_eq!(float_bits(16, &exactly(value)), Some(raw), "{value}");
            }
            let text = float_text(16, raw);
            assert_eq!(float_bits(16, &text), Some(raw), "{value} as {text}");
            if value.fract() == 0.0 && value != 0.0 {
                assert_eq!(rational(&text), BigRational::from(BigInt::from(value as i64)), "{text}");
            }
        }
    }
    assert_eq!(float_text(16, 0x7BFF), "65504");
    assert_eq!(float_text(16, 0x2E66), "0.1");
    assert_eq!(float_text(32, u64::from(123_456_792f32.to_bits())), "123456792");
    assert_eq!((float_value(16, 0x7C00), float_value(16, 0xFC00)), (f64::INFINITY, f64::NEG_INFINITY));
    assert!(float_value(16, 0x7C01).is_nan() && float_value(16, 0xFFFF).is_nan());
}

#[test]
fn half_way_points_of_binary16_go_to_the_even_one_and_nothing_else_does() {
    let value = |code: u16| if code == 0x7C00 { 65_536.0 } else { float_value(16, u64::from(code)) };
    for code in codes() {
        let half_way = exactly((value(code) + value(code + 1)) / 2.0);
        let (sum, two) = (rational(&exactly(value(code))) + rational(&exactly(value(code + 1))), BigInt::from(2));
        assert_eq!(rational(&half_way) * two, sum, "half-way between is a binary64");
        let point = if half_way.contains('.') { "" } else { "." };
        let above = format!("{half_way}{point}0000000000000000000000000001");
        // A little below: one less in the last digit, and nines behind.
        let mut digits = half_way.clone().into_bytes();
        if !half_way.contains('.') {
            digits.extend(b".0");
        }
        let mut at = digits.len() - 1;
        loop {
            match digits[at] {
                b'.' => {}
                b'0' => digits[at] = b'9',
                _ => {
                    digits[at] -= 1;
                    break;
                }
            }
            at -= 1;
        }
        let below = String::from_utf8(digits).unwrap() + "9999999999999999999999999999";
        assert!(rational(&below) < rational(&half_way) && rational(&above) > rational(&half_way));
        let known = |code: u16| (code < 0x7C00).then_some(u64::from(code));
        let even = if code % 2 == 0 { code } else { code + 1 };
        for (sign, bit) in [("", 0), ("-", 0x8000)] {
            let read = |text: &str| float_bits(16, &format!("{sign}{text}"));
            assert_eq!(read(&half_way), known(even).map(|raw| raw | bit), "{sign}{half_way}");
            assert_eq!(read(&above), known(code + 1).map(|raw| raw | bit), "{sign}{above}");
            assert_eq!(read(&below), known(code).map(|raw| raw | bit), "{sign}{below}");
        }
    }
    // Those that were seen to be rounded twice.
    assert_eq!(float_bits(16, "1.0004883"), Some(0x3C01));
    assert_eq!(float_bits(16, "2049.00001"), Some(u64::from(0x6801u16)));
    assert_eq!(float_value(16, 0x6801), 2050.0);
    assert_eq!(float_bits(16, "204900001e-5"), Some(0x6801));
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(2000))]

    /// A binary32 and a binary64: of all numbers of that width none is nearer, and of two that are equally near the even one is taken.
    #[test]
    fn nearest_of_the_wider_ones(code in 0u32..0x7F7F_FFFF, beside in -1i8..=1, wide in 0u64..0x7FEF_FFFF_FFFF_FFFF) {
        let (low, high) = (f64::from(f32::from_bits(code)), f64::from(f32::from_bits(code + 1)));
        let half_way = exactly((low + high) / 2.0);
        let even = if code % 2 == 0 { code } else { code + 1 };
        let (text, expected) = match beside {
            0 => (half_way, even),
            1 => (format!("{half_way}{}00001", if half_way.contains('.') { "" } else { "." }), code + 1),
            _ => (exactly(low), code),
        };
        prop_assert_eq!(float_bits(32, &text), Some(u64::from(expected)), "{}", text);
        let value = f64::from_bits(wide);
        prop_assert_eq!(float_bits(64, &exactly(value)).map(f64::from_bits), Some(value));
        for (bits, raw) in [(32, u64::from(code)), (64, wide)] {
            let text = float_text(bits, raw);
            prop_assert_eq!(float_bits(bits, &text), Some(raw));
            let value = float_value(bits, raw);
            let shortest = if bits == 32 { (value as f32).to_string() } else { value.to_string() };
            prop_assert!(value.fract() == 0.0 || text == shortest, "{} {}", text, shortest);
        }
    }
}

/// Exactly between two texts of the same length, as dyadic fractions often are.
#[test]
fn ties_between_two_texts_are_broken_as_the_library_does() {
    for sixty_fourths in 1..200_000u32 {
        let value = sixty_fourths as f32 / 64.0 / 1024.0;
        if value.fract() != 0.0 {
            assert_eq!(float_text(32, u64::from(value.to_bits())), value.to_string());
        }
    }
    assert_eq!(float_text(32, 0x4028_4000), "2.6289063");
}
