//! Exact numbers: decimals as they are written, and the exact scaling between raw codes and physical values.

use std::fmt;

use num_bigint::BigInt;
use num_traits::{Signed, ToPrimitive, Zero};

/// A decimal number exactly as written: `mantissa / 10^decimals`.
///
/// At most [`Decimal::MAX_DIGITS`] digits, so that mantissas stay far from the ends of `i128`.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
pub struct Decimal {
    /// The digits as one integer, with the sign.
    pub mantissa: i128,
    /// How many of the digits stand after the point.
    pub decimals: u32,
}

impl Decimal {
    /// The most digits that a decimal can have.
    pub const MAX_DIGITS: usize = 36;

    /// The integer `value`.
    pub fn integer(value: i128) -> Self {
        Self { mantissa: value, decimals: 0 }
    }

    /// Reads a decimal (`-1.5`), hexadecimal (`0x1F`) or binary (`0b101`) number; `_` may stand between digits.
    ///
    /// Decimal numbers may have an exponent (`2.5e-3`), as JSON writes them. Returns `None` for anything
    /// else, for more than [`Decimal::MAX_DIGITS`] digits, and for integers beyond them.
    pub fn parse(text: &str) -> Option<Self> {
        let (negative, digits) = match text.strip_prefix('-') {
            Some(rest) => (true, rest),
            None => (false, text.strip_prefix('+').unwrap_or(text)),
        };
        let sign = if negative { -1 } else { 1 };
        if digits.starts_with('_') || digits.ends_with('_') {
            return None;
        }
        for (prefix, radix) in [("0x", 16), ("0X", 16), ("0b", 2), ("0B", 2)] {
            if let Some(rest) = digits.strip_prefix(prefix) {
                let rest: String = rest.chars().filter(|c| *c != '_').collect();
                if rest.is_empty() || !rest.chars().all(|c| c.is_digit(radix)) {
                    return None;
                }
                let value = u64::from_str_radix(&rest, radix).ok()?;
                return Some(Self::integer(sign * i128::from(value)));
            }
        }
        let (digits, exponent) = match digits.split_once(['e', 'E']) {
            Some((digits, exponent)) => (digits, exponent.parse::<i32>().ok().filter(|e| e.abs() <= 60)?),
            None => (digits, 0),
        };
        let (whole, fraction) = digits.split_once('.').unwrap_or((digits, ""));
        if whole.is_empty() || (digits.contains('.') && fraction.is_empty()) {
            return None;
        }
        let all: String = whole.chars().chain(fraction.chars()).filter(|c| *c != '_').collect();
        if !all.bytes().all(|b| b.is_ascii_digit()) {
            return None;
        }
        let significant = all.trim_start_matches('0');
        if significant.len() > Self::MAX_DIGITS {
            return None;
        }
        let mut mantissa: i128 = if significant.is_empty() { 0 } else { significant.parse().ok()? };
        let mut decimals = fraction.chars().filter(|c| *c != '_').count() as i32 - exponent;
        if mantissa == 0 {
            decimals = decimals.clamp(0, Self::MAX_DIGITS as i32);
        }
        while decimals < 0 {
            mantissa = mantissa.checked_mul(10).filter(|m| *m < 10i128.pow(Self::MAX_DIGITS as u32))?;
            decimals += 1;
        }
        Some(Self { mantissa: sign * mantissa, decimals: decimals as u32 })
    }

    /// The value as an integer, if it is one.
    pub fn as_integer(self) -> Option<i128> {
        if self.decimals == 0 {
            return Some(self.mantissa);
        }
        let unit = 10i128.checked_pow(self.decimals)?;
        (self.mantissa % unit == 0).then(|| self.mantissa / unit)
    }

    /// The mantissa that this number has with `decimals` places after the point (at least its own), if it fits.
    fn mantissa_at(self, decimals: u32) -> Option<i128> {
        self.mantissa.checked_mul(10i128.checked_pow(decimals - self.decimals)?)
    }

    /// The order of two decimals by value.
    pub fn compare(self, other: Decimal) -> std::cmp::Ordering {
        let places = self.decimals.max(other.decimals);
        let scaled = |d: Decimal| BigInt::from(d.mantissa) * BigInt::from(10).pow(places - d.decimals);
        scaled(self).cmp(&scaled(other))
    }
}

impl fmt::Display for Decimal {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write_scaled(f, self.mantissa, self.decimals)
    }
}

/// Writes a whole number in decimal digits.
///
/// # Errors
/// Those of the writer.
#[inline]
pub fn write_integer(out: &mut (impl fmt::Write + ?Sized), value: impl Into<i128>) -> fmt::Result {
    let value = value.into();
    let mut digits = itoa::Buffer::new();
    // 64 bits are enough for almost every number, and much faster than 128.
    out.write_str(match i64::try_from(value) {
        Ok(value) => digits.format(value),
        Err(_) => digits.format(value),
    })
}

/// Writes `value / 10^decimals` with exactly that many decimals.
///
/// # Errors
/// Those of the writer.
pub fn write_scaled(out: &mut (impl fmt::Write + ?Sized), value: i128, decimals: u32) -> fmt::Result {
    // 64 bits are enough for almost every field, and much faster than 128.
    let mut digits = itoa::Buffer::new();
    let digits = match i64::try_from(value) {
        Ok(value) => digits.format(value),
        Err(_) => digits.format(value),
    };
    let decimals = decimals as usize;
    if decimals == 0 {
        return out.write_str(digits);
    }
    let (sign, digits) = match digits.strip_prefix('-') {
        Some(digits) => ("-", digits),
        None => ("", digits),
    };
    out.write_str(sign)?;
    match digits.len().checked_sub(decimals).filter(|whole| *whole > 0) {
        Some(whole) => {
            out.write_str(&digits[..whole])?;
            out.write_char('.')?;
            out.write_str(&digits[whole..])
        }
        None => {
            out.write_str("0.")?;
            (digits.len()..decimals).try_for_each(|_| out.write_char('0'))?;
            out.write_str(digits)
        }
    }
}

/// `numerator / denominator` rounded to the nearest integer, ties away from zero. The denominator is positive.
pub(crate) fn divide_round(numerator: i128, denominator: i128) -> i128 {
    let quotient = numerator / denominator;
    let rest = (numerator % denominator).abs();
    if rest >= denominator - rest { quotient + numerator.signum() } else { quotient }
}

fn gcd(a: i128, b: i128) -> i128 {
    let (mut a, mut b) = (a.unsigned_abs(), b.unsigned_abs());
    while b != 0 {
        (a, b) = (b, a % b);
    }
    a as i128
}

/// How far two physical values lie apart.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Distance {
    /// They are equal.
    None,
    /// Less than the greater of their two steps.
    LessThanStep,
    /// A step or more.
    StepOrMore,
}

/// The exact relation between a raw code and its physical value: `physical = (offset + step × raw) / divisor`.
///
/// All three are integers without a common divisor, `step` is not 0 and `divisor` is positive. The parts are small
/// enough that no raw code of up to 64 bits overflows `i128`.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
pub struct Scaling {
    offset: i128,
    step: i128,
    divisor: i128,
    decimals: u32,
    exact: bool,
}

impl Scaling {
    /// No scaling: the physical value is the raw code.
    pub(crate) const IDENTITY: Scaling = Scaling { offset: 0, step: 1, divisor: 1, decimals: 0, exact: true };

    /// `physical = raw × scale + offset`. `None` if the numbers are beyond exact arithmetic or the scale is 0.
    pub fn linear(scale: Decimal, offset: Decimal) -> Option<Self> {
        let decimals = scale.decimals.max(offset.decimals);
        Self::reduced(
            offset.mantissa_at(decimals)?,
            scale.mantissa_at(decimals)?,
            10i128.checked_pow(decimals)?,
            Some(decimals),
        )
    }

    /// `low .. high` spread evenly over the codes `0 ..= last`, both ends included.
    ///
    /// `None` if the numbers are beyond exact arithmetic, or `last` is 0.
    pub fn spread(low: Decimal, high: Decimal, last: u64) -> Option<Self> {
        let decimals = low.decimals.max(high.decimals);
        let (low, high) = (low.mantissa_at(decimals)?, high.mantissa_at(decimals)?);
        let last = i128::from(last);
        let divisor = 10i128.checked_pow(decimals)?.checked_mul(last)?;
        let mut scaling = Self::reduced(low.checked_mul(last)?, high.checked_sub(low)?, divisor, None)?;
        // Both ends are shown exactly as they were written.
        scaling.decimals = scaling.decimals.max(decimals);
        scaling.has_room().then_some(scaling)
    }

    fn reduced(offset: i128, step: i128, divisor: i128, decimals: Option<u32>) -> Option<Self> {
        if step == 0 || divisor == 0 {
            return None;
        }
        let common = gcd(gcd(offset, step), divisor).max(1);
        let (offset, step, divisor) = (offset / common, step / common, divisor / common);
        // Room for a 64-bit raw code and for bringing the value to its decimals.
        step.checked_mul(1 << 64)?.checked_add(offset)?.checked_mul(4)?;
        let (decimals, exact) = match decimals {
            Some(decimals) => (decimals, true),
            None => match (0..=18u32).find(|d| 10i128.pow(*d) % divisor == 0) {
                Some(decimals) => (decimals, true),
                // The fewest decimals that still tell neighbouring codes apart.
                None => ((0..=30u32).find(|d| Some(divisor) < 10i128.pow(*d).checked_mul(step.abs()))?, false),
            },
        };
        let scaling = Self { offset, step, divisor, decimals, exact };
        scaling.has_room().then_some(scaling)
    }

    /// Whether the value of every 64-bit raw code can be brought to its decimals.
    fn has_room(&self) -> bool {
        let largest = self.step.abs().checked_mul(1 << 64).and_then(|n| n.checked_add(self.offset.abs()));
        let unit = 10i128.checked_pow(self.decimals);
        largest.zip(unit).is_some_and(|(largest, unit)| largest.checked_mul(unit).is_some())
    }

    /// The order of the exact physical value of a raw code and a decimal.
    pub fn compare(&self, raw: i128, value: Decimal) -> std::cmp::Ordering {
        // 128 bits are enough for almost every number, and much faster.
        let unit = 10i128.checked_pow(value.decimals);
        let exact = unit.and_then(|unit| (self.offset + self.step * raw).checked_mul(unit));
        if let (Some(exact), Some(value)) = (exact, value.mantissa.checked_mul(self.divisor)) {
            return exact.cmp(&value);
        }
        let exact = BigInt::from(self.offset + self.step * raw) * BigInt::from(10).pow(value.decimals);
        exact.cmp(&(BigInt::from(value.mantissa) * self.divisor))
    }

    /// How far the exact physical values of two raw codes lie apart; the second one has a scaling of its own.
    pub fn distance(&self, raw: i128, other: &Scaling, other_raw: i128) -> Distance {
        // Both brought to the divisor of both, in 128 bits if they are enough.
        let in_128_bits = || {
            let (one, two) = (self.offset + self.step * raw, other.offset + other.step * other_raw);
            let apart = one.checked_mul(other.divisor)?.checked_sub(two.checked_mul(self.divisor)?)?.checked_abs()?;
            let step = self.step.checked_mul(other.divisor)?.checked_abs()?;
            Some((apart, step.max(other.step.checked_mul(self.divisor)?.checked_abs()?)))
        };
        if let Some((apart, step)) = in_128_bits() {
            return match apart {
                0 => Distance::None,
                _ if apart < step => Distance::LessThanStep,
                _ => Distance::StepOrMore,
            };
        }
        let (one, two) =
            (BigInt::from(self.offset + self.step * raw), BigInt::from(other.offset + other.step * other_raw));
        let apart = (one * other.divisor - two * self.divisor).abs();
        let step = (BigInt::from(self.step) * other.divisor).abs().max((BigInt::from(other.step) * self.divisor).abs());
        match apart.is_zero() {
            true => Distance::None,
            false if apart < step => Distance::LessThanStep,
            false => Distance::StepOrMore,
        }
    }

    /// Whether the physical value is the raw code itself.
    pub fn is_identity(&self) -> bool {
        *self == Self::IDENTITY
    }

    /// Places after the point with which a value is shown.
    pub fn decimals(&self) -> u32 {
        self.decimals
    }

    /// Whether every physical value is a decimal with [`Scaling::decimals`] places; if not, values are rounded when shown.
    pub fn is_exact(&self) -> bool {
        self.exact
    }

    /// The numbers of the relation: `(offset, step, divisor)` of `physical = (offset + step × raw) / divisor`.
    pub fn parts(&self) -> (i128, i128, i128) {
        (self.offset, self.step, self.divisor)
    }

    /// The physical value of a raw code as `value × 10^decimals`, rounded (nearest, ties away from zero) where it is not exact.
    pub fn scaled(&self, raw: i128) -> i128 {
        if let Some(scaled) = self.scaled_in_64_bits(raw) {
            return i128::from(scaled);
        }
        let value = self.offset + self.step * raw;
        if self.divisor == 1 && self.decimals == 0 {
            return value;
        }
        let unit = 10i128.pow(self.decimals);
        if self.exact && unit % self.divisor == 0 {
            return value * (unit / self.divisor);
        }
        divide_round(value * unit, self.divisor)
    }

    /// What [`Scaling::scaled`] says, where all of it fits 64 bits, which divide much faster.
    fn scaled_in_64_bits(&self, raw: i128) -> Option<i64> {
        let small = |number: i128| i64::try_from(number).ok();
        let value = small(self.step)?.checked_mul(small(raw)?)?.checked_add(small(self.offset)?)?;
        if self.divisor == 1 && self.decimals == 0 {
            return Some(value);
        }
        let (unit, divisor) = (10i64.checked_pow(self.decimals)?, small(self.divisor)?);
        if self.divisor == 1 {
            return value.checked_mul(unit);
        }
        let numerator = value.checked_mul(unit)?;
        let (quotient, rest) = (numerator / divisor, (numerator % divisor).abs());
        Some(if rest >= divisor - rest { quotient + numerator.signum() } else { quotient })
    }

    /// The physical value of a raw code as a decimal, with the decimals that its step has.
    pub fn physical(&self, raw: i128) -> Decimal {
        Decimal { mantissa: self.scaled(raw), decimals: self.decimals }
    }

    /// Writes the physical value of a raw code, with the decimals that its step has.
    ///
    /// # Errors
    /// Those of the writer.
    pub fn write(&self, raw: i128, out: &mut (impl fmt::Write + ?Sized)) -> fmt::Result {
        write_scaled(out, self.scaled(raw), self.decimals)
    }

    /// The raw code whose physical value is nearest to `value`, ties away from zero. It may lie outside the codes
    /// of a field; `None` if it is beyond 128 bits.
    pub fn nearest_raw(&self, value: Decimal) -> Option<i128> {
        // raw = (value × divisor − offset) / step, all over 10^decimals.
        let in_128_bits = || {
            let unit = 10i128.checked_pow(value.decimals)?;
            let above = value.mantissa.checked_mul(self.divisor)?.checked_sub(unit.checked_mul(self.offset)?)?;
            let below = unit.checked_mul(self.step)?;
            // Room for the sign and for doubling the rest.
            let small = |number: i128| number.unsigned_abs() < 1 << 126;
            (small(above) && small(below)).then(|| divide_round(above * below.signum(), below.abs()))
        };
        if let Some(raw) = in_128_bits() {
            return Some(raw);
        }
        let unit = BigInt::from(10).pow(value.decimals);
        let numerator = BigInt::from(value.mantissa) * self.divisor - &unit * self.offset;
        let denominator = unit * self.step;
        let (numerator, denominator) =
            if denominator.is_negative() { (-numerator, -denominator) } else { (numerator, denominator) };
        let quotient = &numerator / &denominator;
        let rest = (&numerator - &quotient * &denominator).abs();
        let rounded = if !rest.is_zero() && &rest * 2 >= denominator {
            if numerator.is_negative() { quotient - 1 } else { quotient + 1 }
        } else {
            quotient
        };
        rounded.to_i128()
    }

    /// The smallest difference between two physical values, as text: exact, or rounded to four significant digits
    /// behind `≈`.
    pub fn step_text(&self) -> String {
        let step = self.step.abs();
        if self.exact {
            return Decimal { mantissa: step * (10i128.pow(self.decimals) / self.divisor), decimals: self.decimals }
                .to_string();
        }
        let decimals = self.decimals + 2;
        match 10i128.checked_pow(decimals).and_then(|unit| step.checked_mul(unit)) {
            Some(scaled) => {
                format!("≈{}", Decimal { mantissa: divide_round(scaled, self.divisor), decimals })
            }
            None => format!("{step}/{}", self.divisor),
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn d(text: &str) -> Decimal {
        Decimal::parse(text).unwrap()
    }

    #[test]
    fn decimals_are_kept_as_written() {
        assert_eq!(d("-1.50").to_string(), "-1.50");
        assert_eq!(d("0x7A1E").mantissa, 0x7A1E);
        assert_eq!(d("0b1_01").mantissa, 5);
        assert_eq!(d("1_000").mantissa, 1000);
        assert_eq!(d("2.5e-3"), Decimal { mantissa: 25, decimals: 4 });
        assert_eq!(d("2.5e3").as_integer(), Some(2500));
        assert_eq!(d("-0.05").to_string(), "-0.05");
        for bad in ["", "-", "1.", ".5", "1_", "0x", "0xG", "12a", "1e99", &"9".repeat(37)] {
            assert_eq!(Decimal::parse(bad), None, "{bad}");
        }
    }

    #[test]
    fn values_are_shown_with_the_decimals_of_their_step() {
        let volts = Scaling::linear(d("0.05"), d("0")).unwrap();
        assert_eq!(volts.physical(246).to_string(), "12.30");
        let level = Scaling::linear(d("0.005"), d("-1.5")).unwrap();
        assert_eq!(level.physical(943).to_string(), "3.215");
        assert_eq!(level.nearest_raw(d("3.217")), Some(943));
        assert_eq!(level.nearest_raw(d("3.2175")), Some(944), "a tie goes away from zero");
    }

    #[test]
    fn spread_ranges_tell_all_codes_apart() {
        let oil = Scaling::spread(d("0"), d("250"), 4095).unwrap();
        assert!(!oil.is_exact());
        assert_eq!(oil.physical(4095).to_string(), "250.00");
        for raw in 0..=4095 {
            assert_eq!(oil.nearest_raw(oil.physical(raw)), Some(raw));
        }
        let tenth = Scaling::spread(d("0"), d("25.5"), 255).unwrap();
        assert!(tenth.is_exact());
        assert_eq!(tenth.physical(123).to_string(), "12.3");
    }

    proptest::proptest! {
        /// 64 bits, where they are enough, say what 128 bits say; and what is written is what is meant.
        #[test]
        fn scaled_values_do_not_depend_on_the_width(
            raw in -5_000_000_000i128..5_000_000_000, step in 1i128..2_000_000, offset in -900_000i128..900_000,
            decimals in 0u32..9, last in 1u64..100_000, falling: bool,
        ) {
            let scale = Decimal { mantissa: if falling { -step } else { step }, decimals };
            let linear = Scaling::linear(scale, Decimal { mantissa: offset, decimals: 3 });
            let spread = Scaling::spread(Decimal::integer(offset), Decimal { mantissa: offset * 10 + step, decimals: 1 }, last);
            for scaling in linear.into_iter().chain(spread) {
                let exact = divide_round((scaling.offset + scaling.step * raw) * 10i128.pow(scaling.decimals), scaling.divisor);
                proptest::prop_assert_eq!(scaling.scaled(raw), exact);
                let mut text = String::new();
                scaling.write(raw, &mut text).unwrap();
                proptest::prop_assert_eq!(Decimal::parse(&text).unwrap().mantissa, exact);
                proptest::prop_assert_eq!(text.split_once('.').map_or(0, |(_, after)| after.len()), scaling.decimals as usize);
            }
        }
    }

    #[test]
    fn rounding_is_to_nearest_with_ties_away_from_zero() {
        assert_eq!(divide_round(5, 2), 3);
        assert_eq!(divide_round(-5, 2), -3);
        assert_eq!(divide_round(4, 3), 1);
        let halves = Scaling::linear(d("2"), d("0")).unwrap();
        assert_eq!(halves.nearest_raw(d("-3")), Some(-2));
        assert_eq!(halves.nearest_raw(d("3")), Some(2));
    }

    /// The way in 128 bits and the way in big integers say the same; a number with many digits takes the second.
    #[test]
    fn rounding_does_not_depend_on_the_digits_that_are_written() {
        let scalings = [("0.005", "-1.5"), ("-0.25", "7"), ("3", "1"), ("0.0625", "-100"), ("-7", "0")];
        let scalings = scalings.map(|(scale, offset)| Scaling::linear(d(scale), d(offset)).unwrap());
        for scaling in scalings.into_iter().chain(Scaling::spread(d("-3"), d("250"), 4095)) {
            for thousandths in -9_000i128..9_000 {
                let short = Decimal { mantissa: thousandths, decimals: 3 };
                let long = Decimal { mantissa: thousandths * 10i128.pow(29), decimals: 32 };
                assert_eq!(scaling.nearest_raw(short), scaling.nearest_raw(long), "{scaling:?} {short}");
                let raw = scaling.nearest_raw(short).unwrap();
                assert_eq!(scaling.compare(raw, short), scaling.compare(raw, long), "{scaling:?} {short}");
            }
        }
    }

    #[test]
    fn numbers_beyond_exact_arithmetic_are_refused() {
        assert!(Scaling::linear(d(&"9".repeat(36)), d("0")).is_none());
        assert!(Scaling::linear(d("0"), d("1")).is_none());
        assert!(Scaling::spread(d("0"), d("1"), u64::MAX >> 8).is_some());
        assert!(
            Scaling::spread(d("0"), d("1"), u64::MAX).is_none(),
            "20 decimals of a 64-bit code do not fit 128 bits"
        );
    }
}
