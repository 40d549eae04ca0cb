//! What both ends receive: compared with what was sent, and answered.

use emberwort_evolution::{Translation, Verdict as Understanding};
use emberwort_model::ids::MessageId;
use emberwort_model::model::End;
use emberwort_wire::{Chunk, StreamId, Times};

use super::queue::Event;
use super::sent::{Sent, Taken};
use super::{Trial, TrialObserver};
use crate::Nanoseconds;
use crate::definitions::{Definition, TrialDefinitionId};
use crate::report::{ReceptionAccount, Recovery, WrongValue};
use crate::scenario::Device;
use crate::side::{Found, FoundFrame, Side};
use crate::wire::Sender;

/// Notes what a side found broken, and that it got over it.
fn recovers(side: &mut Recovery, now: Nanoseconds, found: &Found) {
    if !found.faults.is_empty() || found.stray > 0 {
        side.broken();
    }
    if !found.frames.is_empty() {
        side.over(now);
    }
}

impl Trial<'_> {
    pub(super) fn arrive(&mut self, sent: u64, mut bytes: Vec<u8>, mut whole: bool, watch: &mut dyn TrialObserver) {
        let Some(of) = self.sent.get_mut(sent) else { return };
        if self.wire.garble(sent, &mut bytes, &mut self.wire_random) && std::mem::replace(&mut whole, false) {
            let number = self.scenario.definitions.get(of.definition).number(of.message);
            *self.report.damaged.entry((number, of.node)).or_default() += 1;
        }
        of.arrived |= whole;
        let (from, key, definition, node) = (of.from, of.key, of.definition, of.node);
        let Definition { plan, channel, .. } = self.scenario.definitions.get(definition);
        let channel = *channel;
        let chunk = Chunk {
            stream: StreamId {
                channel: self.scenario.definitions.get(TrialDefinitionId::default()).channel,
                from: Some(from),
                tap: 0,
            },
            times: Times::Last(self.scenario.starts.after(self.now)),
            key: plan.channels[channel].key_is_outside().then_some(key),
            bytes: &bytes,
        };
        let mut is_heard = false;
        match from {
            End::Device => {
                if self.uses[definition.index()].to_host.arrives(channel) {
                    is_heard = true;
                    self.hold(sent);
                    let found = self.host_side.feed(sent, &chunk);
                    self.host_found(found);
                }
            }
            End::Host => {
                for device in 0..self.devices.len() {
                    if self.devices[device].program.is_some() {
                        self.for_outside.push((device, bytes.clone()));
                    }
                    is_heard |= self.devices[device].is_played();
                    // What a program receives is found as what a played device does; what it makes of it, it knows alone.
                    if self.uses[self.devices[device].definition.index()].from_host.arrives(channel) {
                        is_heard = true;
                        self.hold(sent);
                        let found = self.device_sides[device].feed(sent, &chunk);
                        self.device_found(device, found);
                    }
                }
            }
        }
        self.look_at_limits();
        if is_heard {
            watch.received(&chunk, node);
        }
        self.settle(sent);
    }

    /// A program or a recording that plays a device sent bytes. They pass the wire as a frame does.
    pub(super) fn came_from_outside(&mut self, device: usize, bytes: &[u8], watch: &mut dyn TrialObserver) {
        let node = self.devices[device].node;
        let stream = StreamId {
            channel: self.scenario.definitions.get(TrialDefinitionId::default()).channel,
            from: Some(End::Device),
            tap: 0,
        };
        let times = Times::Last(self.scenario.starts.after(self.now));
        watch.sent(&Chunk { stream, times, key: None, bytes });
        let sender = Sender { from: End::Device, number: device, frame: self.sent.next_number() };
        for delivery in self.wire.send(self.now, sender, bytes, &mut self.wire_random).1 {
            self.at(delivery.time, Event::ArriveFromOutside { node, bytes: delivery.bytes });
        }
    }

    pub(super) fn arrive_from_outside(&mut self, node: u64, bytes: &[u8], watch: &mut dyn TrialObserver) {
        let stream = StreamId {
            channel: self.scenario.definitions.get(TrialDefinitionId::default()).channel,
            from: Some(End::Device),
            tap: 0,
        };
        let times = Times::Last(self.scenario.starts.after(self.now));
        let chunk = Chunk { stream, times, key: None, bytes };
        watch.received(&chunk, node);
        let found = self.host_side.hear(&chunk);
        self.host_heard_outside(node, found);
    }

    /// The host found frames in what somebody else than the trial sent.
    pub(super) fn host_heard_outside(&mut self, node: u64, found: Found) {
        let Definition { plan, channel, .. } = self.of_host();
        recovers(&mut self.host_recovery, self.now, &found);
        for frame in found.frames {
            let number = self.number(self.scenario.host, frame.message);
            let from = frame.node.unwrap_or(node);
            *self.report.sent.entry((number, from)).or_default() += 1;
            *self.report.received.entry((number, from)).or_default() += 1;
            self.report.not_compared += 1;
            self.look(self.scenario.host, &frame);
            self.host_side.requests.answered(plan, *channel, from, frame.message);
            self.host_side.numbering.take((*channel, End::Device, from), frame.sequence, frame.message, &frame.values);
            self.answers_oldest(from, frame.message);
            self.scripts.hear(plan, self.now, frame.message, frame.node, &frame.values);
        }
        self.look_at_limits();
        self.plan_scripts();
    }

    /// A message of a program answers the oldest request to its node that it can.
    pub(super) fn answers_oldest(&mut self, node: u64, message: MessageId) {
        let host = self.of_host();
        let number = host.number(message);
        for (asked, open) in &self.open {
            let index = host.plan.message_ids().map(|(index, _)| index).find(|index| host.number(*index) == *asked);
            let answers = index.is_some_and(|index| host.plan.messages[index].message.answered_by.contains(&message));
            let oldest = open.iter().find(|exchange| !exchange.answered.get() && exchange.node == node);
            if let Some(exchange) = oldest.filter(|_| answers) {
                exchange.answered.set(true);
                let after = self.now.saturating_sub(exchange.asked);
                self.report.answers.entry(exchange.message).or_default().take(exchange.asked, after, number);
                return;
            }
        }
    }

    /// Compares a received frame with the sent one that its first byte belongs to; the receiver by its definition.
    pub(super) fn compare(&mut self, frame: &FoundFrame, receiver: TrialDefinitionId) {
        let mut said = String::new();
        let origin = frame.origin;
        let same = origin.is_some_and(|origin| {
            let Some(sent) = self.sent.get(origin) else { return false };
            if frame.node.is_some_and(|node| node != sent.node) {
                return false;
            }
            if sent.definition == receiver {
                return sent.message == frame.message && sent.values == frame.values;
            }
            let taken = &mut self.taken;
            let is_alike = taken.as_ref().is_some_and(|taken| taken.is_about(sent, receiver, frame));
            if !is_alike {
                let between = match sent.from {
                    End::Device => &self.uses[sent.definition.index()].to_host,
                    End::Host => &self.uses[receiver.index()].from_host,
                };
                let (read, values) = ((frame.message, &frame.values), sent.values.clone());
                let became = between.taken(sent.from, (sent.message, &sent.values), read);
                let ends = (sent.definition, receiver, sent.from);
                let (sent, read) = ((sent.message, values), (frame.message, frame.values.clone()));
                *taken = Some(Taken { ends, sent, read, became });
            }
            let Some(Taken { became: (verdict, sentence), .. }) = taken else { return false };
            let (verdict, sentence) = (*verdict, sentence.clone());
            let (key, arrived) = ((self.number(sent.definition, sent.message), sent.node, verdict), sent.arrived);
            if verdict != Understanding::Fine && arrived {
                if let Some(sent) = self.sent.get_mut(origin) {
                    sent.is_counted |= verdict.strands();
                }
                said.clone_from(&sentence);
                let found = self.report.between.entry(key).or_default();
                found.frames += 1;
                found.sentence = sentence;
            }
            !verdict.strands()
        });
        if same {
            if let Some(sent) = origin.and_then(|origin| self.sent.get_mut(origin)) {
                sent.accepted += 1;
                let (definition, message, node) = (sent.definition, sent.message, sent.node);
                if sent.accepted == 1 {
                    *self.report.received.entry((self.number(definition, message), node)).or_default() += 1;
                } else {
                    self.report.repeated += 1;
                }
            }
        } else {
            let (message, bytes) = (self.number(receiver, frame.message), frame.bytes.clone());
            self.report.note_wrong(WrongValue { time: self.now, message, bytes, sentence: said });
        }
    }

    /// What receivers of a definition, by index, make of a frame's sender.
    pub(super) fn between(&self, sent: &Sent, receiver: TrialDefinitionId) -> &Translation {
        match sent.from {
            End::Device => &self.uses[sent.definition.index()].to_host,
            End::Host => &self.uses[receiver.index()].from_host,
        }
    }

    /// Keeps why frames are broken for a receiver, by its definition, that has another one than their sender.
    pub(super) fn note_faults(&mut self, found: &Found, receiver: TrialDefinitionId, to: Option<u64>) {
        for (origin, fault) in &found.faults {
            let Some(sent) = origin.and_then(|origin| self.sent.get_mut(origin)) else { continue };
            if sent.definition != receiver && to.is_none_or(|node| node == sent.node) && sent.fault.is_none() {
                sent.fault = Some(*fault);
            }
        }
    }

    /// Notes which limits were exceeded by what was just received.
    pub(super) fn look_at_limits(&mut self) {
        if self.limits.iter().all(|(_, exceeded)| exceeded.is_some()) {
            return;
        }
        let side = |node: Option<u64>| match node {
            None => Some(&self.host_side),
            Some(node) => {
                let device = self.devices.iter().position(|device| device.node == node)?;
                Some(&self.device_sides[device])
            }
        };
        let heard = |node: Option<u64>| side(node).map_or_else(ReceptionAccount::default, Side::heard_in_all);
        for (limit, exceeded) in self.limits.iter_mut().filter(|(_, exceeded)| exceeded.is_none()) {
            *exceeded = limit.is_exceeded(&self.report.received, heard).then_some(self.now);
        }
    }

    pub(super) fn host_found(&mut self, found: Found) {
        let Definition { plan, channel, .. } = self.of_host();
        self.note_faults(&found, self.scenario.host, None);
        recovers(&mut self.host_recovery, self.now, &found);
        for frame in found.frames {
            self.compare(&frame, self.scenario.host);
            self.look(self.scenario.host, &frame);
            self.host_side.requests.answered(plan, *channel, frame.node.unwrap_or(0), frame.message);
            let sender = (*channel, End::Device, frame.node.unwrap_or(0));
            self.host_side.numbering.take(sender, frame.sequence, frame.message, &frame.values);
            self.is_answered(&frame);
            self.scripts.hear(plan, self.now, frame.message, frame.node, &frame.values);
        }
        self.plan_scripts();
        for sent in found.settled {
            self.settle(sent);
        }
    }

    /// Looks at the values that a receiver of a definition received.
    pub(super) fn look(&mut self, definition: TrialDefinitionId, frame: &FoundFrame) {
        if self.probes.is_empty() {
            return;
        }
        let definitions = &self.scenario.definitions;
        let number = definitions.get(definition).number(frame.message);
        for (probe, found) in &mut self.probes {
            if probe.message == number && probe.node.is_none_or(|node| frame.node.is_none_or(|from| from == node)) {
                probe.look(definitions, (definition, frame.message), self.now, &frame.values, found);
            }
        }
    }

    /// Notes the first answer to a request. What was asked is known, so a lost request takes no other's answer.
    pub(super) fn is_answered(&mut self, frame: &FoundFrame) {
        let Some(sent) = frame.origin.and_then(|origin| self.sent.get(origin)) else { return };
        let Some(exchange) = &sent.exchange else { return };
        if sent.from == End::Device && !exchange.answered.replace(true) {
            let number = self.of_host().number(frame.message);
            let after = self.now - exchange.asked;
            self.report.answers.entry(exchange.message).or_default().take(exchange.asked, after, number);
        }
    }

    pub(super) fn device_found(&mut self, device: usize, found: Found) {
        let Device { node, definition, .. } = self.devices[device];
        self.note_faults(&found, definition, Some(node));
        recovers(&mut self.device_recoveries[device], self.now, &found);
        for frame in found.frames {
            let mine = frame.node.is_none_or(|to| to == node);
            let nobody = frame.node.is_some_and(|to| self.devices.iter().all(|device| device.node != to));
            if mine || (nobody && device == 0) {
                self.compare(&frame, definition);
                self.look(definition, &frame);
            }
            let Definition { plan, channel, .. } = self.of_device(device);
            let sender = (*channel, End::Host, frame.node.unwrap_or(0));
            self.device_sides[device].numbering.take(sender, frame.sequence, frame.message, &frame.values);
            if mine && !self.devices[device].is_played() {
                let (of, request) = (&self.devices[device], (frame.message, &frame.values));
                let answers = self.players[device].hear(plan, of, self.now, request, &mut self.answer_random);
                let exchange = frame.origin.and_then(|origin| self.sent.get(origin)?.exchange.clone());
                for answer in answers {
                    let (request, asked, exchange) = (frame.message, frame.values.clone(), exchange.clone());
                    self.at(
                        self.now + answer.after,
                        Event::Reply { device, request, asked, exchange, source: answer.source },
                    );
                }
            }
        }
        for sent in found.settled {
            self.settle(sent);
        }
    }
}
