//! Numbers as shifts and masks of the bytes that they lie in.

use emberwort_model::model::Kind;

use crate::c::numbers;
use crate::c::words::unsigned_type;
use crate::lower::Piece;

/// The bits of a byte that belong to a number, moved down.
fn part(piece: &Piece, byte: &str) -> String {
    let moved = if piece.low > 0 { format!("({byte} >> {})", piece.low) } else { byte.to_owned() };
    match piece.low + piece.bits {
        8 => moved,
        _ => format!("({moved} & {:#04X}u)", piece.mask()),
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
fn sum(width: u8, pieces: &[Piece], byte: impl Fn(usize) -> String) -> String {
    // Compilers make one load of bytes that all are of the type of the sum.
    let ty = match wide(width) {
        16 => "unsigned".to_owned(),
        bits => format!("uint{bits}_t"),
    };
    let one = |piece: &Piece| match (piece.shift, part(piece, &byte(piece.byte))) {
        (0, part) if pieces.len() == 1 || wide(width) == 16 => part,
        (0, part) => format!("({ty}){part}"),
        (shift, part) => format!("({ty}){part} << {shift}"),
    };
    pieces.iter().map(one).collect::<Vec<_>>().join(" | ")
}

fn as_unsigned(raw: &str, pieces: &[Piece], sum: &str) -> String {
    match pieces {
        [piece] if raw == "uint8_t" && piece.bits == 8 => sum.to_owned(),
        [_] if sum.starts_with('(') => format!("({raw}){sum}"),
        _ => format!("({raw})({sum})"),
    }
}

/// An unsigned number from the bytes that it lies in.
pub fn unsigned(width: u8, pieces: &[Piece], byte: impl Fn(usize) -> String) -> String {
    as_unsigned(unsigned_type(width), pieces, &sum(width, pieces, byte))
}

/// The statements that write an unsigned number: bytes that it fills are written, of others only its bits change.
pub fn put_unsigned(pieces: &[Piece], byte: impl Fn(usize) -> String, value: &str) -> Vec<String> {
    let one = |piece: &Piece| {
        let byte = byte(piece.byte);
        let moved = if piece.shift > 0 { format!("({value} >> {})", piece.shift) } else { value.to_owned() };
        if piece.bits == 8 {
            return match pieces.len() {
                1 => format!("{byte} = {};", as_byte(&moved)),
                _ => format!("{byte} = (uint8_t)({moved} & 0xFFu);"),
            };
        }
        let others = 0xFF & !(piece.mask() << piece.low);
        let part = format!("({moved} & {:#04X}u)", piece.mask());
        let part = if piece.low > 0 { format!("({part} << {})", piece.low) } else { part };
        format!("{byte} = (uint8_t)(({byte} & {others:#04X}u) | {part});")
    };
    pieces.iter().map(one).collect()
}

/// The raw number of a field from the bytes that it lies in, as its C type.
pub fn number(link: &str, kind: &Kind, width: u8, pieces: &[Piece], byte: impl Fn(usize) -> String) -> String {
    let raw = &numbers::raw_type(link, kind);
    if *kind == Kind::Bool
        && let [piece] = pieces
    {
        return format!("({} & {:#04X}u) != 0u", byte(piece.byte), piece.mask() << piece.low);
    }
    let wide = wide(width);
    let sum = sum(width, pieces, byte);
    if *kind == Kind::Bool {
        return format!("({sum}) != 0u");
    }
    if !kind.is_signed() {
        return as_unsigned(raw, pieces, &sum);
    }
    match width {
        8 | 16 | 32 | 64 => format!("({raw})(uint{width}_t)({sum})"),
        // Two's complement: flip the sign bit and subtract it again.
        0..16 => {
            let sign = 1u32 << (width - 1);
            format!("({raw})((int)((unsigned)({sum}) ^ {sign:#X}u) - {sign:#X})")
        }
        _ => {
            let sign = 1u64 << (width - 1);
            let flipped = format!("(int{wide}_t)(({sum}) ^ UINT{wide}_C({sign:#X}))");
            format!("({raw})({flipped} - INT{wide}_C({sign:#X}))")
        }
    }
}

/// The bits of a number that go into a byte, at their place there; `bits` is the width of the number.
pub fn part_of(kind: &Kind, width: u8, piece: &Piece, value: &str) -> String {
    let in_place = piece.mask() << piece.low;
    if *kind == Kind::Bool && piece.shift == 0 {
        return format!("({value} ? {in_place:#04X}u : 0u)");
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
    let moved = if piece.shift > 0 { format!("({unsigned} >> {})", piece.shift) } else { unsigned };
    let masked = match needs_no_mask {
        true => moved,
        false => format!("({moved} & {:#04X}u)", piece.mask()),
    };
    if piece.low > 0 { format!("({masked} << {})", piece.low) } else { masked }
}

/// An expression as a byte.
pub fn as_byte(expression: &str) -> String {
    if expression.starts_with('(') && expression.ends_with(')') {
        return format!("(uint8_t){expression}");
    }
    format!("(uint8_t)({expression})")
}

/// The statement that changes the part of a number in a byte, and leaves the other bits.
pub fn change(kind: &Kind, width: u8, piece: &Piece, byte: &str, value: &str) -> String {
    let part = part_of(kind, width, piece, value);
    if piece.bits == 8 {
        return format!("{byte} = {};", as_byte(&part));
    }
    let others = 0xFF & !(piece.mask() << piece.low);
    format!("{byte} = (uint8_t)(({byte} & {others:#04X}u) | {part});")
}
