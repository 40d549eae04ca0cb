//! One number every way: physical, raw, hex, binary, bytes, and what another width would give.
//!
//! Everything is exact; where a decimal has to be rounded, `≈` stands in front of it.

use num_bigint::BigInt;
use num_rational::BigRational;
use num_traits::{One, Signed, Zero};

use crate::hex::hex;
use crate::model::{Field, Kind, Labelled, NumberForm, float_text, float_value};
use crate::number::{Decimal, Scaling};

/// One way to see a number: what it is, and how it reads.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct View {
    /// What is shown, as `raw` or `bytes, least significant first`.
    pub what: String,
    /// How it reads.
    pub text: String,
}

fn view(what: &str, text: impl Into<String>) -> View {
    View { what: what.to_owned(), text: text.into() }
}

/// A raw number as its field's type reads it.
fn signed(kind: &Kind, raw: u64) -> i128 {
    if kind.is_signed() { i128::from(raw as i64) } else { i128::from(raw) }
}

fn mask(bits: u8) -> u64 {
    if bits >= 64 { u64::MAX } else { (1 << bits) - 1 }
}

/// Binary digits in groups of four, as many as the width has.
pub fn binary(raw: u64, bits: u8) -> String {
    let digits = format!("{:0width$b}", raw & mask(bits), width = usize::from(bits));
    let lead = digits.len() % 4;
    let (first, rest) = digits.split_at(lead);
    let groups = rest.as_bytes().chunks(4).map(|group| String::from_utf8_lossy(group).into_owned());
    let all: Vec<String> = (!first.is_empty()).then(|| first.to_owned()).into_iter().chain(groups).collect();
    all.join(" ")
}

fn exact(scaling: &Scaling, raw: i128) -> BigRational {
    let (offset, step, divisor) = scaling.parts();
    BigRational::new(BigInt::from(offset) + BigInt::from(step) * raw, BigInt::from(divisor))
}

fn rational(value: Decimal) -> BigRational {
    BigRational::new(BigInt::from(value.mantissa), BigInt::from(10).pow(value.decimals))
}

/// A rational as a decimal: all its digits if they end within 20 places, else rounded to some that count, behind `≈`.
pub(crate) fn rational_text(value: &BigRational, counting: u32) -> String {
    let ten = BigInt::from(10);
    if let Some(places) = (0..=20u32).find(|places| (value * BigRational::from(ten.pow(*places))).is_integer()) {
        return digits_text(&(value * BigRational::from(ten.pow(places))).to_integer(), places);
    }
    let mut places = counting.max(1) - 1;
    let mut size = value.abs();
    while size < BigRational::one() && places < 60 {
        size *= BigRational::from(ten.clone());
        places += 1;
    }
    let scaled = (value * BigRational::from(ten.pow(places))).round().to_integer();
    format!("≈{}", digits_text(&scaled, places))
}

fn digits_text(value: &BigInt, places: u32) -> String {
    let digits = value.abs().to_string();
    let places = places as usize;
    let digits = format!("{digits:0>width$}", width = places + 1);
    let (whole, fraction) = digits.split_at(digits.len() - places);
    let sign = if value.is_negative() { "-" } else { "" };
    if fraction.is_empty() { format!("{sign}{whole}") } else { format!("{sign}{whole}.{fraction}") }
}

fn with_unit(text: String, field: &Field) -> String {
    if field.unit.is_empty() { text } else { format!("{text} {}", field.unit) }
}

/// The exact value of a decimal text; `None` if it is none, or has an exponent beyond 5,000.
fn decimal(text: &str) -> Option<BigRational> {
    let (mantissa, exponent) = text.split_once(['e', 'E']).unwrap_or((text, "0"));
    let exponent: i32 = exponent.parse().ok().filter(|exponent: &i32| exponent.abs() <= 5_000)?;
    let (whole, fraction) = mantissa.split_once('.').unwrap_or((mantissa, ""));
    let digits: BigInt = format!("{whole}{fraction}").parse().ok()?;
    let power = exponent - i32::try_from(fraction.len()).ok()?;
    let scale = BigRational::from(BigInt::from(10).pow(power.unsigned_abs()));
    let digits = BigRational::from(digits);
    Some(if power < 0 { digits / scale } else { digits * scale })
}

/// A raw number every way. `asked` is the physical value for which it was chosen, as a decimal text.
pub fn of_raw(field: &Field, raw: u64, asked: Option<&str>) -> Vec<View> {
    let Some(bits) = field.kind.raw_bits() else { return Vec::new() };
    let kind = &field.kind;
    let number = signed(kind, raw);
    let pattern = raw & mask(bits);
    let mut views = Vec::new();
    if let Some(asked) = asked {
        views.push(view("asked for", with_unit(asked.to_owned(), field)));
    }
    let asked = asked.and_then(decimal);
    views.push(view("value", meaning(field, raw)));
    if let (Some(asked), Kind::Number(form) | Kind::Varint(form)) = (&asked, kind)
        && form.none != Some(number)
    {
        let error = exact(&form.scaling, number) - asked;
        let sign = if error.is_positive() { "+" } else { "" };
        views.push(view("error of rounding", with_unit(format!("{sign}{}", rational_text(&error, 4)), field)));
    }
    if let (Some(asked), Kind::Float(bits)) = (&asked, kind)
        && let Some(value) = float_exactly(*bits, raw)
    {
        let is_underflow = value.is_zero() && !asked.is_zero();
        let error = value - asked;
        let sign = if error.is_positive() { "+" } else { "" };
        views.push(view("error of rounding", with_unit(format!("{sign}{}", rational_text(&error, 4)), field)));
        if is_underflow {
            let least = with_unit(float_text(*bits, 1), field);
            views.push(view("underflow", format!("to zero: the least above zero is {least}")));
        }
    }
    views.push(view("raw", number.to_string()));
    let digits = usize::from(bits).div_ceil(4);
    views.push(view("hex", format!("0x{pattern:0digits$X}")));
    views.push(view("binary", binary(pattern, bits)));
    if let Kind::Varint(_) = kind {
        views.push(view("bytes", hex(&varint_bytes(raw, kind.is_signed()))));
    } else {
        let count = usize::from(bits).div_ceil(8);
        let bytes = pattern.to_le_bytes();
        let little = hex(&bytes[..count]);
        if count == 1 {
            views.push(view("byte", little));
        } else {
            let big: Vec<u8> = bytes[..count].iter().rev().copied().collect();
            views.push(view("bytes, little-endian", little));
            views.push(view("bytes, big-endian", hex(&big)));
        }
    }
    match kind {
        Kind::Number(form) | Kind::Varint(form) => {
            let plain = form.scaling.is_identity();
            // With the highest bit clear both readings are the same.
            if plain && bits > 1 && pattern >> (bits - 1) != 0 {
                if form.signed {
                    views.push(view("read as unsigned", pattern.to_string()));
                } else {
                    let unused = 64 - u32::from(bits);
                    views.push(view("read as signed", (((pattern << unused) as i64) >> unused).to_string()));
                }
            }
            if !plain {
                for (what, next) in [("one code less", number - 1), ("one code more", number + 1)] {
                    if (form.low..=form.high).contains(&next) && form.none != Some(number) {
                        views.push(view(what, with_unit(form.scaling.physical(next).to_string(), field)));
                    }
                }
            }
        }
        Kind::Float(bits) => views.extend(float_parts(*bits, raw)),
        Kind::Flags(labels) => views.extend(flag_parts(labels, raw)),
        _ => {}
    }
    views
}

/// What a raw number means, with its unit.
fn meaning(field: &Field, raw: u64) -> String {
    let number = signed(&field.kind, raw);
    if field.kind.none() == Some(number) {
        return "none: no reading".into();
    }
    match &field.kind {
        Kind::Float(bits) if !float_value(*bits, raw).is_finite() => {
            if float_value(*bits, raw).is_nan() {
                "not a number".into()
            } else {
                "infinity".into()
            }
        }
        kind if !kind.is_valid(number) => "nothing: the type gives this code no meaning".into(),
        Kind::Number(form) | Kind::Varint(form) => {
            let shown = form.scaling.physical(number);
            let rounded = rational(shown) != exact(&form.scaling, number);
            with_unit(format!("{}{shown}", if rounded { "≈" } else { "" }), field)
        }
        Kind::Bool => (raw != 0).to_string(),
        Kind::Float(bits) => with_unit(float_text(*bits, raw), field),
        Kind::Enum { labels, .. } => labels.label(raw).map_or(String::new(), |label| {
            if label.text.is_empty() { label.name.clone() } else { format!("{}: {}", label.name, label.text) }
        }),
        Kind::Flags(labels) => {
            let set: Vec<&str> = labels
                .labels
                .iter()
                .filter(|label| raw >> label.code & 1 == 1)
                .map(|label| label.name.as_str())
                .collect();
            format!("[{}]", set.join(", "))
        }
        _ => raw.to_string(),
    }
}

/// An integer of variable length: seven bits a byte, low group first.
fn varint_bytes(raw: u64, signed: bool) -> Vec<u8> {
    let mut left = if signed { (raw << 1) ^ ((raw as i64 >> 63) as u64) } else { raw };
    let mut bytes = Vec::new();
    loop {
        let more = u8::from(left > 0x7F) << 7;
        bytes.push(left as u8 & 0x7F | more);
        left >>= 7;
        if more == 0 {
            return bytes;
        }
    }
}

/// Exponent and significand bits of IEEE 754 formats.
fn float_format(bits: u8) -> (u32, u32) {
    match bits {
        16 => (5, 10),
        32 => (8, 23),
        _ => (11, 52),
    }
}

/// The exact value of a finite IEEE 754 number.
fn float_exactly(bits: u8, raw: u64) -> Option<BigRational> {
    let (exponent_bits, fraction_bits) = float_format(bits);
    let bias = (1i64 << (exponent_bits - 1)) - 1;
    let exponent = (raw >> fraction_bits & ((1 << exponent_bits) - 1)) as i64;
    let fraction = raw & ((1 << fraction_bits) - 1);
    let (power, whole) = match exponent {
        0 => (1 - bias, fraction),
        e if e == (1 << exponent_bits) - 1 => return None,
        e => (e - bias, fraction | 1 << fraction_bits),
    };
    let shift = power - i64::from(fraction_bits);
    let value = BigRational::from(BigInt::from(whole));
    let two = BigRational::from(BigInt::from(2).pow(shift.unsigned_abs() as u32));
    let value = if shift < 0 { value / two } else { value * two };
    Some(if raw >> (bits - 1) & 1 == 1 { -value } else { value })
}

/// Sign, exponent, significand, the exact value, and the neighbours.
fn float_parts(bits: u8, raw: u64) -> Vec<View> {
    let (exponent_bits, fraction_bits) = float_format(bits);
    let bias = (1i64 << (exponent_bits - 1)) - 1;
    let sign = raw >> (bits - 1) & 1;
    let exponent = (raw >> fraction_bits & ((1 << exponent_bits) - 1)) as i64;
    let fraction = raw & ((1 << fraction_bits) - 1);
    let mut views = vec![view("sign", if sign == 1 { "1: negative" } else { "0: positive" })];
    let top = (1i64 << exponent_bits) - 1;
    let (what, power, whole) = match exponent {
        0 => ("subnormal", 1 - bias, fraction),
        e if e == top => ("no finite number", 0, fraction),
        e => ("", e - bias, fraction | 1 << fraction_bits),
    };
    let power_text = match what {
        "no finite number" => format!("{exponent}: no finite number"),
        "" => format!("{exponent} - {bias} = {power}"),
        _ => format!("{exponent}: {what}, the power is {power}"),
    };
    views.push(view("exponent", power_text));
    views.push(view("significand", format!("{} of 2^{fraction_bits}", whole)));
    if exponent == top {
        return views;
    }
    if let Some(value) = float_exactly(bits, raw) {
        views.push(view("exactly", rational_text(&value, 12)));
    }
    let magnitude = raw & mask(bits - 1);
    if magnitude < mask(bits - 1) {
        let next = (raw & !mask(bits - 1)) | (magnitude + 1);
        if float_value(bits, next).is_finite() {
            views.push(view("next further from zero", float_text(bits, next)));
        }
    }
    views
}

fn flag_parts(labels: &Labelled, raw: u64) -> Vec<View> {
    (0..u64::from(labels.bits))
        .filter(|bit| raw >> bit & 1 == 1)
        .map(|bit| {
            let label = labels.label(bit).map_or("no label", |label| label.name.as_str());
            view(&format!("bit {bit}"), label)
        })
        .collect()
}

/// What a type holds: bits, codes, least and greatest value, step, codes that are left over.
pub fn of_type(field: &Field) -> Vec<View> {
    let Some(bits) = field.kind.raw_bits() else { return Vec::new() };
    let mut views = vec![view(
        "bits",
        if field.kind.is_varint() {
            format!("8 to {} on the wire, {bits} of value", usize::from(bits).div_ceil(7) * 8)
        } else {
            bits.to_string()
        },
    )];
    let all = BigInt::from(1) << bits;
    match &field.kind {
        Kind::Number(form) | Kind::Varint(form) => {
            let codes = form.high - form.low + 1;
            let none = i128::from(form.none.is_some());
            let (low, high) = ends(form);
            views.push(view("codes", format!("{codes}: {} .. {}", form.low, form.high)));
            if let Some(none) = form.none {
                views.push(view("none", format!("code {none}")));
            }
            views.push(view("left over", (all - codes - none).to_string()));
            views.push(view("least", with_unit(low.to_string(), field)));
            views.push(view("greatest", with_unit(high.to_string(), field)));
            let step = exact(&form.scaling, 1) - exact(&form.scaling, 0);
            views.push(view("step", with_unit(rational_text(&step.abs(), 4), field)));
        }
        Kind::Enum { labels, none } => {
            views.push(view("labels", labels.labels.len().to_string()));
            views.push(view("left over", (all - labels.labels.len() - usize::from(none.is_some())).to_string()));
            for label in &labels.labels {
                let text =
                    if label.text.is_empty() { label.name.clone() } else { format!("{}: {}", label.name, label.text) };
                views.push(view(&format!("code {}", labels.code_text(label.code)), text));
            }
            if let Some(none) = none {
                views.push(view(&format!("code {}", labels.code_text(*none)), "none: no reading"));
            }
        }
        Kind::Flags(labels) => {
            views.push(view("left over", format!("{} bits", usize::from(labels.bits) - labels.labels.len())));
            for label in &labels.labels {
                let text =
                    if label.text.is_empty() { label.name.clone() } else { format!("{}: {}", label.name, label.text) };
                views.push(view(&format!("bit {}", label.code), text));
            }
        }
        Kind::Float(bits) => {
            let (exponent_bits, fraction_bits) = float_format(*bits);
            let digits = f64::from(fraction_bits + 1) * 2f64.log10();
            let greatest = ((1u64 << (exponent_bits - 1)) - 1 + ((1u64 << (exponent_bits - 1)) - 1)) << fraction_bits
                | ((1 << fraction_bits) - 1);
            views.push(view("parts", format!("1 sign, {exponent_bits} exponent, {fraction_bits} significand")));
            views.push(view("greatest", with_unit(float_text(*bits, greatest), field)));
            views.push(view("least above zero", with_unit(float_text(*bits, 1), field)));
            views.push(view("decimal digits", format!("≈{digits:.1}")));
        }
        Kind::Time { milliseconds } => {
            let last = if *milliseconds { "9999-12-30T22:00:00.000Z" } else { "2106-02-07T06:28:15Z" };
            views.push(view("least", "1970-01-01T00:00:00Z"));
            views.push(view("greatest", last));
        }
        _ => {}
    }
    views
}

/// Least and greatest physical value.
fn ends(form: &NumberForm) -> (Decimal, Decimal) {
    let (a, b) = (form.scaling.physical(form.low), form.scaling.physical(form.high));
    if a.compare(b).is_le() { (a, b) } else { (b, a) }
}

/// What another width would give the same field.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct WidthRow {
    /// The width in bits.
    pub bits: u8,
    /// Codes for values.
    pub codes: String,
    /// Least and greatest value.
    pub range: String,
    /// The step that the width gives.
    pub step: String,
}

/// What one bit, and a byte, fewer or more would give: of a range a finer or coarser step, of an integer another range.
pub fn other_widths(field: &Field) -> Vec<WidthRow> {
    let Kind::Number(form) = &field.kind else { return Vec::new() };
    let bits = form.bits;
    let byte_below = (bits.saturating_sub(1) / 8) * 8;
    let byte_above = (bits / 8 + 1) * 8;
    let mut widths = vec![byte_below, bits.saturating_sub(1), bits, bits + 1, byte_above];
    widths.retain(|width| (1..=64).contains(width) && (!form.signed || *width > 1));
    widths.sort_unstable();
    widths.dedup();
    // A range keeps its ends and changes its step; an integer keeps its step and changes its ends.
    let (low, high) = (exact(&form.scaling, form.low), exact(&form.scaling, form.high));
    let step = exact(&form.scaling, 1) - exact(&form.scaling, 0);
    let none = i128::from(form.none.is_some());
    let rows = widths.into_iter().filter_map(|width| {
        let codes = (1i128 << width) - none;
        if !form.is_range {
            let (first, last) =
                if form.signed { (-(1i128 << (width - 1)) + none, (1i128 << (width - 1)) - 1) } else { (0, codes - 1) };
            let (a, b) = (exact(&form.scaling, first), exact(&form.scaling, last));
            let (a, b) = if a <= b { (a, b) } else { (b, a) };
            return Some(WidthRow {
                bits: width,
                codes: codes.to_string(),
                range: format!("{} .. {}", rational_text(&a, 6), rational_text(&b, 6)),
                step: rational_text(&step.abs(), 4),
            });
        }
        if codes < 2 {
            return None;
        }
        let finest = (&high - &low) / BigRational::from(BigInt::from(codes - 1));
        let range = format!("{} .. {}", rational_text(&low, 6), rational_text(&high, 6));
        Some(WidthRow { bits: width, codes: codes.to_string(), range, step: rational_text(&finest.abs(), 4) })
    });
    rows.collect()
}

/// A raw number as a user writes it; of signed types also as its bit pattern.
///
/// # Errors
/// What the type can hold.
pub fn raw_from_text(field: &Field, text: &str) -> Result<u64, String> {
    let Some(bits) = field.kind.raw_bits() else { return Err("this type has no raw number".into()) };
    let number = Decimal::parse(text.trim()).and_then(Decimal::as_integer);
    let Some(number) = number else { return Err("a raw number is whole: 943, 0x3AF or 0b11_1010".into()) };
    let (least, greatest) = if field.kind.is_signed() {
        (-(1i128 << (bits - 1)), i128::from(mask(bits)))
    } else {
        (0, i128::from(mask(bits)))
    };
    if !(least..=greatest).contains(&number) {
        return Err(format!("{number} does not fit; {bits} bits hold {least} .. {greatest}"));
    }
    // A bit pattern of a signed type may be given as it looks: 0xFFFE for -2.
    let unused = 64 - u32::from(bits);
    let raw = number as u64;
    Ok(if field.kind.is_signed() { (((raw << unused) as i64) >> unused) as u64 } else { raw })
}
