//! Test vectors: values, the body that they make, and the frame on each channel.
//!
//! Every generated implementation is checked with the same vectors, both ways. For each message: all least values, all
//! greatest ones, each `none` by itself and all of them together, bodies of earlier revisions, and random values.

use std::sync::Arc;

use emberwort_model::Plan;
use emberwort_model::hex::hex;
use emberwort_model::model::{self, Field, Kind, Length, Selector, float_bits};
use emberwort_model::plan::{FrameFinder, MessagePlan, Role};
use emberwort_wire::frame::body_on;
use emberwort_wire::json::{self, Writing};
use emberwort_wire::{Framing, Header, ValueRef, Values, encode};
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
    pub channel: usize,
    /// The values of its parts.
    pub header: Header,
    /// What it carries: the body, or the line of a text message without its end.
    pub body: Vec<u8>,
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
    /// This form of a value that has several; the field that decides is chosen to fit.
    Form(usize),
}

/// All vectors of a link. The same plan and seed give the same vectors.
pub fn vectors(plan: &Plan, seed: u64) -> Vec<Vector> {
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
        for (slot, field) in fields.iter().enumerate() {
            let Kind::Choice(choice) = &field.kind else { continue };
            for form in 0..=choice.cases.len() {
                let Some(named) = choice.form(form) else { continue };
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
    message: usize,
    case: String,
    sections: usize,
    choices: &[Choice],
    random: &mut ChaCha8Rng,
) -> Option<Vector> {
    let compiled = &plan.messages[message];
    let revision =
        if sections == compiled.sections.len() { plan.link.revision } else { compiled.sections[sections - 1].revision };
    // The bytes of an unknown answer are no longer than those of a known one.
    let rest_bytes = if compiled.has_rest { compiled.rest_bytes } else { compiled.greatest_size() };
    let mut chooser = Chooser { plan, revision, rest_bytes, random };
    let mut values = Values::new(compiled);
    let key = chooser.group(&compiled.message.fields, 0, choices, &mut values);
    let mut body = Vec::new();
    // Chosen values always fit; only a frame inside of another may be too long for it.
    encode(compiled, &values, revision, &mut body).ok()?;
    let mut frames = Vec::new();
    for &channel in &compiled.message.channels {
        let facing = plan.channels[channel].facing(compiled.message.from);
        let framing = Framing::new(Arc::new(facing.clone()));
        let part = |random: &mut ChaCha8Rng, wanted: fn(&Role) -> bool| {
            let bits = facing.part(wanted).map_or(0, |part| part.bits);
            if bits == 0 { 0 } else { random.random::<u64>() >> (64 - bits) }
        };
        let node = match facing.nodes_of(message) {
            Some(nodes) => random.random_range(nodes),
            None => part(random, |role| *role == Role::Address),
        };
        let header = Header {
            key: facing.key_for(message, node).unwrap_or(0),
            node,
            sequence: part(random, |role| *role == Role::Sequence),
            revision: u64::from(revision.min(255)),
        };
        let (mut carried, mut bytes) = (Vec::new(), Vec::new());
        // A text with a line's end in it has no line, a body that is no multiple of the length part's unit no frame.
        if body_on(facing, compiled, &values, revision, &mut carried).is_ok()
            && framing.encode(&header, &carried, &mut bytes).is_ok()
        {
            frames.push(FrameVector { channel, header, body: carried, bytes });
        }
    }
    Some(Vector { message, case, sections, revision, key, values, body, frames })
}

/// Chooses values.
struct Chooser<'a> {
    plan: &'a Plan,
    revision: u32,
    /// Most bytes of a field that reaches to the body's end.
    rest_bytes: usize,
    random: &'a mut ChaCha8Rng,
}

impl Chooser<'_> {
    /// The fields of a message or record, whose first slot is `base`. Returns the key that a request asked for, if the form
    /// of a value depends on one.
    fn group(&mut self, fields: &[Field], base: usize, choices: &[Choice], values: &mut Values) -> Option<u64> {
        let mut asked = None;
        // Fields that have decided about one value already; another one must follow them.
        let mut settled: Vec<usize> = Vec::new();
        for (slot, field) in fields.iter().enumerate() {
            if field.is_spare() {
                continue;
            }
            if field.since > self.revision {
                values.set_default(base + slot, field.default.as_ref());
                continue;
            }
            let Kind::Choice(choice) = &field.kind else {
                self.value(field, base + slot, choices[slot], values);
                continue;
            };
            if self.is_absent(field, choices[slot]) {
                values.set_absent(base + slot);
                continue;
            }
            let extreme = match choices[slot] {
                Choice::Least => self.by_size(choice).first().copied(),
                Choice::Greatest => self.by_size(choice).last().copied(),
                _ => None,
            };
            let mut wanted = extreme.map_or(choices[slot], Choice::Form);
            if let Selector::Field(decider) = choice.selector {
                if settled.contains(&decider) {
                    wanted = Choice::Random;
                }
                settled.push(decider);
            }
            let form = match (choice.selector, wanted) {
                (Selector::Field(decider), Choice::Form(form)) => {
                    self.decide(choice, &fields[decider].kind, base + decider, form, values);
                    self.decided(choice, base + decider, values)
                }
                (Selector::Field(decider), _) => {
                    let known = self.decided(choice, base + decider, values);
                    if known.is_none() {
                        self.decide(choice, &fields[decider].kind, base + decider, 0, values);
                    }
                    known.or(self.decided(choice, base + decider, values))
                }
                (Selector::Request { .. }, Choice::Form(form)) => Some(form),
                (Selector::Request { .. }, _) => Some(self.random.random_range(0..choice.cases.len().max(1))),
            };
            let form = form.unwrap_or(0);
            if let Selector::Request { .. } = choice.selector {
                asked = choice.cases.get(form).map(|case| case.raw);
            }
            if let Some(inner) = choice.form(form) {
                let at = values.set_chosen(base + slot, form);
                let how = if let Choice::Form(_) = choices[slot] { Choice::Random } else { choices[slot] };
                self.value(inner, at, how, values);
            }
        }
        asked
    }

    /// The forms that a deciding number selects, the shortest first.
    fn by_size(&self, choice: &model::Choice) -> Vec<usize> {
        let mut forms: Vec<usize> = (0..choice.cases.len()).collect();
        forms.sort_by_key(|form| choice.form(*form).map(|field| self.plan.element(field).action.bits().1));
        forms
    }

    /// Sets the deciding field so that it selects a form.
    fn decide(&mut self, choice: &model::Choice, kind: &Kind, decider: usize, form: usize, values: &mut Values) {
        match choice.cases.get(form) {
            Some(case) => values.set_raw(decider, case.raw),
            None => {
                // Some number that is no case, if there is one.
                let others = (0..=choice.cases.len() as u64).filter(|raw| kind.is_valid(i128::from(*raw)));
                if let Some(raw) = others.into_iter().find(|raw| choice.cases.iter().all(|case| case.raw != *raw)) {
                    values.set_raw(decider, raw);
                }
            }
        }
    }

    /// The form that the deciding field selects.
    fn decided(&self, choice: &model::Choice, decider: usize, values: &Values) -> Option<usize> {
        match values.get(decider) {
            ValueRef::Raw(raw) => choice.index_of(raw),
            _ => None,
        }
    }

    fn is_absent(&mut self, field: &Field, choice: Choice) -> bool {
        field.optional && (choice == Choice::Least || (choice == Choice::Random && self.random.random_bool(0.5)))
    }

    /// A whole number between two.
    fn between(&mut self, choice: Choice, low: i128, high: i128) -> i128 {
        match choice {
            Choice::Least => low,
            Choice::Greatest => high,
            // The reach is at most 2^64, for which 128 random bits are even enough.
            _ => low + (self.random.random::<u128>() % ((high - low) as u128 + 1)) as i128,
        }
    }

    /// How many elements or bytes.
    fn count(&mut self, length: Length, choice: Choice, size: usize) -> usize {
        let most = match length {
            Length::Exact(count) => return count as usize,
            Length::UpTo(most) => most as usize,
            Length::Rest => self.rest_bytes / size.max(1),
        };
        // Long ones are no better than short ones, but take their time.
        let most = if choice == Choice::Greatest { most } else { most.min(300) };
        self.between(choice, 0, most as i128) as usize
    }

    fn value(&mut self, field: &Field, slot: usize, choice: Choice, values: &mut Values) {
        if self.is_absent(field, choice) {
            values.set_absent(slot);
            return;
        }
        let none = field.kind.none();
        let none =
            none.filter(|_| choice == Choice::None || (choice == Choice::Random && self.random.random_ratio(1, 8)));
        if let Some(none) = none {
            values.set_raw(slot, none as u64);
            return;
        }
        match &field.kind {
            Kind::Number(form) | Kind::Compact(form) => {
                let mut raw = self.between(choice, form.low, form.high);
                // Small compact numbers are the common ones.
                if field.kind.is_compact() && choice == Choice::Random && self.random.random_bool(0.5) {
                    raw = raw.clamp(-300, 300);
                }
                values.set_raw(slot, raw as u64);
            }
            Kind::Bool => {
                let raw = self.between(choice, 0, 1);
                values.set_raw(slot, raw as u64);
            }
            Kind::Time { milliseconds } => {
                let most = if *milliseconds { model::LAST_TIME * 1000 } else { i128::from(u32::MAX) };
                let raw = self.between(choice, 0, most);
                values.set_raw(slot, raw as u64);
            }
            Kind::Float(bits) => {
                let number = (self.random.random::<f64>() - 0.5) * 10f64.powi(self.random.random_range(-4..5));
                let greatest = match bits {
                    16 => "65504".to_owned(),
                    32 => f32::MAX.to_string(),
                    _ => f64::MAX.to_string(),
                };
                let text = match choice {
                    Choice::Least => format!("-{greatest}"),
                    Choice::Greatest => greatest,
                    _ => number.to_string(),
                };
                values.set_raw(slot, float_bits(*bits, &text).unwrap_or(0));
            }
            Kind::Enum { labels, .. } => {
                let index = self.between(choice, 0, labels.labels.len() as i128 - 1).max(0) as usize;
                values.set_raw(slot, labels.labels.get(index).map_or(0, |label| label.code));
            }
            Kind::Flags(labels) => {
                let all = labels.labels.iter().fold(0u64, |all, label| all | 1 << label.code);
                let raw = match choice {
                    Choice::Least => 0,
                    Choice::Greatest => all,
                    _ => self.random.random::<u64>() & all,
                };
                values.set_raw(slot, raw);
            }
            Kind::Text { ascii, length } => {
                let most = match length {
                    Length::Exact(most) => Length::UpTo(*most),
                    other => *other,
                };
                let length = self.count(most, choice, 1);
                let text = self.text(length, *ascii);
                values.set_bytes(slot, text.as_bytes());
            }
            Kind::Bytes(length) => {
                let count = self.count(*length, choice, 1);
                let bytes: Vec<u8> = (0..count).map(|_| self.between(choice, 0, 255) as u8).collect();
                values.set_bytes(slot, &bytes);
            }
            Kind::List { element, length } => {
                let size = self.plan.element(element).action.bits().1.div_ceil(8) as usize;
                let count = self.count(*length, choice, size + 4);
                let first = values.set_group(slot, count);
                for n in 0..count {
                    self.value(element, first + n, choice, values);
                }
            }
            Kind::Record(record) => {
                let first = values.set_group(slot, record.fields.len());
                self.group(&record.fields, first, &vec![choice; record.fields.len()], values);
            }
            Kind::Tunnel { channel, .. } => {
                let bytes = self.frame(*channel);
                values.set_bytes(slot, &bytes);
            }
            Kind::Choice(_) | Kind::Spare { .. } => {}
        }
    }

    fn text(&mut self, length: usize, ascii: bool) -> String {
        // Characters of one to four bytes, as far as there is room.
        let letters = ['a', 'Q', '7', ' ', '~', '"', '\\', 'é', '°', '€', '水', '🜂'];
        let letters = if ascii { &letters[..7] } else { &letters[..] };
        let mut text = String::new();
        while text.len() < length {
            let left = length - text.len();
            let letter = letters[self.random.random_range(0..letters.len())];
            text.push(if letter.len_utf8() <= left { letter } else { 'z' });
        }
        text
    }

    /// A frame of another channel that fits; empty if none does.
    fn frame(&mut self, channel: usize) -> Vec<u8> {
        let facing = &self.plan.channels[channel];
        let fitting: Vec<usize> = facing
            .keys
            .iter()
            .map(|(_, message)| *message)
            .filter(|message| {
                let compiled = &self.plan.messages[*message];
                !compiled.has_rest && facing.frame_size(compiled.greatest_size()) <= self.rest_bytes
            })
            .collect();
        let mut bytes = Vec::new();
        if fitting.is_empty() || matches!(facing.finder, FrameFinder::Lines { .. }) {
            return bytes;
        }
        let message = fitting[self.random.random_range(0..fitting.len())];
        let compiled = &self.plan.messages[message];
        let mut values = Values::new(compiled);
        let choices = vec![Choice::Random; compiled.message.fields.len()];
        self.group(&compiled.message.fields, 0, &choices, &mut values);
        let mut body = Vec::new();
        let header = Header { key: facing.key_of(message).unwrap_or(0), ..Header::default() };
        if encode(compiled, &values, self.revision, &mut body).is_ok() {
            // Without room it stays empty.
            let _ = Framing::new(Arc::new(facing.clone())).encode(&header, &body, &mut bytes);
        }
        bytes
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
        let key = vector.key.map_or(String::new(), |key| format!(",\"asked\":{key}"));
        text.push_str(&format!(
            "{{\"message\":\"{}\",\"case\":\"{}\",\"revision\":{}{key},\"fields\":",
            compiled.message.name, vector.case, vector.revision
        ));
        // Writing to a String cannot fail.
        let _ = json::write_fields(compiled, &vector.values, Writing::default(), &mut text);
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
