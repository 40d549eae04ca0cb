//! Numbers as shifts and masks of the bytes that they lie in.

use emberwort_model::model::Kind;

use crate::c::numbers;
use crate::c::tree::{Expr, expr};
use crate::c::words::unsigned_type;
use crate::lower::Piece;

/// The bits of a byte that belong to a number, moved down.
fn part(piece: &Piece, byte: Expr) -> Expr {
    let moved = if piece.low > 0 { expr![byte, format!(" >> {}", piece.low)].bracketed() } else { byte };
    match piece.low + piece.bits {
        8 => moved,
        _ => expr![moved, format!(" & {:#04X}u", piece.mask())].bracketed(),
    }
}

/// Bits of the type in which a number of a width is put together.
fn wide(width: u8) -> u8 {
    match width {
        0..=16 => 16,
        17..=32 => 32,
        _ => 64,
    }
}

/// The sum of a number's parts.
fn sum(width: u8, pieces: &[Piece], byte: impl Fn(usize) -> Expr) -> Expr {
    // Compilers make one load of bytes that all are of the type of the sum.
    let ty = match wide(width) {
        16 => "unsigned".to_owned(),
        bits => format!("uint{bits}_t"),
    };
    let one = |piece: &Piece| match (piece.shift, part(piece, byte(piece.byte))) {
        (0, part) if pieces.len() == 1 || wide(width) == 16 => part,
        (0, part) => expr![format!("({ty})"), part],
        (shift, part) => expr![format!("({ty})"), part, format!(" << {shift}")],
    };
    match pieces {
        [only] => one(only),
        several => Expr::joined(several.iter().map(one), " | "),
    }
}

fn as_unsigned(raw: &str, pieces: &[Piece], sum: Expr) -> Expr {
    match pieces {
        [piece] if raw == "uint8_t" && piece.bits == 8 => sum,
        _ => cast(raw, sum),
    }
}

/// An expression as another type.
fn cast(ty: &str, expression: Expr) -> Expr {
    let expression = if expression.is_bracketed() { expression } else { expression.bracketed() };
    expr![format!("({ty})"), expression]
}

/// An unsigned number from the bytes that it lies in.
pub fn unsigned(width: u8, pieces: &[Piece], byte: impl Fn(usize) -> Expr) -> Expr {
    as_unsigned(unsigned_type(width), pieces, sum(width, pieces, byte))
}

/// What is assigned to each byte that an unsigned number lies in: bytes that it fills are written, of others only its bits change.
pub(crate) fn put_unsigned(pieces: &[Piece], byte: impl Fn(usize) -> Expr, value: &Expr) -> Vec<Expr> {
    let one = |piece: &Piece| {
        let byte = byte(piece.byte);
        let moved = match piece.shift {
            0 => value.clone(),
            shift => expr![value, format!(" >> {shift}")].bracketed(),
        };
        if piece.bits == 8 {
            return match pieces.len() {
                1 => expr![byte, " = ", as_byte(moved)],
                _ => expr![byte, " = (uint8_t)(", moved, " & 0xFFu)"],
            };
        }
        let part = expr![moved, format!(" & {:#04X}u", piece.mask())].bracketed();
        let part = if piece.low > 0 { expr![part, format!(" << {}", piece.low)].bracketed() } else { part };
        with_part(byte, piece, part)
    };
    pieces.iter().map(one).collect()
}

/// What is assigned to a byte of which only some bits change.
fn with_part(byte: Expr, piece: &Piece, part: Expr) -> Expr {
    let others = 0xFF & !(piece.mask() << piece.low);
    expr![&byte, " = (uint8_t)((", &byte, format!(" & {others:#04X}u) | "), part, ")"]
}

/// The raw number of a field from the bytes that it lies in, as its C type.
pub fn number(link: &str, kind: &Kind, width: u8, pieces: &[Piece], byte: impl Fn(usize) -> Expr) -> Expr {
    let raw = &numbers::raw_type(link, kind);
    if *kind == Kind::Bool
        && let [piece] = pieces
    {
        return expr!["(", byte(piece.byte), format!(" & {:#04X}u) != 0u", piece.mask() << piece.low)];
    }
    let wide = wide(width);
    let sum = sum(width, pieces, byte);
    if *kind == Kind::Bool {
        return expr!["(", sum, ") != 0u"];
    }
    if !kind.is_signed() {
        return as_unsigned(raw, pieces, sum);
    }
    match width {
        8 | 16 | 32 | 64 => expr![format!("({raw})(uint{width}_t)("), sum, ")"],
        // Two's complement: flip the sign bit and subtract it again.
        0..16 => {
            let sign = 1u32 << (width - 1);
            expr![format!("({raw})((int)((unsigned)("), sum, format!(") ^ {sign:#X}u) - {sign:#X})")]
        }
        _ => {
            let sign = 1u64 << (width - 1);
            let flipped = expr![format!("(int{wide}_t)(("), sum, format!(") ^ UINT{wide}_C({sign:#X}))")];
            expr![format!("({raw})("), flipped, format!(" - INT{wide}_C({sign:#X}))")]
        }
    }
}

/// The bits of a number that go into a byte, at their place there; `bits` is the width of the number.
pub(crate) fn part_of(kind: &Kind, width: u8, piece: &Piece, value: &str) -> Expr {
    let in_place = piece.mask() << piece.low;
    if *kind == Kind::Bool && piece.shift == 0 {
        return Expr::from(format!("{value} ? {in_place:#04X}u : 0u")).bracketed();
    }
    let unsigned = match kind.is_signed() {
        true => format!("(uint{}_t){value}", width.next_power_of_two().max(8)),
        false => value.to_owned(),
    };
    // What is above falls off: since the number has no more bits, or the byte has not.
    let is_top = piece.shift + piece.bits == u32::from(width) && !kind.is_signed();
    let needs_no_mask = piece.low + piece.bits == 8 || is_top;
    // Small types become `int`, and a mask makes them unsigned again.
    let unsigned =
        if needs_no_mask && piece.bits < 8 && width <= 16 { format!("(unsigned){unsigned}") } else { unsigned };
    let moved = match piece.shift {
        0 => Expr::from(unsigned),
        shift => Expr::from(format!("{unsigned} >> {shift}")).bracketed(),
    };
    let masked = match needs_no_mask {
        true => moved,
        false => expr![moved, format!(" & {:#04X}u", piece.mask())].bracketed(),
    };
    if piece.low > 0 { expr![masked, format!(" << {}", piece.low)].bracketed() } else { masked }
}

/// An expression as a byte.
pub(crate) fn as_byte(expression: Expr) -> Expr {
    cast("uint8_t", expression)
}

/// What is assigned to a byte to change the part of a number in it, and leave the other bits.
pub fn change(kind: &Kind, width: u8, piece: &Piece, byte: Expr, value: &str) -> Expr {
    let part = part_of(kind, width, piece, value);
    match piece.bits {
        8 => expr![byte, " = ", as_byte(part)],
        _ => with_part(byte, piece, part),
    }
}
