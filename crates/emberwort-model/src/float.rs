//! IEEE 754 numbers as text, rounded once: to the nearest, ties to the even one.

use std::cmp::Ordering;
use std::fmt;

use half::f16;

use crate::number::write_integer;

/// The number that the bits of an IEEE 754 binary16, binary32 or binary64 stand for.
pub fn float_value(bits: u8, raw: u64) -> f64 {
    match bits {
        16 => f16::from_bits(raw as u16).to_f64(),
        32 => f64::from(f32::from_bits(raw as u32)),
        _ => f64::from_bits(raw),
    }
}

/// The bits of the IEEE 754 number of this width nearest to the decimal text `text`, of two equally near ones the even one;
/// `None` if it is no number, or rounds to one beyond the greatest.
pub fn float_bits(bits: u8, text: &str) -> Option<u64> {
    let (value, raw) = match bits {
        16 => {
            let value = nearest_binary16(text)?;
            (value.to_f64(), u64::from(value.to_bits()))
        }
        32 => {
            let value: f32 = text.parse().ok()?;
            (f64::from(value), u64::from(value.to_bits()))
        }
        _ => {
            let value: f64 = text.parse().ok()?;
            (value, value.to_bits())
        }
    };
    value.is_finite().then_some(raw)
}

/// The bits of the IEEE 754 number of this width (16, 32 or 64) nearest to another one, of two equally near ones the even one. What
/// is beyond the greatest becomes infinite.
pub fn nearest_float(bits: u8, value: f64) -> u64 {
    match bits {
        16 => u64::from(binary16(value).to_bits()),
        32 => u64::from((value as f32).to_bits()),
        _ => value.to_bits(),
    }
}

/// By way of binary64, which is right unless that lies half-way between two binary16, and the text does not.
fn nearest_binary16(text: &str) -> Option<f16> {
    let by_way: f64 = text.parse().ok()?;
    if !by_way.is_finite() {
        return Some(f16::from_f64(by_way));
    }
    let near = binary16(by_way);
    let magnitude = f16::from_bits(near.to_bits() & 0x7FFF);
    if magnitude.is_infinite() && by_way.abs() > 65_520.0 {
        return Some(near);
    }
    // The half-way points beside it; each is a binary64. Behind the greatest number lies 65,520, from where on all is beyond it.
    let code = magnitude.to_bits();
    let at = |code: u16| if code == 0x7C00 { 65_536.0 } else { f16::from_bits(code).to_f64() };
    let above = (code < 0x7C00).then(|| (at(code) + at(code + 1)) / 2.0);
    let below = code.checked_sub(1).map(|below| (at(below) + at(code)) / 2.0);
    let sign = near.to_bits() & 0x8000;
    let rounded = |code: u16| f16::from_bits(code | sign);
    // Half-way points have at most 25 binary places.
    let half_way = format!("{:.32}", by_way.abs());
    if above == Some(by_way.abs()) {
        // Rounded down since it seemed to be a tie.
        return Some(if compare(text, &half_way).is_gt() { rounded(code + 1) } else { near });
    }
    if below == Some(by_way.abs()) {
        return Some(if compare(text, &half_way).is_lt() { rounded(code - 1) } else { near });
    }
    Some(near)
}

/// The binary16 nearest to a finite binary64, ties to even, rounded once: some processors go by way of binary32.
fn binary16(value: f64) -> f16 {
    let magnitude = value.abs();
    // The distance between neighbours is 2^-24 for the least numbers, else 2^-10 of the power of two below.
    let exponent = ((magnitude.to_bits() >> 52) as i32 - 1023).max(-14);
    // Multiplying with a power of two is exact.
    let units = (magnitude * 2f64.powi(10 - exponent)).round_ties_even() as u32;
    // A significand that was rounded up to the next power of two carries into the exponent.
    let code = ((exponent + 14) as u32 * 1024 + units).min(0x7C00) as u16;
    f16::from_bits(code | if value.is_sign_negative() { 0x8000 } else { 0 })
}

/// The order of the magnitudes of two decimal texts that are numbers.
fn compare(one: &str, other: &str) -> Ordering {
    let ((power, digits), (other_power, other_digits)) = (significant(one), significant(other));
    match (digits.is_empty(), other_digits.is_empty()) {
        (true, true) => Ordering::Equal,
        (true, false) => Ordering::Less,
        (false, true) => Ordering::Greater,
        // Without zeros in front and behind, digits compare as text.
        (false, false) => power.cmp(&other_power).then_with(|| digits.cmp(&other_digits)),
    }
}

/// The significant digits of a decimal text, and the power of ten of the first of them.
fn significant(text: &str) -> (i64, String) {
    let text = text.trim_start_matches(['+', '-']);
    let (mantissa, exponent) = text.split_once(['e', 'E']).unwrap_or((text, "0"));
    // One that does not fit is that of a number far beyond, or of zero.
    let exponent: i64 = exponent.parse::<i32>().map_or(0, i64::from);
    let (whole, fraction) = mantissa.split_once('.').unwrap_or((mantissa, ""));
    let all = format!("{whole}{fraction}");
    let leading = all.len() - all.trim_start_matches('0').len();
    let digits = all[leading..].trim_end_matches('0').to_owned();
    (exponent + whole.len() as i64 - leading as i64 - 1, digits)
}

/// Whole numbers below this are written with all of their digits.
const WHOLE_BELOW: f64 = 1e17;

/// A decimal that gives the same IEEE 754 number of this width again: whole numbers with all of their digits, others with as few
/// as will do.
pub fn float_text(bits: u8, raw: u64) -> String {
    let mut text = String::new();
    // Writing to a String cannot fail.
    let _ = write_float(bits, raw, &mut text);
    text
}

/// Writes what [`float_text`] gives.
///
/// # Errors
/// Those of the writer.
pub fn write_float(bits: u8, raw: u64, out: &mut (impl fmt::Write + ?Sized)) -> fmt::Result {
    let value = float_value(bits, raw);
    if value.fract() == 0.0 && value.abs() < WHOLE_BELOW && !(value == 0.0 && value.is_sign_negative()) {
        return if value.abs() < 1e15 { write_integer(out, value as i64) } else { write!(out, "{value:.0}") };
    }
    if bits == 32 && value.is_finite() && value.fract() != 0.0 {
        let mut buffer = ryu::Buffer::new();
        let digits = buffer.format_finite(value as f32);
        if is_nearest_of_its_length(value, digits) {
            return out.write_str(digits);
        }
    }
    out.write_str(&slow_text(bits, raw, value))
}

/// Whether no other decimal with as many digits lies as near to a binary32; then there is only one shortest text for it.
fn is_nearest_of_its_length(value: f64, digits: &str) -> bool {
    let Some((_, decimals)) = digits.split_once('.').filter(|_| !digits.contains('e')) else { return false };
    // 24 bits times 5^12 fit the 53 bits of a binary64, so that this is exact.
    let unit = match decimals.len() {
        places @ ..=11 => 10f64.powi(places as i32 + 1),
        _ => return false,
    };
    let next_digits = value.abs() * unit;
    next_digits.fract() != 0.0 || next_digits % 10.0 != 5.0
}

fn slow_text(bits: u8, raw: u64, value: f64) -> String {
    match bits {
        // Every binary16 is a binary32, and `f32` prints shortest for itself; ask for the shortest that rounds back.
        16 => (1..=12)
            .map(|digits| format!("{:.*e}", digits - 1, value))
            .find(|text| float_bits(16, text) == Some(raw))
            .and_then(|text| text.parse::<f64>().ok())
            .map_or_else(|| value.to_string(), |value| value.to_string()),
        32 => f32::from_bits(raw as u32).to_string(),
        _ => value.to_string(),
    }
}
