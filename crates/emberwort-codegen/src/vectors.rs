//! Test vectors: values, the body that they make, and the frame on each channel.
//!
//! Every generated implementation is checked with the same vectors, both ways. For each message: all least values, all
//! greatest ones, each `none` by itself and all of them together, bodies of earlier revisions, and random values.

use emberwort_model::Plan;
use emberwort_model::hex::hex;
use emberwort_model::ids::{ChannelId, MessageId};
use emberwort_model::model::Kind;
use emberwort_model::plan::MessagePlan;
use emberwort_text::json::{self, Writing};
use emberwort_text::samples::{Choice, Chooser};
use emberwort_wire::codec::decode_answer;
use emberwort_wire::frame::body_on;
use emberwort_wire::{Framed, Header, Values, encode};
use rand::SeedableRng;
use rand_chacha::ChaCha8Rng;

use crate::{GeneratedFile, MARK};

/// Random vectors for each message.
const RANDOM_VECTORS: usize = 16;

/// One test vector.
#[derive(Clone, Debug)]
pub struct Vector {
    /// Index of the message.
    pub message: MessageId,
    /// What it is for: `least`, `greatest`, `none upstream`, `revision 1`, `random 3`, …
    pub case: String,
    /// How many sections the sender writes.
    pub sections: usize,
    /// The sender's revision.
    pub revision: u32,
    /// The key of the request that the message answers, if the form of a value depends on it.
    pub key: Option<u64>,
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
    pub channel: ChannelId,
    /// The values of its parts.
    pub header: Header,
    /// What it carries: the body, or the line of a text message without its end.
    pub body: Vec<u8>,
    /// Its bytes on the wire.
    pub bytes: Vec<u8>,
}

/// All vectors of a link. The same plan and seed give the same vectors.
pub fn vectors(plan: &Plan, seed: u64) -> Vec<Vector> {
    let mut all = Vec::new();
    for (message, compiled) in plan.message_ids() {
        // Each message has its own numbers, so that a new message does not change the vectors of the others.
        let mut random = ChaCha8Rng::seed_from_u64(seed ^ message.index() as u64);
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
        for (slot, field) in fields.iter().enumerate() {
            let Kind::Union(union) = &field.kind else { continue };
            for form in 0..=union.cases.len() {
                let Some(named) = union.form(form) else { continue };
                let mut choices = vec![Choice::Random; fields.len()];
                choices[slot] = Choice::Form(form);
                cases.push((format!("form {}", named.name), sections, choices));
            }
        }
        for held in 1..sections {
            let name = format!("revision {}", compiled.sections[held - 1].revision);
            cases.push((name, held, vec![Choice::Random; fields.len()]));
        }
        for n in 1..=RANDOM_VECTORS {
            cases.push((format!("random {n}"), sections, vec![Choice::Random; fields.len()]));
        }
        for (case, sections, choices) in cases {
            all.extend(vector(plan, message, case, sections, &choices, &mut random));
        }
    }
    all
}

fn vector(
    plan: &Plan,
    message: MessageId,
    case: String,
    sections: usize,
    choices: &[Choice],
    random: &mut ChaCha8Rng,
) -> Option<Vector> {
    let compiled = &plan.messages[message];
    let revision =
        if sections == compiled.sections.len() { plan.link.revision } else { compiled.sections[sections - 1].revision };
    let mut chooser = Chooser::new(plan, revision, random);
    let mut values = Values::new(compiled);
    let key = chooser.message(message, choices, &mut values);
    let mut body = Vec::new();
    // Chosen values always fit; only a frame inside of another may be too long for it.
    encode(compiled, &values, revision, &mut body).ok()?;
    let mut frames = Vec::new();
    for &channel in &compiled.message.channels {
        let framing = plan.channels[channel].framing(compiled.message.from);
        let direction = framing.plan();
        let header = chooser.header(direction, message);
        let (mut carried, mut bytes) = (Vec::new(), Vec::new());
        // A text with a line's end in it has no line, a body that is no multiple of the length part's unit no frame.
        if body_on(direction, compiled, &values, revision, &mut carried).is_ok()
            && framing.encode(&header, &carried, &mut bytes).is_ok()
        {
            frames.push(FrameVector { channel, header, body: carried, bytes });
        }
    }
    Some(Vector { message, case, sections, revision, key, values, body, frames })
}

/// The lengths at which the body of a vector can be read if it is cut there.
pub(crate) fn readable(message: &MessagePlan, vector: &Vector) -> Vec<usize> {
    let mut values = Values::default();
    let mut is_readable =
        |length: &usize| decode_answer(message, &vector.body[..*length], vector.key, &mut values).is_ok();
    (0..vector.body.len()).filter(|length| is_readable(length)).collect()
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
        let key = vector.key.map_or(String::new(), |key| format!(",\"asked\":{key}"));
        text.push_str(&format!(
            "{{\"message\":\"{}\",\"case\":\"{}\",\"revision\":{}{key},\"fields\":",
            compiled.message.name, vector.case, vector.revision
        ));
        // Writing to a String cannot fail.
        let _ = json::write_fields(compiled, &vector.values, Writing::default(), &mut text);
        text.push_str(",\"raw\":");
        let _ = json::write_fields(compiled, &vector.values, Writing { raw: true, ..Writing::default() }, &mut text);
        text.push_str(&format!(",\"body\":\"{}\",\"frames\":[", hex(&vector.body)));
        for (n, frame) in vector.frames.iter().enumerate() {
            let Header { key, node, sequence, revision } = frame.header;
            text.push_str(&format!(
                "{}{{\"channel\":\"{}\",\"key\":{key},\"node\":{node},\"sequence\":{sequence},\"revision\":{revision},\"bytes\":\"{}\"}}",
                if n == 0 { "" } else { "," },
                plan.channels[frame.channel].name,
                hex(&frame.bytes)
            ));
        }
        text.push_str("]}\n");
    }
    GeneratedFile { name: "vectors.ndjson".into(), text }
}
