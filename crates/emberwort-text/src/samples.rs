//! Values chosen for trying a message: all least ones, all greatest ones, each "no reading", each code at which something can
//! change, and random ones. Test vectors and the comparison of revisions are made of them.

use std::collections::HashMap;

use emberwort_model::Plan;
use emberwort_model::model::{self, End, Field, Kind, Length, Selector, float_bits};
use emberwort_model::plan::{Direction, Role};
use rand::Rng;
use rand_chacha::ChaCha8Rng;

use emberwort_model::ids::{ChannelId, MessageId};
use emberwort_wire::{Framed, Header, ValueRef, Values, encode};

/// How the value of a field is chosen.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Choice {
    /// The least one; optional fields are absent, lists and texts empty.
    Least,
    /// The greatest one, or the longest.
    Greatest,
    /// One in the middle: what people expect to see.
    Middle,
    /// One near the raw number 0.
    Small,
    /// "No reading", where a code is kept for it; else random.
    None,
    /// Any.
    Random,
    /// This form of a value that has several; the field that decides is chosen to fit.
    Form(usize),
    /// Of a union, the form with this index, with its value by [`Choice::Edge`] of the second number.
    FormEdge(usize, usize),
    /// The code with this number among those at which something can change, around and around; else random.
    Edge(usize),
}

/// Codes of fields to try besides their own ends, by the name of the message, record or table entry that has the field, and the
/// field's name.
pub type Edges = HashMap<(String, String), Vec<i128>>;

/// Chooses values as a sender of a revision has them.
pub struct Chooser<'a> {
    plan: &'a Plan,
    revision: u32,
    /// Most bytes of a field that reaches to the body's end.
    rest_bytes: usize,
    random: &'a mut ChaCha8Rng,
    edges: Option<&'a Edges>,
    /// The message or record whose fields are chosen.
    owner: &'a str,
    /// The end that sends the message.
    from: End,
}

impl<'a> Chooser<'a> {
    /// One for messages as a sender of `revision` writes them.
    pub fn new(plan: &'a Plan, revision: u32, random: &'a mut ChaCha8Rng) -> Self {
        Self { plan, revision, rest_bytes: 0, random, edges: None, owner: "", from: End::Device }
    }

    /// Tries these codes, too, where [`Choice::Edge`] is asked for.
    pub fn with_edges(mut self, edges: &'a Edges) -> Self {
        self.edges = Some(edges);
        self
    }

    /// Sets all values of a message (by index), each field as the choice at its index says. Returns the key that a request asked
    /// for, if the form of a value depends on one.
    ///
    /// # Panics
    /// If there are fewer choices than fields.
    pub fn message(&mut self, message: MessageId, choices: &[Choice], values: &mut Values) -> Option<u64> {
        let plan = self.plan;
        let compiled = &plan.messages[message];
        // The bytes of an unknown answer are no longer than those of a known one.
        self.rest_bytes = if compiled.has_rest { compiled.rest_bytes } else { compiled.greatest_size() };
        (self.owner, self.from) = (&compiled.message.name, compiled.message.from);
        values.clear(compiled);
        self.group(&compiled.message.fields, 0, choices, values)
    }

    /// Chooses one field (by index) of a message anew; the others stay. Nothing is done to values with several forms, nor to space.
    ///
    /// # Panics
    /// If the message has no such field.
    pub fn field(&mut self, message: MessageId, slot: usize, choice: Choice, values: &mut Values) {
        let plan = self.plan;
        let compiled = &plan.messages[message];
        self.rest_bytes = if compiled.has_rest { compiled.rest_bytes } else { compiled.greatest_size() };
        (self.owner, self.from) = (&compiled.message.name, compiled.message.from);
        let field = &compiled.message.fields[slot];
        if !field.is_spare() {
            self.value(field, slot, choice, values);
        }
    }

    /// Random values for the parts of a frame that carries a message (by index).
    pub fn header(&mut self, direction: &Direction, message: MessageId) -> Header {
        let node = match direction.nodes_of(message) {
            Some(nodes) => self.random.random_range(nodes),
            None => self.part(direction, |role| *role == Role::Address),
        };
        Header {
            key: direction.key_for(message, node).unwrap_or(0),
            node,
            sequence: self.part(direction, |role| *role == Role::Sequence),
            revision: u64::from(self.revision.min(255)),
        }
    }

    fn part(&mut self, direction: &Direction, wanted: fn(&Role) -> bool) -> u64 {
        let bits = direction.part(wanted).map_or(0, |part| part.bits);
        if bits == 0 { 0 } else { self.random.random::<u64>() >> (64 - bits) }
    }

    /// The fields of a message or record, whose first slot is `base`. Returns the key that a request asked for, if the form
    /// of a value depends on one.
    fn group(&mut self, fields: &'a [Field], base: usize, choices: &[Choice], values: &mut Values) -> Option<u64> {
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
            let Kind::Union(union) = &field.kind else {
                self.value(field, base + slot, choices[slot], values);
                continue;
            };
            if self.is_absent(field, choices[slot]) {
                values.set_absent(base + slot);
                continue;
            }
            let extreme = match choices[slot] {
                Choice::Least => self.by_size(union).first().copied(),
                Choice::Greatest => self.by_size(union).last().copied(),
                Choice::FormEdge(form, _) => Some(form),
                _ => None,
            };
            let mut wanted = extreme.map_or(choices[slot], Choice::Form);
            if let Selector::Field(decider) = union.selector {
                if settled.contains(&decider) {
                    wanted = Choice::Random;
                }
                settled.push(decider);
            }
            let form = match (union.selector, wanted) {
                (Selector::Field(decider), Choice::Form(form)) => {
                    self.decide(union, &fields[decider].kind, base + decider, form, values);
                    self.decided(union, base + decider, values)
                }
                (Selector::Field(decider), _) => {
                    let known = self.decided(union, base + decider, values);
                    if known.is_none() {
                        self.decide(union, &fields[decider].kind, base + decider, 0, values);
                    }
                    known.or(self.decided(union, base + decider, values))
                }
                (Selector::Request { .. }, Choice::Form(form)) => Some(form),
                (Selector::Request { .. }, _) => Some(self.random.random_range(0..union.cases.len().max(1))),
            };
            let form = form.unwrap_or(0);
            if let Selector::Request { .. } = union.selector {
                asked = union.cases.get(form).map(|case| case.raw);
            }
            if let Some(inner) = union.form(form) {
                let at = values.set_chosen(base + slot, form);
                let how = match choices[slot] {
                    Choice::Form(_) => Choice::Random,
                    Choice::FormEdge(_, n) => Choice::Edge(n),
                    other => other,
                };
                self.value(inner, at, how, values);
            }
        }
        asked
    }

    /// The forms that a deciding number selects, the shortest first.
    fn by_size(&self, union: &model::Union) -> Vec<usize> {
        let mut forms: Vec<usize> = (0..union.cases.len()).collect();
        forms.sort_by_key(|form| union.form(*form).map(|field| self.plan.element(field).action.bits().1));
        forms
    }

    /// Sets the deciding field so that it selects a form.
    fn decide(&mut self, union: &model::Union, kind: &Kind, decider: usize, form: usize, values: &mut Values) {
        match union.cases.get(form) {
            Some(case) => values.set_raw(decider, case.raw),
            None => {
                // Some number that is no case, if there is one.
                let others = (0..=union.cases.len() as u64).filter(|raw| kind.is_valid(i128::from(*raw)));
                if let Some(raw) = others.into_iter().find(|raw| union.cases.iter().all(|case| case.raw != *raw)) {
                    values.set_raw(decider, raw);
                }
            }
        }
    }

    /// The form that the deciding field selects.
    fn decided(&self, union: &model::Union, decider: usize, values: &Values) -> Option<usize> {
        match values.get(decider) {
            ValueRef::Raw(raw) => union.index_of(raw),
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
            // Beyond zero, where both signs are.
            Choice::Middle => low + (high - low) * 5 / 8,
            Choice::Small => (low.max(0) + self.random.random_range(0..5)).min(high),
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
        let most = match choice {
            Choice::Greatest => most,
            Choice::Middle | Choice::Small | Choice::Edge(_) => return most.min(2),
            _ => most.min(300),
        };
        self.between(choice, 0, most as i128) as usize
    }

    fn value(&mut self, field: &'a Field, slot: usize, choice: Choice, values: &mut Values) {
        if self.is_absent(field, choice) {
            values.set_absent(slot);
            return;
        }
        if let Choice::Edge(n) = choice
            && let edges = edges_of(field, self.edges.and_then(|edges| edges.get(&key_of(self.owner, field))))
            && !edges.is_empty()
        {
            // Neighbours stand at other edges, so that those of several fields meet in many ways.
            values.set_raw(slot, edges[(n + slot) % edges.len()] as u64);
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
            Kind::Number(form) | Kind::Varint(form) => {
                let mut raw = self.between(choice, form.low, form.high);
                // Small varints are the common ones.
                if field.kind.is_varint() && choice == Choice::Random && self.random.random_bool(0.5) {
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
                    Choice::Middle => "12.5".to_owned(),
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
                    Choice::Middle => labels.labels.first().map_or(0, |label| 1 << label.code),
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
                let around = std::mem::replace(&mut self.owner, &record.name);
                self.group(&record.fields, first, &vec![choice; record.fields.len()], values);
                self.owner = around;
            }
            Kind::NestedFrame { channel, .. } => {
                let bytes = self.frame(*channel);
                values.set_bytes(slot, &bytes);
            }
            Kind::Union(_) | Kind::Spare { .. } => {}
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
    fn frame(&mut self, channel: ChannelId) -> Vec<u8> {
        let framing = self.plan.channels[channel].framing(self.from);
        let direction = framing.plan();
        let fitting: Vec<MessageId> = direction
            .keys
            .iter()
            .map(|(_, message)| *message)
            .filter(|message| {
                let compiled = &self.plan.messages[*message];
                !compiled.has_rest && direction.frame_size(compiled.greatest_size()) <= self.rest_bytes
            })
            .collect();
        let mut bytes = Vec::new();
        if fitting.is_empty() || direction.finder.is_text() {
            return bytes;
        }
        let message = fitting[self.random.random_range(0..fitting.len())];
        let compiled = &self.plan.messages[message];
        let mut values = Values::new(compiled);
        let choices = vec![Choice::Random; compiled.message.fields.len()];
        self.group(&compiled.message.fields, 0, &choices, &mut values);
        let mut body = Vec::new();
        let header = Header { key: direction.key_of(message).unwrap_or(0), ..Header::default() };
        if encode(compiled, &values, self.revision, &mut body).is_ok() {
            // Without room it stays empty.
            let _ = framing.encode(&header, &body, &mut bytes);
        }
        bytes
    }
}

/// Under what name the edges of a field stand.
pub fn key_of(owner: &str, field: &Field) -> (String, String) {
    (owner.to_owned(), field.name.clone())
}

/// Codes of a field at which something can change: its ends, "no reading", each label, each flag alone, and those of `more` that
/// it can have. Empty for fields that are no single number.
pub fn edges_of(field: &Field, more: Option<&Vec<i128>>) -> Vec<i128> {
    let mut edges: Vec<i128> = match &field.kind {
        Kind::Number(form) | Kind::Varint(form) => {
            vec![form.low, form.high, 0, 1, -1, form.low + 1, form.high - 1, form.low / 2 + form.high / 2]
        }
        Kind::Enum { labels, .. } => labels.labels.iter().map(|label| i128::from(label.code)).collect(),
        Kind::Flags(labels) => labels.labels.iter().map(|label| 1i128 << label.code).chain([0]).collect(),
        Kind::Bool => vec![0, 1],
        Kind::Time { .. } => vec![0, 1, i128::from(u32::MAX)],
        _ => return Vec::new(),
    };
    edges.extend(field.kind.none());
    edges.extend(more.into_iter().flatten());
    let bits = u32::from(field.kind.raw_bits().unwrap_or(64));
    let fits = |raw: i128| match field.kind.is_signed() {
        true => raw >= -(1i128 << (bits - 1)) && raw < 1i128 << (bits - 1),
        false => raw >= 0 && raw < 1i128 << bits,
    };
    edges.retain(|raw| fits(*raw) && field.kind.is_valid(*raw));
    edges.sort_unstable();
    edges.dedup();
    edges
}
