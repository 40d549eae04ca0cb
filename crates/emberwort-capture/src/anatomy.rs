//! Which bits of a frame are what: sync bytes, parts, fields, checksums.

use std::ops::Range;

use emberwort_model::model::{Field, Kind, Selector};
use emberwort_model::plan::{Direction, Role, Zone};
use emberwort_wire::codec::{PRESENCE, decode_places};
use emberwort_wire::{ValueRef, Values};

use crate::items::Row;
use crate::query::walk::each_value;

/// Some bits of a frame with one meaning.
#[derive(Clone, Debug)]
pub struct Stretch {
    /// Its bits in the frame without stuffing and delimiters, in the order in which bits are filled.
    pub bits: Range<usize>,
    /// What it is.
    pub kind: StretchKind,
}

/// What a stretch of a frame is.
#[derive(Clone, Debug)]
pub enum StretchKind {
    /// The bytes at the start of each frame.
    Sync,
    /// A part of the frame, by its index in the channel's direction.
    Part(usize),
    /// A value of the body.
    Value {
        /// Its name.
        name: String,
        /// Its field.
        field: Box<Field>,
        /// Its slot in the row's values.
        slot: usize,
    },
    /// Bits that say which optional fields are there.
    Presence,
    /// Bits of the body that no field has: spare ones, and those of a later revision.
    Rest,
}

/// The channel of a row as frames of its sender go over it, in the definition that it was read with.
pub fn direction<'a>(row: &'a Row<'_>, channel: &str) -> Option<&'a Direction> {
    let index = row.plan.channel_index(channel)?;
    Some(row.plan.channels[index].direction(row.from))
}

/// What the bits of a row's frame are, by their places. `direction` is the channel as the frame goes over it.
pub fn anatomy(row: &Row<'_>, direction: &Direction) -> Vec<Stretch> {
    let frame = row.frame;
    let body_start = direction.head_bytes.min(frame.bytes.len());
    let body_end = (body_start + frame.body.len()).min(frame.bytes.len());
    let mut all = Vec::new();
    if !direction.sync.is_empty() {
        all.push(Stretch { bits: 0..direction.sync.len() * 8, kind: StretchKind::Sync });
    }
    for (index, part) in direction.parts.iter().enumerate() {
        let start = if part.zone == Zone::Tail { body_end * 8 } else { 0 } + part.at_bit as usize;
        let bits = usize::from(part.bits) * if part.hex { 2 } else { 1 };
        all.push(Stretch { bits: start..start + bits, kind: StretchKind::Part(index) });
    }
    let message = &row.plan.messages[row.message];
    // The form that a request decided is the one that was chosen.
    let key =
        message.message.fields.iter().enumerate().find_map(|(slot, field)| match (&field.kind, row.values.get(slot)) {
            (Kind::Union(union), ValueRef::Chosen { form, .. })
                if matches!(union.selector, Selector::Request { .. }) =>
            {
                union.cases.get(form).map(|case| case.raw)
            }
            _ => None,
        });
    let mut values = Values::default();
    if let Ok(places) = decode_places(message, frame.body, key, &mut values) {
        // Those of one byte belong together.
        for place in places.iter().filter(|place| place.slot == PRESENCE) {
            let bits = body_start * 8 + place.bits.start..body_start * 8 + place.bits.end;
            match all.last_mut() {
                Some(Stretch { bits: before, kind: StretchKind::Presence }) if before.end == bits.start => {
                    before.end = bits.end
                }
                _ => all.push(Stretch { bits, kind: StretchKind::Presence }),
            }
        }
        each_value(&message.message.fields, &values, |name, field, slot| {
            for place in places.iter().filter(|place| place.slot == slot) {
                let bits = body_start * 8 + place.bits.start..body_start * 8 + place.bits.end;
                let what = StretchKind::Value { name: name.to_owned(), field: Box::new(field.clone()), slot };
                all.push(Stretch { bits, kind: what });
            }
        });
    }
    all.sort_by_key(|stretch| (stretch.bits.start, stretch.bits.end));
    // What lies between them in the body.
    let mut at = body_start * 8;
    let mut rests = Vec::new();
    let inside = all.iter().filter(|stretch| stretch.bits.start >= body_start * 8 && stretch.bits.end <= body_end * 8);
    for stretch in inside {
        if stretch.bits.start > at {
            rests.push(Stretch { bits: at..stretch.bits.start, kind: StretchKind::Rest });
        }
        at = at.max(stretch.bits.end);
    }
    if at < body_end * 8 {
        rests.push(Stretch { bits: at..body_end * 8, kind: StretchKind::Rest });
    }
    all.extend(rests);
    all.sort_by_key(|stretch| (stretch.bits.start, stretch.bits.end));
    all
}

/// The stretches that a checksum covers, as bytes of the frame.
pub fn covered(direction: &Direction, part: usize, frame: &[u8], body: usize) -> Vec<Range<usize>> {
    let Role::Checksum { over, .. } = &direction.parts[part].role else { return Vec::new() };
    let body_end = (direction.head_bytes + body).min(frame.len());
    over.iter().map(|covered| covered.from.at(body_end)..covered.to.at(body_end)).collect()
}
