//! Defaults: from the value as written to a raw number or bytes that the field can hold.

use std::sync::Arc;

use crate::diagnostics::nearest;
use crate::hex::parse_hex;
use crate::model::{Field, Kind, Length, Value, float_bits};
use crate::syntax::ast::Literal;

/// The raw form of a default, or what is wrong with it and a way out.
pub(super) fn default_value(field: &Field, literal: &Literal) -> Result<Value, (String, String)> {
    let wrong = |what: &str, help: &str| Err((format!("this default is not {what}"), help.to_owned()));
    match (&field.kind, literal) {
        (kind, Literal::Word(word)) if word == "none" => match kind.none() {
            Some(raw) => Ok(Value::Raw(raw as u64)),
            None => wrong("possible", "`none` needs `or none` after the type"),
        },
        (Kind::Number(form) | Kind::Varint(form), Literal::Number(value)) => {
            let raw = form.scaling.nearest_raw(*value).filter(|raw| (form.low..=form.high).contains(raw));
            let Some(raw) = raw else {
                return Err((
                    format!("the default {value} lies outside the field's values"),
                    format!(
                        "the values go from {} to {}",
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
        (Kind::Number(_) | Kind::Varint(_), _) => wrong("a number", "write a number in the field's unit"),
        (Kind::Bool, Literal::Word(word)) if word == "true" || word == "false" => {
            Ok(Value::Raw(u64::from(word == "true")))
        }
        (Kind::Bool, _) => wrong("`true` or `false`", "write one of these two"),
        (Kind::Float(bits), Literal::Number(value)) => match float_bits(*bits, &value.to_string()) {
            Some(raw) => Ok(Value::Raw(raw)),
            None => wrong(&format!("within the reach of `f{bits}`"), "choose a number nearer to zero"),
        },
        (Kind::Float(_), _) => wrong("a number", "write a number"),
        (Kind::Time { .. }, Literal::Number(value)) => {
            match value.as_integer().filter(|raw| *raw >= 0 && field.kind.is_valid(*raw)) {
                Some(raw) if raw < 1i128 << field.kind.raw_bits().unwrap_or(64) => Ok(Value::Raw(raw as u64)),
                _ => wrong("a moment", "write the seconds (or milliseconds) since 1970-01-01 UTC"),
            }
        }
        (Kind::Time { .. }, _) => wrong("a moment", "write the seconds (or milliseconds) since 1970-01-01 UTC"),
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
        (Kind::Text { ascii, length }, Literal::Text(text)) => {
            if *ascii && !text.is_ascii() {
                return wrong("ASCII", "use letters, digits and signs of ASCII, or make the field `text`");
            }
            match length {
                Length::Exact(most) | Length::UpTo(most) if text.len() > *most as usize => Err((
                    format!("this default has {} bytes, but the field holds {most}", text.len()),
                    "shorten the text, or make the field longer".into(),
                )),
                _ => Ok(Value::Bytes(text.clone().into_bytes())),
            }
        }
        (Kind::Bytes(length), Literal::Text(text)) => {
            let fits = |count: usize| match length {
                Length::Exact(exact) => count == *exact as usize,
                Length::UpTo(most) => count <= *most as usize,
                Length::Rest => true,
            };
            match (parse_hex(text).filter(|bytes| fits(bytes.len())), length) {
                (Some(bytes), _) => Ok(Value::Bytes(bytes)),
                (None, Length::Exact(count)) => Err((
                    format!("this default is not {count} bytes in hex"),
                    "write two hex digits per byte: `= \"C6 39\"`".into(),
                )),
                (None, _) => wrong("hex that the field can hold", "write two hex digits per byte: `= \"C6 39\"`"),
            }
        }
        (Kind::Text { .. } | Kind::Bytes(_), _) => wrong("a quoted text", "put it in quotes"),
        (Kind::List { .. } | Kind::Record(_) | Kind::Union(_) | Kind::NestedFrame { .. }, _) => {
            wrong("possible", "lists, records, forms and frames have no default: an older sender just lacks them")
        }
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
