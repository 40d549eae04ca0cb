//! The place in a section behind its known places: a byte where all that lies there is of whole bytes, else a bit.

use emberwort_model::model::{ByteOrder, Kind};
use emberwort_model::plan::{Action, ElementSizes, Place, SectionPlan, Step};

use super::Group;
use super::expressions::{as_byte, number, part_of};
use crate::c::tree::{Bound, Expr, Stmt, Test, Variable, expr};
use crate::lower::{FixedLayout, Piece, Section, pieces};

/// What counts the place in a section.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Cursor {
    /// The variable `here`, a byte of the body.
    Bytes,
    /// The variable `bit`, a bit of the body in the order in which it is filled.
    Bits,
}

/// A stretch of a section whose operations are printed one after the other.
#[derive(Clone, Copy)]
pub struct Stretch<'k> {
    /// What counts the place in it.
    pub cursor: Cursor,
    /// What lies at known places of the section.
    pub fixed: &'k FixedLayout,
    /// Whether the test for the known places covers it.
    pub is_tested: bool,
}

impl<'k> Stretch<'k> {
    /// One step at a known place.
    pub fn tested(step: &Step, fixed: &'k FixedLayout) -> Self {
        Self { cursor: Cursor::of_step(step), fixed, is_tested: true }
    }

    /// All that lies behind the known places.
    pub(crate) fn after_fixed(section: &'k Section<'_>) -> Self {
        Self { cursor: Cursor::of(section.plan), fixed: &section.fixed, is_tested: false }
    }
}

/// How much is read, or written.
pub enum Size<'a> {
    /// So many bits.
    Bits(usize),
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
    pub(crate) fn of_step(step: &Step) -> Self {
        match step.place {
            Place::Fixed(bit) if bit % 8 == 0 && is_of_bytes(&step.action) => Self::Bytes,
            _ => Self::Bits,
        }
    }

    /// The variable that counts.
    pub fn name(self) -> Variable {
        match self {
            Self::Bytes => Variable::Here,
            Self::Bits => Variable::Bit,
        }
    }

    /// Going behind something.
    pub fn go(self, size: &Size<'_>) -> Stmt {
        let by = match (self, size) {
            (Self::Bytes, Size::Bits(bits)) => Expr::number(bits / 8),
            (Self::Bytes, Size::Bytes(bytes)) => expr![*bytes],
            (Self::Bits, Size::Bits(bits)) => Expr::number(*bits),
            (Self::Bits, Size::Bytes(bytes)) => expr![format!("(size_t){bytes} * 8u")],
        };
        Stmt::Add(self.name(), by)
    }

    /// Going to a bit of a section, which begins at this byte of the body if that is known.
    pub fn seek(self, start: Option<usize>, bit: usize) -> Stmt {
        let place = match (self, start) {
            (Self::Bytes, Some(start)) => Expr::number(start + bit.div_ceil(8)),
            (Self::Bytes, None) => expr![Variable::Start, " + ", Expr::number(bit.div_ceil(8))],
            (Self::Bits, Some(start)) => Expr::number(start * 8 + bit),
            (Self::Bits, None) => expr![Variable::Start, " * 8u + ", Expr::number(bit)],
        };
        Stmt::Set(self.name(), place.of_variables())
    }

    /// Going to the next byte boundary, if it is not at one.
    pub fn align(self) -> Option<Stmt> {
        match self {
            Self::Bytes => None,
            Self::Bits => Some(Stmt::Set(Variable::Bit, expr!["(", Variable::Bit, " + 7u) / 8u * 8u"])),
        }
    }

    /// The byte at a boundary.
    pub fn byte(self) -> Expr {
        match self {
            Self::Bytes => expr![Variable::Here],
            Self::Bits => expr![Variable::Bit, " / 8u"],
        }
    }

    /// The byte at the next boundary.
    pub(crate) fn next_byte(self) -> Expr {
        match self {
            Self::Bytes => expr![Variable::Here],
            Self::Bits => expr!["(", Variable::Bit, " + 7u) / 8u"],
        }
    }

    /// Going to a byte.
    pub(crate) fn go_to(self, byte: impl Into<Expr>) -> Stmt {
        match self {
            Self::Bytes => Stmt::Set(Variable::Here, byte.into()),
            Self::Bits => Stmt::Set(Variable::Bit, expr![byte.into(), " * 8u"]),
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
fn byte_at(byte: usize) -> Expr {
    match byte {
        0 => expr![Variable::Body, "[", Variable::Here, "]"],
        byte => expr![Variable::Body, "[", Variable::Here, " + ", Expr::number(byte), "]"],
    }
}

impl Group<'_> {
    /// Ends the function if so much cannot be read.
    pub fn lacks(&self, cursor: Cursor, size: &Size<'_>) -> Stmt {
        let beyond = |bits: Expr| {
            let lacks = Expr::function(format!("{}_lacks", self.link));
            Test::Other(expr![lacks, "(", Variable::End, ", ", Variable::Bit, ", ", bits, ")"])
        };
        let test = match (cursor, size) {
            (Cursor::Bytes, Size::Bits(bits)) => Test::Behind(Bound::End, Variable::Here, bits / 8),
            (Cursor::Bytes, Size::Bytes(bytes)) => {
                Test::Other(expr![Variable::End, " - ", Variable::Here, " < ", *bytes])
            }
            (Cursor::Bits, Size::Bits(bits)) => beyond(Expr::number(*bits)),
            (Cursor::Bits, Size::Bytes(bytes)) => beyond(expr![format!("(size_t){bytes} * 8u")]),
        };
        self.refuse(test, "TRUNCATED")
    }

    /// Ends the function if there is no room for so much.
    pub fn room(&self, cursor: Cursor, size: &Size<'_>) -> Stmt {
        let test = match (cursor, size) {
            (Cursor::Bytes, Size::Bits(bits)) => Test::Behind(Bound::Room, Variable::Here, bits / 8),
            (Cursor::Bytes, Size::Bytes(bytes)) => {
                Test::Other(expr![Variable::Room, " - ", Variable::Here, " < ", *bytes])
            }
            (Cursor::Bits, Size::Bits(bits)) => Test::BitsBehind(Bound::Room, *bits),
            (Cursor::Bits, Size::Bytes(bytes)) => {
                Test::Other(expr!["(", Variable::Bit, format!(" + (size_t){bytes} * 8u + 7u) / 8u > "), Variable::Room])
            }
        };
        self.refuse(test, "NO_ROOM")
    }

    /// Ends the function with a result if something holds.
    pub fn refuse(&self, test: Test, result: &str) -> Stmt {
        Stmt::Refuse(test, format!("{}_{result}", self.upper))
    }

    /// The raw number at the cursor.
    pub(crate) fn number_at(&self, cursor: Cursor, kind: &Kind, width: u8, order: ByteOrder) -> Expr {
        match cursor {
            Cursor::Bytes => number(self.link, kind, width, &pieces(0, width, order), byte_at),
            Cursor::Bits => self.get_raw(kind, width, order, expr![Variable::Body], expr![Variable::Bit]),
        }
    }

    /// A count in one or two bytes at the cursor, of type `size_t`.
    pub(crate) fn count_at(&self, cursor: Cursor, bytes: u8) -> Expr {
        match (cursor, bytes) {
            (Cursor::Bytes, 1) => expr!["(size_t)", byte_at(0)],
            (Cursor::Bytes, _) => {
                let (low, high) = if self.order == ByteOrder::Little { (0, 1) } else { (1, 0) };
                expr!["(size_t)(", byte_at(low), " | (unsigned)", byte_at(high), " << 8)"]
            }
            (Cursor::Bits, _) => {
                expr!["(size_t)", self.get(bytes * 8, self.order, expr![Variable::Body], expr![Variable::Bit])]
            }
        }
    }

    /// Writes a raw number at the cursor.
    pub(crate) fn put_number(
        &self,
        cursor: Cursor,
        kind: &Kind,
        width: u8,
        order: ByteOrder,
        value: &str,
    ) -> Vec<Stmt> {
        match cursor {
            Cursor::Bytes => {
                let put = |piece: &Piece| {
                    Stmt::Do(expr![byte_at(piece.byte), " = ", as_byte(part_of(kind, width, piece, value))])
                };
                pieces(0, width, order).iter().map(put).collect()
            }
            Cursor::Bits => vec![Stmt::Do(self.put(width, order, expr![Variable::Body], expr![Variable::Bit], value))],
        }
    }

    /// Writes a count in one or two bytes at the cursor.
    pub(crate) fn put_count(&self, cursor: Cursor, bytes: u8, value: Expr) -> Vec<Stmt> {
        match (cursor, bytes) {
            (Cursor::Bytes, 1) => vec![Stmt::Do(expr![byte_at(0), " = (uint8_t)", value])],
            (Cursor::Bytes, _) => {
                let (low, high) = if self.order == ByteOrder::Little { (0, 1) } else { (1, 0) };
                vec![
                    Stmt::Do(expr![byte_at(low), " = (uint8_t)(", &value, " & 0xFFu)"]),
                    Stmt::Do(expr![byte_at(high), " = (uint8_t)(", &value, " >> 8)"]),
                ]
            }
            (Cursor::Bits, _) => {
                vec![Stmt::Do(self.put(bytes * 8, self.order, expr![Variable::Body], expr![Variable::Bit], value))]
            }
        }
    }
}
