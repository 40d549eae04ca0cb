//! What both ends send: requests, answers, and what becomes of a frame.

use std::cell::Cell;
use std::rc::Rc;

use emberwort_evolution::Verdict as Understanding;
use emberwort_model::ids::MessageId;
use emberwort_model::model::End;
use emberwort_wire::{Chunk, StreamId, Times, ValueRef, Values};

use super::queue::{Event, Exchange};
use super::sent::{Cause, Sent};
use super::{HOST, MAX_OPEN, Trial, TrialObserver};
use crate::definitions::{Definition, TrialDefinitionId};
use crate::player::ReplySource;
use crate::speech::{self, Said};
use crate::wire::Sender;

impl Trial<'_> {
    /// A request that is sent for the first time, if somebody answers it: nobody does what is for all.
    pub(super) fn exchange(&mut self, message: MessageId, node: u64) -> Option<Rc<Exchange>> {
        let compiled = &self.of_host().plan.messages[message].message;
        let for_all = self.uses[self.scenario.host.index()].framings.1.plan().broadcast == Some(node);
        if for_all || compiled.answered_by.is_empty() {
            return None;
        }
        let number = self.of_host().number(message);
        self.report.answers.entry(number).or_default().asked += 1;
        // When the wire was busy, sending begins later.
        let asked = self.wire.free_from(self.now, HOST);
        let exchange = Rc::new(Exchange { message: number, node, asked, answered: Cell::new(false) });
        let open = self.open.entry(number).or_default();
        while open.front().is_some_and(|oldest| oldest.answered.get()) {
            open.pop_front();
        }
        if open.len() < MAX_OPEN {
            open.push_back(exchange.clone());
        }
        Some(exchange)
    }

    /// The host sends a request, for the first time or again.
    pub(super) fn request(
        &mut self,
        index: usize,
        retries: u32,
        exchange: Option<Rc<Exchange>>,
        watch: &mut dyn TrialObserver,
    ) {
        let planned = self.scenario.requests[index].clone();
        let compiled = &self.of_host().plan.messages[planned.message].message;
        let exchange = exchange.or_else(|| self.exchange(planned.message, planned.node));
        let cause = Cause { exchange: exchange.clone(), answers: None };
        self.send(None, planned.node, planned.message, planned.values, cause, watch);
        if let (Some(exchange), Some(within), 1..) = (exchange, compiled.within, retries) {
            self.at(self.now + within, Event::Retry { index, left: retries - 1, exchange });
        }
    }

    pub(super) fn reply(
        &mut self,
        device: usize,
        source: ReplySource,
        request: (MessageId, &Values),
        exchange: Option<Rc<Exchange>>,
        watch: &mut dyn TrialObserver,
    ) {
        let (of, plan) = (&self.devices[device], &self.of_device(device).plan);
        let Some((with, node, values)) = self.players[device].answer(plan, of, self.now, source, request) else {
            return;
        };
        // An answer that names another node is nobody's.
        let exchange = exchange.filter(|_| node == of.node);
        self.send(Some(device), node, with, values, Cause { exchange, answers: Some(request) }, watch);
    }

    /// A device or the host sends a message.
    pub(super) fn send(
        &mut self,
        device: Option<usize>,
        node: u64,
        message: MessageId,
        values: Values,
        cause: Cause<'_>,
        watch: &mut dyn TrialObserver,
    ) {
        let definition = device.map_or(self.scenario.host, |device| self.devices[device].definition);
        let Definition { plan, channel, .. } = self.scenario.definitions.get(definition);
        let compiled = &plan.messages[message];
        let revision = device.map_or(plan.link.revision, |device| self.devices[device].revision);
        let (from_device, from_host) = &self.uses[definition.index()].framings;
        let (from, framing) = if device.is_some() { (End::Device, from_device) } else { (End::Host, from_host) };
        let sequence = self.sequences[usize::from(from == End::Host)].entry(node).or_insert(0);
        let said = Said { message, node, sequence: *sequence, revision, values: &values };
        *sequence += 1;
        let (mut body, mut bytes) = std::mem::take(&mut self.room);
        let Some(key) = speech::frame(framing, compiled, &said, &mut body, &mut bytes) else { return };
        let finder = framing.plan().finder;
        let shortened = self.running[usize::from(from == End::Host)].shorten(finder, &bytes).len();
        let on_wire = &bytes[bytes.len() - shortened..];
        let index = self.sent.next_number();
        let sender = Sender { from, number: device.unwrap_or(HOST), frame: index };
        if self.lengths.len() <= on_wire.len() {
            self.lengths.resize(on_wire.len() + 1, 0);
        }
        self.lengths[on_wire.len()] += 1;
        let stream = StreamId {
            channel: self.scenario.definitions.get(TrialDefinitionId::default()).channel,
            from: Some(from),
            tap: 0,
        };
        let outside = plan.channels[*channel].key_is_outside().then_some(key);
        let time = self.scenario.starts.after(self.now);
        watch.sent(&Chunk { stream, times: Times::Last(time), key: outside, bytes: on_wire });
        let deliveries = self.wire.send(self.now, sender, on_wire, &mut self.wire_random).1;
        let number = self.number(definition, message);
        *self.report.sent.entry((number, node)).or_default() += 1;
        let pending = deliveries.len() as u32;
        for delivery in deliveries {
            let whole = delivery.bytes == on_wire;
            if !whole {
                *self.report.damaged.entry((number, node)).or_default() += 1;
            }
            self.at(delivery.time, Event::Arrive { sent: index, bytes: delivery.bytes, whole });
        }
        // What the receiver makes of a body of an older revision: defaults where the sender lacks a field. In a line,
        // numbers are as exact as their decimals.
        let mut expected = Values::default();
        let understood = match &compiled.message.line {
            Some(_) => emberwort_wire::line::read(compiled, &body, &mut expected).is_ok_and(|fits| fits),
            None => {
                let asked = |(request, slot): (MessageId, usize)| match cause
                    .answers
                    .filter(|(asked, _)| *asked == request)?
                    .1
                    .get(slot)
                {
                    ValueRef::Raw(key) => Some(key),
                    _ => None,
                };
                let key = compiled.request.and_then(asked);
                emberwort_wire::decode_answer(compiled, &body, key, &mut expected).is_ok()
            }
        };
        let values = if understood { expected } else { values };
        self.room = (body, bytes);
        if from == End::Host {
            self.host_side.requests.note(plan, *channel, node, message, &values);
        }
        let sent = Sent {
            at: self.now,
            from,
            node,
            definition,
            message,
            key,
            values,
            exchange: cause.exchange,
            accepted: 0,
            arrived: false,
            fault: None,
            is_counted: false,
            pending: pending + 1,
        };
        self.sent.push(sent);
        self.settle(index);
    }

    /// A receiver has bytes of a sent frame.
    pub(super) fn hold(&mut self, sent: u64) {
        if let Some(sent) = self.sent.get_mut(sent) {
            sent.pending += 1;
        }
    }

    /// One delivery or receiver less has to do with a sent frame; what became of it is counted once none has.
    pub(super) fn settle(&mut self, index: u64) {
        let Some(sent) = self.sent.get_mut(index) else { return };
        sent.pending -= 1;
        if sent.pending > 0 {
            return;
        }
        let Some(sent) = self.sent.remove(index) else { return };
        if sent.accepted == 0 && !sent.is_counted && !self.is_not_taken(&sent) {
            let number = self.number(sent.definition, sent.message);
            *self.report.lost.entry((number, sent.node)).or_default() += 1;
            self.report.first_lost.entry((number, sent.node)).or_insert(sent.at);
        }
    }

    /// Whether a frame arrived whole and was not taken since both ends do not have the same definition; then it is counted.
    pub(super) fn is_not_taken(&mut self, sent: &Sent) -> bool {
        let receiver = match sent.from {
            End::Device => self.scenario.host,
            End::Host => match self.devices.iter().find(|device| device.node == sent.node) {
                Some(device) => device.definition,
                None => return false,
            },
        };
        if !sent.arrived || sent.definition == receiver {
            return false;
        }
        let channel = self.scenario.definitions.get(sent.definition).channel;
        let between = self.between(sent, receiver);
        let (verdict, sentence) = match between.arrives(channel) {
            true => between.not_taken(sent.from, channel, sent.message, sent.fault.as_ref()),
            false => (Understanding::SilentDrop, "the medium has different settings there".to_owned()),
        };
        let key = (self.number(sent.definition, sent.message), sent.node, verdict);
        let found = self.report.between.entry(key).or_default();
        found.frames += 1;
        found.sentence = sentence;
        true
    }
}
