//! Frames inside of messages, accounted apart from those that carry them.

use std::collections::BTreeMap;
use std::convert::Infallible;
use std::ops::ControlFlow;

use emberwort_model::Plan;
use emberwort_model::ids::{ChannelId, MessageId};
use emberwort_model::model::{End, Field, Kind};
use emberwort_text::nested_frame;
use emberwort_wire::{ValueRef, Values};

use crate::items::{Item, ItemSink, Wants};
use crate::query::walk::each_value;
use crate::revision_map::DefinitionId;
use crate::revision_map::RevisionMap;

/// What a frame inside of a message is.
#[derive(Clone, Debug, PartialEq, Eq, PartialOrd, Ord)]
pub enum Found {
    /// A good frame of the message with this name.
    Good(String),
    /// None, for this reason.
    Broken(&'static str),
}

/// Counts the frames inside of messages, also those inside of such frames.
#[derive(Clone, Debug, Default)]
pub struct NestedFrames {
    /// By definition and message, whether there can be some.
    can_hold: Vec<Vec<bool>>,
    /// How many and how many bytes, by the message and field that hold them (`Carried.carried`), the channel that they belong to, and what
    /// they are.
    pub counts: BTreeMap<(String, String, Found), (u64, u64)>,
}

/// Frames inside of frames are opened so deep.
const MAX_DEPTH: usize = 8;

impl NestedFrames {
    fn count(&mut self, plan: &Plan, message: MessageId, from: End, values: &Values, depth: usize) {
        let message = &plan.messages[message].message;
        let mut inside: Vec<(String, ChannelId, usize)> = Vec::new();
        each_value(&message.fields, values, |path, field, slot| {
            if let Kind::NestedFrame { channel, .. } = field.kind {
                inside.push((format!("{}.{path}", message.name), channel, slot));
            }
        });
        for (path, channel, slot) in inside {
            let ValueRef::Bytes(bytes) = values.get(slot) else { continue };
            let opened = nested_frame::open(plan, channel, from, bytes);
            let found = match &opened {
                Ok(inner) => Found::Good(plan.messages[inner.message].message.name.clone()),
                Err(fault) => Found::Broken(fault.reason()),
            };
            let counts = self.counts.entry((path, plan.channels[channel].name.clone(), found)).or_default();
            *counts = (counts.0 + 1, counts.1 + bytes.len() as u64);
            if let Some(inner) = opened.ok().filter(|_| depth < MAX_DEPTH) {
                self.count(plan, inner.message, from, &inner.values, depth + 1);
            }
        }
    }
}

/// Whether a field is, or holds, a frame of another channel.
fn holds_frame(field: &Field) -> bool {
    match &field.kind {
        Kind::NestedFrame { .. } => true,
        Kind::List { element, .. } => holds_frame(element),
        Kind::Record(record) => record.fields.iter().any(holds_frame),
        Kind::Union(union) => (0..=union.cases.len()).filter_map(|form| union.form(form)).any(|form| holds_frame(form)),
        _ => false,
    }
}

impl ItemSink for NestedFrames {
    type Error = Infallible;

    fn update_revisions(&mut self, revisions: &RevisionMap) {
        for definition in &revisions.definitions()[self.can_hold.len()..] {
            let messages = definition.plan.messages.iter();
            self.can_hold.push(messages.map(|compiled| compiled.message.fields.iter().any(holds_frame)).collect());
        }
    }

    fn wants(&self, definition: DefinitionId, message: MessageId) -> Wants {
        if self.can_hold[definition.index()][message.index()] { Wants::Values } else { Wants::Nothing }
    }

    fn item(&mut self, item: Item<'_>) -> Result<ControlFlow<()>, Infallible> {
        if let Item::Row(row) = item
            && self.can_hold[row.definition.index()][row.message.index()]
        {
            self.count(row.plan, row.message, row.from, row.values, 1);
        }
        Ok(ControlFlow::Continue(()))
    }
}
