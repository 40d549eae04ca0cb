//! A simulated device without its frames: what it measures, what it answers, what it keeps. Trials and ends on real ports use it alike.

use std::collections::BTreeMap;

use emberwort_model::Plan;
use emberwort_model::ids::{ChannelId, MessageId};
use emberwort_text::formula::ComputedField;
use emberwort_wire::{ValueRef, Values};
use rand::Rng;
use rand_chacha::ChaCha8Rng;

use crate::Nanoseconds;
use crate::scenario::{Delay, Device, Reply, fill_with_rest};
use crate::signal::{Commands, Fixed, Sampler, nearest, normal, rest};
use crate::tables::{TableAccess, keys_in, tables_on, value_of};

/// What a device answers to a request: so long after it, in this way.
#[derive(Clone, Debug)]
pub(crate) struct Answer {
    pub after: Nanoseconds,
    pub source: ReplySource,
}

/// A way to answer.
#[derive(Clone, Copy, Debug)]
pub(crate) enum ReplySource {
    /// As a reply of the trial says, by index.
    Reply(usize),
    /// The entry of a table is read or written.
    Table(usize),
    /// With the first message that the definition names.
    First,
}

/// A message that a device says: its index, the node that it names, its values.
pub(crate) type Said = (MessageId, u64, Values);

/// The state of a simulated device.
pub(crate) struct Player {
    samplers: BTreeMap<MessageId, Sampler>,
    commands: Commands,
    tables: Vec<TableAccess>,
    /// The values of entries that were given or written, by table and entry.
    settings: BTreeMap<(usize, usize), Fixed>,
    /// Which alarms hold at the moment.
    raised: Vec<bool>,
}

impl Player {
    /// A device, whose channel has this index in its definition.
    pub fn new(plan: &Plan, channel: ChannelId, device: &Device) -> Self {
        Self {
            samplers: BTreeMap::new(),
            commands: Commands::new(),
            tables: tables_on(plan, channel),
            settings: device.settings.clone(),
            raised: vec![false; device.alarms.len()],
        }
    }

    /// It starts again: what it does not keep is as at first.
    pub fn restart(&mut self, device: &Device) {
        let Self { tables, settings, commands, raised, .. } = self;
        settings.retain(|(table, entry), _| tables[*table].table.entries[*entry].kept);
        for (entry, value) in &device.settings {
            settings.entry(*entry).or_insert_with(|| value.clone());
        }
        commands.clear();
        raised.fill(false);
    }

    /// The values of a message that it sends regularly, and the alarms that these raise.
    pub fn report(
        &mut self,
        plan: &Plan,
        device: &Device,
        message: MessageId,
        now: Nanoseconds,
        random: &mut ChaCha8Rng,
    ) -> (Values, Vec<Said>) {
        let compiled = &plan.messages[message];
        let new = || Sampler::new(compiled, |slot| device.signals.get(&(message, slot)));
        let sampler = self.samplers.entry(message).or_insert_with(new);
        let values = sampler.sample(compiled, now, &self.commands, random);
        let fields = &compiled.message.fields;
        let mut said = Vec::new();
        for (alarm, raised) in device.alarms.iter().zip(&mut self.raised).filter(|(alarm, _)| alarm.of == message) {
            let holds = alarm.when.holds(now, fields, &values);
            let held = std::mem::replace(raised, holds);
            if let (true, Ok(mut told)) = (holds && !held, fill_with_rest(plan, alarm.message, &alarm.fields)) {
                work_out(&alarm.worked, plan, alarm.message, now, (message, &values), &mut told);
                said.push((alarm.message, device.node, told));
            }
        }
        (values, said)
    }

    /// What it is going to do about a request: answers, in the order of the file; often one.
    pub fn hear(
        &mut self,
        plan: &Plan,
        device: &Device,
        now: Nanoseconds,
        (request, asked): (MessageId, &Values),
        random: &mut ChaCha8Rng,
    ) -> Vec<Answer> {
        let message = &plan.messages[request].message;
        let fits = |reply: &Reply, random: &mut ChaCha8Rng| {
            reply.to == request
                && reply.from <= now
                && reply.when.as_ref().is_none_or(|when| when.holds(now, &message.fields, asked))
                && (reply.chance >= 1.0 || random.random::<f64>() < reply.chance)
        };
        let found = device.replies.iter().position(|reply| fits(reply, random));
        if message.answered_by.is_empty() {
            self.commands.insert(request, (now, asked.clone()));
            return Vec::new();
        }
        let (way, delay, times) = match found {
            Some(index) => {
                let reply = &device.replies[index];
                let times = if reply.with.is_none() { 0 } else { reply.times };
                (ReplySource::Reply(index), reply.after.as_ref().unwrap_or(&device.answers_after), times)
            }
            None => {
                let reaches = |table: &TableAccess| {
                    table.read.is_some_and(|read| read.request == request)
                        || table.write.is_some_and(|write| write.request == request)
                };
                let way = self.tables.iter().position(reaches).map_or(ReplySource::First, ReplySource::Table);
                (way, &device.answers_after, 1)
            }
        };
        (0..times).map(|_| Answer { after: drawn(delay, random), source: way }).collect()
    }

    /// Answers a request in a way that was chosen. What is asked for is done now.
    pub fn answer(
        &mut self,
        plan: &Plan,
        device: &Device,
        now: Nanoseconds,
        source: ReplySource,
        (request, asked): (MessageId, &Values),
    ) -> Option<Said> {
        let first = plan.messages[request].message.answered_by.first().copied();
        let (with, node, values) = match source {
            ReplySource::Reply(index) => {
                let reply = device.replies.get(index)?;
                let with = reply.with?;
                // The fields were checked when the trial was read.
                let mut values = fill_with_rest(plan, with, &reply.fields).ok()?;
                echo(&reply.echo, asked, &mut values);
                work_out(&reply.worked, plan, with, now, (request, asked), &mut values);
                (with, reply.node.unwrap_or(device.node), values)
            }
            ReplySource::Table(table) => self.reach(plan, device, table, (request, asked))?,
            ReplySource::First => (first?, device.node, fill_with_rest(plan, first?, &serde_json::Map::new()).ok()?),
        };
        if Some(with) == first {
            self.commands.insert(request, (now, asked.clone()));
        }
        Some((with, node, values))
    }

    /// Says in an answer which entry of a table it is about, and its value, as far as the answer has places for that.
    fn put_entry(&self, plan: &Plan, (table, entry): (usize, usize), answer: MessageId, values: &mut Values) {
        let of = &self.tables[table].table;
        for slot in keys_in(plan, answer, of) {
            values.set_raw(slot, of.entries[entry].key);
        }
        let Some((slot, _)) = value_of(plan, answer, of) else { return };
        match self.settings.get(&(table, entry)) {
            Some(value) => value.put(slot, values),
            None => {
                let at = values.set_chosen(slot, entry);
                rest(&of.entries[entry].field, at, &|_| None, values);
            }
        }
    }

    /// Reads or writes an entry of a table, and says what came of it.
    fn reach(
        &mut self,
        plan: &Plan,
        device: &Device,
        table: usize,
        (request, asked): (MessageId, &Values),
    ) -> Option<Said> {
        let access = &self.tables[table];
        let message = &plan.messages[request].message;
        let key = |slot: usize| match asked.get(slot) {
            ValueRef::Raw(raw) => access.table.entries.iter().position(|entry| entry.key == raw),
            _ => None,
        };
        let empty = serde_json::Map::new();
        if let Some(read) = access.read.filter(|read| read.request == request) {
            if let Some(entry) = key(read.key).filter(|entry| access.table.entries[*entry].read) {
                let mut values = fill_with_rest(plan, read.answer, &empty).ok()?;
                self.put_entry(plan, (table, entry), read.answer, &mut values);
                return Some((read.answer, device.node, values));
            }
        } else if let Some(write) = access.write
            && let Some(entry) = key(write.key).filter(|entry| access.table.entries[*entry].write)
        {
            self.settings.insert((table, entry), Fixed::held(asked, write.value));
            let with = *message.answered_by.first()?;
            let mut values = fill_with_rest(plan, with, &empty).ok()?;
            self.put_entry(plan, (table, entry), with, &mut values);
            let answered = &plan.messages[with].message;
            // The answer repeats which entry it was, if it has a place for that.
            if let Some((slot, field)) = answered.field(&message.fields[write.key].name)
                && field.kind == message.fields[write.key].kind
            {
                echo(&[(write.key, slot)], asked, &mut values);
            }
            return Some((with, device.node, values));
        }
        let (with, fields) = device.refusal.as_ref()?;
        Some((*with, device.node, fill_with_rest(plan, *with, fields).ok()?))
    }
}

/// Copies fields of a request into its answer: slots there and here.
fn echo(pairs: &[(usize, usize)], asked: &Values, values: &mut Values) {
    for (from, to) in pairs {
        match asked.get(*from) {
            ValueRef::Raw(raw) => values.set_raw(*to, raw),
            ValueRef::Bytes(bytes) => values.set_bytes(*to, bytes),
            ValueRef::Absent => values.set_absent(*to),
            _ => {}
        }
    }
}

/// Sets the fields that are worked out of those of another message.
fn work_out(
    worked: &[ComputedField],
    plan: &Plan,
    message: MessageId,
    now: Nanoseconds,
    (other, of): (MessageId, &Values),
    values: &mut Values,
) {
    let others = &plan.messages[other].message.fields;
    for ComputedField { slot, formula } in worked {
        if let Some(number) = formula.value_of(now, others, of) {
            values.set_raw(*slot, nearest(number, &plan.messages[message].message.fields[*slot].kind));
        }
    }
}

/// Draws how long something takes.
fn drawn(delay: &Delay, random: &mut ChaCha8Rng) -> Nanoseconds {
    match *delay {
        Delay::Always(time) => time,
        Delay::Between(least, most) => random.random_range(least..=most),
        Delay::Normal { mean, deviation } => (mean as f64 + deviation as f64 * normal(random)).max(0.0) as Nanoseconds,
        Delay::Exponential { mean, least } => {
            let more = mean.saturating_sub(least) as f64;
            least + (-(1.0 - random.random::<f64>()).ln() * more) as Nanoseconds
        }
    }
}
