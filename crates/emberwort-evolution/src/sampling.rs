//! Which values of a message are tried.

use std::collections::HashMap;

use emberwort_model::Plan;
use emberwort_model::ids::MessageId;
use emberwort_model::model::{Field, Kind, Selector};
use emberwort_text::samples::{Choice, Edges, edges_of};
use emberwort_wire::{ValueRef, Values, decode, encode};
use rand::Rng;
use rand_chacha::ChaCha8Rng;

/// Most rounds through the codes at which something can change.
const MAX_EDGES: usize = 4096;

/// The codes at which something can change for fields of these names in a plan: those of the one revision are tried in the other.
pub fn edges(plan: &Plan) -> Edges {
    let mut edges: Edges = HashMap::new();
    let link = &plan.link;
    for message in &link.messages {
        edges_in(&message.name, &message.fields, &mut edges);
    }
    for record in &link.records {
        edges_in(&record.name, &record.fields, &mut edges);
    }
    edges
}

fn edges_in(owner: &str, fields: &[Field], edges: &mut Edges) {
    for field in fields {
        edges_of_field(owner, field, edges);
        // The codes that decide about forms belong to the field that holds them.
        if let Kind::Union(union) = &field.kind
            && let Selector::Field(decider) = union.selector
        {
            let codes = union.cases.iter().map(|case| i128::from(case.raw as i64));
            edges.entry((owner.to_owned(), fields[decider].name.clone())).or_default().extend(codes);
        }
    }
}

fn edges_of_field(owner: &str, field: &Field, edges: &mut Edges) {
    match &field.kind {
        Kind::Number(form) | Kind::Varint(form) => {
            let codes = [form.low - 1, form.low, form.high, form.high + 1].into_iter().chain(form.none);
            edges.entry((owner.to_owned(), field.name.clone())).or_default().extend(codes);
        }
        Kind::Enum { labels, none } => {
            let codes = labels.labels.iter().map(|label| i128::from(label.code)).chain(none.map(i128::from));
            edges.entry((owner.to_owned(), field.name.clone())).or_default().extend(codes);
        }
        Kind::List { element, .. } => edges_of_field(owner, element, edges),
        Kind::Union(union) => {
            for form in union.cases.iter().map(|case| &case.field).chain(&union.otherwise) {
                edges_of_field(owner, form, edges);
            }
        }
        _ => {}
    }
}

/// How the values of a message's fields are chosen, sample after sample: one that people would expect, the ends, each code at
/// which something can change, each form, then random ones.
pub fn choices(plan: &Plan, message: MessageId, edges: &Edges, random: usize) -> Vec<Vec<Choice>> {
    let own = &plan.link.messages[message];
    let count = own.fields.len();
    let rounds = own.fields.iter().map(|field| rounds(&own.name, field, edges)).max().unwrap_or(0).min(MAX_EDGES);
    let mut all: Vec<Vec<Choice>> =
        [Choice::Middle, Choice::Greatest, Choice::Least, Choice::None].map(|choice| vec![choice; count]).to_vec();
    all.extend((0..rounds).map(|n| vec![Choice::Edge(n); count]));
    for (slot, field) in own.fields.iter().enumerate() {
        let Kind::Union(union) = &field.kind else { continue };
        for form in 0..=union.cases.len() {
            let Some(inner) = union.form(form) else { continue };
            for n in 0..self::rounds(&own.name, inner, edges).clamp(1, 64) {
                let mut choices = vec![Choice::Edge(n); count];
                choices[slot] = Choice::FormEdge(form, n);
                all.push(choices);
            }
        }
    }
    all.extend((0..random).map(|_| vec![Choice::Random; count]));
    all
}

/// Each field chosen in a way of its own: what bytes that stand for something else must be, such as a small count, comes up often.
pub fn mixed(count: usize, random: &mut ChaCha8Rng) -> Vec<Choice> {
    let one = |random: &mut ChaCha8Rng| match random.random_range(0..6) {
        0 => Choice::Least,
        1 => Choice::Greatest,
        2 => Choice::Edge(random.random_range(0..64)),
        3 => Choice::Small,
        _ => Choice::Random,
    };
    (0..count).map(|_| one(random)).collect()
}

/// How many codes a field has to go through.
fn rounds(owner: &str, field: &Field, edges: &Edges) -> usize {
    match &field.kind {
        Kind::List { element, .. } => rounds(owner, element, edges),
        Kind::Record(record) => record.fields.iter().map(|field| rounds(&record.name, field, edges)).max().unwrap_or(0),
        Kind::Union(union) => {
            let forms = union.cases.iter().map(|case| &case.field).chain(&union.otherwise);
            forms.map(|form| rounds(owner, form, edges)).max().unwrap_or(0)
        }
        _ => edges_of(field, edges.get(&(owner.to_owned(), field.name.clone()))).len(),
    }
}

/// The values that a sender would have to send for a body; `None` if it never sends such a body.
///
/// Bodies that the receiver would send itself are those that it takes: a misreading that random values seldom hit is found by
/// going back from them.
pub(crate) fn values_for(plan: &Plan, message: MessageId, body: &[u8]) -> Option<Values> {
    let compiled = &plan.messages[message];
    let mut values = Values::new(compiled);
    decode(compiled, body, &mut values).ok()?;
    if values.sections() < compiled.sections.len() || !are_valid(&compiled.message.fields, &values, 0) {
        return None;
    }
    let mut again = Vec::new();
    encode(compiled, &values, plan.link.revision, &mut again).ok()?;
    body.starts_with(&again).then_some(values)
}

fn are_valid(fields: &[Field], values: &Values, base: usize) -> bool {
    fields.iter().enumerate().all(|(slot, field)| field.is_spare() || is_valid(field, values, base + slot))
}

fn is_valid(field: &Field, values: &Values, slot: usize) -> bool {
    match (values.get(slot), &field.kind) {
        (ValueRef::Unset, _) => false,
        (ValueRef::Absent, _) => field.optional,
        (ValueRef::Raw(raw), kind) => kind.is_valid(emberwort_wire::values::signed(kind, raw)),
        (ValueRef::Bytes(bytes), Kind::Text { ascii, .. }) => {
            std::str::from_utf8(bytes).is_ok() && (!ascii || bytes.is_ascii())
        }
        (ValueRef::Bytes(_), _) => true,
        (ValueRef::Group { first, count }, Kind::List { element, .. }) => {
            (first..first + count).all(|slot| is_valid(element, values, slot))
        }
        (ValueRef::Group { first, .. }, Kind::Record(record)) => are_valid(&record.fields, values, first),
        (ValueRef::Group { .. }, _) => false,
        (ValueRef::Chosen { form, slot }, Kind::Union(union)) => {
            union.form(form).is_some_and(|form| is_valid(form, values, slot))
        }
        (ValueRef::Chosen { .. }, _) => false,
    }
}
