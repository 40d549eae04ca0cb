//! Running a trial: both ends and the wire as state machines over a queue of events in virtual time.

use std::cmp::Reverse;
use std::collections::{BinaryHeap, HashMap};
use std::ops::Range;
use std::sync::Arc;

use emberwort_model::Plan;
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
use crate::report::{Answer, Heard, Recorded, Report, WrongValue};
use crate::scenario::{Device, Scenario, fill_with_rest};
use crate::signal;
use crate::wire::Wire;

/// Runs a trial to its end, or until `stop` says so. The same plan and scenario give the same report.
pub fn run(plan: &Arc<Plan>, scenario: &Scenario, stop: impl Fn() -> bool) -> Report {
    let mut trial = Trial::new(plan, scenario);
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
    /// Bytes of a sent frame arrive.
    Arrive { sent: usize, bytes: Vec<u8> },
}

/// A frame that was sent.
struct Sent {
    from: End,
    node: u64,
    message: usize,
    key: u64,
    values: Values,
    accepted: u32,
}

/// The field of the last request of this kind to a node, which decides about the form of its answer's value.
fn asked_for(sent: &[Sent], request: Option<(usize, usize)>, node: u64, slot: usize) -> Option<u64> {
    let (message, _) = request?;
    let last = sent.iter().rev().find(|sent| sent.message == message && sent.node == node)?;
    match last.values.get(slot) {
        ValueRef::Raw(key) => Some(key),
        _ => None,
    }
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

    fn broken(&mut self, _at: Range<u64>, _fault: &FrameFault, wire: &[u8]) {
        self.found.heard.broken += 1;
        self.found.heard.broken_bytes += wire.len() as u64;
    }

    fn stray(&mut self, _at: Range<u64>, wire: &[u8]) {
        self.found.heard.stray_bytes += wire.len() as u64;
    }
}

impl Side {
    /// The side that hears frames from an end.
    fn hearing(plan: &Arc<Plan>, channel: usize, from: End) -> Self {
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
        let found = Found { heard: Heard::default(), frames: Vec::new() };
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

    /// The sent frame to which the byte at an offset belongs. Offsets come in rising order.
    fn origin(&mut self, at: u64) -> Option<usize> {
        let index = self.origins.partition_point(|(from, _)| *from <= at).checked_sub(1)?;
        self.origins.drain(..index);
        self.origins.first().map(|(_, sent)| *sent)
    }
}

impl Heard {
    fn add(&mut self, other: &Heard) {
        self.input += other.input;
        self.good_bytes += other.good_bytes;
        self.broken_bytes += other.broken_bytes;
        self.stray_bytes += other.stray_bytes;
        self.good += other.good;
        self.broken += other.broken;
    }
}

struct Trial<'a> {
    plan: &'a Arc<Plan>,
    scenario: &'a Scenario,
    /// The framing of frames from the device, and from the host.
    framings: (Framing, Framing),
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
    numbering: Numbering,
    report: Report,
    /// Open requests: index of the answer in the report.
    open: Vec<usize>,
}

impl<'a> Trial<'a> {
    fn new(plan: &'a Arc<Plan>, scenario: &'a Scenario) -> Self {
        let channel = &plan.channels[scenario.channel];
        let framing = |from: End| Framing::new(Arc::new(channel.facing(from).clone()));
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
        Self {
            host_side: Side::hearing(plan, scenario.channel, End::Device),
            device_sides: scenario.devices.iter().map(|_| Side::hearing(plan, scenario.channel, End::Host)).collect(),
            plan,
            scenario,
            framings: (framing(End::Device), framing(End::Host)),
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
            numbering: Numbering::new(plan),
            report: Report::default(),
            open: Vec::new(),
        }
    }

    fn at(&mut self, time: Nanoseconds, event: Event) {
        self.event_number += 1;
        self.events.push(Reverse((time, self.event_number, event)));
    }

    fn start(&mut self) {
        let channel = &self.plan.channels[self.scenario.channel];
        for device in 0..self.devices.len() {
            for (message, compiled) in self.plan.messages.iter().enumerate() {
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
            Event::Arrive { sent, bytes } => self.arrive(sent, bytes),
            _ if self.now >= self.scenario.span => (),
            Event::Report { device, message } => {
                if let Some(every) = self.plan.messages[message].message.every {
                    self.at(self.now + every, Event::Report { device, message });
                }
                if self.runs(device) {
                    let values = self.sample(device, message);
                    self.send(End::Device, self.devices[device].node, message, values);
                }
            }
            Event::Send { device, index } => {
                if self.runs(device) {
                    let planned = self.devices[device].sends[index].clone();
                    self.send(End::Device, planned.node, planned.message, planned.values);
                }
            }
            Event::Request { index } => {
                let planned = self.scenario.requests[index].clone();
                let asked = self.send(End::Host, planned.node, planned.message, planned.values);
                // Nobody answers what is for all.
                let for_all = self.framings.1.plan().broadcast == Some(planned.node);
                if !for_all && !self.plan.messages[planned.message].message.answered_by.is_empty() {
                    let answer =
                        Answer { message: planned.message, node: planned.node, asked, after: None, with: None };
                    self.open.push(self.report.answers.len());
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
        let compiled = &self.plan.messages[message];
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
        let plan = self.plan;
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
            self.send(End::Device, self.devices[device].node, with, values);
        }
    }

    /// Sends a message; returns when sending began.
    fn send(&mut self, from: End, node: u64, message: usize, values: Values) -> Nanoseconds {
        let compiled = &self.plan.messages[message];
        let device = self.devices.iter().find(|device| device.node == node);
        let revision = match (from, device) {
            (End::Device, Some(device)) => device.revision,
            _ => self.plan.link.revision,
        };
        let framing = if from == End::Host { &self.framings.1 } else { &self.framings.0 };
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
        *self.report.sent.entry((message, node)).or_default() += 1;
        for delivery in deliveries {
            if delivery.bytes != bytes {
                *self.report.damaged.entry((message, node)).or_default() += 1;
            }
            self.at(delivery.time, Event::Arrive { sent: index, bytes: delivery.bytes });
        }
        // What the receiver makes of a body of an older revision: defaults where the sender lacks a field. In a line,
        // numbers are as exact as their decimals.
        let mut expected = Values::default();
        let understood = match &compiled.message.line {
            Some(_) => emberwort_wire::line::read(compiled, &body, &mut expected).is_ok_and(|fits| fits),
            None => {
                let key = compiled.request.and_then(|(_, slot)| asked_for(&self.sent, compiled.request, node, slot));
                emberwort_wire::decode_answer(compiled, &body, key, &mut expected).is_ok()
            }
        };
        let values = if understood { expected } else { values };
        if from == End::Host {
            self.host_side.requests.note(self.plan, self.scenario.channel, node, message, &values);
        }
        self.sent.push(Sent { from, node, message, key, values, accepted: 0 });
        started
    }

    fn arrive(&mut self, sent: usize, bytes: Vec<u8>) {
        let (from, key) = (self.sent[sent].from, self.sent[sent].key);
        match from {
            End::Device => {
                let found = self.host_side.feed(sent, key, &bytes);
                self.host_found(found);
            }
            End::Host => {
                for device in 0..self.devices.len() {
                    let found = self.device_sides[device].feed(sent, key, &bytes);
                    self.device_found(device, found);
                }
            }
        }
        self.report.record.push(Recorded { time: self.now, from, key, bytes });
    }

    /// Compares a received frame with the sent one that its first byte belongs to.
    fn compare(&mut self, frame: &FoundFrame, origin: Option<usize>) {
        let same = origin.is_some_and(|sent| {
            let sent = &self.sent[sent];
            sent.message == frame.message
                && frame.node.is_none_or(|node| node == sent.node)
                && sent.values == frame.values
        });
        if same {
            if let Some(sent) = origin {
                let sent = &mut self.sent[sent];
                sent.accepted += 1;
                let (message, node) = (sent.message, sent.node);
                if sent.accepted == 1 {
                    *self.report.received.entry((message, node)).or_default() += 1;
                } else {
                    self.report.repeated += 1;
                }
            }
        } else {
            let bytes = frame.bytes.clone();
            self.report.wrong.push(WrongValue { time: self.now, message: frame.message, bytes });
        }
    }

    fn host_found(&mut self, found: Found) {
        self.report.host.add(&found.heard);
        for frame in found.frames {
            let origin = self.host_side.origin(frame.at);
            self.compare(&frame, origin);
            let sender = (self.scenario.channel, End::Device, frame.node.unwrap_or(0));
            self.numbering.take(sender, frame.sequence, frame.message, &frame.values);
            let plan = self.plan;
            let answered = self.open.iter().position(|index| {
                let answer = &self.report.answers[*index];
                plan.messages[answer.message].message.answered_by.contains(&frame.message)
                    && frame.node.is_none_or(|node| node == answer.node)
            });
            if let Some(open) = answered {
                let index = self.open.remove(open);
                let answer = &mut self.report.answers[index];
                answer.after = Some(self.now - answer.asked);
                answer.with = Some(frame.message);
            }
        }
    }

    fn device_found(&mut self, device: usize, found: Found) {
        let node = self.devices[device].node;
        // All devices hear the same; the first one's ears stand for all.
        if device == 0 {
            self.report.device.add(&found.heard);
        }
        for frame in found.frames {
            let origin = self.device_sides[device].origin(frame.at);
            let mine = frame.node.is_none_or(|to| to == node);
            let nobody = frame.node.is_some_and(|to| self.devices.iter().all(|device| device.node != to));
            if mine || (nobody && device == 0) {
                self.compare(&frame, origin);
            }
            if mine && !self.plan.messages[frame.message].message.answered_by.is_empty() {
                let time = self.now + self.devices[device].answers_after;
                self.at(time, Event::Reply { device, request: frame.message });
            }
        }
    }

    fn finish(mut self) -> Report {
        let found = self.host_side.take(|receiver, sink| receiver.finish(sink));
        self.host_found(found);
        for device in 0..self.devices.len() {
            let found = self.device_sides[device].take(|receiver, sink| receiver.finish(sink));
            self.device_found(device, found);
        }
        for sent in self.sent.iter().filter(|sent| sent.accepted == 0) {
            *self.report.lost.entry((sent.message, sent.node)).or_default() += 1;
        }
        self.report.gaps = self.numbering.watch().gaps();
        self.report.missing = self.numbering.watch().missing();
        self.report.jumps_back = self.numbering.watch().jumps_back();
        self.report.verdicts = self.scenario.must.iter().map(|expectation| expectation.judge(&self.report)).collect();
        self.report
    }
}
