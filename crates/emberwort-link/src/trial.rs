//! Running a trial: both ends and the wire as state machines over a queue of events in virtual time.

use std::cmp::Reverse;
use std::collections::{BinaryHeap, HashMap};
use std::ops::Range;
use std::sync::Arc;

use emberwort_evolution::{Translation, Verdict};
use emberwort_model::model::End;
use emberwort_model::plan::FrameFinder;
use emberwort_wire::frame::body_on;
use emberwort_wire::receiver::{BodyReader, Requests};
use emberwort_wire::sequence::Numbering;
use emberwort_wire::status_bytes::RunningStatus;
use emberwort_wire::{FrameFault, FrameSink, FrameView, Framing, Header, Receiver, ValueRef, Values};
use rand::SeedableRng;
use rand_chacha::ChaCha8Rng;

use crate::Nanoseconds;
use crate::definitions::Definition;
use crate::report::{Answer, Heard, Recorded, Report, WrongValue};
use crate::scenario::{Device, Scenario, fill_with_rest};
use crate::signal;
use crate::wire::Wire;

/// Runs a trial to its end, or until `stop` says so. The same scenario gives the same report.
pub fn run(scenario: &Scenario, stop: impl Fn() -> bool) -> Report {
    let mut trial = Trial::new(scenario);
    trial.start();
    let mut events = 0u64;
    while let Some(Reverse((time, _, event))) = trial.events.pop() {
        events += 1;
        if events.is_multiple_of(256) && stop() {
            break;
        }
        trial.now = time;
        trial.handle(event);
    }
    trial.finish()
}

/// Something that happens at a moment. Ordered only to break ties in the queue, which the running number does first.
#[derive(Clone, Debug, PartialEq, Eq, PartialOrd, Ord)]
enum Event {
    /// A device sends a message that it sends regularly.
    Report { device: usize, message: usize },
    /// A device sends a planned message.
    Send { device: usize, index: usize },
    /// The host sends a planned request.
    Request { index: usize },
    /// A device answers a request.
    Reply { device: usize, request: usize },
    /// Bytes of a sent frame arrive, all of them and unchanged or not.
    Arrive { sent: usize, bytes: Vec<u8>, whole: bool },
}

/// A frame that was sent.
struct Sent {
    from: End,
    node: u64,
    /// Index of the sender's definition.
    definition: usize,
    /// Index of the message there.
    message: usize,
    key: u64,
    values: Values,
    accepted: u32,
    /// Whether it arrived once as it was sent.
    arrived: bool,
    /// What a receiver with another definition found wrong with it.
    fault: Option<FrameFault>,
    /// Whether it stands among those that arrived and were not understood.
    is_counted: bool,
}

/// What one receiving side has: its receiver, and which bytes of its stream belong to which sent frame.
struct Side {
    receiver: Receiver,
    reader: BodyReader,
    /// What this side asked for, or heard the other side ask for.
    requests: Requests,
    fed: u64,
    /// First offset and sent frame, rising.
    origins: Vec<(u64, usize)>,
}

/// What a side's receiver found in one feeding.
struct Found {
    heard: Heard,
    frames: Vec<FoundFrame>,
    /// Broken and unread frames: where they begin, and why.
    faults: Vec<(u64, FrameFault)>,
}

struct FoundFrame {
    at: u64,
    message: usize,
    node: Option<u64>,
    sequence: Option<u64>,
    values: Values,
    bytes: Vec<u8>,
}

struct SideSink<'a> {
    reader: &'a mut BodyReader,
    requests: &'a Requests,
    found: Found,
}

impl FrameSink for SideSink<'_> {
    fn judge(&mut self, frame: &FrameView<'_>) -> Result<(), FrameFault> {
        self.reader.check(frame, self.requests)
    }

    fn good(&mut self, at: Range<u64>, frame: &FrameView<'_>, wire: &[u8]) {
        self.found.heard.good += 1;
        self.found.heard.good_bytes += wire.len() as u64;
        self.found.frames.push(FoundFrame {
            at: at.start,
            message: self.reader.message(),
            node: frame.node,
            sequence: frame.sequence,
            values: self.reader.values(frame).clone(),
            bytes: wire.to_vec(),
        });
    }

    fn unread(&mut self, at: Range<u64>, _: Option<&FrameView<'_>>, fault: &FrameFault, wire: &[u8]) {
        self.found.faults.push((at.start, *fault));
        self.found.heard.unread += 1;
        self.found.heard.unread_bytes += wire.len() as u64;
    }

    fn broken(&mut self, at: Range<u64>, fault: &FrameFault, wire: &[u8]) {
        self.found.faults.push((at.start, *fault));
        self.found.heard.broken += 1;
        self.found.heard.broken_bytes += wire.len() as u64;
    }

    fn stray(&mut self, _at: Range<u64>, wire: &[u8]) {
        self.found.heard.stray_bytes += wire.len() as u64;
    }
}

impl Side {
    /// The side that hears frames from an end.
    fn hearing(definition: &Definition, from: End) -> Self {
        let Definition { plan, channel, .. } = definition;
        let channel = *channel;
        let facing = plan.channels[channel].facing(from).clone();
        Self {
            receiver: Receiver::new(Arc::new(Framing::new(Arc::new(facing)))),
            reader: BodyReader::new(plan.clone(), channel, Some(from)),
            requests: Requests::default(),
            fed: 0,
            origins: Vec::new(),
        }
    }

    fn take(&mut self, act: impl FnOnce(&mut Receiver, &mut SideSink<'_>)) -> Found {
        let found = Found { heard: Heard::default(), frames: Vec::new(), faults: Vec::new() };
        let mut sink = SideSink { reader: &mut self.reader, requests: &self.requests, found };
        act(&mut self.receiver, &mut sink);
        sink.found
    }

    fn feed(&mut self, sent: usize, key: u64, bytes: &[u8]) -> Found {
        self.origins.push((self.fed, sent));
        self.fed += bytes.len() as u64;
        let outside = self.receiver.framing().plan().key_is_outside();
        let mut found = self.take(|receiver, sink| match outside {
            true => receiver.feed_packet(key, bytes, sink),
            false => {
                // Where silence separates frames, the wire keeps it behind each.
                receiver.feed(bytes, sink);
                receiver.silence(sink);
            }
        });
        found.heard.input = bytes.len() as u64;
        found
    }

    /// The sent frame to which the byte at an offset belongs.
    fn origin(&self, at: u64) -> Option<usize> {
        let index = self.origins.partition_point(|(from, _)| *from <= at).checked_sub(1)?;
        self.origins.get(index).map(|(_, sent)| *sent)
    }

    /// Forgets the frames before the one to which this byte belongs.
    fn forget(&mut self, at: u64) {
        let index = self.origins.partition_point(|(from, _)| *from <= at).saturating_sub(1);
        self.origins.drain(..index);
    }
}

impl Heard {
    fn add(&mut self, other: &Heard) {
        self.input += other.input;
        self.good_bytes += other.good_bytes;
        self.unread_bytes += other.unread_bytes;
        self.broken_bytes += other.broken_bytes;
        self.stray_bytes += other.stray_bytes;
        self.good += other.good;
        self.unread += other.unread;
        self.broken += other.broken;
    }
}

/// What there is of each definition in use.
struct Use {
    /// The framing of frames from devices that have it, and from hosts.
    framings: (Framing, Framing),
    /// From devices that have it to the host, and back.
    to_host: Translation,
    from_host: Translation,
}

struct Trial<'a> {
    scenario: &'a Scenario,
    /// By definition.
    uses: Vec<Use>,
    /// What each end may leave out.
    running: HashMap<End, RunningStatus>,
    wire: Wire,
    now: Nanoseconds,
    events: BinaryHeap<Reverse<(Nanoseconds, u64, Event)>>,
    event_number: u64,
    devices: Vec<Device>,
    /// Sequence numbers by sending end and node.
    sequences: HashMap<(End, u64), u64>,
    /// Fields that count messages, by device, message and field.
    counters: HashMap<(usize, usize, usize), u64>,
    wire_random: ChaCha8Rng,
    signal_random: ChaCha8Rng,
    sent: Vec<Sent>,
    host_side: Side,
    device_sides: Vec<Side>,
    /// The last request of each kind that a device heard, by device and message.
    heard: HashMap<(usize, usize), Values>,
    numbering: Numbering,
    report: Report,
    /// Open requests: index of the answer in the report, and of the request's message in the host's definition.
    open: Vec<(usize, usize)>,
}

impl<'a> Trial<'a> {
    fn new(scenario: &'a Scenario) -> Self {
        let host = scenario.definitions.get(scenario.host);
        let channel = &host.plan.channels[host.channel];
        let of_definition = |definition: &Definition| {
            let framing =
                |from: End| Framing::new(Arc::new(definition.plan.channels[definition.channel].facing(from).clone()));
            Use {
                framings: (framing(End::Device), framing(End::Host)),
                to_host: Translation::new(&definition.plan, &host.plan),
                from_host: Translation::new(&host.plan, &definition.plan),
            }
        };
        let mut wire = Wire::new(&channel.medium.kind);
        wire.faults = scenario.faults;
        wire.stretches.clone_from(&scenario.stretches);
        wire.bursts = scenario.bursts;
        wire.delay = scenario.delay;
        if let FrameFinder::Gap { nanoseconds } = channel.finder {
            // A little more than receivers wait for, as senders do.
            wire.pause = nanoseconds + wire.byte_time().max(1_000);
        }
        let random = |stream: u64| {
            let mut random = ChaCha8Rng::seed_from_u64(scenario.seed);
            random.set_stream(stream);
            random
        };
        let ears = |device: &Device| Side::hearing(scenario.definitions.get(device.definition), End::Host);
        Self {
            host_side: Side::hearing(host, End::Device),
            device_sides: scenario.devices.iter().map(ears).collect(),
            scenario,
            uses: scenario.definitions.all().iter().map(of_definition).collect(),
            running: HashMap::new(),
            wire,
            now: 0,
            events: BinaryHeap::new(),
            event_number: 0,
            devices: scenario.devices.clone(),
            sequences: HashMap::new(),
            counters: HashMap::new(),
            // Streams of their own, so that another signal does not change what the wire does.
            wire_random: random(1),
            signal_random: random(2),
            sent: Vec::new(),
            heard: HashMap::new(),
            numbering: Numbering::new(&host.plan),
            report: Report::default(),
            open: Vec::new(),
        }
    }

    /// The definition of a device.
    fn of_device(&self, device: usize) -> &'a Definition {
        self.scenario.definitions.get(self.devices[device].definition)
    }

    /// The definition of the host.
    fn of_host(&self) -> &'a Definition {
        self.scenario.definitions.get(self.scenario.host)
    }

    /// The number of a message of a definition, both by index.
    fn number(&self, definition: usize, message: usize) -> usize {
        self.scenario.definitions.get(definition).number(message)
    }

    fn at(&mut self, time: Nanoseconds, event: Event) {
        self.event_number += 1;
        self.events.push(Reverse((time, self.event_number, event)));
    }

    fn start(&mut self) {
        for device in 0..self.devices.len() {
            let Definition { plan, channel, .. } = self.of_device(device);
            let channel = &plan.channels[*channel];
            for (message, compiled) in plan.messages.iter().enumerate() {
                let regular = compiled.message.from == End::Device && compiled.message.every.is_some();
                if regular && channel.carries(message) {
                    self.at(self.devices[device].first_report, Event::Report { device, message });
                }
            }
            for index in 0..self.devices[device].sends.len() {
                self.at(self.devices[device].sends[index].at, Event::Send { device, index });
            }
        }
        for index in 0..self.scenario.requests.len() {
            self.at(self.scenario.requests[index].at, Event::Request { index });
        }
    }

    /// Whether a device runs now; one that is off begins its sequence numbers again.
    fn runs(&mut self, device: usize) -> bool {
        let device = &self.devices[device];
        let off = device.restarts.iter().any(|(from, to)| (*from..*to).contains(&self.now));
        if off {
            self.sequences.insert((End::Device, device.node), 0);
        }
        !off
    }

    fn handle(&mut self, event: Event) {
        match event {
            Event::Arrive { sent, bytes, whole } => self.arrive(sent, bytes, whole),
            _ if self.now >= self.scenario.span => (),
            Event::Report { device, message } => {
                if let Some(every) = self.of_device(device).plan.messages[message].message.every {
                    self.at(self.now + every, Event::Report { device, message });
                }
                if self.runs(device) {
                    let values = self.sample(device, message);
                    self.send(Some(device), self.devices[device].node, message, values);
                }
            }
            Event::Send { device, index } => {
                if self.runs(device) {
                    let planned = self.devices[device].sends[index].clone();
                    self.send(Some(device), planned.node, planned.message, planned.values);
                }
            }
            Event::Request { index } => {
                let planned = self.scenario.requests[index].clone();
                let message = planned.message;
                let asked = self.send(None, planned.node, message, planned.values);
                // Nobody answers what is for all.
                let for_all = self.uses[self.scenario.host].framings.1.plan().broadcast == Some(planned.node);
                if !for_all && !self.of_host().plan.messages[message].message.answered_by.is_empty() {
                    let number = self.of_host().number(message);
                    let answer = Answer { message: number, node: planned.node, asked, after: None, with: None };
                    self.open.push((self.report.answers.len(), message));
                    self.report.answers.push(answer);
                }
            }
            Event::Reply { device, request } => {
                if self.runs(device) {
                    self.reply(device, request);
                }
            }
        }
    }

    fn sample(&mut self, device: usize, message: usize) -> Values {
        let compiled = &self.of_device(device).plan.messages[message];
        let mut values = Values::new(compiled);
        for (slot, field) in compiled.message.fields.iter().enumerate() {
            if field.is_spare() {
                continue;
            }
            match self.devices[device].signals.get_mut(&(message, slot)) {
                Some(signal) => signal.sample(self.now, field, slot, &mut self.signal_random, &mut values),
                None if field.counter => {
                    let count = self.counters.entry((device, message, slot)).or_default();
                    let bits = field.kind.raw_bits().unwrap_or(64);
                    values.set_raw(slot, *count & (u64::MAX >> (64 - bits)));
                    *count += 1;
                }
                None => signal::rest_in(&compiled.message.fields, field, slot, 0, &mut values),
            }
        }
        values
    }

    fn reply(&mut self, device: usize, request: usize) {
        let plan = &self.of_device(device).plan;
        let now = self.now;
        let found = self.devices[device].replies.iter().find(|reply| reply.to == request && reply.from <= now);
        let (with, fields) = match found {
            Some(reply) => (reply.with, reply.fields.clone()),
            None => match plan.messages[request].message.answered_by.first() {
                Some(first) => (*first, serde_json::Map::new()),
                None => return,
            },
        };
        // The fields were checked when the trial was read.
        if let Ok(values) = fill_with_rest(plan, with, &fields) {
            self.send(Some(device), self.devices[device].node, with, values);
        }
    }

    /// A device or the host sends a message; returns when sending began.
    fn send(&mut self, device: Option<usize>, node: u64, message: usize, values: Values) -> Nanoseconds {
        let definition = device.map_or(self.scenario.host, |device| self.devices[device].definition);
        let Definition { plan, channel, .. } = self.scenario.definitions.get(definition);
        let compiled = &plan.messages[message];
        let revision = device.map_or(plan.link.revision, |device| self.devices[device].revision);
        let (from_device, from_host) = &self.uses[definition].framings;
        let (from, framing) = if device.is_some() { (End::Device, from_device) } else { (End::Host, from_host) };
        let sequence = self.sequences.entry((from, node)).or_insert(0);
        let key = framing.plan().key_for(message, node).unwrap_or(0);
        let header = Header { key, node, sequence: *sequence, revision: u64::from(revision) };
        *sequence += 1;
        let mut body = Vec::new();
        let mut bytes = Vec::new();
        // All values were checked, and `check` made sure that the longest body fits its frame.
        if body_on(framing.plan(), compiled, &values, revision, &mut body).is_err()
            || framing.encode(&header, &body, &mut bytes).is_err()
        {
            return self.now;
        }
        let finder = framing.plan().finder;
        let bytes = self.running.entry(from).or_default().shorten(finder, &bytes).to_vec();
        let (started, deliveries) = self.wire.send(self.now, &bytes, &mut self.wire_random);
        let index = self.sent.len();
        let number = self.number(definition, message);
        *self.report.sent.entry((number, node)).or_default() += 1;
        for delivery in deliveries {
            let whole = delivery.bytes == bytes;
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
                let asked = |(request, slot): (usize, usize)| match self.heard.get(&(device?, request))?.get(slot) {
                    ValueRef::Raw(key) => Some(key),
                    _ => None,
                };
                let key = compiled.request.and_then(asked);
                emberwort_wire::decode_answer(compiled, &body, key, &mut expected).is_ok()
            }
        };
        let values = if understood { expected } else { values };
        if from == End::Host {
            self.host_side.requests.note(plan, *channel, node, message, &values);
        }
        self.sent.push(Sent {
            from,
            node,
            definition,
            message,
            key,
            values,
            accepted: 0,
            arrived: false,
            fault: None,
            is_counted: false,
        });
        started
    }

    fn arrive(&mut self, sent: usize, bytes: Vec<u8>, whole: bool) {
        let Sent { from, key, definition, .. } = self.sent[sent];
        let channel = self.scenario.definitions.get(definition).channel;
        self.sent[sent].arrived |= whole;
        let mut is_heard = false;
        match from {
            End::Device => {
                if self.uses[definition].to_host.arrives(channel) {
                    is_heard = true;
                    let found = self.host_side.feed(sent, key, &bytes);
                    self.host_found(found);
                }
            }
            End::Host => {
                for device in 0..self.devices.len() {
                    if self.uses[self.devices[device].definition].from_host.arrives(channel) {
                        is_heard = true;
                        let found = self.device_sides[device].feed(sent, key, &bytes);
                        self.device_found(device, found);
                    }
                }
            }
        }
        if is_heard {
            self.report.record.push(Recorded { time: self.now, from, key, bytes });
        }
    }

    /// Compares a received frame with the sent one that its first byte belongs to; the receiver by its definition.
    fn compare(&mut self, frame: &FoundFrame, origin: Option<usize>, receiver: usize) {
        let mut said = String::new();
        let same = origin.is_some_and(|origin| {
            let sent = &self.sent[origin];
            if frame.node.is_some_and(|node| node != sent.node) {
                return false;
            }
            if sent.definition == receiver {
                return sent.message == frame.message && sent.values == frame.values;
            }
            let between = self.between(sent, receiver);
            let (verdict, sentence) =
                between.taken(sent.from, (sent.message, &sent.values), (frame.message, &frame.values));
            let (key, arrived) = ((self.number(sent.definition, sent.message), sent.node, verdict), sent.arrived);
            if verdict != Verdict::Fine && arrived {
                self.sent[origin].is_counted |= verdict.strands();
                said.clone_from(&sentence);
                let found = self.report.between.entry(key).or_default();
                found.frames += 1;
                found.sentence = sentence;
            }
            !verdict.strands()
        });
        if same {
            if let Some(sent) = origin {
                let sent = &mut self.sent[sent];
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
            self.report.wrong.push(WrongValue { time: self.now, message, bytes, sentence: said });
        }
    }

    /// What receivers of a definition, by index, make of a frame's sender.
    fn between(&self, sent: &Sent, receiver: usize) -> &Translation {
        match sent.from {
            End::Device => &self.uses[sent.definition].to_host,
            End::Host => &self.uses[receiver].from_host,
        }
    }

    /// Keeps why frames are broken for a receiver, by its definition, that has another one than their sender.
    fn note_faults(&mut self, found: &Found, side: impl Fn(&Self) -> &Side, receiver: usize, to: Option<u64>) {
        for (at, fault) in &found.faults {
            let Some(origin) = side(self).origin(*at) else { continue };
            let sent = &mut self.sent[origin];
            if sent.definition != receiver && to.is_none_or(|node| node == sent.node) && sent.fault.is_none() {
                sent.fault = Some(*fault);
            }
        }
    }

    fn host_found(&mut self, found: Found) {
        self.report.host.add(&found.heard);
        let Definition { plan, channel, .. } = self.of_host();
        self.note_faults(&found, |trial| &trial.host_side, self.scenario.host, None);
        for frame in found.frames {
            let origin = self.host_side.origin(frame.at);
            self.host_side.forget(frame.at);
            self.compare(&frame, origin, self.scenario.host);
            let sender = (*channel, End::Device, frame.node.unwrap_or(0));
            self.numbering.take(sender, frame.sequence, frame.message, &frame.values);
            let answered = self.open.iter().position(|(index, request)| {
                plan.messages[*request].message.answered_by.contains(&frame.message)
                    && frame.node.is_none_or(|node| node == self.report.answers[*index].node)
            });
            if let Some(open) = answered {
                let (index, _) = self.open.remove(open);
                let with = self.of_host().number(frame.message);
                let answer = &mut self.report.answers[index];
                answer.after = Some(self.now - answer.asked);
                answer.with = Some(with);
            }
        }
    }

    fn device_found(&mut self, device: usize, found: Found) {
        let Device { node, definition, .. } = self.devices[device];
        // All devices hear the same; the first one's ears stand for all.
        if device == 0 {
            self.report.device.add(&found.heard);
        }
        self.note_faults(&found, |trial| &trial.device_sides[device], definition, Some(node));
        for frame in found.frames {
            let origin = self.device_sides[device].origin(frame.at);
            self.device_sides[device].forget(frame.at);
            let mine = frame.node.is_none_or(|to| to == node);
            let nobody = frame.node.is_some_and(|to| self.devices.iter().all(|device| device.node != to));
            if mine || (nobody && device == 0) {
                self.compare(&frame, origin, definition);
            }
            if mine && !self.of_device(device).plan.messages[frame.message].message.answered_by.is_empty() {
                let time = self.now + self.devices[device].answers_after;
                self.at(time, Event::Reply { device, request: frame.message });
                self.heard.insert((device, frame.message), frame.values);
            }
        }
    }

    /// What arrived whole and was not taken, where both ends do not have the same definition.
    fn note_not_taken(&mut self) {
        for index in 0..self.sent.len() {
            let sent = &self.sent[index];
            let receiver = match sent.from {
                End::Device => self.scenario.host,
                End::Host => match self.devices.iter().find(|device| device.node == sent.node) {
                    Some(device) => device.definition,
                    None => continue,
                },
            };
            if sent.accepted > 0 || !sent.arrived || sent.is_counted || sent.definition == receiver {
                continue;
            }
            let channel = self.scenario.definitions.get(sent.definition).channel;
            let between = self.between(sent, receiver);
            let (verdict, sentence) = match between.arrives(channel) {
                true => between.not_taken(sent.from, channel, sent.message, sent.fault.as_ref()),
                false => (Verdict::SilentDrop, "the medium is set up in another way there".to_owned()),
            };
            let key = (self.number(sent.definition, sent.message), sent.node, verdict);
            self.sent[index].is_counted = true;
            let found = self.report.between.entry(key).or_default();
            found.frames += 1;
            found.sentence = sentence;
        }
    }

    fn finish(mut self) -> Report {
        let found = self.host_side.take(|receiver, sink| receiver.finish(sink));
        self.host_found(found);
        for device in 0..self.devices.len() {
            let found = self.device_sides[device].take(|receiver, sink| receiver.finish(sink));
            self.device_found(device, found);
        }
        self.note_not_taken();
        for sent in self.sent.iter().filter(|sent| sent.accepted == 0 && !sent.is_counted) {
            let number = self.scenario.definitions.get(sent.definition).number(sent.message);
            *self.report.lost.entry((number, sent.node)).or_default() += 1;
        }
        self.report.gaps = self.numbering.watch().gaps();
        self.report.missing = self.numbering.watch().missing();
        self.report.jumps_back = self.numbering.watch().jumps_back();
        self.report.verdicts = self.scenario.must.iter().map(|expectation| expectation.judge(&self.report)).collect();
        self.report
    }
}
