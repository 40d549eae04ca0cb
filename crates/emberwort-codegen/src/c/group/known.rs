//! Straight-line code for what lies at known places: shifts and masks of bytes, behind one test of the length.

use emberwort_model::model::Kind;
use emberwort_model::plan::{Action, SectionPlan};

use super::{Group, Take, Target, default_raw};
use crate::c::numbers;
use crate::c::words::member;
use crate::lower::{Byte, Known, Piece, What};

/// A byte of the body: of one at a known place, or behind the section's start.
fn byte_at(known: &Known, byte: usize) -> String {
    match known.start {
        Some(start) => format!("body[{}]", start + byte),
        None if byte == 0 => "body[start]".to_owned(),
        None => format!("body[start + {byte}u]"),
    }
}

/// The bits of a byte that belong to a number, moved down.
fn part(piece: &Piece, byte: &str) -> String {
    let moved = if piece.low > 0 { format!("({byte} >> {})", piece.low) } else { byte.to_owned() };
    match piece.low + piece.bits {
        8 => moved,
        _ => format!("({moved} & {:#04X}u)", piece.mask()),
    }
}

/// The raw number of a field from the bytes that it lies in, as its C type.
pub fn number(kind: &Kind, width: u8, pieces: &[Piece], byte: impl Fn(usize) -> String) -> String {
    let raw = numbers::raw_type(kind);
    if *kind == Kind::Bool
        && let [piece] = pieces
    {
        return format!("({} & {:#04X}u) != 0u", byte(piece.byte), piece.mask() << piece.low);
    }
    let wide = match width {
        0..=16 => 16,
        17..=32 => 32,
        _ => 64,
    };
    let one = |piece: &Piece| match (piece.shift, part(piece, &byte(piece.byte))) {
        (0, part) => part,
        (shift, part) => format!("(uint{wide}_t){part} << {shift}"),
    };
    let sum = pieces.iter().map(one).collect::<Vec<_>>().join(" | ");
    if *kind == Kind::Bool {
        return format!("({sum}) != 0u");
    }
    if !kind.is_signed() {
        return match pieces {
            [piece] if raw == "uint8_t" && piece.bits == 8 => sum,
            [_] if sum.starts_with('(') => format!("({raw}){sum}"),
            _ => format!("({raw})({sum})"),
        };
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

/// The statement that changes the part of a number in a byte, and leaves the other bits.
pub fn change(kind: &Kind, width: u8, piece: &Piece, byte: &str, value: &str) -> String {
    let part = part_of(kind, width, piece, value);
    if piece.bits == 8 {
        return format!("{byte} = (uint8_t)({part});");
    }
    let others = 0xFF & !(piece.mask() << piece.low);
    format!("{byte} = (uint8_t)(({byte} & {others:#04X}u) | {part});")
}

impl Group<'_> {
    /// What reads the fields of a section at known places. Its length was tested.
    pub fn read_known(&self, section: &SectionPlan, known: &Known, take: Take, target: &str) -> Vec<String> {
        let deciders = self.deciders();
        let mut lines = Vec::new();
        for item in &known.items {
            let (step, field) = (&section.steps[item.step], &self.fields[item.slot]);
            let name = member(&field.name);
            match (&item.what, &step.action) {
                (What::Number(pieces), Action::Bits { width, .. }) => {
                    let raw = || number(&field.kind, *width, pieces, |byte| byte_at(known, byte));
                    if deciders.contains(&item.slot) {
                        lines.push(format!("key_{} = (uint64_t)({});", item.slot, raw()));
                    }
                    if take == Take::Keep && !field.is_spare() {
                        lines.push(format!("{target}{name} = {};", raw()));
                    }
                }
                (What::Bytes { byte, count, text: false }, _) if take == Take::Keep && !field.is_spare() => {
                    let from = byte_at(known, *byte);
                    lines.push(format!("memcpy({target}{name}, &{from}, {count}u);"));
                }
                (What::Bytes { .. } | What::Spare, _) if take == Take::Nothing || field.is_spare() => {}
                (What::Bytes { byte, .. }, _) => {
                    lines.push(format!("bit = start * 8u + {}u;", byte * 8));
                    lines.extend(self.read_step(step, take, target));
                }
                (What::Group { bit, .. }, _) => {
                    lines.push(format!("bit = start * 8u + {bit}u;"));
                    lines.extend(self.read_step(step, take, target));
                }
                _ => {}
            }
        }
        lines
    }

    /// What writes the fields of a section at known places: first all values are looked at, then the room, then each byte is written once.
    pub fn write_known(&self, section: &SectionPlan, known: &Known, target: &str) -> Vec<String> {
        let upper = self.upper;
        let mut lines = Vec::new();
        let numbers = || {
            known.items.iter().filter_map(|item| match (&item.what, &section.steps[item.step].action) {
                (What::Number(_), Action::Bits { width, .. }) if !self.fields[item.slot].is_spare() => {
                    Some((item.slot, *width))
                }
                _ => None,
            })
        };
        let value = |slot: usize| format!("{target}{}", member(&self.fields[slot].name));
        let checked: Vec<String> = numbers()
            .filter(|(slot, _)| !numbers::is_always_valid(&self.fields[*slot]))
            .map(|(slot, _)| format!("!{}_{}_valid({})", self.stem, member(&self.fields[slot].name), value(slot)))
            .collect();
        if !checked.is_empty() {
            let condition = checked.join("\n    || ");
            lines.push(format!("if ({condition}) {{\n    return {upper}_OUT_OF_RANGE;\n}}"));
        }
        let end = match known.start {
            Some(start) => format!("room < {}u", start + known.bytes),
            None => format!("room < start + {}u", known.bytes),
        };
        if known.bytes > 0 {
            lines.push(format!("if ({end}) {{\n    return {upper}_NO_ROOM;\n}}"));
        }
        let is_sent = |slot: usize| !self.fields[slot].is_spare();
        for Byte { byte, parts } in known.sums(is_sent) {
            let part = |(slot, piece): &(usize, Piece)| {
                let width = numbers().find(|(of, _)| of == slot).map_or(8, |(_, width)| width);
                (part_of(&self.fields[*slot].kind, width, piece, &value(*slot)), self.fields[*slot].kind == Kind::Bool)
            };
            let place = byte_at(known, byte);
            let all: Vec<(String, bool)> = parts.iter().map(part).collect();
            lines.push(match all.as_slice() {
                [] => format!("{place} = 0u;"),
                all => {
                    let sum = all.iter().map(|(part, _)| part.as_str()).collect::<Vec<_>>().join(" | ");
                    format!("{place} = (uint8_t)({sum});")
                }
            });
        }
        for item in &known.items {
            let (step, field) = (&section.steps[item.step], &self.fields[item.slot]);
            match &item.what {
                What::Bytes { byte, count, text: false } if !field.is_spare() => {
                    lines.push(format!("memcpy(&{}, {}, {count}u);", byte_at(known, *byte), value(item.slot)));
                }
                What::Bytes { byte, .. } if !field.is_spare() => {
                    lines.push(format!("bit = start * 8u + {}u;", byte * 8));
                    lines.extend(self.write_step(step, target));
                }
                What::Group { bit, .. } if !field.is_spare() => {
                    lines.push(format!("bit = start * 8u + {bit}u;"));
                    lines.extend(self.write_step(step, target));
                }
                _ => {}
            }
        }
        lines
    }

    /// Whether all its fields are numbers and bytes at known places, and all its sections have known sizes.
    pub fn is_plain(&self) -> bool {
        self.is_body
            && self.sections.iter().enumerate().all(|(index, section)| {
                let is_plain = |what: &What| !matches!(what, What::Group { .. } | What::Bytes { text: true, .. });
                let is_bytes = |what: &What| matches!(what, What::Bytes { .. });
                let known = self.known(index);
                // What a later section lacks is set number by number.
                section.fixed
                    && known.items.len() == section.steps.len()
                    && known.items.iter().all(|item| is_plain(&item.what) && !(index > 0 && is_bytes(&item.what)))
            })
    }

    /// Whether it puts numbers into bytes bit by bit, so that these have to be zero.
    pub fn puts_bits(&self) -> bool {
        self.sections.iter().enumerate().any(|(index, section)| {
            !section.fixed || self.known(index).items.iter().any(|item| matches!(item.what, What::Group { .. }))
        })
    }

    /// What sets a field that a body does not have: its default, or nothing.
    pub fn unset(&self, slot: usize, action: &Action, target: &str) -> Vec<String> {
        let field = &self.fields[slot];
        let name = member(&field.name);
        let to = Target { prefix: target, name: &name };
        match action {
            Action::Bits { .. } => vec![format!("{} = {};", to.value(), default_raw(field))],
            _ => Vec::new(),
        }
    }
}
