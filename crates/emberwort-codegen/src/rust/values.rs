//! Values in Rust: types, literals, and which of them may be sent.

use emberwort_model::model::{Field, Kind, Length, Selector, Value};
use emberwort_model::plan::{Action, ListPlan};

use super::names::{bytes, class, text};
use crate::lower::{Group, Piece, Valid};

/// The narrowest type of so many bits.
pub fn unsigned(width: u8) -> &'static str {
    match width {
        0..=8 => "u8",
        9..=16 => "u16",
        17..=32 => "u32",
        _ => "u64",
    }
}

/// The narrowest signed type of so many bits.
pub fn signed(width: u8) -> &'static str {
    match width {
        0..=8 => "i8",
        9..=16 => "i16",
        17..=32 => "i32",
        _ => "i64",
    }
}

/// The type of a number's values.
pub(crate) fn number_type(kind: &Kind) -> String {
    let width = kind.raw_bits().unwrap_or(1);
    match kind {
        Kind::Bool => "bool".into(),
        Kind::Float(64) => "f64".into(),
        Kind::Float(_) => "f32".into(),
        Kind::Enum { labels, .. } | Kind::Flags(labels) => class(&labels.name),
        kind if kind.is_signed() => signed(width).into(),
        _ => unsigned(width).into(),
    }
}

/// Where the values of a field are: in which message or record, and how many bytes may reach to its end.
#[derive(Clone, Copy, Debug)]
pub(crate) struct Owner<'a> {
    /// The name of the message or record.
    pub name: &'a str,
    /// Most bytes of a field that reaches to the body's end.
    pub rest: usize,
}

impl Owner<'_> {
    /// The type of a field's values.
    pub(crate) fn type_of(&self, field: &Field, action: &Action) -> String {
        match action {
            Action::Bits { .. } | Action::Varint { .. } => number_type(&field.kind),
            Action::Run { length: Length::Exact(count), text: false } => format!("[u8; {count}]"),
            Action::Run { length, text } => {
                let name = if *text { "Text" } else { "Bytes" };
                format!("{name}<{}>", self.most(*length))
            }
            Action::Record(record) => class(&record.record.name),
            Action::List(list) => {
                let one = self.type_of(&list.element.field, &list.element.action);
                match list.length {
                    Length::Exact(count) => format!("[{one}; {count}]"),
                    _ => format!("List<{one}, {}>", self.capacity(list)),
                }
            }
            Action::Union(_) => self.union_type(field),
            Action::Skip { .. } => "()".into(),
        }
    }

    fn most(&self, length: Length) -> usize {
        match length {
            Length::Exact(count) | Length::UpTo(count) => count as usize,
            Length::Rest => self.rest,
        }
    }

    /// Most elements of a list.
    pub(crate) fn capacity(&self, list: &ListPlan) -> usize {
        match list.length {
            Length::Exact(count) | Length::UpTo(count) => count as usize,
            Length::Rest => {
                let (least, _) = list.element.action.bits();
                (self.rest * 8 / (least.max(8) as usize)).max(1)
            }
        }
    }

    /// The enum of the forms of a field.
    pub(crate) fn union_type(&self, field: &Field) -> String {
        class(&format!("{}_{}", crate::names::plain_snake(self.name), field.name))
    }

    /// The value of a field that nobody gave, or that the sender's revision lacks.
    pub(crate) fn missing_value(&self, field: &Field, action: &Action) -> String {
        if field.optional {
            return "None".into();
        }
        match (&field.default, action) {
            (Some(Value::Raw(raw)), _) => code(&field.kind, *raw),
            (Some(Value::Bytes(some)), Action::Run { length: Length::Exact(_), text: false }) => bytes(some),
            (Some(Value::Bytes(some)), Action::Run { text, .. }) => {
                let make = if *text { "Text::from_bytes" } else { "Bytes::new" };
                format!("{make}(&{}).unwrap_or_default()", bytes(some))
            }
            _ => self.empty(field, action),
        }
    }

    fn empty(&self, field: &Field, action: &Action) -> String {
        match action {
            // What nobody measured is no reading.
            Action::Bits { .. } | Action::Varint { .. } => code(&field.kind, field.kind.none().unwrap_or(0) as u64),
            Action::Run { length: Length::Exact(count), text: false } => format!("[0; {count}]"),
            Action::Run { text: true, .. } => "Text::EMPTY".into(),
            Action::Run { .. } => "Bytes::EMPTY".into(),
            Action::Record(record) => format!("{}::default()", class(&record.record.name)),
            Action::List(list) => match list.length {
                Length::Exact(count) => {
                    format!("[{}; {count}]", self.empty(&list.element.field, &list.element.action))
                }
                _ => "List::default()".into(),
            },
            Action::Union(_) => format!("{}::default()", self.union_type(field)),
            Action::Skip { .. } => "()".into(),
        }
    }
}

/// A raw number as a value of its field.
pub fn code(kind: &Kind, raw: u64) -> String {
    match kind {
        Kind::Bool => if raw == 0 { "false" } else { "true" }.into(),
        Kind::Float(16) => format!("half_value({raw:#x})"),
        Kind::Float(32) if raw == 0 => "0.0".into(),
        Kind::Float(32) => format!("f32::from_bits({raw:#x})"),
        Kind::Float(_) if raw == 0 => "0.0".into(),
        Kind::Float(_) => format!("f64::from_bits({raw:#x})"),
        Kind::Enum { labels, .. } | Kind::Flags(labels) => format!("{}({raw})", class(&labels.name)),
        kind if kind.is_signed() => (raw as i64).to_string(),
        _ => raw.to_string(),
    }
}

/// A raw number from the bytes that it lies in, of the narrowest unsigned type.
pub fn sum(pieces: &[Piece], width: u8, at: &dyn Fn(usize) -> String) -> String {
    let ty = unsigned(width);
    let part = |piece: &Piece| {
        let byte = at(piece.byte);
        let part = match (piece.low, piece.low + piece.bits) {
            (0, 8) => byte,
            (low, 8) => format!("{byte} >> {low}"),
            (0, _) => format!("{byte} & {:#04x}", piece.mask()),
            (low, _) => format!("{byte} >> {low} & {:#04x}", piece.mask()),
        };
        let part = match ty {
            "u8" if piece.shift > 0 && part.contains(' ') => format!("({part})"),
            "u8" => part,
            ty => format!("{ty}::from({part})"),
        };
        if piece.shift > 0 { format!("{part} << {}", piece.shift) } else { part }
    };
    pieces.iter().map(part).collect::<Vec<_>>().join(" | ")
}

/// The value of a raw number of the narrowest unsigned type.
pub fn value_of(kind: &Kind, raw: &str, width: u8, is_signed: bool) -> String {
    match kind {
        Kind::Bool => format!("({raw}) != 0"),
        Kind::Float(16) => format!("half_value({raw})"),
        Kind::Float(32) => format!("f32::from_bits({raw})"),
        Kind::Float(_) => format!("f64::from_bits({raw})"),
        Kind::Enum { labels, .. } | Kind::Flags(labels) => format!("{}({raw})", class(&labels.name)),
        _ if is_signed => {
            let (ty, bits) = (signed(width), unsigned(width)[1..].parse::<u8>().unwrap_or(64));
            match bits - width {
                0 => format!("({raw}) as {ty}"),
                spare => format!("(({raw}) << {spare}) as {ty} >> {spare}"),
            }
        }
        _ => raw.to_owned(),
    }
}

/// Statements that refuse a value that may not be sent, and an expression for its raw number of the narrowest unsigned type.
pub fn raw_of(field: &Field, width: u8, value: &str, what: &str) -> (Vec<String>, String) {
    let what = text(what);
    let refuse = |condition: String| format!("if {condition} {{\n    return Err(Error::OutOfRange({what}));\n}}");
    let ty = unsigned(width);
    match &field.kind {
        Kind::Bool => return (Vec::new(), format!("u8::from({value})")),
        Kind::Float(16) => return (Vec::new(), format!("half_bits({value}, {what})?")),
        Kind::Float(_) => {
            return (vec![refuse(format!("!{value}.is_finite()"))], format!("{value}.to_bits()"));
        }
        _ => {}
    }
    let number = match &field.kind {
        Kind::Enum { .. } | Kind::Flags(_) => format!("{value}.0"),
        _ => value.to_owned(),
    };
    let is_signed = field.kind.is_signed();
    let bits = unsigned(width)[1..].parse::<u32>().unwrap_or(64);
    let (least, greatest) = match is_signed {
        true => (-(1i128 << (bits - 1)), (1i128 << (bits - 1)) - 1),
        false => (0, (1i128 << bits) - 1),
    };
    let wrong = match Valid::of(&field.kind, width) {
        Valid::Range { low, high, none } => {
            let outside = match (low <= least, high >= greatest) {
                (true, true) => None,
                (true, false) => Some(format!("{number} > {high}")),
                (false, true) => Some(format!("{number} < {low}")),
                (false, false) if low == high => Some(format!("{number} != {low}")),
                (false, false) => Some(format!("!({low}..={high}).contains(&{number})")),
            };
            match (outside, none) {
                (Some(outside), Some(none)) => Some(format!("{outside} && {number} != {none}")),
                (outside, _) => outside,
            }
        }
        Valid::Codes(codes) if codes.is_empty() => Some("true".into()),
        Valid::Codes(codes) => {
            let mut codes = codes;
            codes.sort_unstable();
            codes.dedup();
            // Codes that follow each other are a range.
            let mut ranges: Vec<(u64, u64)> = Vec::new();
            for code in codes {
                match ranges.last_mut() {
                    Some((_, last)) if *last + 1 == code => *last = code,
                    _ => ranges.push((code, code)),
                }
            }
            let range = |(first, last): &(u64, u64)| match last - first {
                0 => first.to_string(),
                1 => format!("{first} | {last}"),
                _ => format!("{first}..={last}"),
            };
            Some(format!("!matches!({number}, {})", ranges.iter().map(range).collect::<Vec<_>>().join(" | ")))
        }
        Valid::Flags(known) => match !known & (u64::MAX >> (64 - bits)) {
            0 => None,
            unknown => Some(format!("{number} & {unknown:#x} != 0")),
        },
        Valid::Finite => None,
    };
    let raw = match is_signed {
        true if u32::from(width) < bits => format!("{number} as {ty} & {:#x}", (1u64 << width) - 1),
        true => format!("{number} as {ty}"),
        false => number,
    };
    (wrong.map(refuse).into_iter().collect(), raw)
}

/// The part of a number that goes into one byte.
pub fn part(name: &str, piece: &Piece, width: u8) -> String {
    let moved = if piece.shift > 0 { format!("{name} >> {}", piece.shift) } else { name.to_owned() };
    let is_top = piece.shift + piece.bits == u32::from(width);
    let masked = if is_top || piece.bits == 8 { moved } else { format!("{moved} & {:#04x}", piece.mask()) };
    match (unsigned(width), masked.contains(' ')) {
        ("u8", _) => masked,
        (_, true) => format!("({masked}) as u8"),
        (_, false) => format!("{masked} as u8"),
    }
}

/// The number of a case, as the values of what decides about it have it.
pub fn case_number(group: &Group<'_>, selector: &Selector, raw: u64) -> String {
    match selector {
        Selector::Field(slot) => code(&group.fields[*slot].kind, raw),
        Selector::Request { .. } => raw.to_string(),
    }
}
