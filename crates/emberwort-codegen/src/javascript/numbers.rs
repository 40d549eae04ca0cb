//! Numbers: those of up to 53 bits are numbers, wider ones are of type BigInt. Bits are counted in halves of 32.

use emberwort_model::model::{Field, Kind, Selector, Value};
use emberwort_model::number::Scaling;

use crate::lower::{self, Group, Piece, Valid};

/// How a number of so many bits is held.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) enum NumberRepresentation {
    /// Up to 32 bits: operators on bits work on it.
    Small,
    /// Up to 53 bits: exact, but its bits are reached in halves.
    Large,
    /// More: a BigInt.
    Wide,
}

impl NumberRepresentation {
    pub fn of(width: u8) -> Self {
        match width {
            0..=32 => Self::Small,
            33..=53 => Self::Large,
            _ => Self::Wide,
        }
    }
}

/// Whether the values of a field are of type BigInt.
pub fn is_wide(kind: &Kind) -> bool {
    !matches!(kind, Kind::Float(_))
        && kind.raw_bits().is_some_and(|width| NumberRepresentation::of(width) == NumberRepresentation::Wide)
}

/// A number as a literal, as values of this width have it.
pub fn literal(number: i128, width: u8) -> String {
    match (NumberRepresentation::of(width), number < 0) {
        (NumberRepresentation::Wide, false) => format!("BigInt(\"{number}\")"),
        (NumberRepresentation::Wide, true) => format!("-BigInt(\"{}\")", -number),
        _ => number.to_string(),
    }
}

/// A raw number from the bytes that it lies in, unsigned.
pub fn sum(pieces: &[Piece], width: u8, at: &dyn Fn(usize) -> String) -> String {
    let part = |piece: &Piece| {
        let byte = at(piece.byte);
        match (piece.low, piece.low + piece.bits) {
            (0, 8) => byte,
            (low, 8) => format!("{byte} >> {low}"),
            (0, _) => format!("{byte} & {:#04x}", piece.mask()),
            (low, _) => format!("{byte} >> {low} & {:#04x}", piece.mask()),
        }
    };
    let bits = |pieces: &[&Piece], from: u32| {
        let moved = |piece: &&Piece| match (piece.shift - from, part(piece)) {
            (0, part) => part,
            (shift, part) if part.contains(' ') => format!("({part}) << {shift}"),
            (shift, part) => format!("{part} << {shift}"),
        };
        let all = pieces.iter().map(moved).collect::<Vec<_>>().join(" | ");
        // The operators give signed numbers.
        match pieces.iter().any(|piece| piece.shift + piece.bits - from == 32) {
            true => format!("({all}) >>> 0"),
            false => all,
        }
    };
    let number = |pieces: &[&Piece], from: u32| {
        let (low, high): (Vec<&Piece>, Vec<&Piece>) =
            pieces.iter().partition(|piece| piece.shift + piece.bits - from <= 32);
        let mut all = Vec::new();
        if !low.is_empty() {
            let low = bits(&low, from);
            all.push(if high.is_empty() { low } else { format!("({low})") });
        }
        let scaled = |piece: &&Piece| {
            let part = part(piece);
            let part = if part.contains(' ') { format!("({part})") } else { part };
            format!("{part} * {}", 1u64 << (piece.shift - from))
        };
        all.extend(high.iter().map(scaled));
        all.join(" + ")
    };
    let all: Vec<&Piece> = pieces.iter().collect();
    if NumberRepresentation::of(width) != NumberRepresentation::Wide {
        return number(&all, 0);
    }
    let (low, high): (Vec<&Piece>, Vec<&Piece>) = all.iter().partition(|piece| piece.shift < 32);
    let shift = high.iter().map(|piece| piece.shift).min().unwrap_or(32);
    format!("wide({}, {}, {shift})", number(&low, 0), number(&high, shift))
}

/// The part of a number that goes into one byte. `name` is the number; of one wider than 32 bits, its halves are `name` with `Low` and
/// `High` behind it.
pub fn part(name: &str, piece: &Piece, width: u8, is_signed: bool) -> String {
    let mask = piece.mask();
    if NumberRepresentation::of(width) == NumberRepresentation::Small {
        let moved = if piece.shift > 0 { format!("{name} >>> {}", piece.shift) } else { name.to_owned() };
        let is_all = piece.shift + piece.bits == u32::from(width) && !is_signed;
        return if is_all { moved } else { format!("{moved} & {mask:#04x}") };
    }
    match (piece.shift, piece.shift + piece.bits) {
        (0, _) => format!("{name}Low & {mask:#04x}"),
        (shift, end) if end <= 32 => format!("{name}Low >>> {shift} & {mask:#04x}"),
        (32, _) => format!("{name}High & {mask:#04x}"),
        (shift, _) if shift > 32 => format!("{name}High >>> {} & {mask:#04x}", shift - 32),
        (shift, _) => format!("({name}Low >>> {shift} | {name}High << {}) & {mask:#04x}", 32 - shift),
    }
}

/// The value of a raw number that is unsigned so far.
pub fn value_of(kind: &Kind, raw: &str, width: u8, signed: bool) -> String {
    match kind {
        Kind::Bool => format!("({raw}) !== 0"),
        Kind::Float(16 | 32) => format!("floatOf({raw}, 0, {width})"),
        Kind::Float(_) => format!("floatOf(lowOf({raw}), highOf({raw}), {width})"),
        _ if signed => match NumberRepresentation::of(width) {
            NumberRepresentation::Small if width == 32 => format!("({raw}) | 0"),
            NumberRepresentation::Small => format!("({raw}) << {0} >> {0}", 32 - width),
            NumberRepresentation::Large => format!("signed({raw}, {width})"),
            NumberRepresentation::Wide => format!("BigInt.asIntN({width}, {raw})"),
        },
        _ => raw.to_owned(),
    }
}

/// Whether a value has no meaning, as an expression.
pub(crate) fn is_invalid(field: &Field, width: u8, value: &str) -> String {
    let literal = |number: i128| literal(number, width);
    let is_wide = NumberRepresentation::of(width) == NumberRepresentation::Wide;
    let is_whole = match is_wide {
        true => format!("typeof {value} !== \"bigint\" || "),
        false => format!("!isWhole({value}) || "),
    };
    match Valid::of(&field.kind, width) {
        Valid::Range { low, high, none } => {
            let range = format!("!({value} >= {} && {value} <= {})", literal(low), literal(high));
            match none {
                Some(none) => format!("{is_whole}{range} && {value} !== {}", literal(none)),
                None => format!("{is_whole}{range}"),
            }
        }
        Valid::Codes(codes) if codes.is_empty() => "true".to_owned(),
        Valid::Codes(codes) => {
            let one = |code: &u64| format!("{value} !== {}", literal(i128::from(*code)));
            codes.iter().map(one).collect::<Vec<_>>().join(" && ")
        }
        Valid::Flags(known) => match NumberRepresentation::of(width) {
            NumberRepresentation::Small => {
                let greatest = literal((1 << width) - 1);
                let unknown = !known & (u64::MAX >> (64 - width));
                format!("{is_whole}!({value} >= 0 && {value} <= {greatest}) || ({value} & {unknown:#x}) !== 0")
            }
            held => {
                let big =
                    if held == NumberRepresentation::Wide { value.to_owned() } else { format!("BigInt({value})") };
                format!(
                    "{is_whole}!({value} >= 0) || (BigInt.asUintN(64, {big}) | BigInt(\"{known}\")) !== BigInt(\"{known}\")"
                )
            }
        },
        // Looked at where it becomes bits.
        Valid::Finite => "false".to_owned(),
    }
}

/// The value of a field that the sender's revision lacks, if the definition gives one.
pub fn given(field: &Field) -> Option<String> {
    let Some(Value::Raw(raw)) = &field.default else { return None };
    Some(code(&field.kind, *raw))
}

/// A raw number as values of a field have it.
pub fn code(kind: &Kind, raw: u64) -> String {
    let width = kind.raw_bits().unwrap_or(64);
    match kind {
        Kind::Bool => if raw == 0 { "false" } else { "true" }.into(),
        Kind::Float(bits) => format!("floatOf({}, {}, {bits})", raw as u32, raw >> 32),
        kind if kind.is_signed() => literal(i128::from(raw as i64), width),
        _ => literal(i128::from(raw), width),
    }
}

/// The physical value of a code as an expression, and the code of a value: `raw` and `value` stand for them.
pub fn conversions(scaling: &Scaling, width: u8) -> (String, String) {
    let is_wide = NumberRepresentation::of(width) == NumberRepresentation::Wide;
    let (physical, back) = lower::conversions(scaling, if is_wide { "Number(raw)" } else { "raw" }, "");
    let nearest = if is_wide { format!("BigInt(nearest({back}))") } else { format!("nearest({back})") };
    (physical, nearest)
}

/// The number of a case, as the values of what decides about it have it.
pub fn case_number(group: &Group<'_>, selector: &Selector, raw: u64) -> String {
    match selector {
        Selector::Field(slot) => code(&group.fields[*slot].kind, raw),
        Selector::Request { .. } => raw.to_string(),
    }
}
