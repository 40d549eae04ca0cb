//! Test vectors: values, the body that they make, and the frame on each channel.
//!
//! Every generated implementation is checked with the same vectors, both ways. For each message: all least values, all
//! greatest ones, each `none` by itself and all of them together, bodies of earlier revisions, and random values.

use std::sync::Arc;

use emberwort_model::Plan;
use emberwort_model::hex::hex;
use emberwort_model::model::{Field, Kind};
use emberwort_model::plan::{MessagePlan, Role};
use emberwort_wire::{Framing, Header, Values, encode, json};
use rand::{Rng, SeedableRng};
use rand_chacha::ChaCha8Rng;

use crate::{GeneratedFile, MARK};

/// Random vectors for each message.
const RANDOM_VECTORS: usize = 16;

/// One test vector.
#[derive(Clone, Debug)]
pub struct Vector {
    /// Index of the message.
    pub message: usize,
    /// What it is for: `least`, `greatest`, `none upstream`, `revision 1`, `random 3`, …
    pub case: String,
    /// How many sections the sender writes.
    pub sections: usize,
    /// The values.
    pub values: Values,
    /// The body.
    pub body: Vec<u8>,
    /// The frame on each channel of the message.
    pub frames: Vec<FrameVector>,
}

/// A frame of a test vector.
#[derive(Clone, Debug)]
pub struct FrameVector {
    /// Index of the channel.
    pub channel: usize,
    /// The values of its parts.
    pub header: Header,
    /// Its bytes on the wire.
    pub bytes: Vec<u8>,
}

/// How the value of a field is chosen.
#[derive(Clone, Copy, PartialEq)]
enum Choice {
    Least,
    Greatest,
    None,
    Random,
}

/// All vectors of a link. The same plan and seed give the same vectors.
pub fn vectors(plan: &Plan, seed: u64) -> Vec<Vector> {
    let framings: Vec<Framing> = plan.channels.iter().map(|channel| Framing::new(Arc::new(channel.clone()))).collect();
    let mut all = Vec::new();
    for (message, compiled) in plan.messages.iter().enumerate() {
        // Each message has its own numbers, so that a new message does not change the vectors of the others.
        let mut random = ChaCha8Rng::seed_from_u64(seed ^ message as u64);
        let fields = &compiled.message.fields;
        let sections = compiled.sections.len();
        let mut cases: Vec<(String, usize, Vec<Choice>)> = vec![
            ("least".into(), sections, vec![Choice::Least; fields.len()]),
            ("greatest".into(), sections, vec![Choice::Greatest; fields.len()]),
        ];
        let with_none: Vec<usize> = (0..fields.len()).filter(|slot| fields[*slot].kind.none().is_some()).collect();
        for slot in &with_none {
            let mut choices = vec![Choice::Random; fields.len()];
            choices[*slot] = Choice::None;
            cases.push((format!("none {}", fields[*slot].name), sections, choices));
        }
        if with_none.len() > 1 {
            cases.push(("none everywhere".into(), sections, vec![Choice::None; fields.len()]));
        }
        for held in 1..sections {
            let name = format!("revision {}", compiled.sections[held - 1].revision);
            cases.push((name, held, vec![Choice::Random; fields.len()]));
        }
        for n in 1..=RANDOM_VECTORS {
            cases.push((format!("random {n}"), sections, vec![Choice::Random; fields.len()]));
        }
        for (case, sections, choices) in cases {
            all.extend(vector(plan, &framings, message, case, sections, &choices, &mut random));
        }
    }
    all
}

fn vector(
    plan: &Plan,
    framings: &[Framing],
    message: usize,
    case: String,
    sections: usize,
    choices: &[Choice],
    random: &mut ChaCha8Rng,
) -> Option<Vector> {
    let compiled = &plan.messages[message];
    let mut values = Values::new(compiled);
    for (slot, field) in compiled.message.fields.iter().enumerate() {
        let lacking = compiled.sections[..sections].iter().all(|section| section.revision != field.since);
        if field.is_spare() {
            continue;
        }
        if lacking {
            values.set_default(slot, field.default.as_ref());
        } else {
            choose(field, slot, choices[slot], random, &mut values);
        }
    }
    let mut body = Vec::new();
    // Chosen values always fit, so this cannot fail.
    encode(compiled, &values, sections, &mut body).ok()?;
    let mut frames = Vec::new();
    for &channel in &compiled.message.channels {
        let framing = &framings[channel];
        let mut part = |wanted: fn(&Role) -> bool| {
            let bits = framing.plan().part(wanted).map_or(0, |part| part.bits);
            if bits == 0 { 0 } else { random.random::<u64>() >> (64 - bits) }
        };
        let header = Header {
            key: compiled.message.id.unwrap_or(0),
            node: part(|role| *role == Role::Address),
            sequence: part(|role| *role == Role::Sequence),
            revision: u64::from(compiled.sections[sections - 1].revision.max(1)),
        };
        let mut bytes = Vec::new();
        // A body that is no multiple of the length part's unit has no frame.
        if framing.encode(&header, &body, &mut bytes).is_ok() {
            frames.push(FrameVector { channel, header, bytes });
        }
    }
    Some(Vector { message, case, sections, values, body, frames })
}

fn choose(field: &Field, slot: usize, choice: Choice, random: &mut ChaCha8Rng, values: &mut Values) {
    if field.optional && (choice == Choice::Least || (choice == Choice::Random && random.random_bool(0.5))) {
        values.set_absent(slot);
        return;
    }
    let between = |random: &mut ChaCha8Rng, low: i128, high: i128| match choice {
        Choice::Least => low,
        Choice::Greatest => high,
        // The reach is at most 2^64, for which 128 random bits are even enough.
        _ => low + (random.random::<u128>() % ((high - low) as u128 + 1)) as i128,
    };
    let none =
        field.kind.none().filter(|_| choice == Choice::None || (choice == Choice::Random && random.random_ratio(1, 8)));
    if let Some(none) = none {
        values.set_raw(slot, none as u64);
        return;
    }
    match &field.kind {
        Kind::Number(form) => values.set_raw(slot, between(random, form.low, form.high) as u64),
        Kind::Bool => values.set_raw(slot, between(random, 0, 1) as u64),
        Kind::Float32 => {
            let number = match choice {
                Choice::Least => -f32::MAX,
                Choice::Greatest => f32::MAX,
                _ => (random.random::<f32>() - 0.5) * 10f32.powi(random.random_range(-6..7)),
            };
            values.set_raw(slot, u64::from(number.to_bits()));
        }
        Kind::Enum { labels, .. } => {
            let index = between(random, 0, labels.labels.len() as i128 - 1).max(0) as usize;
            values.set_raw(slot, labels.labels.get(index).map_or(0, |label| label.code));
        }
        Kind::Flags(labels) => {
            let all = labels.labels.iter().fold(0u64, |all, label| all | 1 << label.code);
            let raw = match choice {
                Choice::Least => 0,
                Choice::Greatest => all,
                _ => random.random::<u64>() & all,
            };
            values.set_raw(slot, raw);
        }
        Kind::Text { max } => {
            let length = between(random, 0, i128::from(*max)) as usize;
            let mut text = String::new();
            while text.len() < length {
                let left = length - text.len();
                // Characters of one to four bytes, as far as there is room.
                let letters = ['a', 'Q', '7', ' ', '~', '"', '\\', 'é', '°', '€', '水', '🜂'];
                let letter = letters[random.random_range(0..letters.len())];
                text.push(if letter.len_utf8() <= left { letter } else { 'z' });
            }
            values.set_bytes(slot, text.as_bytes());
        }
        Kind::Bytes { length } => {
            let bytes: Vec<u8> = (0..*length).map(|_| between(random, 0, 255) as u8).collect();
            values.set_bytes(slot, &bytes);
        }
        Kind::Spare { .. } => {}
    }
}

/// The vectors as NDJSON: a line that says what the file is, then one for each vector.
pub fn ndjson(plan: &Plan, vectors: &[Vector]) -> GeneratedFile {
    let link = &plan.link;
    let mut text = format!(
        "{{\"about\":\"{MARK}: test vectors of link {}, revision {}\",\"vectors\":{}}}\n",
        link.name,
        link.revision,
        vectors.len()
    );
    for vector in vectors {
        let compiled: &MessagePlan = &plan.messages[vector.message];
        text.push_str(&format!(
            "{{\"message\":\"{}\",\"case\":\"{}\",\"revision\":{},\"fields\":",
            compiled.message.name,
            vector.case,
            compiled.sections[vector.sections - 1].revision
        ));
        // Writing to a String cannot fail.
        let _ = json::write_fields(compiled, &vector.values, false, &mut text);
        text.push_str(&format!(",\"body\":\"{}\",\"frames\":[", hex(&vector.body)));
        for (n, frame) in vector.frames.iter().enumerate() {
            let Header { node, sequence, revision, .. } = frame.header;
            text.push_str(&format!(
                "{}{{\"channel\":\"{}\",\"node\":{node},\"sequence\":{sequence},\"revision\":{revision},\"bytes\":\"{}\"}}",
                if n == 0 { "" } else { "," },
                plan.channels[frame.channel].name,
                hex(&frame.bytes)
            ));
        }
        text.push_str("]}\n");
    }
    GeneratedFile { name: "vectors.ndjson".into(), text }
}
