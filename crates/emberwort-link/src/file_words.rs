//! What stands in trial files besides names and numbers: durations, names of things, values without null.

use emberwort_model::diagnostics::nearest;
use emberwort_model::model::{Field, Kind};
use emberwort_text::forms;
use serde_json::Value as Json;

use crate::Nanoseconds;

/// A duration such as `200 ms`, `2.5s`, `3 min` in nanoseconds.
///
/// # Errors
/// What is wrong with it.
pub fn duration(text: &str) -> Result<Nanoseconds, String> {
    let text = text.trim();
    let (number, unit) = text.split_at(text.find(|c: char| c.is_ascii_alphabetic()).unwrap_or(text.len()));
    let scale = match unit.trim() {
        "ns" => 1.0,
        "us" => 1e3,
        "ms" => 1e6,
        "s" => 1e9,
        "min" => 6e10,
        "h" => 3.6e12,
        _ => {
            return Err(format!(
                "`{text}` is not a duration; write a number and ns, us, ms, s, min or h, as in \"200 ms\""
            ));
        }
    };
    match number.trim_end().parse::<f64>() {
        Ok(number) if number >= 0.0 && number * scale < 9e18 => Ok((number * scale).round() as u64),
        _ => Err(format!("`{text}` is not a duration; write a number and ns, us, ms, s, min or h, as in \"200 ms\"")),
    }
}

/// A frequency such as `24 MHz` in hertz.
///
/// # Errors
/// What is wrong with it.
pub fn hertz(text: &str) -> Result<f64, String> {
    let text = text.trim();
    let (number, unit) = text.split_at(text.find(|c: char| c.is_ascii_alphabetic()).unwrap_or(text.len()));
    let scale = match unit.trim() {
        "" | "Hz" => Some(1.0),
        "kHz" => Some(1e3),
        "MHz" => Some(1e6),
        "GHz" => Some(1e9),
        _ => None,
    };
    let value = number.trim_end().parse::<f64>().ok().zip(scale).map(|(number, scale)| number * scale);
    value
        .filter(|value| (1.0..=1e12).contains(value))
        .ok_or_else(|| format!("`{text}` is no frequency; write it as 12MHz"))
}

/// The index of a name, or a sentence with the nearest one.
pub(crate) fn index<'a>(what: &str, name: &str, names: impl Iterator<Item = &'a str> + Clone) -> Result<usize, String> {
    match names.clone().position(|known| known == name) {
        Some(index) => Ok(index),
        None => Err(match nearest(name, names.clone()) {
            Some(near) => format!("there is no {what} `{name}`; did you mean `{near}`?"),
            None => format!("there is no {what} `{name}`; there are {}", names.collect::<Vec<_>>().join(", ")),
        }),
    }
}

/// A value of a trial file as it stands in a row. TOML has no null: `{ none = true }` stands for it, and the word "none" in
/// fields that are no text; the same inside lists, records and forms.
pub(crate) fn with_null(value: &Json, field: &Field) -> Json {
    let is_none = match value {
        Json::Object(object) => object.len() == 1 && object.get("none") == Some(&Json::Bool(true)),
        Json::String(text) => text == "none" && !matches!(field.kind, Kind::Text { .. }),
        _ => false,
    };
    if is_none {
        return Json::Null;
    }
    match (value, &field.kind) {
        (Json::Array(elements), Kind::List { element, .. }) => {
            Json::Array(elements.iter().map(|value| with_null(value, element)).collect())
        }
        (Json::Object(object), Kind::Record(record)) => {
            let inside = |(name, value): (&String, &Json)| {
                let field = record.fields.iter().find(|field| field.name == *name);
                (name.clone(), field.map_or_else(|| value.clone(), |field| with_null(value, field)))
            };
            Json::Object(object.iter().map(inside).collect())
        }
        (Json::Object(object), Kind::Union(union)) => {
            let inside = |(name, value): (&String, &Json)| {
                let form = forms(union).find(|form| form.name == *name);
                (name.clone(), form.map_or_else(|| value.clone(), |form| with_null(value, form)))
            };
            Json::Object(object.iter().map(inside).collect())
        }
        _ => value.clone(),
    }
}
