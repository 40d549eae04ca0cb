//! Tables of settings by name: which messages read and write their entries.

use std::sync::Arc;

use emberwort_model::Plan;
use emberwort_model::model::{End, Kind, Selector, Table, Union};

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
    pub request: usize,
    /// Its field that names the entry.
    pub key: usize,
    /// The answer.
    pub answer: usize,
    /// Its field that holds the value.
    pub value: usize,
}

/// How an entry is written: the message by index, its fields by slot.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct WriteAccess {
    /// The request.
    pub request: usize,
    /// Its field that names the entry.
    pub key: usize,
    /// Its field that holds the value.
    pub value: usize,
}

/// The field of a message, by slot, whose form depends on an entry of a table.
fn value_of(plan: &Plan, message: usize, table: &Table) -> Option<(usize, Arc<Union>)> {
    plan.messages[message].message.fields.iter().enumerate().find_map(|(slot, field)| match &field.kind {
        Kind::Union(union) => {
            let is_of = union.table.as_ref().is_some_and(|of| of.name == table.name);
            is_of.then(|| (slot, union.clone()))
        }
        _ => None,
    })
}

/// The tables of a link, and how they are reached over a channel (by index): by the first messages that do it.
pub fn tables_on(plan: &Plan, channel: usize) -> Vec<TableAccess> {
    let carried = |from: End| {
        let messages = plan.messages.iter().enumerate();
        messages
            .filter(move |(index, compiled)| compiled.message.from == from && plan.channels[channel].carries(*index))
    };
    let access = |table: &Arc<Table>| {
        let read = carried(End::Device).find_map(|(answer, _)| {
            let (value, union) = value_of(plan, answer, table)?;
            let Selector::Request { message: request, slot: key } = union.selector else { return None };
            Some(ReadAccess { request, key, answer, value })
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
