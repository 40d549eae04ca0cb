//! Tables of settings by name: which messages read and write their entries.

use std::sync::Arc;

use emberwort_model::Plan;
use emberwort_model::ids::{ChannelId, MessageId};
use emberwort_model::model::{End, Field, Kind, Selector, Table, Union};

/// How the entries of a table are reached over a channel.
#[derive(Clone, Debug)]
pub struct TableAccess {
    /// The table.
    pub table: Arc<Table>,
    /// How entries are read, if they can be.
    pub read: Option<ReadAccess>,
    /// How entries are written, if they can be.
    pub write: Option<WriteAccess>,
}

/// How an entry is read: messages by index, fields by slot.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct ReadAccess {
    /// The request.
    pub request: MessageId,
    /// Its field that names the entry.
    pub key: usize,
    /// The answer.
    pub answer: MessageId,
    /// Its field that holds the value.
    pub value: usize,
    /// Its field that repeats which entry it is, if it has one.
    pub repeated: Option<usize>,
}

/// How an entry is written: the message by index, its fields by slot.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct WriteAccess {
    /// The request.
    pub request: MessageId,
    /// Its field that names the entry.
    pub key: usize,
    /// Its field that holds the value.
    pub value: usize,
}

/// Whether a field names an entry of a table.
fn is_key_of(field: &Field, table: &Table) -> bool {
    matches!(&field.kind, Kind::Enum { labels, .. } if Arc::ptr_eq(labels, &table.keys))
}

/// The fields of a message, by slot, that name an entry of a table: keys of it, and what decides the form of its value.
pub(crate) fn keys_in(plan: &Plan, message: MessageId, table: &Table) -> Vec<usize> {
    let fields = &plan.messages[message].message.fields;
    let decides = value_of(plan, message, table).and_then(|(_, union)| match union.selector {
        Selector::Field(slot) => Some(slot),
        Selector::Request { .. } => None,
    });
    (0..fields.len()).filter(|slot| Some(*slot) == decides || is_key_of(&fields[*slot], table)).collect()
}

/// The field of a message, by slot, whose form depends on an entry of a table.
pub(crate) fn value_of(plan: &Plan, message: MessageId, table: &Table) -> Option<(usize, Arc<Union>)> {
    plan.messages[message].message.fields.iter().enumerate().find_map(|(slot, field)| match &field.kind {
        Kind::Union(union) => {
            let is_of = union.table.as_ref().is_some_and(|of| of.name == table.name);
            is_of.then(|| (slot, union.clone()))
        }
        _ => None,
    })
}

/// The request that is answered by a message which repeats what was asked for, and its field that says it.
fn asks_for(
    plan: &Plan,
    channel: ChannelId,
    (answer, decides): (MessageId, usize),
    table: &Table,
) -> Option<(MessageId, usize)> {
    let decider = &plan.messages[answer].message.fields[decides];
    plan.message_ids().find_map(|(request, compiled)| {
        let message = &compiled.message;
        let is_asked = message.answered_by.contains(&answer) && plan.channels[channel].carries(request);
        // One that has the value itself writes it.
        if !is_asked || value_of(plan, request, table).is_some() {
            return None;
        }
        let named = |field: &&Field| field.name == decider.name && field.kind == decider.kind;
        let fields = || message.fields.iter();
        let key =
            fields().position(|field| is_key_of(field, table)).or_else(|| fields().position(|field| named(&field)));
        key.map(|key| (request, key))
    })
}

/// The tables of a link, and how they are reached over a channel (by index): by the first messages that do it.
pub fn tables_on(plan: &Plan, channel: ChannelId) -> Vec<TableAccess> {
    let carried = |from: End| {
        let messages = plan.message_ids();
        messages
            .filter(move |(index, compiled)| compiled.message.from == from && plan.channels[channel].carries(*index))
    };
    let access = |table: &Arc<Table>| {
        let read = carried(End::Device).find_map(|(answer, _)| {
            let (value, union) = value_of(plan, answer, table)?;
            let repeated = keys_in(plan, answer, table).first().copied();
            let (request, key) = match union.selector {
                Selector::Request { message, slot } => (message, slot),
                Selector::Field(slot) => asks_for(plan, channel, (answer, slot), table)?,
            };
            Some(ReadAccess { request, key, answer, value, repeated })
        });
        let write = carried(End::Host).find_map(|(request, _)| {
            let (value, union) = value_of(plan, request, table)?;
            let Selector::Field(key) = union.selector else { return None };
            Some(WriteAccess { request, key, value })
        });
        TableAccess { table: table.clone(), read, write }
    };
    plan.link.tables.iter().map(access).collect()
}
