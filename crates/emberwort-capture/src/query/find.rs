//! Where a value stands: in which fields, as which physical or raw number, and as which bytes of frames.

use std::collections::BTreeMap;
use std::convert::Infallible;
use std::ops::ControlFlow;

use emberwort_model::hex::parse_hex;
use emberwort_model::ids::ChannelId;
use emberwort_model::model::{Field, Kind};
use emberwort_text::formula::number;
use emberwort_wire::values::signed;
use emberwort_wire::{Time, ValueRef};

use super::walk::each_value;
use crate::items::{Item, ItemSink, Row};

/// What is looked for, in all forms that it can have.
#[derive(Clone, Debug)]
pub struct SearchedValue {
    /// A number.
    number: Option<f64>,
    /// A text or a label.
    text: String,
    /// Bytes, if the text can be some.
    bytes: Option<Vec<u8>>,
    /// Patterns of bytes that a frame can have, with what they are.
    patterns: Vec<(Pattern, Vec<u8>)>,
}

/// How a value can stand in bytes.
#[derive(Clone, Debug, PartialEq, Eq, PartialOrd, Ord)]
pub struct Pattern {
    /// As `u16`, `i32`, `f32`, `text`, `bytes`.
    pub form: String,
    /// Whether the least significant byte stands first; `None` where that is all one.
    pub is_little: Option<bool>,
    /// The power of ten by which it is multiplied.
    pub power: i8,
}

/// Where a value was found.
#[derive(Clone, Debug, PartialEq, Eq, PartialOrd, Ord)]
pub enum Place {
    /// In a field of a message.
    Field {
        /// The message.
        message: String,
        /// The field, with the elements of lists as `[]`.
        field: String,
        /// How.
        form: FieldForm,
    },
    /// In the bytes of frames.
    Bytes {
        /// The channel, by index.
        channel: ChannelId,
        /// The message; empty for frames that are broken or unread.
        message: String,
        /// The first byte in the frame, from 0.
        offset: usize,
        /// How.
        pattern: Pattern,
    },
}

/// How a field held a value.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord)]
pub enum FieldForm {
    /// As its physical value, its label or its text.
    Value,
    /// As its code on the wire.
    Raw,
    /// As a part of its text or bytes.
    Part,
}

/// How often a value was found somewhere.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Found {
    /// How many times.
    pub count: u64,
    /// In how many frames it could have been.
    pub of: u64,
    /// When first and last.
    pub times: Option<(Time, Time)>,
    /// The number of the first frame.
    pub first_frame: u64,
}

/// So many places are kept apart.
const MAX_PLACES: usize = 10_000;

impl SearchedValue {
    /// A value as people write it: a number, also as 0x1A4; a label; a text; bytes in hex.
    pub fn new(text: &str) -> Self {
        let hex = text.strip_prefix("0x").and_then(|digits| u64::from_str_radix(digits, 16).ok());
        let number =
            hex.map(|value| value as f64).or_else(|| text.parse().ok()).filter(|number: &f64| number.is_finite());
        // Digits alone are a number.
        let bytes = parse_hex(text).filter(|bytes| bytes.len() > 1 && (number.is_none() || text.contains(' ')));
        let mut wanted = Self { number, text: text.to_owned(), bytes, patterns: Vec::new() };
        wanted.patterns = wanted.all_patterns(hex);
        wanted
    }

    fn all_patterns(&self, hex: Option<u64>) -> Vec<(Pattern, Vec<u8>)> {
        let mut all: Vec<(Pattern, Vec<u8>)> = Vec::new();
        let mut add = |form: String, power: i8, little: Vec<u8>| {
            let is_one = little.len() == 1 || little.iter().eq(little.iter().rev());
            let big: Vec<u8> = little.iter().rev().copied().collect();
            let is_known = |all: &[(Pattern, Vec<u8>)], bytes: &[u8]| all.iter().any(|(_, known)| known == bytes);
            if !is_known(&all, &little) {
                let is_little = if is_one { None } else { Some(true) };
                all.push((Pattern { form: form.clone(), is_little, power }, little));
            }
            if !is_one && !is_known(&all, &big) {
                all.push((Pattern { form, is_little: Some(false), power }, big));
            }
        };
        if let Some(bytes) = &self.bytes {
            all.push((Pattern { form: "bytes".into(), is_little: None, power: 0 }, bytes.clone()));
            return all;
        }
        if let Some(value) = self.number {
            for power in if hex.is_some() { 0..=0 } else { 0..=4i8 } {
                let scaled = value * 10f64.powi(power.into());
                if (scaled - scaled.round()).abs() > 1e-6 || scaled.abs() >= 9e15 {
                    continue;
                }
                let code = scaled.round() as i64;
                // Scaled ones alone, where the number itself is none that counts.
                if power > 0 && code == 0 {
                    continue;
                }
                for bytes in [1usize, 2, 3, 4, 8] {
                    let bits = 8 * bytes as u32;
                    let (fits_unsigned, fits_signed) = (
                        code >= 0 && (bits == 64 || code < 1 << bits),
                        code < 0 && (bits == 64 || code >= -(1 << (bits - 1))),
                    );
                    if fits_unsigned || fits_signed {
                        let form = format!("{}{bits}", if fits_unsigned { "u" } else { "i" });
                        add(form, power, code.to_le_bytes()[..bytes].to_vec());
                    }
                }
            }
            add("f32".into(), 0, (value as f32).to_le_bytes().to_vec());
            add("f64".into(), 0, value.to_le_bytes().to_vec());
        }
        if self.number.is_none() && !self.text.is_empty() {
            all.push((Pattern { form: "text".into(), is_little: None, power: 0 }, self.text.as_bytes().to_vec()));
        }
        all
    }

    /// How a field holds it.
    fn in_field(&self, field: &Field, row: &Row<'_>, slot: usize) -> Vec<FieldForm> {
        let mut forms = Vec::new();
        match (row.values.get(slot), &field.kind) {
            (ValueRef::Raw(raw), kind) => {
                let code = signed(kind, raw);
                let is_value = match kind {
                    Kind::Enum { labels, .. } => labels.label(raw).is_some_and(|label| label.name == self.text),
                    Kind::Flags(labels) => {
                        labels.labels.iter().any(|label| label.name == self.text && raw >> label.code & 1 == 1)
                    }
                    Kind::Bool => (if raw == 0 { "false" } else { "true" }) == self.text,
                    _ => {
                        let near =
                            |value: f64, wanted: f64| (value - wanted).abs() <= 1e-9 * value.abs().max(wanted.abs());
                        number(field, row.values, slot)
                            .zip(self.number)
                            .is_some_and(|(value, wanted)| near(value, wanted))
                    }
                };
                if is_value {
                    forms.push(FieldForm::Value);
                }
                let is_code = self.number.is_some_and(|number| number.fract() == 0.0 && number as i128 == code);
                if is_code && !is_value {
                    forms.push(FieldForm::Raw);
                }
            }
            (ValueRef::Bytes(bytes), _) => {
                let wanted = self.bytes.as_deref().unwrap_or(self.text.as_bytes());
                if bytes == wanted {
                    forms.push(FieldForm::Value);
                } else if !wanted.is_empty() && bytes.windows(wanted.len()).any(|window| window == wanted) {
                    forms.push(FieldForm::Part);
                }
            }
            _ => {}
        }
        forms
    }
}

/// Looks for a value in all that a decoder finds.
#[derive(Clone, Debug)]
pub struct Find {
    wanted: SearchedValue,
    /// Where it was found.
    pub places: BTreeMap<Place, Found>,
    /// Frames by channel and message, of which some have it.
    frames: BTreeMap<(usize, String), u64>,
    /// Places that came when so many were kept that no more could be.
    pub not_kept: u64,
}

impl Find {
    /// Nothing found yet.
    pub fn new(wanted: SearchedValue) -> Self {
        Self { wanted, places: BTreeMap::new(), frames: BTreeMap::new(), not_kept: 0 }
    }

    fn note(&mut self, place: Place, time: Option<Time>, frame: u64) {
        if self.places.len() >= MAX_PLACES && !self.places.contains_key(&place) {
            self.not_kept += 1;
            return;
        }
        let found = self.places.entry(place).or_insert_with(|| Found { first_frame: frame, ..Found::default() });
        found.count += 1;
        if let Some(time) = time {
            let (first, last) = found.times.unwrap_or((time, time));
            found.times = Some((first.min(time), last.max(time)));
        }
    }

    fn bytes(&mut self, item: &Item<'_>, message: &str) {
        let (frame, wire) = match item {
            Item::Row(row) => (row.number, row.frame.bytes),
            Item::Broken(broken) => (broken.number, broken.frame.map_or(broken.wire, |frame| frame.bytes)),
            Item::Stray(_) => return,
        };
        let patterns = std::mem::take(&mut self.wanted.patterns);
        for (pattern, bytes) in &patterns {
            let offsets = wire.windows(bytes.len()).enumerate().filter(|(_, window)| window == bytes);
            for (offset, _) in offsets {
                let message = message.to_owned();
                let place = Place::Bytes { channel: item.channel(), message, offset, pattern: pattern.clone() };
                self.note(place, item.time(), frame);
            }
        }
        self.wanted.patterns = patterns;
        *self.frames.entry((item.channel().index(), message.to_owned())).or_default() += 1;
    }

    fn row(&mut self, row: &Row<'_>) {
        let message = &row.plan.messages[row.message].message;
        let mut found = Vec::new();
        each_value(&message.fields, row.values, |name, field, slot| {
            for form in self.wanted.in_field(field, row, slot) {
                found.push((without_numbers(name), form));
            }
        });
        for (field, form) in found {
            self.note(Place::Field { message: message.name.clone(), field, form }, row.time, row.number);
        }
    }

    /// Sets in how many frames each place was looked for.
    fn settle(&mut self) {
        let by_message = |wanted: &str| -> u64 {
            self.frames.iter().filter(|((_, message), _)| message == wanted).map(|(_, count)| count).sum()
        };
        let of: Vec<u64> = self
            .places
            .keys()
            .map(|place| match place {
                Place::Field { message, .. } => by_message(message),
                Place::Bytes { channel, message, .. } => {
                    self.frames.get(&(channel.index(), message.clone())).copied().unwrap_or(0)
                }
            })
            .collect();
        for (found, of) in self.places.values_mut().zip(of) {
            found.of = of;
        }
    }
}

/// A name of a value with `[]` for each element of a list.
fn without_numbers(name: &str) -> String {
    let mut out = String::new();
    let mut is_inside = false;
    for c in name.chars() {
        match c {
            '[' => is_inside = true,
            ']' => is_inside = false,
            _ if is_inside => continue,
            _ => {}
        }
        out.push(c);
    }
    out
}

impl ItemSink for Find {
    type Error = Infallible;

    fn item(&mut self, item: Item<'_>) -> Result<ControlFlow<()>, Infallible> {
        match item {
            Item::Row(row) => {
                self.row(row);
                let message = row.plan.messages[row.message].message.name.clone();
                self.bytes(&item, &message);
            }
            Item::Broken(_) => self.bytes(&item, ""),
            Item::Stray(_) => {}
        }
        Ok(ControlFlow::Continue(()))
    }

    fn finish(&mut self) -> Result<(), Infallible> {
        self.settle();
        Ok(())
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn patterns(text: &str) -> Vec<(String, Option<bool>, i8, Vec<u8>)> {
        let wanted = SearchedValue::new(text);
        wanted.patterns.into_iter().map(|(p, bytes)| (p.form, p.is_little, p.power, bytes)).collect()
    }

    #[test]
    fn the_same_bytes_are_looked_for_once() {
        for text in ["7", "42.5", "-3", "0x11", "4369", "0", "-1"] {
            let mut all: Vec<Vec<u8>> = patterns(text).into_iter().map(|(.., bytes)| bytes).collect();
            let count = all.len();
            all.sort();
            all.dedup();
            assert_eq!(all.len(), count, "{text}");
        }
    }

    #[test]
    fn a_value_can_stand_in_many_ways() {
        let all = patterns("42.5");
        assert!(all.contains(&("u16".into(), Some(true), 1, vec![0xA9, 0x01])), "{all:?}");
        assert!(all.contains(&("u16".into(), Some(false), 2, vec![0x10, 0x9A])));
        assert!(all.contains(&("f32".into(), Some(false), 0, vec![0x42, 0x2A, 0, 0])));
        let all = patterns("-3");
        assert!(all.contains(&("i8".into(), None, 0, vec![0xFD])));
        assert!(all.contains(&("i16".into(), Some(true), 1, vec![0xE2, 0xFF])));
        assert_eq!(patterns("C6 39"), [("bytes".into(), None, 0, vec![0xC6, 0x39])]);
        assert_eq!(patterns("Wren"), [("text".into(), None, 0, b"Wren".to_vec())]);
        assert!(patterns("0x1A4").iter().all(|(_, _, power, _)| *power == 0));
    }

    #[test]
    fn elements_of_lists_are_one_place() {
        assert_eq!(without_numbers("strokes[12].from"), "strokes[].from");
    }
}
