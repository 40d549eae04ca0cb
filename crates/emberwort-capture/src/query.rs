//! Questions about rows: `GateStatus.opening > 40 and state == held`, and stretches of time. They stand between a decoder and whoever takes
//! its items, so that they work the same on files and live ports.

use std::ops::ControlFlow;

use emberwort_model::Plan;
use emberwort_model::model::{End, Field};
use emberwort_text::formula::{Formula, Named, number};
use emberwort_wire::{Time, ValueRef};

use crate::items::{Item, ItemSink, Row, Wants};
use crate::speakers::Speakers;

/// A condition on rows.
///
/// Names are those of fields, also with their message in front, and `message`, `node` and `direction`; what a row's message does not have
/// has no value, which makes every comparison false.
#[derive(Clone, Debug)]
pub struct Query {
    text: String,
    /// By definition and message.
    formulas: Vec<Vec<Formula>>,
}

// The numbers of variables that are no slots.
const MESSAGE: usize = 1 << 24;
const NODE: usize = MESSAGE + 1;
const DIRECTION: usize = MESSAGE + 2;
/// Never has a value: a field of another message.
const NEVER: usize = MESSAGE + 3;
/// Stand for themselves: indices of messages, and of the ends.
const CONSTANTS: usize = 1 << 25;
/// Raw codes of fields.
const RAW: usize = 1 << 26;

/// The formula for rows of one message of a plan.
fn formula_of(text: &str, plan: &Plan, index: usize) -> Result<Formula, String> {
    let own = &plan.messages[index].message;
    let fields = |name: &str| plan.message_index(name).map(|index| &plan.messages[index].message);
    let anywhere = |name: &str| -> Option<&Field> {
        plan.messages.iter().find_map(|compiled| compiled.message.field(name).map(|(_, field)| field))
    };
    let field = |name: &str| -> Option<Named<'_>> {
        match name.split_once('.') {
            Some((message, name)) if message == own.name => own.field(name).map(|(slot, field)| (slot, Some(field))),
            Some((message, name)) => fields(message)?.field(name).map(|(_, field)| (NEVER, Some(field))),
            None => match own.field(name) {
                Some((slot, field)) => Some((slot, Some(field))),
                None => anywhere(name).map(|field| (NEVER, Some(field))),
            },
        }
    };
    let known = |name: &str| -> Option<Named<'_>> {
        if let Some(inner) = name.strip_prefix("raw(").and_then(|name| name.strip_suffix(')')) {
            let (slot, _) = field(inner)?;
            return Some((if slot == NEVER { NEVER } else { RAW + slot }, None));
        }
        field(name).or_else(|| match name {
            "message" => Some((MESSAGE, None)),
            "node" => Some((NODE, None)),
            "direction" => Some((DIRECTION, None)),
            "device" => Some((CONSTANTS, None)),
            "host" => Some((CONSTANTS + 1, None)),
            name => plan.message_index(name).map(|index| (CONSTANTS + index, None)),
        })
    };
    let mut names: Vec<&str> = vec!["message", "node", "direction"];
    for compiled in &plan.messages {
        names.push(&compiled.message.name);
        names.extend(compiled.message.fields.iter().filter(|field| !field.is_spare()).map(|field| field.name.as_str()));
    }
    // Many messages have fields of one name.
    let mut listed = std::collections::HashSet::new();
    names.retain(|name| listed.insert(*name));
    Formula::parse(text, &known, &names)
}

impl Query {
    /// A condition on rows of a link.
    ///
    /// # Errors
    /// What is wrong with it.
    pub fn new(text: &str, plan: &Plan) -> Result<Self, String> {
        // A name can mean another thing in each message: what it cannot be in one is never true there.
        let mut first = None;
        for index in 0..plan.messages.len() {
            match formula_of(text, plan, index) {
                Ok(_) => {
                    first = None;
                    break;
                }
                Err(problem) => first = first.or(Some(problem)),
            }
        }
        if let Some(problem) = first {
            return Err(problem);
        }
        Ok(Self { text: text.to_owned(), formulas: Vec::new() })
    }

    /// Reads it for all definitions in use. What a definition does not have can never hold there.
    fn know(&mut self, speakers: &Speakers) {
        let never = || Formula::parse("false", &|_| None, &[]);
        let of_plan = |plan: &Plan| {
            let formulas =
                (0..plan.messages.len()).map(|index| formula_of(&self.text, plan, index).or_else(|_| never()));
            formulas.filter_map(Result::ok).collect()
        };
        self.formulas = speakers.definitions().iter().map(|definition| of_plan(&definition.plan)).collect();
    }

    fn holds(&self, row: &Row<'_>) -> bool {
        let fields = &row.plan.messages[row.message].message.fields;
        let variable = |variable: usize| match variable {
            MESSAGE => Some(row.message as f64),
            NODE => row.frame.node.map(|node| node as f64),
            DIRECTION => Some(if row.from == End::Device { 0.0 } else { 1.0 }),
            NEVER => Some(f64::NAN),
            raw if raw >= RAW => match row.values.get(raw - RAW) {
                ValueRef::Raw(code) => Some(code as f64),
                _ => None,
            },
            constant if constant >= CONSTANTS => Some((constant - CONSTANTS) as f64),
            slot => match row.values.get(slot) {
                // Whether a text is there can be asked, too.
                ValueRef::Bytes(bytes) => Some(bytes.len() as f64),
                ValueRef::Group { count, .. } => Some(count as f64),
                _ => number(&fields[slot], row.values, slot),
            },
        };
        let formula = self.formulas.get(row.definition).and_then(|of| of.get(row.message));
        let now = row.time.map_or(0, Time::nanoseconds);
        formula.is_some_and(|formula| formula.value(now, &variable).is_some_and(|value| value != 0.0))
    }
}

/// Hands on the rows for which a condition holds, and which lie in a stretch of time. What is no row is handed on only without a condition.
#[derive(Clone, Debug)]
pub struct Matching<S> {
    query: Option<Query>,
    since: Option<Time>,
    until: Option<Time>,
    sink: S,
}

impl<S> Matching<S> {
    /// Rows for which a condition holds, from a moment on and up to another one; without them all rows.
    pub fn new(query: Option<Query>, (since, until): (Option<Time>, Option<Time>), sink: S) -> Self {
        Self { query, since, until, sink }
    }

    fn lets_pass(&self, item: &Item<'_>) -> bool {
        let time = match item {
            Item::Row(row) => row.time,
            Item::Broken(broken) => broken.time,
            Item::Stray(stray) => stray.time,
        };
        let is_in_time = self.since.is_none_or(|since| time.is_some_and(|time| time >= since))
            && self.until.is_none_or(|until| time.is_some_and(|time| time <= until));
        is_in_time
            && match (item, &self.query) {
                (_, None) => true,
                (Item::Row(row), Some(query)) => query.holds(row),
                (Item::Broken(_) | Item::Stray(_), Some(_)) => false,
            }
    }
}

impl<S: ItemSink> ItemSink for Matching<S> {
    type Error = S::Error;

    fn know(&mut self, speakers: &Speakers) {
        if let Some(query) = &mut self.query {
            query.know(speakers);
        }
        self.sink.know(speakers);
    }

    fn wants(&self, definition: usize, message: usize) -> Wants {
        let wants = self.sink.wants(definition, message);
        if self.query.is_some() && wants != Wants::Nothing { Wants::Values } else { wants }
    }

    fn item(&mut self, item: Item<'_>) -> Result<ControlFlow<()>, S::Error> {
        if self.lets_pass(&item) { self.sink.item(item) } else { Ok(ControlFlow::Continue(())) }
    }

    fn is_full(&self) -> bool {
        self.sink.is_full()
    }

    fn pause(&mut self) -> Result<(), S::Error> {
        self.sink.pause()
    }

    fn finish(&mut self) -> Result<(), S::Error> {
        self.sink.finish()
    }
}
