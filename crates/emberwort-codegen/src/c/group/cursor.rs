//! The place in a section behind its known places: a byte where all that lies there is of whole bytes, else a bit.

use emberwort_model::model::{ByteOrder, Kind};
use emberwort_model::plan::{Action, ElementSizes, Place, SectionPlan, Step};

use super::expressions::{as_byte, number, part_of};
use super::{ALIGN, Group};
use crate::lower::{Piece, pieces};

/// What counts the place in a section.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Cursor {
    /// The variable `here`, a byte of the body.
    Bytes,
    /// The variable `bit`, a bit of the body in the order in which it is filled.
    Bits,
}

/// How much is read, or written.
pub enum Size<'a> {
    /// So many bits.
    Bits(u64),
    /// So many bytes, as an expression of type `size_t`.
    Bytes(&'a str),
}

impl Cursor {
    /// Of what lies behind the known places of a section.
    pub fn of(section: &SectionPlan) -> Self {
        let is_whole = |place: &Place| match place {
            Place::Fixed(bit) => bit % 8 == 0,
            Place::Behind { aligned } => *aligned || section.fixed_end.is_multiple_of(8),
        };
        let moving = &section.steps[section.fixed_steps..];
        match moving.iter().all(|step| is_whole(&step.place) && is_of_bytes(&step.action)) {
            true => Self::Bytes,
            false => Self::Bits,
        }
    }

    /// Of what lies at a known place by itself.
    pub fn of_step(step: &Step) -> Self {
        match step.place {
            Place::Fixed(bit) if bit % 8 == 0 && is_of_bytes(&step.action) => Self::Bytes,
            _ => Self::Bits,
        }
    }

    /// Going behind something.
    pub fn go(self, size: &Size<'_>) -> String {
        match (self, size) {
            (Self::Bytes, Size::Bits(bits)) => format!("here += {}u;", bits / 8),
            (Self::Bytes, Size::Bytes(bytes)) => format!("here += {bytes};"),
            (Self::Bits, Size::Bits(bits)) => format!("bit += {bits}u;"),
            (Self::Bits, Size::Bytes(bytes)) => format!("bit += (size_t){bytes} * 8u;"),
        }
    }

    /// Going to the next byte boundary, if it is not at one.
    pub fn align(self) -> Vec<String> {
        match self {
            Self::Bytes => Vec::new(),
            Self::Bits => vec![ALIGN.to_owned()],
        }
    }

    /// The byte at a boundary, as an expression.
    pub fn byte(self) -> &'static str {
        match self {
            Self::Bytes => "here",
            Self::Bits => "bit / 8u",
        }
    }

    /// Going to a byte.
    pub fn go_to(self, byte: &str) -> String {
        match self {
            Self::Bytes => format!("here = {byte};"),
            Self::Bits => format!("bit = {byte} * 8u;"),
        }
    }
}

/// Whether something has a size of whole bytes, as long as it begins at a byte boundary.
fn is_of_bytes(action: &Action) -> bool {
    match action {
        Action::Bits { width, .. } => width % 8 == 0,
        Action::Skip { bits } => bits % 8 == 0,
        Action::Varint { .. } | Action::Run { .. } | Action::Record(_) => true,
        Action::List(list) => list.sizes != ElementSizes::None || is_of_bytes(&list.element.action),
        Action::Union(union) => union.forms.iter().all(|form| is_of_bytes(&form.action)),
    }
}

/// A byte behind the cursor.
fn byte_at(byte: usize) -> String {
    if byte == 0 { "body[here]".to_owned() } else { format!("body[here + {byte}u]") }
}

impl Group<'_> {
    /// The test that so much can be read.
    pub fn lacks(&self, cursor: Cursor, size: &Size<'_>) -> String {
        let condition = match (cursor, size) {
            (Cursor::Bytes, Size::Bits(bits)) => format!("end - here < {}u", bits / 8),
            (Cursor::Bytes, Size::Bytes(bytes)) => format!("end - here < {bytes}"),
            (Cursor::Bits, Size::Bits(bits)) => format!("{}_lacks(end, bit, {bits}u)", self.link),
            (Cursor::Bits, Size::Bytes(bytes)) => format!("{}_lacks(end, bit, (size_t){bytes} * 8u)", self.link),
        };
        format!("if ({condition}) {{\n    return {}_TRUNCATED;\n}}", self.upper)
    }

    /// The test that there is room for so much.
    pub fn room(&self, cursor: Cursor, size: &Size<'_>) -> String {
        let condition = match (cursor, size) {
            (Cursor::Bytes, Size::Bits(bits)) => format!("room - here < {}u", bits / 8),
            (Cursor::Bytes, Size::Bytes(bytes)) => format!("room - here < {bytes}"),
            (Cursor::Bits, Size::Bits(bits)) => format!("(bit + {bits}u + 7u) / 8u > room"),
            (Cursor::Bits, Size::Bytes(bytes)) => format!("(bit + (size_t){bytes} * 8u + 7u) / 8u > room"),
        };
        format!("if ({condition}) {{\n    return {}_NO_ROOM;\n}}", self.upper)
    }

    /// The raw number at the cursor, as an expression.
    pub fn number_at(&self, cursor: Cursor, kind: &Kind, width: u8, order: ByteOrder) -> String {
        match cursor {
            Cursor::Bytes => number(self.link, kind, width, &pieces(0, width, order), byte_at),
            Cursor::Bits => self.get_raw(kind, width, order, "body", "bit"),
        }
    }

    /// A count in one or two bytes at the cursor, as an expression of type `size_t`.
    pub fn count_at(&self, cursor: Cursor, bytes: u8) -> String {
        match (cursor, bytes) {
            (Cursor::Bytes, 1) => format!("(size_t){}", byte_at(0)),
            (Cursor::Bytes, _) => {
                let (low, high) = if self.order == ByteOrder::Little { (0, 1) } else { (1, 0) };
                format!("(size_t)({} | (unsigned){} << 8)", byte_at(low), byte_at(high))
            }
            (Cursor::Bits, _) => format!("(size_t){}", self.get(bytes * 8, self.order, "body", "bit")),
        }
    }

    /// The statements that write a raw number at the cursor.
    pub fn put_number(&self, cursor: Cursor, kind: &Kind, width: u8, order: ByteOrder, value: &str) -> Vec<String> {
        match cursor {
            Cursor::Bytes => {
                let pieces = pieces(0, width, order);
                let put = |piece: &Piece| {
                    format!("{} = {};", byte_at(piece.byte), as_byte(&part_of(kind, width, piece, value)))
                };
                pieces.iter().map(put).collect()
            }
            Cursor::Bits => vec![self.put(width, order, "body", "bit", value)],
        }
    }

    /// The statements that write a count in one or two bytes at the cursor.
    pub fn put_count(&self, cursor: Cursor, bytes: u8, value: &str) -> Vec<String> {
        match (cursor, bytes) {
            (Cursor::Bytes, 1) => vec![format!("{} = (uint8_t){value};", byte_at(0))],
            (Cursor::Bytes, _) => {
                let (low, high) = if self.order == ByteOrder::Little { (0, 1) } else { (1, 0) };
                vec![
                    format!("{} = (uint8_t)({value} & 0xFFu);", byte_at(low)),
                    format!("{} = (uint8_t)({value} >> 8);", byte_at(high)),
                ]
            }
            (Cursor::Bits, _) => vec![self.put(bytes * 8, self.order, "body", "bit", value)],
        }
    }
}
