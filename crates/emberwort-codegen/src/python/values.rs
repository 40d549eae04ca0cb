//! Values of fields in Python: their types, what stands for a missing one, and which may be sent.

use emberwort_model::model::{Field, Kind, Length, Value};
use emberwort_model::plan::Action;

use super::names::{bytes, class};
use crate::lower::{Piece, Valid};

/// The value of a raw number.
pub fn value_of(kind: &Kind, raw: &str, width: u8, signed: bool) -> String {
    match kind {
        Kind::Bool => format!("({raw}) != 0"),
        Kind::Float(bits) => format!("_float({raw}, {bits})"),
        _ if signed => format!("_signed({raw}, {width})"),
        _ => raw.to_owned(),
    }
}

/// Whether a value means something, as an expression.
pub fn valid(field: &Field, width: u8, value: &str) -> String {
    match Valid::of(&field.kind, width) {
        Valid::Range { low, high, none } => match none {
            Some(none) => format!("{low} <= {value} <= {high} or {value} == {none}"),
            None => format!("{low} <= {value} <= {high}"),
        },
        Valid::Codes(codes) => {
            let codes: Vec<String> = codes.iter().map(u64::to_string).collect();
            format!("{value} in {{{}}}", if codes.is_empty() { "-1".to_owned() } else { codes.join(", ") })
        }
        Valid::Flags(known) => format!("{value} >= 0 and {value} & ~{known:#x} == 0"),
        Valid::Finite => format!("math.isfinite({value})"),
    }
}

/// The type of a field's values.
pub(crate) fn python_type(field: &Field, action: &Action) -> String {
    match action {
        Action::Bits { .. } | Action::Varint { .. } => match field.kind {
            Kind::Bool => "bool".into(),
            Kind::Float(_) => "float".into(),
            _ => "int".into(),
        },
        Action::Run { text: true, .. } => "str".into(),
        Action::Run { .. } => "bytes".into(),
        Action::Record(record) => class(&record.record.name),
        Action::List(list) => format!("List[{}]", python_type(&list.element.field, &list.element.action)),
        Action::Union(_) => "Form".into(),
        Action::Skip { .. } => "None".into(),
    }
}

/// The value of a field that nobody gave.
pub fn default(field: &Field, action: &Action) -> String {
    if field.optional {
        return "None".into();
    }
    match action {
        Action::Record(record) => format!("field(default_factory=lambda: {}())", class(&record.record.name)),
        Action::List(_) => format!("field(default_factory=lambda: {})", missing_value(field, action)),
        _ => missing_value(field, action),
    }
}

/// The value of a field that the sender's revision lacks.
pub(crate) fn missing_value(field: &Field, action: &Action) -> String {
    if field.optional {
        return "None".into();
    }
    match (&field.default, action) {
        (Some(Value::Raw(raw)), _) => match &field.kind {
            Kind::Bool => if *raw == 0 { "False" } else { "True" }.into(),
            Kind::Float(bits) => format!("_float({raw:#x}, {bits})"),
            kind if kind.is_signed() => (*raw as i64).to_string(),
            _ => raw.to_string(),
        },
        (Some(Value::Bytes(some)), Action::Run { text: true, .. }) => format!("_text({})", bytes(some)),
        (Some(Value::Bytes(some)), _) => bytes(some),
        _ => empty(field, action),
    }
}

fn empty(field: &Field, action: &Action) -> String {
    match action {
        Action::Bits { .. } | Action::Varint { .. } => match field.kind {
            Kind::Bool => "False".into(),
            Kind::Float(_) => "0.0".into(),
            // What nobody measured is no reading.
            _ => field.kind.none().unwrap_or(0).to_string(),
        },
        Action::Run { text: true, .. } => "\"\"".into(),
        Action::Run { length: Length::Exact(count), .. } => format!("bytes({count})"),
        Action::Run { .. } => "b\"\"".into(),
        Action::Record(record) => format!("{}()", class(&record.record.name)),
        Action::List(list) => match list.length {
            Length::Exact(count) => {
                format!("[{} for _ in range({count})]", empty(&list.element.field, &list.element.action))
            }
            _ => "[]".into(),
        },
        Action::Union(_) => "Form(\"\", None)".into(),
        Action::Skip { .. } => "None".into(),
    }
}

/// The number of a case, as the values of what decides about it have it.
pub fn case_number(raw: u64, signed: bool) -> String {
    if signed { (raw as i64).to_string() } else { raw.to_string() }
}

/// The sum of a number's parts.
pub fn sum(pieces: &[Piece], at: &dyn Fn(usize) -> String) -> String {
    let part = |piece: &Piece| {
        let mut part = at(piece.byte);
        if piece.low > 0 {
            part = format!("{part} >> {}", piece.low);
        }
        if piece.low + piece.bits < 8 {
            part = format!("{part} & {:#04x}", piece.mask());
        }
        match (piece.shift, piece.low > 0 || piece.low + piece.bits < 8) {
            (0, _) => part,
            (shift, true) => format!("({part}) << {shift}"),
            (shift, false) => format!("{part} << {shift}"),
        }
    };
    pieces.iter().map(part).collect::<Vec<_>>().join(" | ")
}
