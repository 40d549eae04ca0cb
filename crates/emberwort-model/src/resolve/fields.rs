//! Fields: from the type as written to raw codes, and defaults that fit them.

use std::sync::Arc;

use super::Resolver;
use crate::diagnostics::{Code, Finding, nearest};
use crate::hex::parse_hex;
use crate::model::{Field, Kind, NumberForm, Value};
use crate::number::{Decimal, Scaling};
use crate::source::Span;
use crate::syntax::ast::{FieldItem, Literal, Number, TypeExpr};

const ZERO: Decimal = Decimal { mantissa: 0, decimals: 0 };

impl Resolver {
    pub(super) fn field(&mut self, item: &FieldItem, since: u32) -> Option<Field> {
        let kind = self.kind(item)?;
        let mut field = Field {
            name: item.name.as_ref().map_or_else(String::new, |name| name.text.clone()),
            doc: item.doc.clone(),
            since,
            kind,
            unit: item.unit.clone(),
            optional: item.optional,
            default: None,
        };
        if let Some((literal, span)) = &item.default {
            match default_value(&field, literal) {
                Ok(value) => field.default = Some(value),
                Err((message, help)) => self.report(Finding::new(Code::BadDefault, *span, message, help)),
            }
        }
        Some(field)
    }

    fn kind(&mut self, item: &FieldItem) -> Option<Kind> {
        let none = item.none;
        let kind = match &item.ty {
            TypeExpr::Integer { signed, bits, scale, offset } => {
                return self.integer(item, *signed, *bits, *scale, *offset).map(Kind::Number);
            }
            TypeExpr::Steps { low, high, step } => {
                return self.steps(item, *low, *high, *step).map(Kind::Number);
            }
            TypeExpr::Spread { low, high, bits } => {
                return self.spread(item, *low, *high, *bits).map(Kind::Number);
            }
            TypeExpr::Named(name) => match self.labelled.get(&name.text).cloned() {
                Some(labels) if labels.flags => Kind::Flags(labels),
                Some(labels) => {
                    let code = if labels.bits == 64 { u64::MAX } else { (1 << labels.bits) - 1 };
                    if let (Some(span), Some(label)) = (none, labels.label(code)) {
                        let message = format!(
                            "`or none` keeps the highest code, {code}, but `{}` of `{}` has it",
                            label.name, labels.name
                        );
                        let help = format!("widen the enum to u{}, or free its highest code", labels.bits + 1);
                        self.report(Finding::new(Code::NoCodeForNone, span, message, help));
                        return None;
                    }
                    return Some(Kind::Enum { labels, none: none.map(|_| code) });
                }
                None => {
                    let known: Vec<String> = self.labelled.keys().cloned().collect();
                    let known = known.iter().map(String::as_str).chain(["bool", "text", "bytes", "f32"]);
                    self.unknown_name(name, "type", known);
                    return None;
                }
            },
            TypeExpr::Bool => Kind::Bool,
            TypeExpr::Float32 => Kind::Float32,
            TypeExpr::Text { max } => Kind::Text { max: *max },
            TypeExpr::Bytes { length } => Kind::Bytes { length: *length },
            TypeExpr::Spare { bits } => Kind::Spare { bits: *bits },
        };
        if let Some(span) = none {
            self.report(Finding::new(
                Code::NoCodeForNone,
                span,
                "a field of this type has no raw code that could mean \"no reading\"",
                "write `optional` instead: a presence bit then says whether the field is there",
            ));
        }
        Some(kind)
    }

    fn beyond(&mut self, span: Span) {
        self.report(Finding::new(
            Code::TooManyCodes,
            span,
            "these numbers are beyond what can be computed exactly, or need more than 64 bits",
            "use fewer digits, a narrower range or a coarser step (and a scale that is not 0)",
        ));
    }

    fn integer(
        &mut self,
        item: &FieldItem,
        signed: bool,
        bits: u8,
        scale: Option<Number>,
        offset: Option<Number>,
    ) -> Option<NumberForm> {
        let scaling = Scaling::linear(scale.map_or(Decimal::integer(1), |n| n.value), offset.map_or(ZERO, |n| n.value));
        let Some(scaling) = scaling else {
            self.beyond(item.ty_span);
            return None;
        };
        let (mut low, mut high) = match signed {
            true => (-(1i128 << (bits - 1)), (1i128 << (bits - 1)) - 1),
            false => (0, (1i128 << bits) - 1),
        };
        let mut none = None;
        if item.none.is_some() {
            if signed {
                none = Some(low);
                low += 1;
            } else {
                none = Some(high);
                high -= 1;
            }
        }
        Some(NumberForm { bits, signed, scaling, low, high, none })
    }

    fn empty_range(&mut self, low: Number, high: Number) -> bool {
        let empty = low.value.compare(high.value).is_ge();
        if empty {
            self.report(Finding::new(
                Code::EmptyRange,
                low.span.to(high.span),
                format!("the range {} .. {} holds no values", low.value, high.value),
                format!("the least value stands first: {} .. {}", high.value, low.value),
            ));
        }
        empty
    }

    fn steps(&mut self, item: &FieldItem, low: Number, high: Number, step: Number) -> Option<NumberForm> {
        if self.empty_range(low, high) {
            return None;
        }
        if step.value.mantissa <= 0 {
            self.report(Finding::new(
                Code::StepsDoNotFit,
                step.span,
                format!("a step of {} leads nowhere", step.value),
                "a step is greater than 0",
            ));
            return None;
        }
        let Some(scaling) = Scaling::linear(step.value, low.value) else {
            self.beyond(item.ty_span);
            return None;
        };
        let last = scaling.nearest_raw(high.value).filter(|last| *last < 1 << 64);
        let Some(last) = last else {
            self.beyond(item.ty_span);
            return None;
        };
        if scaling.physical(last).compare(high.value).is_ne() {
            let below = if scaling.physical(last).compare(high.value).is_lt() { last } else { last - 1 };
            let offers = [below, below + 1].map(|n| format!("`{} .. {}`", low.value, trimmed(scaling.physical(n))));
            self.report(
                Finding::new(
                    Code::StepsDoNotFit,
                    item.ty_span,
                    format!(
                        "{} .. {} does not divide into steps of {}: the greatest value would lie between two codes",
                        low.value, high.value, step.value
                    ),
                    format!("the nearest ranges that do are {} and {}", offers[0], offers[1]),
                )
                .label(format!("{below} steps and a rest")),
            );
            return None;
        }
        let none = item.none.map(|_| last + 1);
        let most = none.unwrap_or(last);
        if most >= 1 << 64 {
            self.beyond(item.ty_span);
            return None;
        }
        let bits = (128 - most.leading_zeros()).max(1) as u8;
        // `or none` keeps the highest raw code of the width.
        let none = none.map(|_| (1i128 << bits) - 1);
        Some(NumberForm { bits, signed: false, scaling, low: 0, high: last, none })
    }

    fn spread(&mut self, item: &FieldItem, low: Number, high: Number, bits: u8) -> Option<NumberForm> {
        if self.empty_range(low, high) {
            return None;
        }
        let highest = (1i128 << bits) - 1;
        let none = item.none.map(|_| highest);
        let last = if none.is_some() { highest - 1 } else { highest };
        if last == 0 {
            let help = "use more bits, or leave `or none` out";
            let message = "with one bit and `or none` a single code is left, and a range needs two";
            self.report(Finding::new(Code::NoCodeForNone, item.none.unwrap_or(item.ty_span), message, help));
            return None;
        }
        let Some(scaling) = Scaling::spread(low.value, high.value, last as u64) else {
            self.beyond(item.ty_span);
            return None;
        };
        Some(NumberForm { bits, signed: false, scaling, low: 0, high: last, none })
    }
}

/// A decimal without zeros at its end.
fn trimmed(mut value: Decimal) -> Decimal {
    while value.decimals > 0 && value.mantissa % 10 == 0 {
        value.mantissa /= 10;
        value.decimals -= 1;
    }
    value
}

/// The raw form of a default, or what is wrong with it and a way out.
fn default_value(field: &Field, literal: &Literal) -> Result<Value, (String, String)> {
    let wrong = |what: &str, help: &str| Err((format!("this default is not {what}"), help.to_owned()));
    match (&field.kind, literal) {
        (kind, Literal::Word(word)) if word == "none" => match kind.none() {
            Some(raw) => Ok(Value::Raw(raw as u64)),
            None => wrong("possible", "`none` needs `or none` behind the type"),
        },
        (Kind::Number(form), Literal::Number(value)) => {
            let raw = form.scaling.nearest_raw(*value).filter(|raw| (form.low..=form.high).contains(raw));
            let Some(raw) = raw else {
                return Err((
                    format!("the default {value} lies outside the field's values"),
                    format!(
                        "the values reach from {} to {}",
                        form.scaling.physical(form.low.min(form.high)),
                        form.scaling.physical(form.high)
                    ),
                ));
            };
            let nearest = form.scaling.physical(raw);
            if form.scaling.is_exact() && nearest.compare(*value).is_ne() {
                return Err((
                    format!("no raw code means {value}: the values go in steps of {}", form.scaling.step_text()),
                    format!("the nearest value is {nearest}"),
                ));
            }
            Ok(Value::Raw(raw as u64))
        }
        (Kind::Number(_), _) => wrong("a number", "write a number in the field's unit"),
        (Kind::Bool, Literal::Word(word)) if word == "true" || word == "false" => {
            Ok(Value::Raw(u64::from(word == "true")))
        }
        (Kind::Bool, _) => wrong("`true` or `false`", "write one of these two"),
        (Kind::Float32, Literal::Number(value)) => {
            let number: f32 = value.to_string().parse().unwrap_or(f32::NAN);
            if number.is_finite() {
                Ok(Value::Raw(u64::from(number.to_bits())))
            } else {
                wrong("within the reach of `f32`", "the greatest value is about 3.4e38")
            }
        }
        (Kind::Float32, _) => wrong("a number", "write a number"),
        (Kind::Enum { labels, .. }, Literal::Word(word)) => match labels.named(word) {
            Some(label) => Ok(Value::Raw(label.code)),
            None => Err(unknown_label(labels, word)),
        },
        (Kind::Enum { labels, .. }, _) => wrong(&format!("a label of `{}`", labels.name), "write one of its labels"),
        (Kind::Flags(labels), Literal::Labels(set)) => {
            let mut raw = 0u64;
            for name in set {
                match labels.named(&name.text) {
                    Some(label) => raw |= 1 << label.code,
                    None => return Err(unknown_label(labels, &name.text)),
                }
            }
            Ok(Value::Raw(raw))
        }
        (Kind::Flags(_), _) => {
            wrong("a set of flags", "write the flags that are set: `= [oil_hot, latch_stuck]`, or `= []`")
        }
        (Kind::Text { max }, Literal::Text(text)) => {
            if text.len() <= *max as usize {
                Ok(Value::Bytes(text.clone().into_bytes()))
            } else {
                Err((
                    format!("this default has {} bytes, but the field holds {max}", text.len()),
                    "shorten the text, or make the field longer".into(),
                ))
            }
        }
        (Kind::Bytes { length }, Literal::Text(text)) => match parse_hex(text) {
            Some(bytes) if bytes.len() == *length as usize => Ok(Value::Bytes(bytes)),
            _ => Err((
                format!("this default is not {length} bytes in hex"),
                "write two hex digits a byte: `= \"C6 39\"`".into(),
            )),
        },
        (Kind::Text { .. } | Kind::Bytes { .. }, _) => wrong("a quoted text", "put it in quotes"),
        (Kind::Spare { .. }, _) => wrong("possible", "spare space is always sent as zero"),
    }
}

fn unknown_label(labels: &Arc<crate::model::Labelled>, word: &str) -> (String, String) {
    let help = match nearest(word, labels.labels.iter().map(|label| label.name.as_str())) {
        Some(near) => format!("did you mean `{near}`?"),
        None => {
            let all: Vec<_> = labels.labels.iter().map(|label| label.name.as_str()).collect();
            format!("its labels are: {}", all.join(", "))
        }
    };
    (format!("`{}` has no label `{word}`", labels.name), help)
}
