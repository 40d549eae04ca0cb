//! Which raw numbers a sender may send.

use emberwort_model::model::{Kind, LAST_TIME, NumberForm};

/// The raw numbers of a field that mean something: a sender sends no others.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Valid {
    /// Those in a range, and the code that means "no reading" if it lies outside of it.
    Range {
        /// The least one.
        low: i128,
        /// The greatest one.
        high: i128,
        /// The code beside them.
        none: Option<i128>,
    },
    /// These codes.
    Codes(Vec<u64>),
    /// Those whose set bits are all among these.
    Flags(u64),
    /// The bits of a floating-point number that is neither infinite nor "not a number".
    Finite,
}

impl Valid {
    /// Of a field of this kind, whose numbers have `width` bits.
    pub fn of(kind: &Kind, width: u8) -> Self {
        let inside = |form: &NumberForm| Self::Range {
            low: form.low,
            high: form.high,
            none: form.none.filter(|none| !(form.low..=form.high).contains(none)),
        };
        let fits = |low: i128, high: i128| Self::Range { low, high, none: None };
        match kind {
            Kind::Number(form) | Kind::Varint(form) => inside(form),
            Kind::Enum { labels, none } => {
                Self::Codes(labels.labels.iter().map(|label| label.code).chain(*none).collect())
            }
            Kind::Flags(labels) => Self::Flags(labels.labels.iter().fold(0, |all, label| all | 1 << label.code)),
            Kind::Float(_) => Self::Finite,
            Kind::Time { milliseconds: true } => fits(0, LAST_TIME * 1000),
            kind if kind.is_signed() => fits(-(1 << (width - 1)), (1 << (width - 1)) - 1),
            _ => fits(0, (1 << width) - 1),
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    /// The model says of each number whether it means something; so do the rules that generators print.
    #[test]
    fn rules_are_those_of_the_model() {
        let text = "link l {\n revision 1\n byte_order little\n}\nenum E : u3 {\n 1 a\n 4 b\n}\nflags F : u5 {\n 0 a\n 3 b\n}\n\
                    channel c {\n medium uart 9600 8N1\n frame { sync A5\n kind : u8 message\n size : u8 length of body\n body }\n}\n\
                    message M {\n id 1\n from device\n on c\n a : 3 .. 40 step 1 or none\n b : i5\n c : u7\n d : E\n e : F\n f : bool\n g : E or none\n\
                    h : -3 .. 3 step 1\n}\n";
        let plan = emberwort_model::check(&emberwort_model::Source::new("l.ember", text)).plan.unwrap();
        let fields = &plan.messages[0].message.fields;
        assert_eq!(fields.len(), 8);
        for field in fields {
            let (width, signed) = (field.kind.raw_bits().unwrap(), field.kind.is_signed());
            let rule = Valid::of(&field.kind, width);
            let codes = if signed { -(1 << (width - 1))..1 << (width - 1) } else { 0..1i128 << width };
            for raw in codes {
                let is_valid = match &rule {
                    Valid::Range { low, high, none } => (*low..=*high).contains(&raw) || *none == Some(raw),
                    Valid::Codes(codes) => codes.contains(&(raw as u64)),
                    Valid::Flags(known) => raw as u64 & !known == 0,
                    Valid::Finite => panic!("there is no floating-point number here"),
                };
                assert_eq!(is_valid, field.kind.is_valid(raw), "{} {raw}", field.name);
            }
        }
    }
}
